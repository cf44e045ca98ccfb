package tagging

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"dovrak/core/image"
)

// Facts are what is known of a build, or was read from an image. What is empty is not known.
type Facts struct {
	Component string
	Number    int64  // of the build
	Commit    string // hexadecimal, whole or its beginning
	Branch    string
	Version   string // semantic, with its + where it has one
	Started   time.Time
}

// Template is the name of a tag, with facts in braces: build-{number}, {version}, {commit:10}, {major}.{minor}. It can be
// filled from facts, and it can tell which tags it may have made. The language is in docs/tags.md.
type Template struct {
	text   string
	pieces []piece
	open   *regexp.Regexp // what it makes where nothing is known; nil where that hangs on the branches there are
}

// piece is plain text or, with a name, a fact, of which cut letters are taken; 0 is all.
type piece struct {
	plain, name string
	cut         int
}

// fact says how a fact is written into a tag. value is "" with the reason where there is nothing to write. pattern is
// what it can look like where it is not known; none: without the fact nobody can say.
type fact struct {
	value   func(Facts) (text, why string)
	pattern string
	tells   bool // it differs from build to build
}

const digitsAlone = `(0|[1-9][0-9]*)`

var facts = map[string]fact{
	"component": {value: func(f Facts) (string, string) { return f.Component, "no component is known of it" }, pattern: `[a-z0-9-]+`},
	"number": {value: func(f Facts) (string, string) {
		if f.Number == 0 {
			return "", "no build of this number is known"
		}
		return strconv.FormatInt(f.Number, 10), ""
	}, pattern: `[0-9]+`, tells: true},
	"commit": {
		value:   func(f Facts) (string, string) { return f.Commit, "its commit is not known" },
		pattern: `[0-9a-f]{7,64}`,
		tells:   true,
	},
	"branch":  {value: func(f Facts) (string, string) { return Written(f.Branch), "its branch is not known" }},
	"version": {value: versionWritten, pattern: versionPattern, tells: true},
	"major":   {value: numberOf(0), pattern: digitsAlone},
	"minor":   {value: numberOf(1), pattern: digitsAlone},
	"patch":   {value: numberOf(2), pattern: digitsAlone},
	"date": {value: func(f Facts) (string, string) {
		if f.Started.IsZero() {
			return "", "when it was built is not known"
		}
		return f.Started.UTC().Format("20060102"), ""
	}, pattern: `[0-9]{8}`},
}

// TemplateHelp is the remedy for a template that cannot be read.
const TemplateHelp = "use letters, digits and . _ - with {number}, {version}, {commit:10}, {branch}, {major}, {minor}, {patch}, {date} " +
	"or {component} in between, e.g. build-{number}"

var (
	pieces  = regexp.MustCompile(`\{[^{}]*\}|[^{}]+|[{}]`)
	plain   = regexp.MustCompile(`^[A-Za-z0-9._-]+$`)
	named   = regexp.MustCompile(`^\{([a-z]+)(?::([0-9]{1,2}))?\}$`)
	foreign = regexp.MustCompile(`[^A-Za-z0-9._-]`)
)

// Written is a branch as it stands in a tag: what a tag may not have is written as a hyphen.
func Written(branch string) string { return foreign.ReplaceAllString(branch, "-") }

// ParseTemplate reads a template. The error says what in it means nothing.
func ParseTemplate(s string) (Template, error) {
	if s == "" {
		return Template{}, fmt.Errorf("an empty template")
	}
	t := Template{text: s}
	least := 0
	for _, part := range pieces.FindAllString(s, -1) {
		p, err := parsePiece(part)
		if err != nil {
			return Template{}, fmt.Errorf("the template %q has %w", image.Printable(s), err)
		}
		t.pieces = append(t.pieces, p)
		least += max(len(p.plain), p.cut, 1)
	}
	if first := t.pieces[0].plain; first != "" && (first[0] == '.' || first[0] == '-') {
		return Template{}, fmt.Errorf("the template %q begins with %q, which no tag does", image.Printable(s), first[:1])
	}
	if least > 128 {
		return Template{}, fmt.Errorf("the template %q is longer than the 128 characters of a tag", image.Printable(s))
	}
	if !t.Uses("branch") {
		t.open = regexp.MustCompile(t.pattern(Facts{}, nil))
	}
	return t, nil
}

func parsePiece(s string) (piece, error) {
	m := named.FindStringSubmatch(s)
	switch {
	case m == nil && plain.MatchString(s):
		return piece{plain: s}, nil
	case m == nil:
		return piece{}, fmt.Errorf("%q, which a tag may not have", image.Printable(s))
	}
	if _, known := facts[m[1]]; !known {
		near := image.Nearest(m[1], slices.Sorted(maps.Keys(facts)))
		if near != "" {
			return piece{}, fmt.Errorf("{%s}, which is no fact of a build; did you mean {%s}?", m[1], near)
		}
		return piece{}, fmt.Errorf("{%s}, which is no fact of a build", m[1])
	}
	if m[2] == "" {
		return piece{name: m[1]}, nil
	}
	cut, err := strconv.Atoi(m[2])
	if err != nil || m[1] != "commit" || cut < 7 || cut > 64 {
		return piece{}, fmt.Errorf("%s: only a commit is cut, to 7 up to 64 characters, as {commit:10}", s)
	}
	return piece{name: m[1], cut: cut}, nil
}

// String is the template as it was written.
func (t Template) String() string { return t.text }

// Plain reports a template without facts: it names one tag.
func (t Template) Plain() bool { return len(t.pieces) == 1 && t.pieces[0].name == "" }

// Prefix is the plain text with which every tag of the template begins.
func (t Template) Prefix() string {
	if len(t.pieces) == 0 {
		return ""
	}
	return t.pieces[0].plain
}

// Uses reports whether a fact stands in the template.
func (t Template) Uses(name string) bool {
	return slices.ContainsFunc(t.pieces, func(p piece) bool { return p.name == name })
}

// Tells reports whether two builds never get the same tag by it, as far as a charter can say: a template of fixed tags
// without number, version or commit would give the second build the first one's tag.
func (t Template) Tells() bool {
	if t.Uses("major") && t.Uses("minor") && t.Uses("patch") {
		return true
	}
	return slices.ContainsFunc(t.pieces, func(p piece) bool { return facts[p.name].tells })
}

// Fill writes the tag for a build. The error says which fact is missing, or why what comes of it is no tag.
func (t Template) Fill(f Facts) (string, error) {
	var out strings.Builder
	for _, p := range t.pieces {
		text, why := p.plain, ""
		if p.name != "" {
			text, why = facts[p.name].value(f)
		}
		if text == "" {
			return "", fmt.Errorf("{%s}: %s", p.name, why)
		}
		if len(text) < p.cut {
			return "", fmt.Errorf("{%s:%d}: only %d characters of the commit are known", p.name, p.cut, len(text))
		}
		if p.cut > 0 {
			text = text[:p.cut]
		}
		out.WriteString(text)
	}
	tag := out.String()
	switch {
	case len(tag) > 128:
		return "", fmt.Errorf("%s…: %d characters, and a tag has at most 128", tag[:20], len(tag))
	case image.CheckTag(tag) != nil:
		return "", fmt.Errorf("%s: a tag begins with a letter, a digit or _", image.Printable(tag))
	}
	return tag, nil
}

// MayMake reports whether the template can have made a tag for an image of which these facts are known. Facts that are not
// known can be anything that they can look like; a branch must be one of those named.
func (t Template) MayMake(tag string, f Facts, branches []string) bool {
	if f == (Facts{}) && t.open != nil { // asked of every tag in a list
		return t.open.MatchString(tag)
	}
	ok, err := regexp.MatchString(t.pattern(f, branches), tag)
	return err == nil && ok
}

// pattern is a regular expression of the tags that it may make.
func (t Template) pattern(f Facts, branches []string) string {
	var re strings.Builder
	re.WriteString("^")
	for _, p := range t.pieces {
		re.WriteString(p.pattern(f, branches))
	}
	re.WriteString("$")
	return re.String()
}

func (p piece) pattern(f Facts, branches []string) string {
	if p.name == "" {
		return regexp.QuoteMeta(p.plain)
	}
	if p.name == "branch" && f.Branch == "" {
		var any []string
		for _, b := range branches {
			any = append(any, regexp.QuoteMeta(Written(b)))
		}
		if len(any) == 0 {
			return `[^\s\S]` // nothing
		}
		return "(?:" + strings.Join(any, "|") + ")"
	}
	text, _ := facts[p.name].value(f)
	switch {
	case text == "" && f.Version != "" && facts[p.name].pattern == digitsAlone:
		return `[^\s\S]` // a version is known that does not have it
	case text == "" && p.cut > 0:
		return fmt.Sprintf("[0-9a-f]{%d}", p.cut)
	case text == "":
		return "(?:" + facts[p.name].pattern + ")"
	case p.cut > 0 && len(text) >= p.cut:
		return text[:p.cut]
	case p.cut > 0: // only its beginning is known
		return regexp.QuoteMeta(text) + fmt.Sprintf("[0-9a-f]{%d}", p.cut-len(text))
	case p.name == "commit":
		return regexp.QuoteMeta(text) + fmt.Sprintf("[0-9a-f]{0,%d}", max(0, 64-len(text)))
	}
	return regexp.QuoteMeta(text)
}
