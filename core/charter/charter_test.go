package charter

import (
	"slices"
	"strings"
	"testing"

	"dovrak/core/image"
	"dovrak/core/problem"
)

const good = `organisation: Skarvind Avalanche Watch
components:
  snowpack-model:
    platforms: [linux/amd64, linux/arm64]
    route: mountain
  map-tiles:
    platforms: [linux/amd64]
    route: mountain
environments:
  bench:
    standing: main
    fixed: ["build-{number}", "{version}"]
    places:
      - {registry: forge, repository: "bench/{component}"}
  live:
    standing: live
    places:
      - {registry: ridge, repository: "live/{component}"}
      - {registry: hut, repository: "live/{component}"}
routes:
  mountain: [bench, live]
`

func TestParse(t *testing.T) {
	c, err := Parse([]byte(good))
	if err != nil {
		t.Fatal(err)
	}
	if before, err := c.Before("snowpack-model", "live"); err != nil || before != "bench" {
		t.Errorf("before live: %q, %v", before, err)
	}
	if h := c.HomeOf(image.Reference{Registry: "hut", Repository: "live/map-tiles"}); h != (Home{"map-tiles", "live"}) {
		t.Errorf("home: %+v", h)
	}
	if h := c.HomeOf(image.Reference{Registry: "hut", Repository: "elsewhere"}); h != (Home{}) {
		t.Errorf("a home where there is none: %+v", h)
	}
	if got := c.Order(); !slices.Equal(got, []string{"bench", "live"}) {
		t.Errorf("order: %v", got)
	}
	for _, tt := range []struct{ component, to, rule string }{
		{"snowpack-model", "bench", "route mountain"},
		{"snowpack-model", "trial", "route mountain"},
	} {
		if _, err := c.Before(tt.component, tt.to); !problem.Is(err, problem.Refused) || problem.From(err).Rule != tt.rule {
			t.Errorf("%s to %s: %v", tt.component, tt.to, err)
		}
	}
}

func pipelines(issuer, audience, claims, component string) string {
	return "pipelines:\n  valley:\n    issuer: " + issuer + "\n    audience: " + audience +
		"\n    may: [{claims: " + claims + ", components: [" + component + "]}]\n"
}

// TestComponentsFor: a token reports for what all of its claims fit, and a star stands for letters but not for a slash.
func TestComponentsFor(t *testing.T) {
	p := Pipeline{May: []Grant{{map[string]string{"project": "models/*", "branch": "main"}, []string{"snowpack-model"}},
		{map[string]string{"project": "models/tiles", "protected": "true"}, []string{"map-tiles"}}}}
	for _, tt := range []struct {
		claims map[string]any
		want   string
	}{
		{map[string]any{"project": "models/snowpack", "branch": "main"}, "snowpack-model"},
		{map[string]any{"project": "models/tiles", "branch": "main", "protected": true}, "map-tiles snowpack-model"},
		{map[string]any{"project": "models/tiles", "branch": "thaw", "protected": "true"}, "map-tiles"},
		{map[string]any{"project": "models/deep/er", "branch": "main"}, ""},
		{map[string]any{"project": "models/snowpack"}, ""},
		{map[string]any{"project": []any{"models/snowpack"}, "branch": "main"}, ""},
		{map[string]any{}, ""},
	} {
		if got := strings.Join(p.ComponentsFor(tt.claims), " "); got != tt.want {
			t.Errorf("%v reports for %q, want %q", tt.claims, got, tt.want)
		}
	}
}

func TestAMistakeIsRefusedWithItsPlace(t *testing.T) {
	for _, tt := range []struct{ name, old, new, where, seen string }{
		{"unknown key", "route: mountain\n  map", "rout: mountain\n  map", "line 5, column 5", "rout"},
		{"key twice", "routes:\n", "routes:\n  mountain: [bench]\n", "line 22, column 3", "mountain"},
		{"wrong type", "standing: main", "standing: [main]", "line 11", ""},
		{"route that is not there", "route: mountain\n  map", "route: valley\n  map", "line 4, column", "valley"},
		{"environment that is not there", "[bench, live]", "[bench, trial, live]", "line 21", "trial"},
		{"circle", "[bench, live]", "[bench, live, bench]", "line 21", "twice"},
		{"standing tag that would be fixed", "standing: main", "standing: build-7", "line 12", "fixed"},
		{"unknown field of a pattern", "{version}", "{comit}", "line 12", "did you mean {commit}?"},
		{"a fixed tag that two builds would have", `"{version}"`, `"{branch}"`, "line 12", "the same fixed tag for two builds"},
		{"other than allowed", "standing: main", "standing: main\n    other: some", "line 12", "other: some"},
		{"a movement that there is not", "standing: main", "standing: main\n    moving: [{tag: x, moves: up}]", "line 12", `moves by "up"`},
		{"fixed and moving", "standing: main", "standing: main\n    moving: [{tag: \"{version}\", moves: any}]", "line 12", "is fixed and moving"},
		{"a cache that could be anything", "standing: main", "standing: main\n    cache: [\"{branch}\"]", "line 12", "any name a cache"},
		{"a cache among releases", "standing: main", "standing: main\n    cache: [\"build-{branch}\"]", "line 12", "begin alike"},
		{"a platform required and optional", "platforms: [linux/amd64]\n", "platforms: [linux/amd64]\n    optional: [linux/amd64]\n", "line 7", "twice"},
		{"labels that are neither", "platforms: [linux/amd64]\n", "platforms: [linux/amd64]\n    labels: maybe\n", "line 7", "labels: maybe"},
		{"no time for a build", "platforms: [linux/amd64]\n", "platforms: [linux/amd64]\n    build-within: 5s\n", "line 7", "build-within"},
		{"an issuer without TLS", "routes:", pipelines("http://ci.skarvind.example", "dovrak", "{project: x}", "map-tiles") + "routes:", "line 22", "the issuer"},
		{"no audience", "routes:", pipelines("https://ci.skarvind.example", `""`, "{project: x}", "map-tiles") + "routes:", "line 22", "no audience"},
		{"every token", "routes:", pipelines("https://ci.skarvind.example", "dovrak", "{}", "map-tiles") + "routes:", "line 22", "every token"},
		{"a claim that is anything", "routes:", pipelines("https://ci.skarvind.example", "dovrak", `{project: "*"}`, "map-tiles") + "routes:", "line 22", "the claim"},
		{"a component that is not there", "routes:", pipelines("https://ci.skarvind.example", "dovrak", "{project: x}", "gauge") + "routes:", "line 22", "gauge"},
		{"a key that is none", "routes:", "attestation-keys: {builder: x}\nroutes:", "line 20", "no public key"},
		{"a gate without a condition", "standing: live", "standing: live\n    gates: [{name: x}]", "line 17, column", "without a condition"},
		{"a second gate that asks for what there is not", "standing: live", "standing: live\n    gates:\n      - {branch: main}\n" +
			"      - {name: x, holds: image.weight > 3, refusal: y}", "line 19, column", "undefined field 'weight'"},
		{"two gates of one name", "standing: live", "standing: live\n    gates: [{branch: main}, {branch: main}]", "line 17", "two gates are called"},
		{"a soak where there is no such environment", "standing: live", "standing: live\n    gates: [{been-in: trial, for: 1h}]", "line 17", "been-in trial"},
		{"a soak that no promotion outlives", "standing: live", "standing: live\n    waits: 1h\n    gates: [{been-in: bench, for: 2h}]", "line 18", "is over before"},
		{"a freeze in no zone", "standing: live", "standing: live\n    freezes: [{name: x, weekly: fri 15:00 to mon 07:00, zone: Ridge}]", "line 17", "no time zone"},
		{"a wait that is none", "standing: live", "standing: live\n    waits: soon", "line 17", "waits: soon"},
		{"two homes in one place", "bench/{component}", "live/{component}", "", ""},
		{"all components in one repository", "bench/{component}", "bench/all", "line 14", "every component"},
		{"no platform", "[linux/amd64]", "[]", "line 7", "no platform"},
		{"platform without a system", "[linux/amd64]", "[amd64]", "line 7", "amd64"},
		{"repository in upper case", "bench/{component}", "Bench/{component}", "line 14", "characters"},
		{"no organisation", "organisation: Skarvind Avalanche Watch\n", "", "", "no organisation"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			doc := strings.Replace(good, tt.old, tt.new, 1)
			if tt.name == "two homes in one place" {
				doc = strings.Replace(doc, "registry: forge", "registry: hut", 1)
				tt.seen = "is the home of"
			}
			_, err := Parse([]byte(doc))
			p := problem.From(err)
			if err == nil || p.Kind != problem.Malformed || !strings.Contains(p.Where, tt.where) || !strings.Contains(p.Seen, tt.seen) ||
				p.Remedy == "" {
				t.Fatalf("got %v, want %q at %q", err, tt.seen, tt.where)
			}
		})
	}
}

// TestANewCharter must keep reachable what its environments ran; one that was adopted before that was asked is read all the same.
func TestANewCharter(t *testing.T) {
	if _, err := Parse([]byte(good)); err != nil {
		t.Fatal(err)
	}
	_, err := ParseNew([]byte(good))
	if p := problem.From(err); !strings.Contains(p.Seen, "live gives its images no fixed tag") || !strings.HasPrefix(p.Where, "line 1") {
		t.Errorf("%v", err)
	}
	if _, err := ParseNew([]byte(strings.Replace(good, "standing: live", "standing: live\n    fixed: [\"{version}\"]", 1))); err != nil {
		t.Error(err)
	}
}

// TestDifference: each change is told in a line, and what only looks different is none.
func TestDifference(t *testing.T) {
	base := strings.Replace(good, "standing: live", "standing: live\n    gates: [{branch: main}]", 1)
	for _, tt := range []struct{ name, old, new, want string }{
		{"nothing", "", "", ""},
		{"a comment", "routes:", "# to the mountains\nroutes:", ""},
		{"the way", "[bench, live]", "[bench]", "route mountain: bench in place of bench → live"},
		{"platforms", "platforms: [linux/amd64]", "platforms: [linux/arm64]",
			"component map-tiles: required platforms: with linux/arm64, without linux/amd64"},
		{"a gate", "[{branch: main}]", "[{branch: main}, {name: light, holds: image.size < 3, refusal: no}]",
			"environment live: gates: with light (image.size < 3)"},
		{"a gate's word", "{branch: main}", "{branch: release/*}",
			"environment live: gates: with was built from release/*, without was built from main"},
		{"a freeze", "    gates:", "    freezes: [{name: weekend, weekly: fri 15:00 to mon 07:00}]\n    gates:",
			"environment live: freezes: with weekend (fri 15:00 to mon 07:00 UTC)"},
		{"a wait", "    gates:", "    waits: 48h\n    gates:", "environment live: waits for gates: 48h0m0s in place of 24h0m0s"},
		{"a new component", "routes:", "XX", "component slope-sensor is new"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			text := strings.Replace(base, tt.old, tt.new, 1)
			if tt.new == "XX" {
				text = strings.Replace(base, "components:\n", "components:\n  slope-sensor: {platforms: [linux/arm64], route: mountain}\n", 1)
			}
			old, err := Parse([]byte(base))
			if err != nil {
				t.Fatal(err)
			}
			now, err := Parse([]byte(text))
			if err != nil {
				t.Fatal(err)
			}
			if got := strings.Join(Difference(old, now), "\n"); got != tt.want {
				t.Errorf("got %q, want %q", got, tt.want)
			}
		})
	}
}
