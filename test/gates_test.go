package test

import (
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"dovrak/api/wire"
	sim "dovrak/standin/registry"
)

// gated is a world whose live has gates and a freeze in place of the words.
func gated(t *testing.T, rules string) *world {
	t.Helper()
	w := newWorld(t)
	w.adopt(strings.Replace(charterText, "    standing: live\n", "    standing: live\n"+rules, 1))
	return w
}

// TestAPromotionMeetsItsGates: a plan says what each gate says; one that can never be met refuses, and nothing is asked of anyone; one
// that time or evidence will meet has the promotion wait, which goes on by itself when it is met.
func TestAPromotionMeetsItsGates(t *testing.T) {
	t.Parallel()
	w := gated(t, `    gates:
      - {branch: main}
      - {evidence: avalanche-replay, within: 72h}
      - {been-in: bench, for: 2s}
      - {name: light, holds: "image.size < 200 * MiB", refusal: "the hut's line takes no image above 200 MiB"}
`)
	b := run(41, "2.14.0")
	w.whole(b)
	planned := w.ok("promote", "snowpack-model", "--to", "live", "--plan")
	for _, says := range []string{"was built from main", "build 41 from main", "nobody has vouched for avalanche-replay", "dovrak vouch IMAGE", "light"} {
		if !strings.Contains(planned, says) {
			t.Errorf("the plan does not say %q:\n%s", says, planned)
		}
	}
	r := w.run("promote", "snowpack-model", "--to", "live", "--because", "danger 3")
	if r.code != 4 || !strings.Contains(r.out, "promotion 1 waits, until") {
		t.Fatalf("it ended with %d:\n%s%s", r.code, r.out, r.err)
	}
	if again := w.run("promote", "snowpack-model", "--to", "live", "--because", "twice"); again.code != 3 ||
		!strings.Contains(again.err, "waiting") {
		t.Errorf("a second beside one that waits: %d\n%s", again.code, again.err)
	}
	ref := "forge/bench/snowpack-model@" + w.promotion(1).Digest
	w.ok("vouch", ref, "--claim", "avalanche-replay", "--verdict", "passed")
	w.until(wait, "the promotion has gone on", func() bool { return w.promotion(1).Ended })
	p := w.promotion(1)
	if p.State != "verified" || len(p.Plan.Gates) != 4 {
		t.Fatalf("%s: %+v", p.State, p.Problem)
	}
	for _, g := range p.Plan.Gates {
		if g.Verdict != "holds" {
			t.Errorf("it went on while %s: %s", g.Gate, g.Seen)
		}
	}

	b = run(42, "2.14.1")
	b.Branch = "trial-of-hoar"
	w.ok("point", "forge/bench/snowpack-model@"+w.whole(b).Digest, "main", "--because", "by hand")
	r = w.run("promote", "snowpack-model", "--to", "live", "--because", "danger 3")
	if r.code != 3 || !strings.Contains(r.err, "build 42 from trial-of-hoar") || !strings.Contains(r.err, "build it from main") {
		t.Errorf("from another branch: %d\n%s", r.code, r.err)
	}
	if n := w.count("SELECT count(*) FROM promotions"); n != 1 {
		t.Errorf("a refusal left %d promotions", n)
	}
}

// TestAPromotionThatWaits is judged anew when a charter is adopted or a tag moves underneath it, is bound to its image, and can be
// stopped; what it waits for too long ends it. A process that dies meanwhile changes none of that.
func TestAPromotionThatWaits(t *testing.T) {
	t.Parallel()
	const soak = "    waits: 1m\n    gates: [{evidence: avalanche-replay}]\n"
	w := gated(t, soak)
	first, second := build(t, 41, "2.14.0", both, 1<<10), build(t, 42, "2.14.1", both, 1<<10)
	w.onBench(first, "build-41")
	asked := func(n int64) {
		t.Helper()
		if r := w.run("promote", "snowpack-model", "--to", "live", "--because", "danger 3"); r.code != 4 {
			t.Fatalf("promotion %d: %d\n%s%s", n, r.code, r.out, r.err)
		}
	}
	asked(1)
	must(t, w.mountain().Push(t.Context(), second, "live")) // behind Dovrak's back
	w.kill()
	w.start()
	w.adopt(
		strings.Replace(
			charterText,
			"    standing: live\n",
			"    standing: live\n"+soak+"    freezes: [{name: thaw, from: 2025-03-01, to: 2025-03-02}]\n",
			1,
		),
	)
	w.until(wait, "it was judged anew", func() bool { return strings.Contains(w.ok("trail"), "promotion judged anew") })
	if p := w.promotion(1); p.State != "waiting" || len(p.Plan.Gates) != 2 || p.Plan.Charter != 3 ||
		p.Plan.Places[0].Tags[1].From != second.Index.Digest.String() {
		t.Errorf("%s, %+v", p.State, p.Plan)
	}
	w.ok("stop", "1")
	if r := w.run("stop", "1"); r.code != 3 || !strings.Contains(r.err, "it is stopped") {
		t.Errorf("stopped twice: %d\n%s", r.code, r.err)
	}
	w.adopt(strings.Replace(charterText, "    standing: live\n", "    standing: live\n"+soak, 1))
	asked(2)
	w.sql(`UPDATE promotions SET plan = jsonb_set(plan, '{expires}', '"2026-01-01T00:00:00Z"') WHERE number = 2`)
	w.ok("vouch", "forge/bench/snowpack-model@"+first.Index.Digest.String(), "--claim", "another", "--verdict", "passed")
	w.until(wait, "it has expired", func() bool { return w.promotion(2).State == "expired" })
	if p := w.promotion(2).Problem; p == nil || !strings.Contains(p.Title, "waited too long") {
		t.Errorf("%+v", p)
	}
}

// TestAFreezeBegins while bytes move: the promotion waits with its content in place, and no tag is pointed.
func TestAFreezeBegins(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	img := build(t, 41, "2.14.0", both, 1<<10)
	w.onBench(img, "build-41")
	hold, reached := make(chan struct{}), make(chan struct{}, 10)
	release := sync.OnceFunc(func() { close(hold) })
	t.Cleanup(release)
	w.hut.breaks(func(r *http.Request) sim.Fault {
		if r.Method == http.MethodPut && strings.HasSuffix(r.URL.Path, img.Index.Digest.String()) {
			reached <- struct{}{}
			return sim.Fault{Hold: hold}
		}
		return sim.Fault{}
	})
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x", "--detach")
	<-reached
	const minute = "2006-01-02T15:04"
	now := time.Now().UTC()
	frozen := strings.Replace(charterText, "    standing: live\n", "    standing: live\n    freezes: [{name: thaw, from: "+
		now.Add(-time.Hour).Format(minute)+", to: "+now.Add(2*time.Hour).Format(minute)+"}]\n", 1)
	w.adopt(frozen)
	release()
	w.until(wait, "it waits", func() bool { return w.promotion(1).State == "waiting" })
	if w.mountainShows("live/snowpack-model", "live") || w.mountainShows("live/snowpack-model", "2.14.0") {
		t.Error("a tag was pointed in a freeze")
	}
	if g := w.promotion(1).Plan.Gates; len(g) != 1 || g[0].Comes != "time" ||
		!strings.Contains(g[0].Seen, "the freeze thaw holds until") {
		t.Errorf("it waits for %+v", g)
	}
	w.adopt(charterText)
	w.until(wait, "it has gone on", func() bool { return w.promotion(1).State == "verified" })
}

// TestVersionsOfTheCharter: what a new one changes is said in words and stands on the trail; an earlier one is shown whole.
func TestVersionsOfTheCharter(t *testing.T) {
	t.Parallel()
	w := gated(t, "    gates: [{branch: main}]\n")
	out, err := w.client().
		Adopt(t.Context(), wire.CharterDocument{Document: strings.Replace(charterText, "route: mountain}", "route: mountain, labels: warned}", 1)})
	must(t, err)
	want := []string{"component snowpack-model: labels that contradict the build: warned in place of nothing",
		"environment live: gates: without was built from main"}
	if out.Version != 3 || !slices.Equal(out.Changes, want) {
		t.Errorf("%+v", out)
	}
	if again, err := w.client().Adopt(t.Context(), wire.CharterDocument{Document: strings.Replace(charterText, "route: mountain}", "route: mountain, labels: warned}", 1)}); err != nil ||
		again.Version != 3 ||
		len(again.Changes) != 0 {
		t.Errorf("adopted again: %+v, %v", again, err)
	}
	if w.count("SELECT count(*) FROM trail_entries WHERE convert_from(bytes, 'UTF8') LIKE '%gates: without%'") != 1 {
		t.Error("the trail does not say what changed")
	}
	if shown := w.ok("charter", "show", "--version", "2"); !strings.Contains(shown, "# charter 2") ||
		!strings.Contains(shown, "branch: main") {
		t.Errorf("version 2:\n%s", shown)
	}
	if r := w.run("charter", "show", "--version", "9"); r.code != 1 || !strings.Contains(r.err, "no such version") {
		t.Errorf("a version that there is not: %d\n%s", r.code, r.err)
	}
}
