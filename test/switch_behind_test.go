package test

import (
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"
)

// TestMovedBehind: a tag is moved behind Dovrak's back when it was judged and not pointed yet. It is not overwritten; where nothing was
// pointed the promotion is judged anew, else it goes back, and whoever moved it keeps what they did.
func TestMovedBehind(t *testing.T) {
	t.Parallel()
	for name, when := range map[string]string{"before any tag": "2.14.0", "between two tags": "2.x"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			x := newSides(t, "")
			theirs := build(t, 39, "2.13.1", both, 1<<10)
			must(t, (&pipeline.Target{Address: x.hut.URL, Repository: "live/snowpack-model", Name: "dovrak", Secret: secret}).
				Push(t.Context(), theirs, "theirs"))
			var once sync.Once
			var landed atomic.Bool
			move := func() { once.Do(func() { x.hut.repoint(t, "2.x", theirs); landed.Store(true) }) }
			if when == "2.x" { // the standing tag, when the others are pointed
				move = func() { once.Do(func() { x.hut.repoint(t, "live", theirs); landed.Store(true) }) }
			}
			x.hut.breaks(func(r *http.Request) sim.Fault {
				if putOf(when)(r) {
					return sim.Fault{Call: move}
				}
				return sim.Fault{}
			})
			r := x.promote()
			if !landed.Load() {
				t.Fatal("the tag was never moved")
			}
			p, trail := x.promotion(2), x.ok("trail")
			if when == "2.14.0" {
				// ridge may have pointed its 2.x before: then it went back, and is resumed.
				if p.State == "taken back" {
					r = x.run("resume", "2")
				} else if !strings.Contains(trail, "promotion judged anew") {
					t.Errorf("it was not judged anew:\n%s", trail)
				}
				if r.code != 0 {
					t.Fatalf("%d\n%s", r.code, r.err)
				}
				x.stands(x.new, "judged anew")
				return
			}
			if p.State != "taken back" || !strings.Contains(r.err, "means something else than when it was decided on") {
				t.Errorf("%s\n%s", p.State, r.err)
			}
			if got := x.hut.meant(t, "live"); got != theirs.Index.Digest.String() ||
				x.ridge.meant(t, "live") != x.old.Index.Digest.String() {
				t.Errorf("hut means %.19s, ridge %.19s", got, x.ridge.meant(t, "live"))
			}
			x.ok("resume", "2")
			x.stands(x.new, "judged anew, from theirs")
		})
	}
}

// TestARegistryShowsWhatWas for a while after it took the change: it is asked again, a bounded time. One that never shows it has not
// done it.
func TestARegistryShowsWhatWas(t *testing.T) {
	t.Parallel()
	for name, lies := range map[string]int64{"for a while": 3, "until it is given up": 1 << 30} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			x := newSides(t, "")
			var put atomic.Bool
			var shown atomic.Int64
			x.hut.breaks(func(r *http.Request) sim.Fault {
				if putOf("live")(r) {
					put.Store(true)
				}
				looks := r.Method == http.MethodHead && strings.HasSuffix(r.URL.Path, "/manifests/live")
				if looks && put.Load() && shown.Add(1) <= lies {
					return sim.Fault{As: "/v2/live/snowpack-model/manifests/" + x.old.Index.Digest.String()}
				}
				return sim.Fault{}
			})
			r := x.promote()
			if shown.Load() < 3 {
				t.Fatalf("what was is shown %d times", shown.Load())
			}
			if lies == 3 {
				if r.code != 0 {
					t.Errorf("%d\n%s", r.code, r.err)
				}
				x.stands(x.new, name)
				return
			}
			if p := x.promotion(2); p.State != "taken back" || x.ridge.meant(t, "live") != x.old.Index.Digest.String() {
				t.Errorf("%s, ridge means %.19s\n%s", p.State, x.ridge.meant(t, "live"), r.err)
			}
			x.hut.breaks(nil) // and now it shows it
			x.until(wait, "Standing tells of the drift", func() bool { return strings.Contains(x.ok("standing"), "drift; decided") })
			x.ok("resume", "2")
			x.stands(x.new, "resumed")
		})
	}
}

// TestContentIsCollected by the registry behind Dovrak's back: before the last look at it, it is moved again; behind that, the place is found
// out, all go back, and it is moved again when the promotion is resumed.
func TestContentIsCollected(t *testing.T) {
	t.Parallel()
	arm := func(x *sides) string { return x.new.Manifests[1].Digest.String() }
	t.Run("before the last look", func(t *testing.T) {
		t.Parallel()
		x := newSides(t, "")
		struck := x.diesAt("content-in-place")
		x.ok("promote", "snowpack-model", "--to", "live", "--because", "danger 3", "--detach")
		struck()
		x.hut.collects(t, "_manifests", arm(x))
		x.hut.collects(t, "_manifests", x.new.Index.Digest.String())
		x.hut.collects(t, "_blobs", x.new.Blobs[0].Digest.String())
		x.start()
		x.until(30*time.Second, "the promotion has ended", func() bool { return x.promotion(2).Ended })
		if p := x.promotion(2); p.State != "verified" {
			t.Errorf("%s: %+v", p.State, p.Problem)
		}
		x.stands(x.new, "moved again")
	})
	for _, tag := range []string{"2.14.0", "live"} {
		t.Run("behind it, at "+tag, func(t *testing.T) {
			t.Parallel()
			x := newSides(t, "")
			var once sync.Once
			var landed atomic.Bool
			x.hut.breaks(func(r *http.Request) sim.Fault {
				if putOf(tag)(r) {
					return sim.Fault{Call: func() { once.Do(func() { x.hut.collects(t, "_manifests", arm(x)); landed.Store(true) }) }}
				}
				return sim.Fault{}
			})
			r := x.promote()
			if p := x.promotion(2); !landed.Load() || r.code != 1 || p.State != "taken back" {
				t.Fatalf("%v, %d, %s\n%s", landed.Load(), r.code, p.State, r.err)
			}
			x.stands(x.old, "taken back")
			x.ok("resume", "2")
			x.stands(x.new, "moved again")
		})
	}
}

// TestALatePlace: while one place is slow to take the standing tag, the others do not wait for it longer than their lease lets them, and are
// asked again when it has; what someone pointed there meanwhile is found, and stays.
func TestALatePlace(t *testing.T) {
	t.Parallel()
	for _, moved := range []bool{false, true} {
		t.Run(map[bool]string{false: "late", true: "late, and someone else was at the other"}[moved], func(t *testing.T) {
			t.Parallel()
			x := newSides(t, "")
			theirs := build(t, 39, "2.13.1", both, 1<<10)
			must(t, (&pipeline.Target{Address: x.ridge.URL, Repository: "live/snowpack-model", Name: "dovrak", Secret: secret}).
				Push(t.Context(), theirs, "theirs"))
			var pointed, once atomic.Bool
			var looks atomic.Int64
			x.ridge.breaks(func(r *http.Request) sim.Fault {
				switch {
				case putOf("live")(r):
					pointed.Store(true)
				case pointed.Load() && r.Method == http.MethodHead && strings.HasSuffix(r.URL.Path, "/manifests/live"):
					looks.Add(1)
				}
				return sim.Fault{}
			})
			x.hut.breaks(func(r *http.Request) sim.Fault {
				if !putOf("live")(r) || !once.CompareAndSwap(false, true) {
					return sim.Fault{}
				}
				return sim.Fault{Call: func() {
					settled := "SELECT count(*) FROM tag_changes WHERE tag = 'live' AND outcome = 'done'"
					x.until(wait, "the other place's change is settled", func() bool { return x.count(settled) == 3 })
					if moved {
						x.ridge.repoint(t, "live", theirs)
					}
				}}
			})
			r := x.promote()
			if !once.Load() || looks.Load() < 2 {
				t.Fatalf("the place was late: %v; the other was asked %d times behind its change", once.Load(), looks.Load())
			}
			if !moved {
				if r.code != 0 {
					t.Errorf("%d\n%s", r.code, r.err)
				}
				x.stands(x.new, "late")
				return
			}
			if p := x.promotion(2); r.code != 1 || p.State != "taken back" ||
				!strings.Contains(r.err, "does not mean what it was pointed at") {
				t.Errorf("%d, %s\n%s", r.code, p.State, r.err)
			}
			if ridge, hut := x.ridge.meant(t, "live"), x.hut.meant(t, "live"); ridge != theirs.Index.Digest.String() ||
				hut != x.old.Index.Digest.String() {
				t.Errorf("ridge means %.19s, hut %.19s", ridge, hut)
			}
		})
	}
}
