package tagging

import (
	"strconv"
	"strings"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/Masterminds/semver/v3"
)

// versionPattern is a semantic version (semver.org 2.0.0) as a tag has it: its + is written _, since a tag has no +.
const versionPattern = digitsAlone + `\.` + digitsAlone + `\.` + digitsAlone + `(-[0-9A-Za-z.-]+)?(_[0-9A-Za-z.-]+)?`

// ParseVersion reads a semantic version, whole and without a v.
func ParseVersion(s string) (*semver.Version, error) {
	v, err := semver.StrictNewVersion(s)
	if err != nil {
		p := &problem.Problem{Kind: problem.Malformed, Title: "This is not a semantic version", Asked: image.Printable(s),
			Rule: "versions are semantic (semver.org 2.0.0)", Remedy: "write MAJOR.MINOR.PATCH, e.g. 2.14.0 or 2.14.0-rc.1"}
		if bare, v := strings.CutPrefix(s, "v"); v {
			if _, err := semver.StrictNewVersion(bare); err == nil {
				p.Remedy = "leave the v away: " + bare
			}
		}
		return nil, p
	}
	return v, nil
}

func versionWritten(f Facts) (string, string) {
	if f.Version == "" {
		return "", "its version is not known"
	}
	if _, err := semver.StrictNewVersion(f.Version); err != nil {
		return "", image.Printable(f.Version) + " is no semantic version"
	}
	return strings.ReplaceAll(f.Version, "+", "_"), ""
}

// numberOf gives one of the numbers of a release. A prerelease has none: 2.14.0-rc.1 is not yet a 2.14.
func numberOf(n int) func(Facts) (string, string) {
	return func(f Facts) (string, string) {
		if f.Version == "" {
			return "", "its version is not known"
		}
		v, err := semver.StrictNewVersion(f.Version)
		if err != nil {
			return "", image.Printable(f.Version) + " is no semantic version"
		}
		if v.Prerelease() != "" {
			return "", f.Version + " is a prerelease, and does not take a release's tag"
		}
		return strconv.FormatUint([]uint64{v.Major(), v.Minor(), v.Patch()}[n], 10), ""
	}
}

// Next is the next version that is not taken: of the same prerelease series for a prerelease, else the next patch.
func Next(version string, taken func(string) bool) string {
	v, err := semver.StrictNewVersion(version)
	if err != nil {
		return ""
	}
	next := v.IncPatch
	if pre := v.Prerelease(); pre != "" {
		stem, last, dotted := cutLast(pre)
		n, err := strconv.ParseUint(last, 10, 32)
		if err != nil { // rc, or rc.x: counted from there on
			stem, n, dotted = pre, 0, true
		}
		next = func() semver.Version {
			n++
			text := strconv.FormatUint(n, 10)
			if dotted {
				text = stem + "." + text
			}
			out, _ := v.SetPrerelease(text)
			return out
		}
	}
	for range 10_000 {
		c := next()
		out, err := c.SetMetadata("")
		if err == nil && !taken(out.String()) {
			return out.String()
		}
		if v.Prerelease() == "" {
			next = c.IncPatch
		}
	}
	return ""
}

func cutLast(s string) (before, last string, found bool) {
	i := strings.LastIndexByte(s, '.')
	if i < 0 {
		return "", s, false
	}
	return s[:i], s[i+1:], true
}
