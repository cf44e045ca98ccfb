package image

import (
	"slices"
	"strings"

	"dovrak/core/problem"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Platform says for which machines an image is: os/architecture, and a variant for some.
type Platform struct{ OS, Architecture, Variant string }

// PlatformOf gives the platform of a descriptor in an index. The zero Platform means that it names none.
func PlatformOf(d ocispec.Descriptor) Platform {
	if d.Platform == nil {
		return Platform{}
	}
	return Platform{OS: d.Platform.OS, Architecture: d.Platform.Architecture, Variant: d.Platform.Variant}
}

// ParsePlatform reads os/architecture or os/architecture/variant.
func ParsePlatform(s string) (Platform, error) {
	parts := strings.Split(s, "/")
	if len(parts) < 2 || len(parts) > 3 || strings.ContainsFunc(s, func(r rune) bool { return r <= ' ' || r > '~' }) ||
		strings.Contains("/"+s+"/", "//") {
		return Platform{}, &problem.Problem{Kind: problem.Malformed, Title: "This is not a platform", Asked: Printable(s),
			Remedy: "write os/architecture, with a variant where there is one, e.g. linux/amd64 or linux/arm/v7"}
	}
	parts = append(parts, "")
	return Platform{parts[0], parts[1], parts[2]}, nil
}

// String is the platform as people write it, e.g. linux/arm/v7.
func (p Platform) String() string {
	if p == (Platform{}) {
		return ""
	}
	s := p.OS + "/" + p.Architecture
	if p.Variant != "" {
		s += "/" + p.Variant
	}
	return s
}

// Unknown reports a platform that names no machine: builders put it on what lies in an index and is not to be run.
func (p Platform) Unknown() bool { return p.OS == "unknown" || p.Architecture == "unknown" }

// Contradicts reports whether one says something else than the other. What one leaves open is no contradiction.
func (p Platform) Contradicts(q Platform) bool {
	differ := func(a, b string) bool { return a != "" && b != "" && a != b }
	return differ(p.OS, q.OS) || differ(p.Architecture, q.Architecture) || differ(p.Variant, q.Variant)
}

// Same reports whether two name the same machines: a variant that is left open is the architecture's plain one.
func (p Platform) Same(q Platform) bool {
	variant := func(p Platform) string {
		if p.Variant == "" {
			return plain[p.Architecture]
		}
		return p.Variant
	}
	return p.OS == q.OS && p.Architecture == q.Architecture && variant(p) == variant(q)
}

// Named reports whether a platform is among those that a list names.
func (p Platform) Named(list []string) bool {
	return slices.ContainsFunc(list, func(text string) bool {
		q, err := ParsePlatform(text)
		return err == nil && p.Same(q)
	})
}

// Lacking lists what is required, as it is written there, and is not among those that there are.
func Lacking(required []string, have []Platform) []string {
	return slices.DeleteFunc(slices.Clone(required), func(text string) bool {
		p, err := ParsePlatform(text)
		return err == nil && slices.ContainsFunc(have, p.Same)
	})
}

// variants are what a client of an architecture can run, by its own variant: the first is what it likes best. An image
// without a variant is one that every client of the architecture can run, but for arm, where v7 is meant.
var variants = map[string][]string{"arm": {"v8", "v7", "v6", "v5"}, "arm64": {"v9", "v8"}, "amd64": {"v4", "v3", "v2", "v1"}}

var plain = map[string]string{"arm": "v7", "arm64": "v8", "amd64": "v1"}

// Choose tells which of several images a client of a platform gets: the one of the best variant that it can run; -1 if
// there is none. Clients take the first of equals.
func Choose(have []Platform, client Platform) int {
	best, at := -1, -1
	for i, p := range have {
		if r := client.runs(p); r >= 0 && (best < 0 || r < best) {
			best, at = r, i
		}
	}
	return at
}

// runs ranks an image for a client: 0 is its very own variant, -1 says that it cannot run it.
func (p Platform) runs(img Platform) int {
	if p.OS != img.OS || p.Architecture != img.Architecture {
		return -1
	}
	order := variants[p.Architecture]
	rank := func(v string) int {
		if v == "" {
			v = plain[p.Architecture]
		}
		for i, known := range order {
			if known == v {
				return i
			}
		}
		return -1
	}
	own, other := rank(p.Variant), rank(img.Variant)
	switch {
	case p.Variant == img.Variant:
		return 0
	case own < 0 || other < own:
		return -1
	}
	return other - own
}
