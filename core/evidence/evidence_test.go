package evidence

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"strings"
	"testing"

	"github.com/opencontainers/go-digest"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"
)

var subject = digest.FromString("an image")

func saying(builder string) string {
	return `{"_type":"https://in-toto.io/Statement/v1","predicateType":"https://slsa.dev/provenance/v1",
		"subject":[{"name":"x","digest":{"sha256":"` + subject.Encoded() + `"}}],"predicate":` + builder + `}`
}

func TestStatements(t *testing.T) {
	for _, tt := range []struct{ raw, builder, mistake string }{
		{saying(`{"runDetails":{"builder":{"id":"https://b.example"}}}`), "https://b.example", ""},
		{saying(`{"builder":{"id":"older"}}`), "older", ""},
		{saying(`{"builder":"plain"}`), "plain", ""},
		{saying(`{}`), "", ""},
		{`{"_type":"https://example.org/other"}`, "", "a statement of the type"},
		{`[]`, "", "not a statement"},
		{`{"_type":3}`, "", "not a statement"},
	} {
		s, err := Read(MediaStatement, []byte(tt.raw), nil)
		if tt.mistake != "" {
			if err == nil || !strings.Contains(err.Error(), tt.mistake) {
				t.Errorf("%s: %v", tt.raw, err)
			}
			continue
		}
		if err != nil || s.Builder != tt.builder || !s.About(subject) || s.About(digest.FromString("another")) || s.Key != "" {
			t.Errorf("%s: %+v, %v", tt.raw, s, err)
		}
	}
}

// TestSignatures: a statement counts as verified when a key of the charter signed these very bytes.
func TestSignatures(t *testing.T) {
	edPublic, edPrivate, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	keys := []Key{{"first", edPublic}, {"second", ec.Public()}}
	byEd := func(b []byte) []byte { return ed25519.Sign(edPrivate, b) }
	byEC := func(b []byte) []byte {
		sum := sha256.Sum256(b)
		sig, err := ecdsa.SignASN1(rand.Reader, ec, sum[:])
		if err != nil {
			t.Fatal(err)
		}
		return sig
	}
	body := saying(`{}`)
	for _, tt := range []struct {
		name, payload string
		sign          func([]byte) []byte
		keys          []Key
		want          string
	}{
		{"by Ed25519", body, byEd, keys, "first"},
		{"by ECDSA", body, byEC, keys, "second"},
		{"by no key of ours", body, byEd, keys[1:], ""},
		{"where there are no keys", body, byEd, nil, ""},
		{"by nobody", body, func([]byte) []byte { return []byte("x") }, keys, ""},
		{"of other bytes", strings.Replace(body, "provenance", "prose", 1), byEd, keys, ""},
	} {
		sig := tt.sign(dsse.PAE(MediaStatement, []byte(body)))
		raw, err := json.Marshal(
			dsse.Envelope{PayloadType: MediaStatement, Payload: base64.StdEncoding.EncodeToString([]byte(tt.payload)),
				Signatures: []dsse.Signature{{KeyID: "whatever it says", Sig: base64.StdEncoding.EncodeToString(sig)}}},
		)
		if err != nil {
			t.Fatal(err)
		}
		s, err := Read(MediaEnvelope, raw, tt.keys)
		if err != nil || s.Key != tt.want || !s.About(subject) {
			t.Errorf("%s: verified by %q, %v; want %q", tt.name, s.Key, err, tt.want)
		}
	}
}

func TestKeys(t *testing.T) {
	enc := func(key any) string {
		der, err := x509.MarshalPKIXPublicKey(key)
		if err != nil {
			t.Fatal(err)
		}
		return string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
	}
	ed, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	ec, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	rs, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{enc(ed): "", enc(ec.Public()): "another kind", enc(rs.Public()): "another kind", "x": "no public key",
		enc(ed) + "x": "behind the key"} {
		if _, err := ParseKey(text); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%.40s: %v, want %q", text, err, want)
		}
	}
}
