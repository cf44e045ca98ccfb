package test

import (
	"strings"
	"testing"
)

// TestACharterIsAgreedTo: where the charter in force says so, the next one waits for people, is bound to the charter that it was proposed
// on, and never comes into force by who proposed it.
func TestACharterIsAgreedTo(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	const adoption = "adoption: {count: 1, from: [operations]}\n"
	w.adopt(
		strings.Replace(
			w.charterOfPeople(id, ""),
			"operations: {claims: [ops]}",
			"operations: {claims: [ops], may: [keep]}",
			1,
		) + adoption,
	)
	ylva, tormod, ragna := w.as(id, "Ylva"), w.as(id, "Tormod"), w.as(id, "Ragna")
	proposed := func(who caller, text, says string) {
		t.Helper()
		if r := who.run("charter", "adopt", w.file(text), "--because", "less words"); r.code != 4 || !strings.Contains(r.out, says) {
			t.Fatalf("%d\n%s%s", r.code, r.out, r.err)
		}
	}
	without := strings.Replace(w.charterOfPeople(id, ""), "    approvals: {count: 1, from: [operations]}\n", "", 1) + adoption
	proposed(ylva, without, "environment live: approvals: nobody need agree in place of one of operations")
	proposed(tormod, without+"# again\n", "it waits as proposal 2")
	for _, tt := range []struct {
		name string
		who  caller
		args []string
		code int
		says string
	}{
		{"by who proposed it", ylva, []string{"approve", "1", "--because", "fine"}, 3, "your own proposal"},
		{"by who may not", ragna, []string{"approve", "1", "--because", "fine"}, 1, "permission approve"},
		{"by a token that may keep", caller{w, w.token, ""}, []string{"approve", "1", "--because", "fine"}, 1, "permission approve"},
		{"of none", tormod, []string{"approve", "9", "--because", "fine"}, 1, "no such proposal"},
		{"by another", tormod, []string{"approve", "1", "--because", "fine"}, 0, "charter 4 is in force"},
		{"of one that was overtaken", ylva, []string{"approve", "2", "--because", "fine"}, 3, "it is overtaken"},
	} {
		if r := tt.who.run(append([]string{"charter"}, tt.args...)...); r.code != tt.code || !strings.Contains(r.out+r.err, tt.says) {
			t.Errorf("%s: %d\n%s%s", tt.name, r.code, r.out, r.err)
		}
	}
	proposed(w.in(""), w.charterOfPeople(id, ""), "proposal 3")
	if r := ylva.run("charter", "decline", "3", "--because", "nobody would agree any more"); r.code != 0 ||
		!strings.Contains(r.out, "stays as it is") {
		t.Errorf("declining: %d\n%s%s", r.code, r.out, r.err)
	}
	list := w.ok("charter", "proposals")
	for _, state := range []string{"declined", "overtaken", "adopted"} {
		if !strings.Contains(list, state) {
			t.Errorf("no proposal is %s:\n%s", state, list)
		}
	}
	if shown := w.ok("charter", "proposals", "show", "3"); !strings.Contains(shown, "approvals: one of operations must agree") ||
		!strings.Contains(shown, "nobody would agree any more") {
		t.Errorf("proposal 3:\n%s", shown)
	}
	if now := w.ok("charter", "show"); !strings.Contains(now, "# charter 4") {
		t.Errorf("in force is\n%s", now)
	}
	if story := w.ok("trail"); !strings.Contains(story, "charter proposed") || !strings.Contains(story, "charter approved") ||
		!strings.Contains(story, "charter declined") {
		t.Errorf("the trail:\n%s", story)
	}
}

// TestACharterIsTried before it bites: what the next promotions would come to, and whether its places can be written to. Nothing changes.
func TestACharterIsTried(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	gates := w.file(strings.Replace(charterText, "    standing: live\n", "    standing: live\n    gates: [{evidence: replay}]\n", 1))
	more := w.file(strings.Replace(charterText, "[linux/amd64, linux/arm64]", "[linux/amd64, linux/arm64, linux/arm/v7]", 1))
	same := w.file(charterText + "# in other words\n")
	gone := w.file(strings.Replace(charterText, "registry: hut", "registry: cabin", 1))
	w.hut.since()
	for _, tt := range []struct {
		name string
		args []string
		code int
		says []string
	}{
		{"a gate that waits", []string{"rehearse", gates}, 5, []string{"snowpack-model to live", "goes", "waits: replay has passed: vouch for it", "1 of 1"}},
		{"a platform that is missing", []string{"rehearse", more}, 5, []string{"refused: The image lacks a platform", "linux/arm/v7"}},
		{"the same in other words", []string{"rehearse", same}, 0, []string{"0 of 1 next promotions would go another way"}},
		{"a registry that is not connected", []string{"rehearse", gone}, 5, []string{"refused: No registry is connected under this name"}},
		{"its places", []string{"check", "--live", same}, 0, []string{"hut/live/snowpack-model", "takes a push"}},
		{"a place that there is not", []string{"check", "--live", gone}, 5, []string{"cabin/live/snowpack-model", "No registry is connected", "1 of 2 places"}},
		{"a mistake", []string{"rehearse", w.file("organisation: x\nroute: y\n")}, 2, []string{"line 2"}},
	} {
		r := w.run(append([]string{"charter"}, tt.args...)...)
		for _, says := range tt.says {
			if r.code != tt.code || !strings.Contains(r.out+r.err, says) {
				t.Errorf("%s: %d, no %q\n%s%s", tt.name, r.code, says, r.out, r.err)
			}
		}
	}
	if puts := w.hut.since("PUT"); len(puts) > 0 || w.count("SELECT count(*) FROM charters") != 1 ||
		w.count("SELECT count(*) FROM promotions") != 0 {
		t.Errorf("a rehearsal changed something: %v", puts)
	}
}
