package tagging

import (
	"slices"
	"testing"

	"github.com/opencontainers/go-digest"
)

const (
	a = digest.Digest("sha256:aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa")
	b = digest.Digest("sha256:bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb")
	c = digest.Digest("sha256:cccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccc")
)

func TestResolve(t *testing.T) {
	for _, tt := range []struct {
		seen   digest.Digest
		answer Answer
		want   Outcome
	}{
		{b, Accepted, Done}, {b, Refused, Done}, {b, NoAnswer, Done},
		{a, Refused, NotDone}, {a, Accepted, Open}, {a, NoAnswer, Open},
		{c, Accepted, Overtaken}, {c, Refused, Overtaken}, {c, NoAnswer, Open}, {"", Accepted, Overtaken},
	} {
		if got := Resolve(a, b, tt.seen, tt.answer); got != tt.want {
			t.Errorf("from a to b, seen %.8s, answer %d: %q, want %q", tt.seen, tt.answer, got, tt.want)
		}
	}
}

func TestOrder(t *testing.T) {
	want := []string{
		"2.9.0",
		"2.14.0-alpha",
		"2.14.0-alpha.2",
		"2.14.0-rc.1",
		"2.14.0-rc.2",
		"2.14.0-rc.10",
		"2.14.0",
		"2.14.1",
		"10.0.0",
		"build-9",
		"build-10",
		"build-0100",
		"v1.2.0",
		"v1.10.0",
	}
	got := slices.Clone(want)
	slices.Reverse(got)
	slices.SortFunc(got, Compare)
	if !slices.Equal(got, want) {
		t.Errorf("sorted as %v", got)
	}
	if Compare("build-01", "build-1") == 0 || Compare("a", "a") != 0 {
		t.Error("two names are one, or one is two")
	}
}

func TestGlobs(t *testing.T) {
	for _, tt := range []struct {
		glob, tag, like string
		want            bool
	}{
		{"", "anything", "%", true}, {"build-*", "build-41", "build-%", true}, {"build-*", "2.14.0", "build-%", false},
		{"2.1?.0", "2.14.0", "2.1_.0", true}, {"2.1?.0", "2.1.0", "2.1_.0", false}, {"a_b*", "axb", `a\_b%`, false}, {"a_b*", "a_bc", `a\_b%`, true},
	} {
		g, err := ParseGlob(tt.glob)
		if err != nil || g.Matches(tt.tag) != tt.want || g.Like() != tt.like {
			t.Errorf("%q on %q: %v, %q, %v", tt.glob, tt.tag, g.Matches(tt.tag), g.Like(), err)
		}
	}
	for _, bad := range []string{"a b", "[a-z]", "a/b", "\x1b", "%"} {
		if _, err := ParseGlob(bad); err == nil {
			t.Errorf("%q is a pattern", bad)
		}
	}
}
