package tagging

import (
	"slices"
	"strings"
	"testing"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
)

const (
	a = digest.Digest("sha256:aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa")
	b = digest.Digest("sha256:bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb")
	c = digest.Digest("sha256:cccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccc")
)

func TestPattern(t *testing.T) {
	for _, tt := range []struct {
		pattern, yes, no string
	}{
		{"build-{number}", "build-41 build-0", "build- build-41a rebuild-4 build-4-1"},
		{"{version}", "2.14.0 2.14.0-rc.1 2.4.0_meta", "2.14 v2.14.0 02.1.0 2.14.0- latest"},
		{"v{version}-edge", "v1.0.0-edge", "1.0.0-edge vx-edge"},
	} {
		p, err := ParsePattern(tt.pattern)
		if err != nil {
			t.Fatal(err)
		}
		for tag := range strings.FieldsSeq(tt.yes) {
			if !p.Matches(tag) {
				t.Errorf("%s does not match %s", p, tag)
			}
		}
		for tag := range strings.FieldsSeq(tt.no) {
			if p.Matches(tag) {
				t.Errorf("%s matches %s", p, tag)
			}
		}
	}
	for _, s := range []string{"", "{commit}", "a b", "{number", "a:b", "}"} {
		if _, err := ParsePattern(s); err == nil {
			t.Errorf("the pattern %q is taken", s)
		}
	}
}

func TestJudge(t *testing.T) {
	fixed, err := ParsePattern("build-{number}")
	if err != nil {
		t.Fatal(err)
	}
	rules := Rules{Environment: "live", Standing: "live", Fixed: []Pattern{fixed}}
	for _, tt := range []struct {
		name            string
		tag             string
		from            digest.Digest
		released, first bool
		rule            string
	}{
		{"a fixed tag is made", "build-1", "", false, false, ""},
		{"a fixed tag stays", "build-1", b, false, false, ""},
		{"a fixed tag never moves", "build-1", a, false, false, "fixed tag build-{number} in live"},
		{"not even by a promotion", "build-1", a, true, false, "fixed tag build-{number} in live"},
		{"a moving tag moves", "trial-ready", a, false, false, ""},
		{"the standing tag does not move by hand", "live", a, false, false, "standing tag live in live"},
		{"nor is it made by hand", "live", "", false, false, "standing tag live in live"},
		{"a promotion moves it", "live", a, true, false, ""},
		{"where nothing is promoted to, a hand does", "live", a, false, true, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			err := rules.Judge(
				Change{
					Tag:      image.Reference{Registry: "hut", Repository: "live/x", Tag: tt.tag},
					From:     tt.from,
					To:       b,
					Released: tt.released,
					First:    tt.first,
				},
			)
			if tt.rule == "" {
				if err != nil {
					t.Fatal(err)
				}
				return
			}
			if p := problem.From(err); p.Kind != problem.Refused || p.Rule != tt.rule || p.Seen == "" || p.Remedy == "" {
				t.Fatalf("got %v", err)
			}
		})
	}
}

func TestResolve(t *testing.T) {
	for _, tt := range []struct {
		seen   digest.Digest
		answer Answer
		want   Outcome
	}{
		{b, Accepted, Done}, {b, Refused, Done}, {b, NoAnswer, Done},
		{a, Refused, NotDone}, {a, Accepted, Overtaken}, {a, NoAnswer, Open},
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
