package plan

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/opencontainers/go-digest"
)

// Stood is an image that stood in an environment from a time on.
type Stood struct {
	Digest     digest.Digest
	Version    string
	From       time.Time
	ByRollBack bool
}

// Before finds what stood before that which stands now: the newest of what came before it when it was last promoted, but nothing
// that was rolled back since. A roll back of a roll back therefore goes further back, and never forth again.
func Before(history []Stood, now digest.Digest, undone []digest.Digest) (Stood, bool) {
	at := len(history)
	for i, s := range history {
		if s.Digest == now && !s.ByRollBack {
			at = i
		}
	}
	for _, s := range slices.Backward(history[:at]) {
		if s.Digest != now && !slices.Contains(undone, s.Digest) {
			return s, true
		}
	}
	return Stood{}, false
}

// At is what stood at a time.
func At(history []Stood, t time.Time) (Stood, bool) {
	for _, s := range slices.Backward(history) {
		if !s.From.After(t) {
			return s, true
		}
	}
	return Stood{}, false
}

var hexDigits = regexp.MustCompile(`^(sha256:)?[0-9a-f]{7,64}$`)

// Named finds the newest that has a version, or a digest that is given whole or by 7 digits or more; ambiguous are digits with which
// several digests begin.
func Named(history []Stood, name string) (found Stood, ok, ambiguous bool) {
	for _, s := range slices.Backward(history) {
		if s.Version == name || s.Digest.String() == name {
			return s, true, false
		}
	}
	if !hexDigits.MatchString(name) {
		return Stood{}, false, false
	}
	digits := strings.TrimPrefix(name, "sha256:")
	for _, s := range slices.Backward(history) {
		if strings.HasPrefix(s.Digest.Encoded(), digits) {
			ambiguous = ambiguous || ok && s.Digest != found.Digest
			if !ok {
				found, ok = s, true
			}
		}
	}
	return found, ok, ambiguous
}
