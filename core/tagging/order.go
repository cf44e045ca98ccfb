package tagging

import (
	"fmt"
	"path"
	"regexp"
	"strings"

	"dovrak/core/image"
	"dovrak/core/problem"
)

var digits = regexp.MustCompile(`[0-9]+`)

// OrderKey makes a key by which tags sort as versions and not as strings, compared byte by byte: build-9 before build-10,
// 2.14.0-rc.1 before 2.14.0. Each run of digits gets its length before it; a name without a hyphen gets an end that sorts
// behind one, as a release does behind its candidates.
func OrderKey(tag string) string {
	end := "~"
	if strings.Contains(tag, "-") {
		end = ""
	}
	return digits.ReplaceAllStringFunc(tag, func(d string) string {
		d = strings.TrimLeft(d, "0")
		return fmt.Sprintf("%03d%s", len(d), d)
	}) + end
}

// Compare orders two tags by their keys, and equal ones by name.
func Compare(a, b string) int {
	if c := strings.Compare(OrderKey(a), OrderKey(b)); c != 0 {
		return c
	}
	return strings.Compare(a, b)
}

// Glob is a pattern of tags with * for any letters and ? for one. The zero Glob matches every tag.
type Glob struct{ text string }

var globText = regexp.MustCompile(`^[A-Za-z0-9._*?-]{1,128}$`)

// ParseGlob reads a pattern.
func ParseGlob(s string) (Glob, error) {
	if s != "" && !globText.MatchString(s) {
		return Glob{}, &problem.Problem{Kind: problem.Malformed, Title: "This is not a pattern of tags", Asked: image.Printable(s),
			Remedy: "use the letters of tags, * for any and ? for one, e.g. build-*"}
	}
	return Glob{s}, nil
}

// Matches reports whether a tag is one of those meant.
func (g Glob) Matches(tag string) bool {
	ok, err := path.Match(g.text, tag)
	return g.text == "" || err == nil && ok
}

// Like is the pattern for SQL's LIKE, with \ for its escape.
func (g Glob) Like() string {
	if g.text == "" {
		return "%"
	}
	return strings.NewReplacer(`_`, `\_`, `*`, `%`, `?`, `_`).Replace(g.text)
}

// String is the pattern as it was written.
func (g Glob) String() string { return g.text }
