// Package issuer simulates the token issuer of a registry: the service at which clients trade a name and a secret for a
// signed token (JSON Web Token) that says what they may do in which repository. A registry that trusts the issuer's
// certificate lets in whoever bears one. What an account may not do is left out of its token, without a word.
package issuer

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
)

// Account may do what it says, in every repository: pull, push, delete.
type Account struct {
	Secret string
	May    []string
}

// Issuer is an http.Handler. Make it with [New].
type Issuer struct {
	Name     string // by which the registry knows it
	accounts map[string]Account
	key      *ecdsa.PrivateKey
	der      []byte // its certificate
}

// New makes an issuer with a key of its own.
func New(name string, accounts map[string]Account) (*Issuer, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	cert := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(
			90 * 24 * time.Hour,
		), KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, cert, cert, &key.PublicKey, key)
	return &Issuer{name, accounts, key, der}, err
}

// Certificate is what a registry must trust, in PEM.
func (i *Issuer) Certificate() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: i.der})
}

type access struct {
	Type    string   `json:"type"`
	Name    string   `json:"name"`
	Actions []string `json:"actions"`
}

// ServeHTTP issues a token for those of the scopes asked that the account may have.
func (i *Issuer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name, secret, _ := r.BasicAuth()
	a, known := i.accounts[name]
	if !known || a.Secret != secret {
		http.Error(w, "no such account, or another secret", http.StatusUnauthorized)
		return
	}
	granted := []access{}
	for _, scope := range r.URL.Query()["scope"] {
		parts := strings.Split(scope, ":")
		if len(parts) != 3 {
			continue
		}
		may := slices.DeleteFunc(strings.Split(parts[2], ","), func(act string) bool { return !slices.Contains(a.May, act) })
		granted = append(granted, access{parts[0], parts[1], may})
	}
	now := time.Now()
	t := jwt.NewWithClaims(jwt.SigningMethodES256, jwt.MapClaims{"iss": i.Name, "sub": name, "aud": r.URL.Query().Get("service"),
		"iat": now.Unix(), "nbf": now.Add(-10 * time.Second).Unix(), "exp": now.Add(5 * time.Minute).Unix(),
		"jti": rand.Text(), "access": granted})
	t.Header["x5c"] = []string{base64.StdEncoding.EncodeToString(i.der)}
	signed, err := t.SignedString(i.key)
	if err != nil {
		http.Error(w, "signing failed", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"token": signed, "expires_in": 300}) // a reader that went away is its own problem
}
