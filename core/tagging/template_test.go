package tagging

import (
	"strings"
	"testing"
	"time"
)

var built = Facts{Component: "snowpack-model", Number: 41, Commit: "4f1c9d2e8a7b6c5d4e3f", Branch: "release/2.14", Version: "2.14.0+hut",
	Started: time.Date(2026, 3, 3, 23, 59, 0, 0, time.UTC)}

func TestFill(t *testing.T) {
	pre, bare := built, Facts{Number: 7, Commit: "4f1c9d2"}
	pre.Version = "2.14.0-rc.1"
	for _, tt := range []struct {
		template  string
		facts     Facts
		want, why string
	}{
		{"build-{number}", built, "build-41", ""},
		{"{version}", built, "2.14.0_hut", ""},
		{"v{major}.{minor}-edge", built, "v2.14-edge", ""},
		{"{commit:10}", built, "4f1c9d2e8a", ""},
		{"{branch}", built, "release-2.14", ""},
		{"{component}-{date}", built, "snowpack-model-20260303", ""},
		{"{major}.{minor}.{patch}", built, "2.14.0", ""},
		{"{version}", pre, "2.14.0-rc.1", ""},
		{"{major}.{minor}", pre, "", "2.14.0-rc.1 is a prerelease"},
		{"{version}", bare, "", "its version is not known"},
		{"{version}", Facts{Version: "nightly"}, "", "nightly is no semantic version"},
		{"{commit:10}", bare, "", "only 7 characters"},
		{"{branch}", Facts{Branch: "-x"}, "", "begins with a letter"},
		{"{branch}", Facts{Branch: strings.Repeat("x", 129)}, "", "129 characters, and a tag has at most 128"},
		{"{number}", Facts{}, "", "no build of this number"},
	} {
		tpl, err := ParseTemplate(tt.template)
		if err != nil {
			t.Fatal(err)
		}
		got, err := tpl.Fill(tt.facts)
		if got != tt.want || (err == nil) != (tt.why == "") || err != nil && !strings.Contains(err.Error(), tt.why) {
			t.Errorf("%s: %q, %v; want %q, %q", tt.template, got, err, tt.want, tt.why)
		}
		if err == nil && !tpl.MayMake(got, tt.facts, nil) {
			t.Errorf("%s does not know its own %s", tt.template, got)
		}
	}
}

func TestTemplatesThatMeanNothing(t *testing.T) {
	for text, want := range map[string]string{
		"": "empty", "{numbr}": "did you mean {number}?", "{}": "which a tag may not have", "a b": "which a tag may not have",
		"{number": "which a tag may not have", "a:b": "which a tag may not have", "}": "which a tag may not have", "{zebra}": "no fact of a build",
		"{commit:3}": "only a commit is cut", "{version:3}": "only a commit is cut", "-{number}": "begins with", strings.Repeat("x", 129): "longer",
		"{commit:64}{commit:64}x": "longer",
	} {
		if _, err := ParseTemplate(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// TestMayMake: what is known of an image binds a template, what is not known can be anything that fits.
func TestMayMake(t *testing.T) {
	release, pre := Facts{Version: "2.14.0"}, Facts{Version: "2.14.0-rc.1"}
	for _, tt := range []struct {
		template string
		facts    Facts
		yes, no  string
	}{
		{"build-{number}", Facts{}, "build-41 build-0", "build- build-41a rebuild-4 build-4-1"},
		{"build-{number}", Facts{Number: 41}, "build-41", "build-42 build-4"},
		{"{version}", Facts{}, "2.14.0 2.14.0-rc.1 2.4.0_meta", "2.14 v2.14.0 02.1.0 2.14.0- latest"},
		{"{version}", release, "2.14.0", "2.14.1 2x14x0"},
		{"{major}.{minor}", release, "2.14", "2.13 2.14.0"},
		{"{major}.{minor}", pre, "", "2.14 2.13"},
		{"{commit:10}", Facts{Commit: "4f1c9d2"}, "4f1c9d2aaa", "4f1c9d3aaa 4f1c9d2"},
		{"{branch}", Facts{}, "main release-2.14", "edge 2.14.0"},
		{"{branch}", Facts{Branch: "main"}, "main", "release-2.14"},
	} {
		tpl, err := ParseTemplate(tt.template)
		if err != nil {
			t.Fatal(err)
		}
		for tag := range strings.FieldsSeq(tt.yes) {
			if !tpl.MayMake(tag, tt.facts, []string{"main", "release/2.14"}) {
				t.Errorf("%s with %+v cannot make %s", tpl, tt.facts, tag)
			}
		}
		for tag := range strings.FieldsSeq(tt.no) {
			if tpl.MayMake(tag, tt.facts, []string{"main", "release/2.14"}) {
				t.Errorf("%s with %+v can make %s", tpl, tt.facts, tag)
			}
		}
	}
}

func TestNextVersion(t *testing.T) {
	taken := map[string]bool{"2.14.0": true, "2.14.1": true, "2.15.0-rc.1": true, "2.15.0-rc.2": true, "3.0.0-beta": true}
	for from, want := range map[string]string{
		"2.14.0": "2.14.2", "2.15.0-rc.1": "2.15.0-rc.3", "3.0.0-beta": "3.0.0-beta.1", "2.14.0+hut": "2.14.2", "2.15.0-9": "2.15.0-10", "x": "",
	} {
		if got := Next(from, func(v string) bool { return taken[v] }); got != want {
			t.Errorf("behind %s comes %q, want %q", from, got, want)
		}
	}
}
