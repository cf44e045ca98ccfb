// Package oidc simulates an issuer (OpenID Connect): that of a system that runs pipelines, which signs a token for each run that
// says which project and branch it is of; and an organisation's own, at which people sign in, in a browser or for a terminal. It
// serves the keys by which its tokens can be checked (discovery, JSON Web Key Set). They rotate on request, as such issuers' do
// without asking.
package oidc

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"maps"
	"net/http"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/golang-jwt/jwt/v5"
)

// Issuer is an http.Handler. Make it with [New].
type Issuer struct {
	URL    string // by which it is known, without a slash at its end
	Secret string // that clients must show at its token endpoint; empty: none
	mu     sync.Mutex
	key    *ecdsa.PrivateKey
	id     string

	people map[string]Person
	grants map[string]grant // by their code
}

// New makes an issuer with a key of its own.
func New(url string) (*Issuer, error) {
	i := &Issuer{URL: url, people: map[string]Person{}, grants: map[string]grant{}}
	return i, i.Rotate()
}

// Rotate replaces the key: tokens by the old one count no more.
func (i *Issuer) Rotate() error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.key, i.id = key, rand.Text()
	return nil
}

// Token signs claims. Those that every token has are filled in where they are not given: issuer, times, an id; it counts
// for five minutes.
func (i *Issuer) Token(claims map[string]any) (string, error) {
	now := time.Now()
	all := jwt.MapClaims{"iss": i.URL, "iat": now.Unix(), "nbf": now.Unix(), "exp": now.Add(5 * time.Minute).Unix(), "jti": rand.Text()}
	maps.Copy(all, claims)
	i.mu.Lock()
	defer i.mu.Unlock()
	t := jwt.NewWithClaims(jwt.SigningMethodES256, all)
	t.Header["kid"] = i.id
	return t.SignedString(i.key)
}

// ServeHTTP answers discovery, the request for keys, and people's sign-ins.
func (i *Issuer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answer(
			w,
			http.StatusOK,
			map[string]any{"issuer": i.URL, "jwks_uri": i.URL + "/keys", "authorization_endpoint": i.URL + "/authorize",
				"token_endpoint": i.URL + "/token", "device_authorization_endpoint": i.URL + "/device_authorization",
				"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
				"id_token_signing_alg_values_supported": []string{"ES256"}, "code_challenge_methods_supported": []string{"S256"}},
		)
	case "/keys":
		i.mu.Lock()
		keys := jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: i.key.Public(), KeyID: i.id, Algorithm: "ES256", Use: "sig"}}}
		i.mu.Unlock()
		answer(w, http.StatusOK, keys)
	case "/authorize":
		i.authorize(w, r)
	case "/token":
		i.token(w, r)
	case "/device_authorization":
		i.beginDevice(w, r)
	case "/device":
		i.device(w, r)
	default:
		http.NotFound(w, r)
	}
}
