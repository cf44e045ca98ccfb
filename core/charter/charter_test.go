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

func TestAMistakeIsRefusedWithItsPlace(t *testing.T) {
	for _, tt := range []struct{ name, old, new, where, seen string }{
		{"unknown key", "route: mountain\n  map", "rout: mountain\n  map", "line 5, column 5", "rout"},
		{"key twice", "routes:\n", "routes:\n  mountain: [bench]\n", "line 22, column 3", "mountain"},
		{"wrong type", "standing: main", "standing: [main]", "line 11", ""},
		{"route that is not there", "route: mountain\n  map", "route: valley\n  map", "line 4, column", "valley"},
		{"environment that is not there", "[bench, live]", "[bench, trial, live]", "line 21", "trial"},
		{"circle", "[bench, live]", "[bench, live, bench]", "line 21", "twice"},
		{"standing tag that would be fixed", "standing: main", "standing: build-7", "line 12", "fixed"},
		{"unknown field of a pattern", "{version}", "{commit}", "line 12", "means nothing"},
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
