package test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/client"
)

// TestAReleaseMorning is the story that the README tells: from a pipeline's push to a promoted, audited tag.
func TestAReleaseMorning(t *testing.T) {
	w := newWorld(t)
	img := build(t, 41, "2.14.0", both, 64<<10)
	ref := w.push(img, "build-41")
	dig := img.Index.Digest.String()

	shown := w.ok("show", "forge/bench/snowpack-model:build-41")
	for _, want := range []string{dig, "index of 2 platforms", "linux/amd64", "linux/arm64", "2.14.0",
		"org.opencontainers.image.revision", ref} {
		if !strings.Contains(shown, want) {
			t.Errorf("show does not say %q:\n%s", want, shown)
		}
	}
	w.ok("point", ref, "main", "trial-ready", "--because", "passed the bench run")
	if got := w.ok("show", "forge/bench/snowpack-model:trial-ready"); !strings.Contains(got, dig) {
		t.Errorf("the tag does not mean it:\n%s", got)
	}

	w.ok("copy", ref, "hut/live/snowpack-model")
	if puts := w.hut.since("PUT"); len(puts) != 7+2+1 { // blobs (the settings layer is shared by both), manifests, index
		t.Errorf("%d uploads, want one for each piece:\n%s", len(puts), strings.Join(puts, "\n"))
	}
	w.forge.since()
	again := w.ok("copy", ref, "hut/live/snowpack-model")
	if !strings.Contains(again, "0 B moved, 394 KiB saved") {
		t.Errorf("a second copy: %s", again)
	}
	if asked, read := w.hut.since(), w.forge.since("/blobs/"); len(asked) != 1 || !strings.HasPrefix(asked[0], "HEAD") || len(read) != 0 {
		t.Errorf("a second copy asked the destination %v and read %v", asked, read)
	}
	w.ok("copy", ref, "hut/live/snowpack-model", "--verify")
	if asked := w.hut.since(); len(asked) != 7+3 {
		t.Errorf("--verify asks for every piece: %d requests\n%s", len(asked), strings.Join(asked, "\n"))
	}

	before := time.Now().UTC()
	promoted := w.run("promote", "snowpack-model", "--to", "live", "--because", "avalanche danger 3, new snow layer")
	if promoted.code != 0 {
		t.Fatalf("%s%s\n%s", promoted.out, promoted.err, w.log())
	}
	for _, want := range []string{"hut/live/snowpack-model", "0 pieces", "nothing", "→", dig[7:19],
		"✓  hut/live/snowpack-model:2.14.0", "✓  hut/live/snowpack-model:live", "verified"} {
		if !strings.Contains(promoted.out, want) {
			t.Errorf("promote does not say %q:\n%s", want, promoted.out)
		}
	}
	if strings.Contains(promoted.out+promoted.err, "\x1b") {
		t.Error("colours where there is no terminal")
	}
	order := w.hut.since("PUT")
	if len(order) != 2 || !strings.HasSuffix(order[0], "/2.14.0") || !strings.HasSuffix(order[1], "/live") {
		t.Errorf("the standing tag is pointed last: %v", order)
	}

	trail := w.ok("trail", "hut/live/snowpack-model:live")
	if n := strings.Count(trail, "tag pointed"); n != 1 ||
		!strings.Contains(trail, "by administrator, promotion 1: avalanche danger 3, new snow layer") {
		t.Errorf("%d changes on the trail:\n%s", n, trail)
	}
	if then := w.ok("trail", "hut/live/snowpack-model:live", "--at", time.Now().UTC().Format(time.RFC3339Nano)); !strings.Contains(
		then,
		dig,
	) ||
		!strings.Contains(then, "and still does") {
		t.Errorf("what it means now: %s", then)
	}
	if r := w.run("trail", "hut/live/snowpack-model:live", "--at", before.Format(time.RFC3339Nano)); r.code != 1 ||
		!strings.Contains(r.err, "had not pointed this tag then") {
		t.Errorf("before it was pointed: %d %s", r.code, r.err)
	}
	if s := w.ok("standing"); strings.Count(s, dig[7:19]) != 2 || strings.Contains(s, "drift") {
		t.Errorf("standing:\n%s", s)
	}
}

// TestOutputs: every command that looks gives JSON and YAML, and JSON that the wire types read.
func TestOutputs(t *testing.T) {
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x")
	if got := w.in(charterText).ok("charter", "adopt", "-"); !strings.Contains(got, "charter 1 is in force") { // the same again
		t.Errorf("a charter from standard input: %s", got)
	}
	var s wire.Standing
	must(t, json.Unmarshal([]byte(w.ok("standing", "-o", "json")), &s))
	if len(s.Rows) != 1 || len(s.Rows[0].Cells) != 2 || s.Rows[0].Cells[1].Version != "2.14.0" || s.TrailSize == 0 {
		t.Errorf("standing: %+v", s)
	}
}

// TestTheTrailIsNumbered: what happened is numbered in order, without a gap, moments after it happened.
func TestTheTrailIsNumbered(t *testing.T) {
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	var items []wire.TrailEntry
	w.until(5*time.Second, "every entry has its number", func() bool {
		page, err := w.client().Trail(t.Context(), client.TrailOf{}, clientPage(200))
		must(t, err)
		items = page.Items
		for _, e := range items {
			if e.Seq == nil {
				return false
			}
		}
		return true
	})
	for i, e := range items {
		if *e.Seq != int64(len(items)-1-i) {
			t.Errorf("entry %d has the number %d", i, *e.Seq)
		}
	}
}
