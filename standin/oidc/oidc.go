// Package oidc simulates the issuer of a system that runs pipelines: it signs a token for each run that says which
// project and branch it is of (OpenID Connect), and serves the keys by which that can be checked (discovery, JSON Web Key
// Set). Its keys rotate on request, as such issuers' do without asking.
package oidc

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"maps"
	"net/http"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/golang-jwt/jwt/v5"
)

// Issuer is an http.Handler. Make it with [New].
type Issuer struct {
	URL string // by which it is known, without a slash at its end
	mu  sync.Mutex
	key *ecdsa.PrivateKey
	id  string
}

// New makes an issuer with a key of its own.
func New(url string) (*Issuer, error) {
	i := &Issuer{URL: url}
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

// ServeHTTP answers discovery and the request for keys.
func (i *Issuer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var answer any
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answer = map[string]any{"issuer": i.URL, "jwks_uri": i.URL + "/keys", "authorization_endpoint": i.URL + "/authorize",
			"response_types_supported": []string{"id_token"}, "subject_types_supported": []string{"public"},
			"id_token_signing_alg_values_supported": []string{"ES256"}}
	case "/keys":
		i.mu.Lock()
		answer = jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: i.key.Public(), KeyID: i.id, Algorithm: "ES256", Use: "sig"}}}
		i.mu.Unlock()
	default:
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	if err := json.NewEncoder(w).Encode(answer); err != nil {
		panic(http.ErrAbortHandler)
	}
}
