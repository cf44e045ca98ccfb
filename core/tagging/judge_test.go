package tagging

import (
	"strings"
	"testing"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
)

func templates(t *testing.T, texts ...string) []Template {
	t.Helper()
	var out []Template
	for _, s := range texts {
		tpl, err := ParseTemplate(s)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, tpl)
	}
	return out
}

func moving(t *testing.T, text string, m Movement) Moving { return Moving{templates(t, text)[0], m} }

// TestJudge goes through who may point which tag from what to what. Where a rule is named the change is refused by it.
func TestJudge(t *testing.T) {
	bench := Rules{Environment: "bench", Standing: "main", First: true, Fixed: templates(t, "build-{number}", "{version}"),
		Moving: []Moving{moving(t, "{branch}", MovesAny), moving(t, "{major}.{minor}", MovesForward), moving(t, "newest", MovesPromotion),
			moving(t, "before", MovesRollBack)}, Caches: templates(t, "cache-{branch}"), Branches: []string{"main", "thaw"}}
	live := Rules{Environment: "live", Standing: "live", Fixed: templates(t, "{version}")}
	free, closed, named := live, bench, live
	free.Other, closed.NoOverwrite = true, true
	named.Moving = []Moving{moving(t, "latest", MovesPromotion)}
	f41, f40 := Facts{Number: 41, Version: "2.14.0", Branch: "main"}, Facts{Number: 40, Version: "2.13.9", Branch: "main"}
	rc := Facts{Number: 42, Version: "2.15.0-rc.1", Branch: "main"}
	for _, tt := range []struct {
		name         string
		rules        Rules
		tag          string
		by           Mover
		from         digest.Digest
		image, means Facts
		rule, seen   string
	}{
		{"a fixed tag is made", bench, "build-41", ByHand, "", f41, Facts{}, "", ""},
		{"a fixed tag stays", bench, "build-41", ByHand, b, f41, Facts{}, "", ""},
		{"a fixed tag never moves", bench, "build-41", ByHand, a, f41, f40, "fixed tag build-{number} in bench", "never changes its meaning"},
		{"not even by a promotion", live, "2.14.0", ByPromotion, a, f41, f40, "fixed tag {version} in live", "never changes its meaning"},
		{"nor by its own build", bench, "2.14.0", ByBuild, a, f41, f40, "fixed tag {version} in bench", "never changes its meaning"},
		{"a version is not lent to another", bench, "2.15.0", ByHand, "", f41, Facts{}, "fixed tag {version} in bench", "the rule makes 2.14.0"},
		{"nor a number", bench, "build-40", ByHand, "", f41, Facts{}, "fixed tag build-{number} in bench", "the rule makes build-41"},
		{"an image that says nothing can have a version", bench, "2.15.0", ByHand, "", Facts{}, Facts{}, "", ""},
		{"the standing tag does not move by hand", live, "live", ByHand, a, f41, f40, "standing tag live in live", "only a promotion"},
		{"nor is it made by hand", live, "live", ByHand, "", f41, Facts{}, "standing tag live in live", "only a promotion"},
		{"nor by a build", live, "live", ByBuild, a, f41, f40, "standing tag live in live", "only a promotion"},
		{"a promotion moves it", live, "live", ByPromotion, a, f41, f40, "", ""},
		{"so does a roll back", live, "live", ByRollBack, a, f40, f41, "", ""},
		{"where nothing is promoted to, a hand does", bench, "main", ByHand, a, f40, f41, "", ""},
		{"a newer build moves it there", bench, "main", ByBuild, a, f41, f40, "", ""},
		{"an older build takes nothing back", bench, "main", ByBuild, a, f40, f41, "standing tag main in bench", "newer than build 40"},
		{"what no build made is moved from", bench, "main", ByBuild, a, f40, Facts{}, "", ""},
		{"a branch of its own", bench, "thaw", ByBuild, "", Facts{Number: 9, Branch: "thaw"}, Facts{}, "", ""},
		{"no branch of another's", bench, "thaw", ByHand, "", f41, Facts{}, "moving tag {branch} in bench", "the rule makes main"},
		{"forward", bench, "2.14", ByBuild, a, f41, Facts{Version: "2.14.0-rc.9"}, "", ""},
		{"not backward", bench, "2.13", ByHand, a, f40, Facts{Version: "2.13.10"}, "moving tag {major}.{minor} in bench", "2.13.9 is not higher"},
		{"not to its like", bench, "2.13", ByHand, a, f40, Facts{Version: "2.13.9+hut"}, "moving tag {major}.{minor} in bench", "is not higher"},
		{"not from what cannot be compared", bench, "2.13", ByHand, a, f40, Facts{}, "moving tag {major}.{minor} in bench", "without a version"},
		{"a prerelease has no release's tag", bench, "2.15", ByBuild, "", rc, Facts{}, "moving tag {major}.{minor} in bench", "is a prerelease"},
		{"by promotion only", bench, "newest", ByHand, a, f41, f40, "moving tag newest in bench", "only a promotion"},
		{"a promotion", bench, "newest", ByPromotion, a, f41, f40, "", ""},
		{"by roll back only", bench, "before", ByPromotion, a, f41, f40, "moving tag before in bench", "only a roll back"},
		{"a roll back", bench, "before", ByRollBack, a, f41, f40, "", ""},
		{"a cache moves freely", bench, "cache-main", ByBuild, a, f40, f41, "", ""},
		{"a name that no rule makes", bench, "edge", ByHand, "", f41, Facts{}, "other tags in bench", "no rule"},
		{"not by a promotion either", live, "edge", ByPromotion, "", f41, Facts{}, "other tags in live", "no rule"},
		{"unless others are allowed", free, "edge", ByHand, a, f41, f40, "", ""},
		{"but a fixed tag is not another's, though others are allowed", free, "2.13.9", ByHand, a, f41, f40, "fixed tag {version} in live",
			"the rule makes 2.14.0"},
		{"nor can it be made for another", free, "2.15.0", ByHand, "", f41, Facts{}, "fixed tag {version} in live", "the rule makes 2.14.0"},
		{"a branch that is named as a version does not move its tag", bench, "2.13.9", ByBuild, a, Facts{Number: 9, Version: "3.0.0", Branch: "2.13.9"},
			f40, "fixed tag {version} in bench", "the rule makes 3.0.0"},
		{"latest never by itself", free, "latest", ByHand, "", f41, Facts{}, "latest is refused unless a rule names it", ""},
		{"nor as a branch", bench, "latest", ByHand, "", Facts{Branch: "latest"}, Facts{}, "latest is refused unless a rule names it", ""},
		{"where a rule names it", named, "latest", ByPromotion, a, f41, f40, "", ""},
		{"where no charter speaks, all is free", Rules{}, "latest", ByHand, a, f41, f40, "", ""},
		{"but for what the registry itself forbids", Rules{NoOverwrite: true}, "x", ByHand, a, f41, f40, "the repository's tags cannot be overwritten", ""},
		{"also under a charter", closed, "main", ByHand, a, f41, f40, "the repository's tags cannot be overwritten", ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			err := tt.rules.Judge(Change{Tag: image.Reference{Registry: "hut", Repository: "live/x", Tag: tt.tag}, From: tt.from, To: b,
				Mover: tt.by, Image: tt.image, Means: tt.means})
			if tt.rule == "" {
				if err != nil {
					t.Fatal(err)
				}
				return
			}
			if p := problem.From(err); p.Kind != problem.Refused || p.Rule != tt.rule || !strings.Contains(p.Seen, tt.seen) ||
				p.Remedy == "" {
				t.Fatalf("got %v", err)
			}
		})
	}
}

// TestCachesAreNotReleased: what only a pipeline's cache means gets no other tag.
func TestCachesAreNotReleased(t *testing.T) {
	rules := Rules{
		Environment: "bench",
		Standing:    "main",
		First:       true,
		Caches:      templates(t, "cache-{branch}"),
		Branches:    []string{"main"},
	}
	for tag, fine := range map[string]bool{"cache-main": true, "main": false} {
		err := rules.Judge(Change{Tag: image.Reference{Registry: "forge", Repository: "bench/x", Tag: tag}, To: b, CacheOnly: true})
		if (err == nil) != fine {
			t.Errorf("%s: %v", tag, err)
		}
	}
}

// TestEarn: a build gets what its facts make, fixed tags first and the standing tag last; what it does not get is said.
func TestEarn(t *testing.T) {
	rules := Rules{Environment: "bench", Standing: "main", First: true, Fixed: templates(t, "build-{number}", "{version}"),
		Moving: []Moving{
			moving(t, "{branch}", MovesAny),
			moving(t, "{major}.{minor}", MovesForward),
			moving(t, "newest", MovesAny),
			moving(t, "blessed", MovesPromotion),
			moving(t, "before", MovesRollBack),
		}}
	for _, tt := range []struct {
		facts Facts
		want  string
	}{
		{Facts{Number: 41, Version: "2.14.0", Branch: "main"}, "fixed:build-41 fixed:2.14.0 moving:2.14 moving:newest standing:main"},
		{Facts{Number: 42, Version: "2.15.0-rc.1", Branch: "thaw"}, "fixed:build-42 fixed:2.15.0-rc.1 moving:thaw moving:newest"},
		{Facts{Number: 43, Branch: "latest"}, "fixed:build-43 moving:newest"},
		{Facts{Number: 45, Version: "3.0.0", Branch: "2.13.9"}, "fixed:build-45 fixed:3.0.0 moving:3.0 moving:newest"},
		{Facts{Number: 44, Version: "2.16.0", Branch: "2.16"}, "fixed:build-44 fixed:2.16.0 moving:2.16 moving:newest"},
	} {
		var got []string
		for _, e := range rules.Earn(tt.facts, ByBuild) {
			if e.Tag != "" {
				got = append(got, string(e.Rule.Kind)+":"+e.Tag)
			} else if e.Why == "" {
				t.Errorf("%+v: no tag by %s, and no word why", tt.facts, e.Rule)
			}
		}
		if strings.Join(got, " ") != tt.want {
			t.Errorf("%+v earns %v, want %s", tt.facts, got, tt.want)
		}
	}
}
