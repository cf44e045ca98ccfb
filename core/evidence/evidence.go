// Package evidence reads what is said of an image: what somebody vouched for, and the attestations that builders leave
// beside it (in-toto statements, bare or in a DSSE envelope).
//
// An attestation counts for the digest that it names as its subject and for nothing else, wherever it lies. It is
// verified when a key of the charter made a signature on it; else it is shown as unverified: whoever may push to the
// repository could have written it.
package evidence

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"regexp"

	"dovrak/core/image"

	"github.com/opencontainers/go-digest"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"
)

// Limits of evidence, in bytes.
const (
	MaxStatement = 4 << 20 // of an attestation that is read
	MaxReport    = 4 << 20 // of a report that is handed in
)

// Verdict is what came of what was vouched for.
type Verdict string

// The verdicts there are.
const (
	Passed Verdict = "passed"
	Failed Verdict = "failed"
	Noted  Verdict = "noted" // neither: somebody should know
)

// Verdicts lists them all.
var Verdicts = []Verdict{Passed, Failed, Noted}

var claimName = regexp.MustCompile(`^[a-z][a-z0-9]*([.-][a-z0-9]+)*$`)

// IsClaim reports whether a text can name a claim, such as scan or bench-run.
func IsClaim(s string) bool { return len(s) <= 64 && claimName.MatchString(s) }

// The media types of attestations that are read.
const (
	MediaStatement = "application/vnd.in-toto+json"
	MediaEnvelope  = "application/vnd.dsse.envelope.v1+json"
)

// Readable reports whether a layer's media type is one of an attestation that can be read.
func Readable(mediaType string) bool {
	return mediaType == MediaStatement || mediaType == MediaEnvelope
}

// Statement is an in-toto statement (in-toto attestation framework, statement v0.1 and v1).
type Statement struct {
	Predicate string // the type of what it says
	Builder   string // who built, where it says so
	Subjects  []digest.Digest
	Key       string // the name of the key that verifies its signature; empty: unverified
}

// About reports whether the statement names a digest as its subject.
func (s Statement) About(d digest.Digest) bool {
	for _, own := range s.Subjects {
		if own == d {
			return true
		}
	}
	return false
}

// Key is a public key by which attestations are verified.
type Key struct {
	Name   string
	Public crypto.PublicKey
}

// ParseKey reads a public key in PEM: ECDSA on P-256, or Ed25519.
func ParseKey(text string) (crypto.PublicKey, error) {
	block, rest := pem.Decode([]byte(text))
	if block == nil || block.Type != "PUBLIC KEY" {
		return nil, errors.New("no public key in PEM")
	}
	if len(rest) > 0 {
		return nil, errors.New("something behind the key")
	}
	key, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, errors.New("a public key that cannot be read")
	}
	switch k := key.(type) {
	case ed25519.PublicKey:
		return k, nil
	case *ecdsa.PublicKey:
		if k.Curve.Params().BitSize == 256 {
			return k, nil
		}
	}
	return nil, errors.New("a key of another kind")
}

type statement struct {
	Type          string `json:"_type"`
	PredicateType string `json:"predicateType"`
	Subject       []struct {
		Digest map[string]string `json:"digest"`
	} `json:"subject"`
	Predicate struct {
		Builder    json.RawMessage `json:"builder"`
		RunDetails struct {
			Builder json.RawMessage `json:"builder"`
		} `json:"runDetails"`
	} `json:"predicate"`
}

// Read reads an attestation of one of the media types above, and looks for a key that signed it.
func Read(mediaType string, raw []byte, keys []Key) (Statement, error) {
	signer := ""
	if mediaType == MediaEnvelope {
		var env dsse.Envelope
		if err := json.Unmarshal(raw, &env); err != nil {
			return Statement{}, fmt.Errorf("not an envelope: %w", err)
		}
		if env.PayloadType != MediaStatement {
			return Statement{}, fmt.Errorf("an envelope of %s", image.Printable(env.PayloadType))
		}
		payload, err := env.DecodeB64Payload()
		if err != nil {
			return Statement{}, fmt.Errorf("an envelope whose payload cannot be read: %w", err)
		}
		signer, raw = signedBy(&env, keys), payload
	}
	var st statement
	if err := json.Unmarshal(raw, &st); err != nil {
		return Statement{}, fmt.Errorf("not a statement: %w", err)
	}
	if st.Type != "https://in-toto.io/Statement/v1" && st.Type != "https://in-toto.io/Statement/v0.1" {
		return Statement{}, fmt.Errorf("a statement of the type %s", image.Printable(st.Type))
	}
	out := Statement{Predicate: image.Printable(st.PredicateType), Key: signer, Builder: image.Printable(builder(st))}
	for _, s := range st.Subject {
		for alg, hex := range s.Digest {
			if d, err := image.ParseDigest(alg + ":" + hex); err == nil {
				out.Subjects = append(out.Subjects, d)
			}
		}
	}
	return out, nil
}

// builder finds who built: {"id": …} in the newer and older form of provenance, or a plain name.
func builder(st statement) string {
	for _, raw := range []json.RawMessage{st.Predicate.RunDetails.Builder, st.Predicate.Builder} {
		var named struct{ ID string }
		var plain string
		if json.Unmarshal(raw, &named) == nil && named.ID != "" {
			return named.ID
		}
		if json.Unmarshal(raw, &plain) == nil && plain != "" {
			return plain
		}
	}
	return ""
}

// signedBy names the first key that made a signature on the envelope. The key ids in it are whatever its writer called
// them, and are not gone by.
func signedBy(env *dsse.Envelope, keys []Key) string {
	for i := range env.Signatures {
		env.Signatures[i].KeyID = ""
	}
	for _, k := range keys {
		v, err := dsse.NewEnvelopeVerifier(verifier{k})
		if err != nil {
			continue
		}
		if _, err := v.Verify(context.Background(), env); err == nil {
			return k.Name
		}
	}
	return ""
}

// verifier checks signatures with one key, whatever id the envelope gives them.
type verifier struct{ key Key }

func (v verifier) KeyID() (string, error)   { return "", nil }
func (v verifier) Public() crypto.PublicKey { return v.key.Public }

func (v verifier) Verify(_ context.Context, data, sig []byte) error {
	ok := false
	switch k := v.key.Public.(type) {
	case ed25519.PublicKey:
		ok = ed25519.Verify(k, data, sig)
	case *ecdsa.PublicKey:
		sum := sha256.Sum256(data)
		ok = ecdsa.VerifyASN1(k, sum[:], sig)
	}
	if !ok {
		return errors.New("evidence: not signed by this key")
	}
	return nil
}
