package test

import (
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"dovrak/standin/oidc"
	sim "dovrak/standin/registry"
)

// TestConsoleReleases drives the console through a release: from Standing to the whole plan and the button, a switch that is split and is taken
// back, its resumption to the proof, the roll back from the cell, and the component's page.
func TestConsoleReleases(t *testing.T) {
	t.Parallel()
	x := newSides(t, "")
	b := page(t, x.world)
	must(t, b.SignIn(x.front.URL, x.token))
	must(t, b.Open(x.front.URL+"/"))
	must(t, b.Shows("not promoted"))
	must(t, b.Click(".pass a[href='/promote/snowpack-model/live']"))
	must(t, b.Until("location.pathname === '/promote/snowpack-model/live' && document.querySelector('#because')"))
	for _, says := range []string{"Promote to live", "hut/live/snowpack-model", "in all places as one step"} {
		must(t, b.Shows(says))
	}
	axe(t, b, "a plan before the button")
	var down, struck atomic.Bool
	away := func(*http.Request) sim.Fault { return sim.Fault{Reset: down.Load()} }
	x.ridge.breaks(away)
	x.hut.breaks(func(r *http.Request) sim.Fault {
		if putOf("live")(r) && struck.CompareAndSwap(false, true) {
			down.Store(true)
		}
		return away(r)
	})
	must(t, b.Click(".say .btn.go"))
	must(t, b.Shows("Say why first"))
	must(t, b.Type("#because", "avalanche danger 3"))
	must(t, b.ClickReady(".release .say .btn.go"))
	must(t, b.Until("location.pathname === '/promotions/2'"))
	must(t, b.Shows("going back"))
	// It takes the lease of the tag whose registry went away.
	must(t, b.Within(time.Minute).Shows("The places of live mean different things"))
	must(t, b.Until("document.querySelector('.sum .btn.stop')"))
	for _, says := range []string{"split", "could not be asked", "What stands"} {
		must(t, b.Shows(says))
	}
	axe(t, b, "a split promotion")
	must(t, b.Open(x.front.URL+"/"))
	must(t, b.Shows("split: its places mean different things"))
	axe(t, b, "Standing with a split")

	down.Store(false)
	must(t, b.Open(x.front.URL+"/promotions/2"))
	must(t, b.Until("document.querySelector('.sum .btn.stop')"))
	must(t, b.Click(".sum .btn.stop"))
	must(t, b.Shows("taken back"))
	must(t, b.Shows("as before"))
	x.stands(x.old, "taken back")
	must(t, b.Until("document.querySelector('.sum .btn.go')?.textContent === 'Resume it'"))
	must(t, b.Click(".sum .btn.go"))
	must(t, b.Shows("gives each platform its image"))
	x.stands(x.new, "resumed")
	for _, says := range []string{"What happened", "split: ", "taking back asked by administrator", "restored ", "taken back: ",
		"resumed by administrator"} {
		must(t, b.Shows(says))
	}
	axe(t, b, "the proof")

	must(t, b.Open(x.front.URL+"/"))
	must(t, b.Until("document.querySelector('.says a[href=\"/rollback/snowpack-model/live\"]')"))
	must(t, b.Click(".says a[href='/rollback/snowpack-model/live']"))
	must(t, b.Until("document.querySelector('#because') && document.querySelector('.pair')"))
	axe(t, b, "a roll back before the button")
	must(t, b.Type("#to", "9.9.9\r"))
	must(t, b.Shows("This has never stood there"))
	must(t, b.Open(x.front.URL+"/rollback/snowpack-model/live"))
	must(t, b.Type("#to", "2.13.2\r"))
	must(t, b.Until("location.search === '?to=2.13.2' && document.querySelector('#because')"))
	must(t, b.Type("#because", "wrong layer at the west face"))
	must(t, b.ClickReady(".release .btn.go"))
	must(t, b.Until("document.querySelector('h1')?.textContent === 'Roll back 3'"))
	must(t, b.Shows("gives each platform its image"))
	x.stands(x.old, "rolled back")

	must(t, b.Open(x.front.URL+"/"))
	must(t, b.Until("document.querySelector('.pass .refused')?.textContent.includes('rolled back')"))
	must(t, b.Click("a.name"))
	must(t, b.Until("location.pathname === '/components/snowpack-model' && document.querySelectorAll('.lines tbody tr').length === 2"))
	for _, says := range []string{"rolled back", "How long it takes", "stands"} {
		must(t, b.Shows(says))
	}
	axe(t, b, "a component's page")
}

// TestReviews: an emergency, and a promotion that skipped an environment, have approvers of their own, are marked, and are shown until somebody
// else has reviewed them.
func TestReviews(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	w.adopt(skippable(w, id))
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	tormod, ylva := w.as(id, "Tormod"), w.as(id, "Ylva")
	for n, tt := range []struct {
		name, mark string
		args       []string
	}{
		{"skipping", "skips an environment", []string{"--from", "bench"}},
		{"an emergency", "emergency", []string{"--from", "bench", "--emergency"}},
	} {
		number := []string{"1", "2"}[n]
		if tt.mark == "emergency" {
			w.onBench(build(t, 42, "2.14.1", both, 1<<10), "build-42")
		}
		r := tormod.run(append([]string{"promote", "snowpack-model", "--to", "live", "--because", "danger 4"}, tt.args...)...)
		if r.code != 4 || !strings.Contains(r.out, tt.mark) {
			t.Fatalf("%s: %d\n%s%s", tt.name, r.code, r.out, r.err)
		}
		if r := ylva.run("promotions", "review", number, "--because", "x"); r.code != 3 || !strings.Contains(r.err, "nothing to review") {
			t.Errorf("%s, reviewed before it was done: %d\n%s", tt.name, r.code, r.err)
		}
		ylva.ok("approve", number, "--because", "the hut needs it tonight")
		w.until(wait, tt.name+" is done", func() bool { return w.promotion(int64(n+1)).State == "verified" })
		if list := w.ok("promotions", "--to-review"); !strings.Contains(list, "not reviewed") {
			t.Errorf("%s is not shown:\n%s", tt.name, list)
		}
		for _, no := range []struct {
			who  caller
			says string
		}{{tormod, "your own request"}, {w.in(""), "permission approve"}} {
			if r := no.who.run("promotions", "review", number, "--because", "fine"); r.code == 0 || !strings.Contains(r.err, no.says) {
				t.Errorf("%s, reviewed by who may not: %d\n%s", tt.name, r.code, r.err)
			}
		}
		ylva.ok("promotions", "review", number, "--because", "it held")
		if r := ylva.run("promotions", "review", number, "--because", "again"); r.code != 3 ||
			!strings.Contains(r.err, "reviewed by Ylva") {
			t.Errorf("%s, reviewed twice: %d\n%s", tt.name, r.code, r.err)
		}
	}
	if list := w.ok("promotions", "--to-review"); strings.Contains(list, "snowpack-model") {
		t.Errorf("still to be reviewed:\n%s", list)
	}
	if n := w.count("SELECT count(*) FROM trail_entries WHERE act = 'promotion reviewed'"); n != 2 {
		t.Errorf("%d reviews on the trail", n)
	}
}

// skippable is a charter with a step between bench and live that can be skipped. The usual promotion is agreed to by the auditors, one that
// skips it, or is an emergency, by operations.
func skippable(w *world, id *oidc.Issuer) string {
	c := strings.Replace(
		w.charterOfPeople(id, ""),
		"    approvals: {count: 1, from: [operations]}\n",
		`    approvals: {count: 1, from: [auditors]}
    also-from: [bench]
    skipping: {count: 1, from: [operations]}
    emergency: {approvals: {count: 1, from: [operations]}}
`,
		1,
	)
	c = strings.Replace(c, "  live:\n", "  trial:\n    standing: trial\n    fixed: [\"{version}\"]\n"+
		"    places: [{registry: hut, repository: \"trial/{component}\"}]\n  live:\n", 1)
	return strings.Replace(c, "[bench, live]", "[bench, trial, live]", 1)
}
