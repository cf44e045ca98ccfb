package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/client"

	"golang.org/x/sync/errgroup"
)

// TestKilledWhileItCloses: wherever the service dies, the next one closes the build, and each tag was pointed once.
func TestKilledWhileItCloses(t *testing.T) {
	t.Parallel()
	for _, point := range []string{"parts-in-place", "index-put", "intent-written", "tag-put"} {
		t.Run(point, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			b := run(41, "2.14.0")
			w.started(b)
			refs := []string{w.part(b, both[0]), w.part(b, both[1])}
			struck := w.diesAt(point)
			for i, p := range both {
				w.run("build", "part", name(b), "--platform", p, "--image", refs[i]) // the last may lose its answer
			}
			struck()
			w.start()
			w.until(40*time.Second, "the build is closed", func() bool { return w.built(b).Ended })
			if got := w.built(b); got.State != "verified" || outcomes(got) != "build-41 points, 2.14.0 points, 2.14 points, main points" {
				t.Fatalf("%s: %s, %+v", got.State, outcomes(got), got.Problem)
			}
			for _, tag := range []string{"build-41", "2.14.0", "2.14", "main"} {
				if trail := w.ok("trail", "forge/bench/snowpack-model:"+tag); strings.Count(trail, "tag pointed") != 1 {
					t.Errorf("%s:\n%s", tag, trail)
				}
			}
		})
	}
}

// TestAFixedTagThatSomeoneTook: a tag of the build's that was made behind Dovrak's back while its parts arrived is never
// pointed elsewhere; the build is refused by that rule, and watching it says so.
func TestAFixedTagThatSomeoneTook(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := run(41, "2.14.0")
	w.started(b)
	other := build(t, 7, "0.7.0", both, 1<<10)
	w.push(other, "2.14.0")
	w.parts(b)
	r := w.run("build", "watch", name(b))
	if r.code != 3 || !strings.Contains(r.err, "fixed tag {version} in bench") || !strings.Contains(r.err, other.Index.Digest.String()) {
		t.Errorf("ended with %d\n%s", r.code, r.err)
	}
	if got := w.built(b); got.State != "failed" || got.Promise.KeptBy != "" || got.Promise.Tries != 1 {
		t.Errorf("the build is %s, %+v", got.State, got.Promise)
	}
	if shown := w.ok("show", "forge/bench/snowpack-model:2.14.0"); !strings.Contains(shown, other.Index.Digest.String()) {
		t.Errorf("the tag was moved:\n%s", shown)
	}
}

// TestBuildsThatRace: builds that close at the same moment all end, and the moving tag is the newest's.
func TestBuildsThatRace(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("registry", "edit", "forge", "--requests-per-second", "1000")
	w.race(t, 1, 24)
	img, err := w.client().Image(t.Context(), "forge/bench/snowpack-model:main", client.LookAt{})
	must(t, err)
	if img.Version != "2.0.24" || img.Builds[0].Number != 24 {
		t.Errorf("main is %s, of build %d", img.Version, img.Builds[0].Number)
	}
	if n := w.count("SELECT count(*) FROM works WHERE kind = 'build' AND state = 'verified'"); n != 24 {
		t.Errorf("%d of 24 builds are closed", n)
	}
}

// race closes builds of some numbers at the same moment, and gives how long that took.
func (w *world) race(t testing.TB, from, to int) time.Duration {
	t.Helper()
	c := w.client()
	var g errgroup.Group
	g.SetLimit(8)
	last := make([]string, to+1)
	for n := from; n <= to; n++ {
		g.Go(func() error {
			b := run(n, fmt.Sprintf("2.0.%d", n))
			_, err := c.StartBuild(
				t.Context(),
				wire.NewBuild{Component: b.Component, Number: int64(n), Commit: b.Commit, Branch: "main", Version: b.Version},
			)
			if err != nil {
				return err
			}
			for i, p := range both {
				img, err := b.Part(p)
				if err == nil {
					err = w.bench().Push(t.Context(), img)
				}
				ref := "forge/bench/snowpack-model@" + img.Index.Digest.String()
				if last[n] = ref; err == nil && i == 0 {
					_, err = c.ReportPart(t.Context(), b.Component, int64(n), wire.NewPart{Platform: p, Image: ref})
				}
				if err != nil {
					return err
				}
			}
			return nil
		})
	}
	must(t, g.Wait())
	w.forge.since()
	began := time.Now()
	var all errgroup.Group
	for n := from; n <= to; n++ {
		all.Go(func() error {
			_, err := c.ReportPart(t.Context(), "snowpack-model", int64(n), wire.NewPart{Platform: both[1], Image: last[n]})
			for state := "open"; err == nil; {
				var b wire.Build
				if b, err = c.Build(t.Context(), "snowpack-model", int64(n), state); b.Ended {
					return err
				}
				state = b.State
			}
			return err
		})
	}
	must(t, all.Wait())
	return time.Since(began)
}
