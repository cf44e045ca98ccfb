package test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"
)

// sides is a world whose live is in two registries, where 2.13.2 stands, and 2.14.0 waits on the bench.
type sides struct {
	*world
	ridge    *side
	old, new pipeline.Image
}

const twoPlaces = `places: [{registry: ridge, repository: "live/{component}"}, {registry: hut, repository: "live/{component}"}]`

// threeTags gives live a moving tag besides.
const threeTags = "    moving: [{tag: \"{major}.x\", moves: promotion}]\n"

func charterOfTwo(rules string) string {
	c := strings.Replace(charterText, `places: [{registry: hut, repository: "live/{component}"}]`, twoPlaces, 1)
	return strings.Replace(c, "    standing: live\n", "    standing: live\n"+threeTags+rules, 1)
}

func newSides(t testing.TB, rules string) *sides {
	t.Helper()
	x := &sides{world: newWorld(t), ridge: newSide(t, sim.Basic),
		old: build(t, 40, "2.13.2", both, 1<<10), new: build(t, 41, "2.14.0", both, 1<<10)}
	x.in(secret).ok("registry", "add", "ridge", "--address", x.ridge.URL, "--account", "dovrak", "--secret-file", "-")
	x.adopt(charterOfTwo(""))
	x.ok("registry", "check", "ridge", "--repository", "live/snowpack-model")
	x.onBench(x.old, "build-40")
	x.ok("promote", "snowpack-model", "--to", "live", "--because", "wind drift corrected")
	x.onBench(x.new, "build-41")
	if rules != "" {
		x.adopt(charterOfTwo(rules))
	}
	return x
}

// meant is what a tag of live means in a registry, by its own storage; empty: nothing.
func (s *side) meant(t testing.TB, tag string) string {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join(s.dir, "repos", "live", "snowpack-model", "_tags", tag))
	if !os.IsNotExist(err) {
		must(t, err)
	}
	return string(raw)
}

// repoint makes a tag mean something behind Dovrak's back.
func (s *side) repoint(t testing.TB, tag string, img pipeline.Image) {
	t.Helper()
	must(t, os.WriteFile(filepath.Join(s.dir, "repos", "live", "snowpack-model", "_tags", tag), []byte(img.Index.Digest), 0o600))
}

// holds reports whether live has an image's index.
func (s *side) holds(t testing.TB, img pipeline.Image) bool {
	t.Helper()
	_, err := os.Stat(filepath.Join(s.dir, "repos", "live", "snowpack-model", "_manifests", img.Index.Digest.Encoded()))
	return err == nil
}

// collects drops something from the repository, as a registry does that collects what it believes to be garbage.
func (s *side) collects(t testing.TB, kind, digest string) {
	t.Helper()
	must(t, os.Remove(filepath.Join(s.dir, "repos", "live", "snowpack-model", kind, strings.TrimPrefix(digest, "sha256:"))))
}

// stands asserts what the moving tags of live mean in both places, and that they mean the same.
func (x *sides) stands(img pipeline.Image, while string) {
	x.t.Helper()
	for name, s := range map[string]*side{"ridge": x.ridge, "hut": x.hut} {
		for _, tag := range []string{"live", "2.x"} {
			if got := s.meant(x.t, tag); got != img.Index.Digest.String() {
				x.t.Errorf("%s: %s:%s means %.19s, want %.19s", while, name, tag, got, img.Index.Digest)
			}
		}
	}
}

// endsAs starts the service anew, waits until a promotion has ended, and asserts how.
func (x *sides) endsAs(n int64, state string) wire.Promotion {
	x.t.Helper()
	x.start()
	x.until(50*time.Second, "the promotion has ended", func() bool { return x.promotion(n).Ended })
	p := x.promotion(n)
	if p.State != state {
		x.t.Fatalf("it ended as %s, want %s: %+v", p.State, state, p.Problem)
	}
	return p
}

func (x *sides) promote() result {
	x.t.Helper()
	return x.run("promote", "snowpack-model", "--to", "live", "--because", "avalanche danger 3")
}

// putOf matches the request that points a tag of live.
func putOf(tag string) func(*http.Request) bool {
	return func(r *http.Request) bool {
		return r.Method == http.MethodPut && strings.HasSuffix(r.URL.Path, "/live/snowpack-model/manifests/"+tag)
	}
}

// strikes makes requests fail that match, and counts them; once is where the first alone fails.
func (s *side) strikes(match func(*http.Request) bool, with sim.Fault, from *atomic.Int64) {
	s.breaks(func(r *http.Request) sim.Fault {
		if match(r) {
			from.Add(1)
			return with
		}
		return sim.Fault{}
	})
}

// TestASwitchGoesBack: one place fails while tags are pointed. Every tag means the same in both places again, the state says so, and when the
// place is well the same promotion goes through.
func TestASwitchGoesBack(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		name, tag string
		with      sim.Fault
		holds     bool // in place of a fault: nothing is answered
	}{
		{"the standing tag is refused", "live", sim.Fault{Status: 403, Code: "DENIED"}, false},
		{"the line is cut at the standing tag", "live", sim.Fault{Reset: true}, false},
		{"a moving tag is refused", "2.x", sim.Fault{Status: 500}, false},
		{"a fixed tag is refused", "2.14.0", sim.Fault{Status: 403, Code: "DENIED"}, false},
		{"nothing is answered to the standing tag", "live", sim.Fault{}, true},
		{"the place falls silent before the standing tag", "silent", sim.Fault{}, true},
		{"the place is away before the switch", "", sim.Fault{Status: 500}, false},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			x := newSides(t, "")
			var struck atomic.Int64
			at, ends := putOf(tt.tag), "taken back"
			if tt.holds {
				hold := make(chan struct{})
				defer close(hold) // a server ends when all is answered
				tt.with = sim.Fault{Hold: hold}
			}
			switch tt.tag {
			case "": // when all is there, and the place is asked a last time
				at = func(r *http.Request) bool {
					return r.Method == http.MethodHead && strings.Contains(r.URL.Path, "/blobs/") && x.hut.holds(t, x.new)
				}
				ends = "failed"
			case "silent": // from the moving tag on
				var last atomic.Bool
				at = func(r *http.Request) bool {
					last.CompareAndSwap(false, putOf("2.x")(r))
					return last.Load() && strings.HasSuffix(r.URL.Path, "/manifests/live")
				}
			}
			x.hut.strikes(at, tt.with, &struck)
			r := x.promote()
			if struck.Load() == 0 {
				t.Fatal("the fault never landed")
			}
			if p := x.promotion(2); r.code != 1 || p.State != ends || p.Problem == nil ||
				!strings.Contains(r.err, "dovrak resume 2") || strings.Contains(r.err, "a fault of its own") {
				t.Errorf("%d, %s, %+v\n%s", r.code, p.State, p.Problem, r.err)
			}
			x.stands(x.old, "after it")
			if tt.tag != "" && x.ridge.meant(t, "2.14.0") == "" {
				t.Error("a new fixed tag did not stay")
			}
			restored := strings.Count(x.ok("trail", "ridge/live/snowpack-model:live"), "tag restored")
			if want := map[string]int{"live": 1, "silent": 1}[tt.tag]; restored != want {
				t.Errorf("the standing tag was restored %d times, want %d", restored, want)
			}
			x.hut.breaks(nil)
			x.ok("resume", "2")
			x.stands(x.new, "resumed")
			if again := x.run("resume", "2"); again.code != 3 || !strings.Contains(again.err, "it is verified") {
				t.Errorf("resumed when it was done: %d\n%s", again.code, again.err)
			}
		})
	}
}

// TestASwitchIsTriedAgain where the rules say so: the other places wait, and the place that was away for a moment is asked again.
func TestASwitchIsTriedAgain(t *testing.T) {
	t.Parallel()
	hold := make(chan struct{})
	defer close(hold)
	for name, with := range map[string]sim.Fault{
		"an error of its own":   {Status: 503},
		"a line that is cut":    {Reset: true},
		"a line that is silent": {Hold: hold},
	} {
		t.Run(name, func(t *testing.T) {
			x := newSides(t, "    switch-waits: 1m\n")
			var struck atomic.Int64
			x.hut.breaks(func(r *http.Request) sim.Fault {
				looks := with.Hold != nil && r.Method == http.MethodHead && strings.HasSuffix(r.URL.Path, "/manifests/2.x")
				if (looks && x.ridge.meant(t, "2.14.0") != "" || with.Hold == nil && putOf("2.x")(r)) && struck.Add(1) == 1 {
					return with
				}
				return sim.Fault{}
			})
			if r := x.promote(); r.code != 0 || struck.Load() < 2 {
				t.Errorf("%d after %d tries\n%s", r.code, struck.Load(), r.err)
			}
			x.stands(x.new, "after it")
		})
	}
}

// TestASplit: a place goes away for good in the midst of the switch, and the other cannot go back either. The state names what means what
// where, nothing else is done to the environment, and there are two ways on.
func TestASplit(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		landed bool // the registry has done what it was asked when it goes away
		way    string
	}{"resumed": {false, "resume"}, "taken back": {false, "stop"}, "gone behind the PUT, taken back": {true, "stop"}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			x := newSides(t, "")
			var down, struck atomic.Bool
			away := func(*http.Request) sim.Fault {
				if down.Load() {
					return sim.Fault{Reset: true}
				}
				return sim.Fault{}
			}
			x.ridge.breaks(away)
			x.hut.breaks(func(r *http.Request) sim.Fault {
				if putOf("live")(r) && struck.CompareAndSwap(false, true) {
					down.Store(true)
					if tt.landed {
						return sim.Fault{}
					}
				}
				return away(r)
			})
			r := x.promote()
			if p := x.promotion(2); !struck.Load() || r.code != 1 || p.State != "split" || p.Ended || len(p.Stands) != 6 {
				t.Fatalf("%v: %d, %s with %d\n%s%s", struck.Load(), r.code, p.State, len(p.Stands), r.out, r.err)
			}
			for _, says := range []string{"The places of live mean different things", "hut/live/snowpack-model", "could not be asked", "dovrak stop 2"} {
				if !strings.Contains(r.err, says) {
					t.Errorf("it does not say %q:\n%s", says, r.err)
				}
			}
			for _, other := range [][]string{{"promote", "snowpack-model", "--to", "live"}, {"rollback", "snowpack-model", "--in", "live"}} {
				if r := x.run(append(other, "--because", "x")...); r.code == 0 {
					t.Errorf("%s beside a split: %d\n%s%s", other[0], r.code, r.out, r.err)
				}
			}
			down.Store(false)
			if r := x.run("promote", "snowpack-model", "--to", "live", "--because", "x"); r.code != 3 ||
				!strings.Contains(r.err, "split") {
				t.Errorf("promoted beside a split: %d\n%s", r.code, r.err)
			}
			if r := x.run("rollback", "snowpack-model", "--in", "live", "--because", "x"); r.code != 3 ||
				!strings.Contains(r.err, "split") {
				t.Errorf("rolled back beside a split: %d\n%s", r.code, r.err)
			}
			if st := x.ok("standing"); !strings.Contains(st, "split, promotion 2") {
				t.Errorf("Standing does not say so:\n%s", st)
			}
			x.kill()
			x.start()
			if p := x.promotion(2); p.State != "split" {
				t.Errorf("begun again, it is %s", p.State)
			}
			if landed := x.hut.meant(t, "live") == x.new.Index.Digest.String(); landed != tt.landed {
				t.Errorf("the change landed: %v", landed)
			}
			r = x.run(tt.way, "2")
			want, code, img := "verified", 0, x.new
			if tt.way == "stop" {
				want, code, img = "taken back", 1, x.old
			}
			if p := x.promotion(2); r.code != code || p.State != want {
				t.Errorf("%d, %s\n%s", r.code, p.State, r.err)
			}
			x.stands(img, name)
			if trail := x.ok("trail", "--promotion", "2"); !strings.Contains(trail, "switch split") {
				t.Errorf("the trail does not tell of the split:\n%s", trail)
			}
		})
	}
}

// TestKilledInTheSwitch: wherever the service dies, between any two changes of tags, forth or back, the next one ends what it began.
func TestKilledInTheSwitch(t *testing.T) {
	t.Parallel()
	points := []string{"content-in-place", "verified-again", "switch-begun", "intent-written:3", "tag-put:4", "all-pointed"}
	for n := 1; n <= 6; n++ {
		points = append(points, fmt.Sprintf("tag-pointed:%d", n))
	}
	for _, point := range points {
		t.Run(point, func(t *testing.T) {
			t.Parallel()
			x := newSides(t, "")
			struck := x.diesAt(point)
			x.ok("promote", "snowpack-model", "--to", "live", "--because", "danger 3", "--detach")
			struck()
			x.endsAs(2, "verified")
			x.stands(x.new, "taken up")
			for _, at := range []string{"ridge", "hut"} {
				if n := strings.Count(x.ok("trail", at+"/live/snowpack-model:live"), "tag pointed"); n != 2 {
					t.Errorf("%s:live was pointed %d times, want 2", at, n)
				}
			}
		})
	}
	for _, point := range []string{"going-back", "tag-restored:1", "tag-restored:3", "tag-restored:5", "gone-back"} {
		t.Run("going back, "+point, func(t *testing.T) {
			t.Parallel()
			x := newSides(t, "")
			var at atomic.Int64
			x.hut.strikes(putOf("live"), sim.Fault{Status: 403, Code: "DENIED"}, &at)
			struck := x.diesAt(point)
			x.ok("promote", "snowpack-model", "--to", "live", "--because", "danger 3", "--detach")
			struck()
			if p := x.endsAs(2, "taken back"); p.Problem == nil || !strings.Contains(p.Problem.Seen, "403") {
				t.Fatalf("it ended with %+v", p.Problem)
			}
			x.stands(x.old, "taken back")
		})
	}
}

// TestTwoProcesses with promotions and roll backs at one environment: at most one points tags at a time, whoever asks where.
func TestTwoProcesses(t *testing.T) {
	t.Parallel()
	x := newSides(t, "")
	x.ok("promote", "snowpack-model", "--to", "live", "--because", "danger 3")
	second := x.beside()
	var all sync.WaitGroup
	for i := range 6 {
		at := x.world
		if i%2 == 1 {
			at = second
		}
		all.Go(func() {
			if i%3 == 0 {
				at.run("promote", "snowpack-model", "--to", "live", "--again", "--because", "forth")
			} else {
				at.run("rollback", "snowpack-model", "--in", "live", "--to", []string{"2.13.2", "2.14.0"}[i%2], "--because", "back")
			}
		})
	}
	all.Wait()
	x.until(
		wait,
		"all have ended",
		func() bool { return x.count("SELECT count(*) FROM works WHERE kind = 'promotion' AND NOT ended") == 0 },
	)
	// The changes of one work lie together: none of another's is between its first and its last.
	if n := x.count(`WITH spans AS (SELECT work_id, min(number) AS low, max(number) AS high FROM tag_changes WHERE work_id IS NOT NULL
		AND repository = 'live/snowpack-model' GROUP BY work_id)
		SELECT count(*) FROM spans a JOIN spans b ON a.work_id <> b.work_id AND a.low < b.low AND b.low < a.high`); n != 0 {
		t.Errorf("%d switches interleave", n)
	}
	if ridge, hut := x.ridge.meant(t, "live"), x.hut.meant(t, "live"); ridge != hut || x.ridge.meant(t, "2.x") != ridge {
		t.Errorf("ridge means %.19s, hut %.19s", ridge, hut)
	}
}

// inThree makes forge a third place of live, with both images in all of them.
func (x *sides) inThree() map[string]*side {
	x.t.Helper()
	three := strings.TrimSuffix(twoPlaces, "]") + `, {registry: forge, repository: "live/{component}"}]`
	x.adopt(strings.Replace(charterOfTwo(""), twoPlaces, three, 1))
	x.ok("registry", "check", "forge", "--repository", "live/snowpack-model")
	places := map[string]*side{"ridge": x.ridge, "hut": x.hut, "forge": x.forge}
	for name := range places {
		x.ok("copy", "forge/bench/snowpack-model:build-40", name+"/live/snowpack-model")
		x.ok("copy", "forge/bench/snowpack-model:build-41", name+"/live/snowpack-model")
	}
	return places
}

// TestRequestsOfASwitch: three for each tag and place and one for each required platform and place; the places at the same time, and the
// tags in their order: nowhere is the standing tag pointed before every other tag is, everywhere.
func TestRequestsOfASwitch(t *testing.T) {
	t.Parallel()
	x := newSides(t, "")
	places := x.inThree()
	var mu sync.Mutex
	var order []string
	meet := map[string]*sync.WaitGroup{}
	for _, tag := range []string{"2.14.0", "2.x", "live"} {
		meet[tag] = &sync.WaitGroup{}
		meet[tag].Add(3)
	}
	for _, s := range places {
		s.since()
		s.breaks(func(r *http.Request) sim.Fault {
			tag := r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:]
			if r.Method != http.MethodPut || meet[tag] == nil {
				return sim.Fault{}
			}
			mu.Lock()
			order = append(order, tag)
			mu.Unlock()
			// It is answered when all three places have asked: were they asked one after the other, nothing would ever come of it.
			return sim.Fault{Call: func() { meet[tag].Done(); meet[tag].Wait() }}
		})
	}
	watches := func() int {
		return x.count("SELECT count(*) FROM river_job WHERE kind = 'watch' AND attempted_at IS NOT NULL")
	}
	watched := watches()
	x.ok("promote", "snowpack-model", "--to", "live", "--because", "danger 3")
	watched = watches() - watched // each asks for the standing tag once, whatever else is done
	want := slices.Concat(slices.Repeat([]string{"2.14.0"}, 3), slices.Repeat([]string{"2.x"}, 3), slices.Repeat([]string{"live"}, 3))
	if !slices.Equal(order, want) {
		t.Errorf("pointed in the order %v", order)
	}
	for name, s := range places {
		s.mu.Lock()
		asked := slices.DeleteFunc(slices.Clone(s.asked), func(a string) bool {
			return !strings.Contains(a, "/live/snowpack-model/")
		})
		s.mu.Unlock()
		// The switch begins behind the last look at a blob.
		last := 0
		for i, a := range asked {
			if strings.Contains(a, "/blobs/") {
				last = i
			}
		}
		switching := slices.DeleteFunc(asked[last+1:], func(a string) bool { return strings.Contains(a, "/referrers/") })
		first := slices.IndexFunc(switching, func(a string) bool { return strings.HasSuffix(a, "/manifests/2.14.0") })
		if n, most := len(switching[first:]), 3*3+len(both)+watched; n < 3*3+len(both) || n > most {
			t.Errorf("%s was asked %d times in the switch, want %d:\n%s", name, n, most, strings.Join(switching[first:], "\n"))
		}
	}
}

// forget drops a manifest from another repository of the component's.
func (s *side) forget(environment, digest string) error {
	return os.Remove(filepath.Join(s.dir, "repos", environment, "snowpack-model", "_manifests", strings.TrimPrefix(digest, "sha256:")))
}
