package gate

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"
)

var noon = time.Date(2026, 3, 3, 12, 0, 0, 0, time.UTC)

// known are facts of which every ready-made gate can tell.
func known() Facts {
	return Facts{Component: "snowpack-model", Environment: "trial", From: "bench", Now: noon, Requester: "Ragna",
		Image: Image{Digest: "sha256:b", Version: "2.14.0", Size: 110 << 20, Platforms: []string{"linux/amd64", "linux/arm64"},
			Labels: map[string]string{"revision": "4f2a"}, Base: "snow-base:12", BaseMade: noon.Add(-20 * 24 * time.Hour)},
		Build:    Build{Known: true, Number: 41, Branch: "release/2.14", Attested: true},
		Standing: Standing{Digest: "sha256:a", Version: "2.13.2", Size: 100 << 20},
		Evidence: []Evidence{{Claim: "replay", Passed: true, By: "Tormod", At: noon.Add(-2 * time.Hour)}},
		Stood:    map[string]time.Time{"bench": noon.Add(-time.Hour)},
		Required: []string{"linux/amd64", "linux/arm64"}}
}

func one(t *testing.T, g Gate, f Facts) Result {
	t.Helper()
	c, err := Compile(g)
	if err != nil {
		t.Fatalf("%+v: %v", g, err)
	}
	return Judge(t.Context(), []Compiled{c}, f)[0]
}

func TestGates(t *testing.T) {
	for _, tt := range []struct {
		name    string
		gate    Gate
		change  func(*Facts)
		verdict Verdict
		seen    string
		comes   Comes
	}{
		{"long enough", Gate{BeenIn: "bench", For: "1h"}, nil, Holds, "since 2026-03-03 11:00:00 UTC", ""},
		{"not yet", Gate{BeenIn: "bench", For: "90m"}, nil, DoesNot, "since 2026-03-03 11:00:00 UTC", ByTime},
		{"never there", Gate{BeenIn: "trial", For: "1d"}, nil, DoesNot, "does not stand in trial", ""},
		{"platforms", Gate{Platforms: "required"}, nil, Holds, "linux/amd64, linux/arm64", ""},
		{"a plain variant is the platform", Gate{Platforms: "required"}, func(f *Facts) { f.Required = []string{"linux/arm64/v8"} }, Holds, "arm64", ""},
		{"one is missing", Gate{Platforms: "required"}, func(f *Facts) { f.Required = append(f.Required, "linux/arm/v7") }, DoesNot, "lacks linux/arm/v7", ""},
		{"branch", Gate{Branch: "release/*"}, nil, Holds, "build 41 from release/2.14", ""},
		{"another branch", Gate{Branch: "main"}, nil, DoesNot, "release/2.14", ""},
		{"nobody knows the branch", Gate{Branch: "main"}, func(f *Facts) { f.Build = Build{} }, CannotTell, "no build", ""},
		{"version", Gate{Version: "not-lower"}, nil, Holds, "2.14.0, and 2.13.2 stands there", ""},
		{"a prerelease is lower", Gate{Version: "not-lower"}, func(f *Facts) { f.Image.Version, f.Standing.Version = "2.14.0-rc.1", "2.14.0" }, DoesNot, "2.14.0-rc.1", ""},
		{"no version", Gate{Version: "not-lower"}, func(f *Facts) { f.Standing.Version = "spring" }, CannotTell, `"spring"`, ""},
		{"nothing stands there", Gate{Version: "not-lower"}, func(f *Facts) { f.Standing = Standing{} }, Holds, "nothing", ""},
		{"evidence", Gate{Evidence: "replay", Within: "3h"}, nil, Holds, "by Tormod", ""},
		{"old evidence", Gate{Evidence: "replay", Within: "1h"}, nil, DoesNot, "more than 1h ago", ByEvidence},
		{"no evidence", Gate{Evidence: "scan"}, nil, DoesNot, "nobody", ByEvidence},
		{"the last word counts", Gate{Evidence: "replay"}, func(f *Facts) {
			f.Evidence = append(f.Evidence, Evidence{Claim: "replay", By: "Ylva", At: noon})
		}, DoesNot, "failed, by Ylva", ByEvidence},
		{"a word that has expired does not", Gate{Evidence: "replay"}, func(f *Facts) { f.Evidence[0].Expires = noon }, DoesNot, "nobody", ByEvidence},
		{"base", Gate{BaseWithin: "30d"}, nil, Holds, "snow-base:12", ""},
		{"old base", Gate{BaseWithin: "14d"}, nil, DoesNot, "2026-02-11", ""},
		{"unknown base", Gate{BaseWithin: "14d"}, func(f *Facts) { f.Image.Base = "" }, CannotTell, "not known", ""},
		{"growth", Gate{GrowsAtMost: "10%"}, nil, Holds, "+10 %", ""},
		{"too much", Gate{GrowsAtMost: "9%"}, nil, DoesNot, "+10 %", ""},
		{"labels", Gate{Labels: []string{"revision"}}, nil, Holds, "", ""},
		{"no label", Gate{Labels: []string{"revision", "licence"}}, nil, DoesNot, "no label licence", ""},
		{"attested", Gate{Attested: true}, nil, Holds, "", ""},
		{"not attested", Gate{Attested: true}, func(f *Facts) { f.Build.Attested = false }, DoesNot, "", ByEvidence},
		{"a condition", Gate{Name: "light", Holds: "image.size < 200 * MiB && build.branch.startsWith('release/')", Refusal: "too heavy"}, nil, Holds, "", ""},
		{"one that does not hold", Gate{Name: "light", Holds: "image.size < 100 * MiB", Refusal: "too heavy"}, nil, DoesNot, "too heavy", ""},
		{"over evidence and time", Gate{Name: "x", Refusal: "x",
			Holds: "evidence.exists(e, e.claim == 'replay' && e.passed && now - e.at < duration('3h')) && stood['bench'] < now"}, nil, Holds, "", ""},
		{"what is not there", Gate{Name: "x", Holds: "stood['live'] < now", Refusal: "x"}, nil, CannotTell, "no such key: live", ""},
		{"endless in spirit", Gate{Name: "x", Refusal: "x", Holds: nested(6)}, func(f *Facts) {
			for range 60 {
				f.Required = append(f.Required, "linux/arm/v7")
			}
		}, CannotTell, "than a judgement may", ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			f := known()
			if tt.change != nil {
				tt.change(&f)
			}
			r := one(t, tt.gate, f)
			if r.Verdict != tt.verdict || !strings.Contains(r.Seen, tt.seen) || r.Comes != tt.comes {
				t.Errorf("%+v", r)
			}
			if r.Verdict != Holds && r.Wants == "" {
				t.Error("it does not say what would satisfy it")
			}
		})
	}
}

// nested is an expression whose cost grows with a power of the list's length.
func nested(deep int) string {
	s := "x0 == 'never'"
	for i := range deep {
		s = fmt.Sprintf("required.exists(x%d, %s)", i, s)
	}
	return s
}

func TestGatesThatAreNone(t *testing.T) {
	for says, g := range map[string]Gate{
		"without a condition":         {Name: "x"},
		"two conditions":              {Branch: "main", Attested: true},
		"for belongs to":              {Branch: "main", For: "1h"},
		"not a time to last":          {BeenIn: "bench", For: "long"},
		"write not-lower":             {Version: "higher"},
		"is not a share":              {GrowsAtMost: "20"},
		"needs a name, and a refusal": {Holds: "true"},
		"character 6: undefined":      {Name: "x", Refusal: "x", Holds: "image.weight < 3"},
		"must be true or false":       {Name: "x", Refusal: "x", Holds: "image.size"},
		"character 1: undeclared":     {Name: "x", Refusal: "x", Holds: "secret == ''"},
	} {
		if _, err := Compile(g); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v, want %q", g, err, says)
		}
	}
}

func TestDecisions(t *testing.T) {
	yes, never := Result{Verdict: Holds}, Result{Verdict: CannotTell}
	soon, later := Result{Verdict: DoesNot, Comes: ByTime, At: noon}, Result{Verdict: DoesNot, Comes: ByTime, At: noon.Add(time.Hour)}
	word := Result{Verdict: DoesNot, Comes: ByEvidence}
	for _, tt := range []struct {
		results []Result
		want    Decision
		at      time.Time
	}{
		{nil, Go, time.Time{}},
		{[]Result{yes, yes}, Go, time.Time{}},
		{[]Result{yes, soon, later}, Wait, later.At},
		{[]Result{soon, word}, Wait, noon},
		{[]Result{word}, Wait, time.Time{}},
		{[]Result{soon, never}, Refuse, time.Time{}},
	} {
		if d, at := Decide(tt.results); d != tt.want || !at.Equal(tt.at) {
			t.Errorf("%v: %s at %s", tt.results, d, at)
		}
	}
}

func TestFreezes(t *testing.T) {
	weekend := Freeze{Name: "weekend", Weekly: "fri 15:00 to mon 07:00", Zone: "Europe/Oslo"}
	for _, tt := range []struct {
		name   string
		freeze Freeze
		now    string
		until  string // empty: it does not hold
	}{
		{"before the weekend", weekend, "2026-03-06T13:59:59Z", ""},
		{"in it", weekend, "2026-03-06T14:00:00Z", "2026-03-09T06:00:00Z"},
		{"its last second", weekend, "2026-03-09T05:59:59Z", "2026-03-09T06:00:00Z"},
		{"behind it", weekend, "2026-03-09T06:00:00Z", ""},
		{"summer time begins in it", weekend, "2026-03-28T12:00:00Z", "2026-03-30T05:00:00Z"},
		{"summer time ends in it", weekend, "2026-10-24T12:00:00Z", "2026-10-26T06:00:00Z"},
		{"that ends in the hour there is twice", Freeze{Name: "night", Weekly: "sat 22:00 to sun 02:30", Zone: "Europe/Oslo"},
			"2026-10-25T00:45:00Z", "2026-10-25T01:30:00Z"},
		{"that ends in the hour there is not", Freeze{Name: "night", Weekly: "sat 22:00 to sun 02:30", Zone: "Europe/Oslo"},
			"2026-03-29T00:45:00Z", "2026-03-29T01:30:00Z"},
		{"days", Freeze{Name: "holidays", From: "2026-12-20", To: "2027-01-07", Zone: "Europe/Oslo"}, "2026-12-19T23:00:00Z", "2027-01-06T23:00:00Z"},
		{"not yet", Freeze{Name: "holidays", From: "2026-12-20T15:00", To: "2027-01-07"}, "2026-12-20T14:59:00Z", ""},
	} {
		c, err := ReadFreeze(tt.freeze)
		if err != nil {
			t.Fatalf("%s: %v", tt.name, err)
		}
		now, err := time.Parse(time.RFC3339, tt.now)
		if err != nil {
			t.Fatal(err)
		}
		until, frozen := c.At(now)
		if frozen != (tt.until != "") || frozen && until.UTC().Format(time.RFC3339) != tt.until {
			t.Errorf("%s: %t until %s", tt.name, frozen, until.UTC())
		}
	}
	for says, f := range map[string]Freeze{
		"without a name":   {Weekly: "fri 15:00 to mon 07:00"},
		"no time zone":     {Name: "x", Weekly: "fri 15:00 to mon 07:00", Zone: "Norway/Ridge"},
		"write two":        {Name: "x", Weekly: "fri 15:00 to mon 07:00", From: "2026-12-20"},
		"time of the week": {Name: "x", Weekly: "friday to monday"},
		"all of it":        {Name: "x", Weekly: "fri 15:00 to fri 15:00"},
		"before it begins": {Name: "x", From: "2026-12-20", To: "2026-12-19"},
		"is no day":        {Name: "x", From: "20.12.2026", To: "2026-12-19"},
	} {
		if _, err := ReadFreeze(f); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v, want %q", f, err, says)
		}
	}
}

// loaded is many gates, and many pieces of evidence.
func loaded(t testing.TB, gates, pieces int) ([]Compiled, Facts) {
	t.Helper()
	f := known()
	for i := range pieces {
		f.Evidence = append(
			f.Evidence,
			Evidence{Claim: fmt.Sprintf("survey-%d", i%50), Passed: true, By: "Tormod", At: noon.Add(-time.Duration(i) * time.Minute)},
		)
	}
	var out []Compiled
	for i := range gates {
		g := Gate{Evidence: fmt.Sprintf("survey-%d", i%50), Within: "30d"}
		if i%4 == 0 {
			g = Gate{Name: "x", Refusal: "x", Holds: fmt.Sprintf("evidence.exists(e, e.claim == 'survey-%d' && e.passed)", i%50)}
		}
		c, err := Compile(g)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, c)
	}
	return out, f
}

// BenchmarkJudge judges with 20 gates on 500 pieces of evidence.
func BenchmarkJudge(b *testing.B) {
	gates, f := loaded(b, 20, 500)
	for b.Loop() {
		if d, _ := Decide(Judge(context.Background(), gates, f)); d != Go {
			b.Fatal(d)
		}
	}
}

// TestJudgingGrowsLinearly: ten times as many gates, or pieces of evidence, cost about ten times as much; a hundred times would be its
// square.
func TestJudgingGrowsLinearly(t *testing.T) {
	best := func(gates, pieces int) time.Duration {
		g, f := loaded(t, gates, pieces)
		least := time.Hour
		for range 15 {
			began := time.Now()
			Judge(context.Background(), g, f)
			least = min(least, time.Since(began))
		}
		return least
	}
	base := best(8, 200)
	for name, more := range map[string]time.Duration{"gates": best(80, 200), "pieces of evidence": best(8, 2000)} {
		if grown := float64(more) / float64(base); grown > 40 { // four times what is linear, for a machine that is shared
			t.Errorf("ten times the %s took %.1f times as long: %s, %s", name, grown, base, more)
		}
	}
}
