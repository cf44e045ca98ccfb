package test

import (
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"
)

// attached is an image on the bench with a bill of materials, which is signed.
func (w *world) attached(img pipeline.Image) (ref string) {
	w.t.Helper()
	ref = w.push(img, "build-41")
	materials, err := pipeline.Attach(img, "application/spdx+json", "what is in it")
	must(w.t, err)
	must(w.t, w.bench().Push(w.t.Context(), materials))
	signed, err := pipeline.Attach(pipeline.Image{Index: materials.Manifests[0]}, "application/vnd.skarvind.signature", "of the materials")
	must(w.t, err)
	must(w.t, w.bench().Push(w.t.Context(), signed))
	return ref
}

func (w *world) copyDone(n wire.NewCopy) wire.Copy {
	w.t.Helper()
	c := w.copyEnded(n)
	if c.Problem != nil {
		w.t.Fatalf("copy %d: %+v", c.Number, c.Problem)
	}
	return c
}

// TestWhatACopyCarries: a plan moves nothing; what refers to an image goes along, also to a registry that keeps no list of it.
func TestWhatACopyCarries(t *testing.T) {
	t.Parallel()
	for name, quirks := range map[string]sim.Quirks{"a list of referrers": {}, "no list of referrers": {NoReferrers: true}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorldBetween(t, sim.Quirks{}, quirks)
			w.declare("hut/live/bare", "hut/live/some")
			ref := w.attached(build(t, 41, "2.14.0", both, 1<<10))
			const to = "hut/live/snowpack-model"
			planned, err := w.client().PlanCopy(t.Context(), wire.NewCopy{From: ref, To: []string{to}})
			must(t, err)
			there := planned.Places[0]
			if len(there.Manifests) != 5 || len(planned.Referrers) != 2 || there.Move != 15 || there.Present != 0 || planned.Made {
				t.Errorf("planned %+v", planned)
			}
			if wrote := append(w.hut.since("PUT"), w.hut.since("POST")...); len(wrote) != 0 {
				t.Errorf("a plan writes: %v", wrote)
			}
			if c := w.copyDone(wire.NewCopy{From: ref, To: []string{to}}); c.Attached != 2 || c.Of != "" {
				t.Errorf("copied %+v", c)
			}
			img, err := w.client().Image(t.Context(), to+ref[strings.IndexByte(ref, '@'):], client.LookAt{})
			must(t, err)
			if len(img.Referrers) != 1 || img.Referrers[0].Kind != "bill of materials" {
				t.Fatalf("there, it has %+v", img.Referrers)
			}
			materials, err := w.client().Image(t.Context(), to+"@"+img.Referrers[0].Digest, client.LookAt{})
			must(t, err)
			if len(materials.Referrers) != 1 || materials.Referrers[0].Kind != "signature" {
				t.Errorf("the materials have %+v", materials.Referrers)
			}
			if tags := w.ok("tags", to); strings.Contains(tags, "sha256-") {
				t.Errorf("a list of referrers is shown as a tag:\n%s", tags)
			}
			again, err := w.client().PlanCopy(t.Context(), wire.NewCopy{From: ref, To: []string{to}})
			must(t, err)
			if again.Places[0].Move != 0 || again.Places[0].Present != 15 {
				t.Errorf("again: %+v", again)
			}
			if c := w.copyDone(wire.NewCopy{From: ref, To: []string{"hut/live/bare"}, Referrers: "none"}); c.Attached != 0 {
				t.Errorf("without: %+v", c)
			}
			if c := w.copyDone(wire.NewCopy{From: ref, To: []string{"hut/live/some"}, Referrers: "application/spdx+json"}); c.Attached != 1 {
				t.Errorf("of one type: %+v", c)
			}
		})
	}
}

// TestSomePlatforms of an image are its images, or a new index that is said to be one and gets no tag of the whole.
func TestSomePlatforms(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	three := []string{"linux/amd64", "linux/arm64", "linux/arm/v7"}
	img := build(t, 41, "2.14.0", three, 1<<10)
	ref := w.push(img, "build-41")
	w.declare("hut/live/one", "hut/live/two")
	one := w.copyDone(wire.NewCopy{From: ref, To: []string{"hut/live/one"}, Platforms: three[1:2]})
	if one.Digest != img.Manifests[1].Digest.String() || one.Of != img.Index.Digest.String() {
		t.Errorf("one: %+v", one)
	}
	planned := w.ok("copy", ref, "hut/live/two", "--platforms", "linux/arm64,linux/arm/v7", "--plan")
	if !strings.Contains(planned, "a new index of some platforms") {
		t.Errorf("planned:\n%s", planned)
	}
	two := w.copyDone(wire.NewCopy{From: ref, To: []string{"hut/live/two"}, Platforms: three[1:]})
	if two.Digest == img.Index.Digest.String() || !strings.Contains(planned, two.Digest) {
		t.Errorf("two: %+v", two)
	}
	if shown := w.ok("show", "hut/live/two@"+two.Digest); !strings.Contains(shown, "index of 2 platforms") {
		t.Errorf("shown:\n%s", shown)
	}
	if r := w.run("copy", ref, "hut/live/two", "--platforms", "linux/riscv64", "--plan"); r.code != 1 ||
		!strings.Contains(r.err, "linux/amd64, linux/arm/v7, linux/arm64") {
		t.Errorf("a platform it has not: %d\n%s", r.code, r.err)
	}
	if r := w.run("copy", ref, "hut/live/two", "--referrers", "some", "--plan"); r.code != 2 || !strings.Contains(r.err, "all, none, or an artifact type") {
		t.Errorf("unclear referrers: %d\n%s", r.code, r.err)
	}
}

// TestACopyIsStoppedAndResumed: what is stopped ends within a moment and leaves no session open; resumed, it goes on from what has
// arrived, and a copy that has ended well is neither stopped nor resumed.
func TestACopyIsStoppedAndResumed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	img := build(t, 41, "2.14.0", both, 1<<20)
	ref := w.push(img, "build-41")
	hold := make(chan struct{})
	release := sync.OnceFunc(func() { close(hold) })
	t.Cleanup(release)
	reached := make(chan struct{}, 100)
	w.hut.breaks(func(r *http.Request) sim.Fault { // the last of its manifests waits
		if r.Method == http.MethodPut && strings.Contains(r.URL.Path, "/manifests/") {
			reached <- struct{}{}
			<-hold
		}
		return sim.Fault{}
	})
	w.ok("copy", ref, "hut/live/snowpack-model", "--detach")
	<-reached
	w.ok("copies", "stop", "1")
	if r := w.run("copies", "watch", "1"); r.code != 1 || !strings.Contains(r.out, "stopped; dovrak copies resume 1") {
		t.Errorf("watching ended with %d\n%s%s", r.code, r.out, r.err)
	}
	release()
	w.hut.breaks(nil)
	w.until(wait, "no session is left", func() bool { return w.hut.sessions(t) == 0 })
	w.hut.since()
	if out := w.ok("copies", "resume", "1"); !strings.Contains(out, "digest unchanged") {
		t.Errorf("resumed:\n%s", out)
	}
	if moved := w.hut.since("POST"); len(moved) != 0 {
		t.Errorf("blobs that had arrived were moved again: %v", moved)
	}
	for _, do := range []string{"stop", "resume"} {
		if r := w.run("copies", do, "1"); r.code != 3 || !strings.Contains(r.err, "it is verified") {
			t.Errorf("%s ended with %d\n%s", do, r.code, r.err)
		}
	}
	if trail := w.ok("trail", "hut/live/snowpack-model"); !strings.Contains(trail, "copy stopped") || !strings.Contains(trail, "copy resumed") {
		t.Errorf("the trail tells:\n%s", trail)
	}
}

// TestALineIsNotFilled: layers flow no faster than a registry's limit, which 0 takes away again.
func TestALineIsNotFilled(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	const limit = 256 << 10
	w.ok("registry", "edit", "hut", "--bytes-per-second", "256KiB")
	img := build(t, 41, "2.14.0", both, 128<<10)
	ref := w.push(img, "build-41")
	w.declare("hut/live/slow", "hut/live/fast")
	c := w.copyDone(wire.NewCopy{From: ref, To: []string{"hut/live/slow"}})
	took := c.EndedAt.Sub(*c.Began)
	if least := time.Duration(float64(c.Progress[0].Moved-64<<10) / limit * float64(time.Second)); took < least*9/10 {
		t.Errorf("%d bytes took %s, less than %s", c.Progress[0].Moved, took, least)
	}
	if r := w.run("registry", "edit", "hut", "--bytes-per-second", "10"); r.code != 2 || !strings.Contains(r.err, "at least 64 KiB a second") {
		t.Errorf("too little: %d\n%s", r.code, r.err)
	}
	w.ok("registry", "edit", "hut", "--bytes-per-second", "0")
	if c := w.copyDone(wire.NewCopy{From: ref, To: []string{"hut/live/fast"}, Verify: true}); c.Progress[0].Mounted == 0 {
		t.Errorf("what a sibling holds was moved: %+v", c.Progress)
	}
}

// TestWhatAPromotionCarries: what refers to the image goes along, unless the asker says otherwise.
func TestWhatAPromotionCarries(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ref := w.attached(build(t, 41, "2.14.0", both, 1<<10))
	w.ok("point", ref, "main", "--because", "the build is on the bench")
	for _, tt := range []struct {
		referrers string
		attached  int
	}{{"none", 0}, {"all", 1}} {
		w.ok("promote", "snowpack-model", "--to", "live", "--because", "with "+tt.referrers, "--referrers", tt.referrers)
		w.sql("DELETE FROM referrers")
		img, err := w.client().Image(t.Context(), "hut/live/snowpack-model:live", client.LookAt{})
		must(t, err)
		if len(img.Referrers) != tt.attached {
			t.Errorf("with %s: %+v", tt.referrers, img.Referrers)
		}
	}
	if r := w.run("promote", "snowpack-model", "--to", "live", "--because", "x", "--referrers", "some"); r.code != 2 {
		t.Errorf("unclear referrers: %d\n%s", r.code, r.err)
	}
}
