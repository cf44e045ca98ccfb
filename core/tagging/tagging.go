// Package tagging knows what a tag may come to mean. A fixed tag never changes its meaning; a moving tag may, by its
// rule. Registries know no such difference: any tag can be put anywhere, and this package is what stands between.
package tagging

import (
	"fmt"
	"regexp"
	"strings"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
)

// Pattern says which tags are meant: plain text with {number} for digits and {version} for a semantic version (with
// its + written as _, since a tag has no +).
type Pattern struct {
	text string
	re   *regexp.Regexp
}

// PatternHelp is the remedy for a pattern that cannot be read.
const PatternHelp = "use letters, digits and . _ - with {number} or {version} in between, e.g. build-{number}"

var (
	parts    = regexp.MustCompile(`\{[^{}]*\}|[^{}]+|[{}]`)
	fits     = regexp.MustCompile(`^[A-Za-z0-9._-]+$`)
	meanings = map[string]string{
		"{number}":  `[0-9]+`,
		"{version}": `(0|[1-9][0-9]*)\.(0|[1-9][0-9]*)\.(0|[1-9][0-9]*)(-[0-9A-Za-z.-]+)?(_[0-9A-Za-z.-]+)?`,
	}
)

// ParsePattern reads a pattern.
func ParsePattern(s string) (Pattern, error) {
	if s == "" {
		return Pattern{}, fmt.Errorf("an empty pattern")
	}
	var re strings.Builder
	for _, part := range parts.FindAllString(s, -1) {
		meaning, known := meanings[part]
		switch {
		case known:
			re.WriteString("(?:" + meaning + ")")
		case fits.MatchString(part):
			re.WriteString(regexp.QuoteMeta(part))
		default:
			return Pattern{}, fmt.Errorf("the pattern %q has %q, which means nothing", image.Printable(s), image.Printable(part))
		}
	}
	return Pattern{s, regexp.MustCompile("^" + re.String() + "$")}, nil
}

// Matches reports whether a tag is one of those meant.
func (p Pattern) Matches(tag string) bool { return p.re != nil && p.re.MatchString(tag) }

// String is the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Rules are what the charter says of the tags in one environment. The zero Rules allow everything: what no charter
// speaks of, nobody has promised.
type Rules struct {
	Environment string
	Standing    string // the moving tag that says what stands there
	Fixed       []Pattern
	NoOverwrite bool // the registry itself lets no tag of the repository be overwritten
}

// FixedBy gives the pattern that makes a tag fixed.
func (r Rules) FixedBy(tag string) (Pattern, bool) {
	for _, p := range r.Fixed {
		if p.Matches(tag) {
			return p, true
		}
	}
	return Pattern{}, false
}

// Names reports whether the rules speak of a tag: the standing tag, or a fixed one.
func (r Rules) Names(tag string) bool {
	_, fixed := r.FixedBy(tag)
	return fixed || r.Standing != "" && tag == r.Standing
}

// Change is a wish to point a tag, or, without To, to take it away. From is what it means now, empty if nothing; Was is what
// it meant last, where it means nothing now.
type Change struct {
	Tag      image.Reference // registry, repository and tag
	From, To digest.Digest
	Was      digest.Digest
	Released bool // asked by a promotion, not by hand
	First    bool // the environment is the first of its route, where nothing is promoted to
}

// Judge says whether the change may be made: nil, or a problem of kind Refused that names the rule.
func (r Rules) Judge(c Change) error {
	refusal := &problem.Problem{Kind: problem.Refused, Title: "This tag may not be pointed there",
		Asked: c.Tag.String() + " to " + c.To.String()}
	if c.To == "" {
		return r.judgeRemoval(c)
	}
	if p, fixed := r.FixedBy(c.Tag.Tag); fixed && c.From == "" && c.Was != "" && c.Was != c.To {
		refusal.Rule = fmt.Sprintf("fixed tag %s in %s", p, r.Environment)
		refusal.Seen = "it meant " + c.Was.String() + " before it was taken away, and a fixed tag never comes to mean another"
		refusal.Remedy = "give the new image a tag of its own; dovrak trail " + c.Tag.String() + " tells how this one came to be"
		return refusal
	}
	if p, fixed := r.FixedBy(c.Tag.Tag); fixed && c.From != "" && c.From != c.To {
		refusal.Rule = fmt.Sprintf("fixed tag %s in %s", p, r.Environment)
		refusal.Seen = "it means " + c.From.String() + ", and a fixed tag never changes its meaning"
		refusal.Remedy = "give the new image a tag of its own; dovrak trail " + c.Tag.String() + " tells how this one came to be"
		return refusal
	}
	if r.Standing != "" && c.Tag.Tag == r.Standing && !c.Released && !c.First {
		refusal.Rule = fmt.Sprintf("standing tag %s in %s", r.Standing, r.Environment)
		refusal.Seen = "it says what stands in " + r.Environment + ", and only a promotion moves it"
		refusal.Remedy = "dovrak promote COMPONENT --to " + r.Environment + " --because …"
		return refusal
	}
	if r.NoOverwrite && c.From != "" && c.From != c.To {
		refusal.Rule = "the repository's tags cannot be overwritten"
		refusal.Seen = "it means " + c.From.String() + ", and its registry lets no tag be pointed elsewhere"
		refusal.Remedy = "take a new tag; if the registry was changed: dovrak registry declare " + c.Tag.In() + " --tags moving"
		return refusal
	}
	return nil
}

// judgeRemoval says whether a tag may be taken away: any but the one that says what stands in an environment.
func (r Rules) judgeRemoval(c Change) error {
	if r.Standing == "" || c.Tag.Tag != r.Standing {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.Refused,
		Title:  "This tag may not be taken away",
		Asked:  c.Tag.String(),
		Seen:   "it says what stands in " + r.Environment,
		Rule:   fmt.Sprintf("standing tag %s in %s", r.Standing, r.Environment),
		Remedy: "promote another image there; the tag moves, and is never missing",
	}
}

// Outcome of a tag change, by what the registry said afterwards.
type Outcome string

// The outcomes there are. Open means that it cannot be told yet: an answer is missing, and the request may still arrive.
const (
	Open      Outcome = ""
	Done      Outcome = "done"
	NotDone   Outcome = "not done"
	Overtaken Outcome = "overtaken"
	Unknown   Outcome = "unknown"
)

// Answer is how the request to point the tag ended.
type Answer int

// The ways it can end. A dead writer's request counts as Refused once its deadline is over: it cannot arrive any more.
const (
	Accepted Answer = iota
	Refused
	NoAnswer
)

// Resolve tells what came of a change from what the tag is seen to mean afterwards.
func Resolve(from, to, seen digest.Digest, answer Answer) Outcome {
	switch {
	case seen == to:
		return Done
	case answer == NoAnswer:
		return Open
	case answer == Refused && seen == from:
		return NotDone
	}
	return Overtaken
}
