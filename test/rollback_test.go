package test

import (
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"dovrak/api/wire"
	sim "dovrak/standin/registry"
)

// TestRollBack is to what stood before, in every place, without a copy; what was rolled back does not come back without a deliberate word,
// and the next roll back goes further back.
func TestRollBack(t *testing.T) {
	t.Parallel()
	x := newSides(t, "")
	x.promote()
	x.stands(x.new, "promoted")
	before := time.Now().UTC()
	third := build(t, 42, "2.14.1", both, 1<<10)
	x.onBench(third, "build-42")
	x.ok("promote", "snowpack-model", "--to", "live", "--because", "hoar")
	x.hut.since()
	x.ridge.since()
	out := x.ok("rollback", "snowpack-model", "--in", "live", "--because", "wrong layer at the west face")
	if !strings.Contains(out, "roll back 4") || !strings.Contains(out, "amd64, arm64") {
		t.Errorf("it says\n%s", out)
	}
	x.stands(x.new, "rolled back")
	for _, s := range []*side{x.hut, x.ridge} {
		if moved := append(s.since("POST"), s.since("PATCH")...); len(moved) != 0 {
			t.Errorf("a roll back copies: %v", moved)
		}
	}
	if x.hut.meant(t, "2.14.1") == "" {
		t.Error("the fixed tag of what was rolled back is gone")
	}
	for _, tt := range []struct {
		name string
		args []string
		code int
		says string
	}{
		{"promoting it again", []string{"promote", "snowpack-model", "--to", "live", "--because", "x"}, 3,
			"was rolled back by administrator (promotion 4): wrong layer"},
		{"rolling back without a reason", []string{"rollback", "snowpack-model", "--in", "live"}, 2, "--because"},
		{"to what stands", []string{"rollback", "snowpack-model", "--in", "live", "--to", "2.14.0", "--because", "x"}, 3, "This is what stands there"},
		{"to what never stood", []string{"rollback", "snowpack-model", "--in", "live", "--to", "1.0.0", "--because", "x"}, 3,
			"what stood there: 2.14.0"},
		{"to before anything stood", []string{"rollback", "snowpack-model", "--in", "live", "--to", "2026-01-01", "--because", "x"}, 3,
			"Nothing stood there"},
		{"where nothing is promoted to", []string{"rollback", "snowpack-model", "--in", "bench", "--because", "x"}, 3, "first environment"},
		{"nowhere", []string{"rollback", "snowpack-model", "--in", "hut", "--because", "x"}, 3, "not on the component's route"},
	} {
		if r := x.run(tt.args...); r.code != tt.code || !strings.Contains(r.err, tt.says) {
			t.Errorf("%s: %d, want %d and %q\n%s", tt.name, r.code, tt.code, tt.says, r.err)
		}
	}
	x.ok("rollback", "snowpack-model", "--in", "live", "--because", "further back")
	x.stands(x.old, "rolled back twice")
	x.ok("rollback", "snowpack-model", "--in", "live", "--to", x.new.Index.Digest.Encoded()[:12], "--because", "by digest")
	x.stands(x.new, "by digest")
	x.ok("rollback", "snowpack-model", "--in", "live", "--to", third.Index.Digest.String(), "--because", "by its whole digest")
	x.ok("rollback", "snowpack-model", "--in", "live", "--to", before.Format(time.RFC3339Nano), "--because", "by time")
	x.stands(x.new, "by time")
	x.ok("promote", "snowpack-model", "--to", "live", "--again", "--because", "it was the sensor")
	x.stands(third, "promoted again")
	if _, err := x.client().RollBack(t.Context(), wire.NewRollBack{Component: "snowpack-model", In: "live", To: "1.0.0", Because: "x"}); err == nil {
		t.Error("rolled back to what never stood")
	}
	for act, want := range map[string]int{"roll back done": 5, "roll back refused": 1} {
		if n := x.count("SELECT count(*) FROM trail_entries WHERE act = '" + act + "'"); n != want {
			t.Errorf("%d times %s on the trail, want %d", n, act, want)
		}
	}
}

// TestKilledInARollBack: the next service ends it, as it does with a promotion.
func TestKilledInARollBack(t *testing.T) {
	t.Parallel()
	for _, point := range []string{"verified-again", "switch-begun", "tag-pointed:3", "tag-pointed:6"} {
		t.Run(point, func(t *testing.T) {
			t.Parallel()
			x := newSides(t, "")
			x.promote()
			struck := x.diesAt(point)
			x.ok("rollback", "snowpack-model", "--in", "live", "--because", "wrong layer", "--detach")
			struck()
			x.endsAs(3, "verified")
			x.stands(x.old, "taken up")
		})
	}
}

// TestRollBackNeedsItsRight: to promote is not to roll back; where an environment names groups, theirs alone.
func TestRollBackNeedsItsRight(t *testing.T) {
	t.Parallel()
	x := newSides(t, "")
	x.adopt(charterOfTwo("    roll-back: [rescue]\n") + "groups:\n  rescue: {members: [mountain-rescue]}\n")
	x.promote()
	token := func(name string, may ...string) caller {
		tok, err := x.client().IssueToken(t.Context(), wire.NewToken{Name: name, Kind: "pipeline", May: may, For: "1h"})
		must(t, err)
		return caller{x.world, tok.Token, ""}
	}
	args := []string{"rollback", "snowpack-model", "--in", "live", "--because", "x"}
	if r := token("one who promotes", "read", "promote").run(args...); r.code != 1 || !strings.Contains(r.err, "permission roll-back") {
		t.Errorf("who promotes: %d\n%s", r.code, r.err)
	}
	if r := token("one who rolls back elsewhere", "read", "roll-back").run(args...); r.code != 1 ||
		!strings.Contains(r.err, "roll-back of live: rescue") {
		t.Errorf("who is in no group: %d\n%s", r.code, r.err)
	}
	x.stands(x.new, "refused")
	rescue := token("mountain-rescue", "read")
	if r := rescue.run("promote", "snowpack-model", "--to", "live", "--because", "x"); r.code != 1 {
		t.Errorf("who rolls back promotes: %d\n%s", r.code, r.out)
	}
	rescue.ok(args...)
	x.stands(x.old, "rolled back")
}

// TestRollBackToWhatIsGone in a place is found out before anything moves: it is copied from where it is kept; where it is nowhere, nothing
// changes.
func TestRollBackToWhatIsGone(t *testing.T) {
	t.Parallel()
	x := newSides(t, "")
	x.promote()
	blob := x.old.Manifests[1].Digest.String()
	x.hut.collects(t, "_manifests", blob)
	if plan := x.ok("rollback", "snowpack-model", "--in", "live", "--plan"); !strings.Contains(plan, "1 piece") ||
		!strings.Contains(plan, "from ridge/live/snowpack-model") {
		t.Errorf("the plan does not say what is to be moved:\n%s", plan)
	}
	var pointed atomic.Int64
	x.ridge.strikes(putOf("live"), sim.Fault{}, &pointed)
	moved := atomic.Bool{}
	x.hut.breaks(func(r *http.Request) sim.Fault {
		if r.Method == http.MethodPut && strings.HasSuffix(r.URL.Path, blob) {
			moved.Store(pointed.Load() == 0)
		}
		return sim.Fault{}
	})
	x.ok("rollback", "snowpack-model", "--in", "live", "--because", "x")
	x.stands(x.old, "with what was gone")
	if !moved.Load() {
		t.Error("what was gone was not moved before the first tag")
	}
	x.ok("promote", "snowpack-model", "--to", "live", "--again", "--because", "x")
	for _, s := range []*side{x.hut, x.ridge} {
		s.collects(t, "_manifests", blob)
	}
	must(t, x.forge.forget("bench", blob))
	x.hut.since()
	if r := x.run("rollback", "snowpack-model", "--in", "live", "--because", "x"); r.code != 3 ||
		!strings.Contains(r.err, "What it would go back to is gone") || !strings.Contains(r.err, "hut/live/snowpack-model lacks 1 of") {
		t.Errorf("gone everywhere: %d\n%s", r.code, r.err)
	}
	if wrote := x.hut.since("PUT"); len(wrote) != 0 {
		t.Errorf("it wrote %v", wrote)
	}
	x.stands(x.new, "refused")
}

// TestRollBackWhileAPromotionWaits goes first. The promotion goes on waiting, is judged anew, and what people said of it counts no more; one
// of what was rolled back is refused.
func TestRollBackWhileAPromotionWaits(t *testing.T) {
	t.Parallel()
	x := newSides(t, "    gates: [{evidence: avalanche-replay}]\n")
	vouch := func(digest string) {
		x.ok("vouch", "forge/bench/snowpack-model@"+digest, "--claim", "avalanche-replay", "--verdict", "passed")
	}
	if r := x.promote(); r.code != 4 {
		t.Fatalf("%d\n%s", r.code, r.err)
	}
	vouch(x.new.Index.Digest.String())
	x.until(wait, "2.14.0 is live", func() bool { return x.promotion(2).State == "verified" })
	third := build(t, 42, "2.14.1", both, 1<<10)
	x.onBench(third, "build-42")
	if r := x.promote(); r.code != 4 {
		t.Fatalf("%d\n%s", r.code, r.err)
	}
	x.ok("rollback", "snowpack-model", "--in", "live", "--because", "wrong layer")
	x.stands(x.old, "rolled back")
	x.until(wait, "it was judged anew", func() bool {
		p := x.promotion(3)
		return p.State == "waiting" && p.Plan.Places[1].Tags[2].From == x.old.Index.Digest.String()
	})
	vouch(third.Index.Digest.String())
	x.until(wait, "2.14.1 is live", func() bool { return x.promotion(3).State == "verified" })
	x.stands(third, "promoted")
}
