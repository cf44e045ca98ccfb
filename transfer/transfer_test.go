package transfer_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// memory keeps contents for the length of a test.
type memory struct{ m sync.Map }

type content struct {
	media string
	raw   []byte
}

func (m *memory) Content(_ context.Context, d digest.Digest) (string, []byte, bool, error) {
	v, ok := m.m.Load(d)
	if !ok {
		return "", nil, false, nil
	}
	return v.(content).media, v.(content).raw, true, nil
}

func (m *memory) Keep(_ context.Context, d digest.Digest, media string, raw []byte) error {
	m.m.Store(d, content{media, raw})
	return nil
}

// sides are a source that holds an image, and an empty destination, on which the nth request from now fails once.
type sides struct {
	from, to  *registry.Repository
	root      digest.Digest
	signature digest.Digest // of the bill of materials that is attached to it

	mu    sync.Mutex
	fault sim.Fault
	at    int // the request that fails; -1 is none
	n     int
	dir   string        // of the destination
	over  chan struct{} // closed when the test is over: what was held goes on
}

// opened counts the uploads at the destination that were begun and neither closed nor cancelled.
func (s *sides) opened(t *testing.T) int {
	t.Helper()
	left, err := os.ReadDir(filepath.Join(s.dir, "uploads"))
	must(t, err)
	return len(left)
}

func newSides(t *testing.T, img pipeline.Image, stall time.Duration) *sides {
	t.Helper()
	s := &sides{at: -1, root: img.Index.Digest, dir: t.TempDir(), over: make(chan struct{})}
	start := func(dir string) (*registry.Repository, string) {
		h, err := sim.New(sim.Options{Dir: dir, Fault: func(int, *http.Request) sim.Fault {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.n++
			if s.n-1 == s.at {
				return s.fault
			}
			return sim.Fault{}
		}})
		must(t, err)
		srv := httptest.NewServer(h)
		t.Cleanup(srv.Close)
		c, err := registry.New(registry.Config{Name: "side", Address: srv.URL, FirstWait: time.Millisecond, Stall: stall})
		must(t, err)
		t.Cleanup(c.Close)
		return c.Repository("x"), srv.URL
	}
	var url string
	s.from, url = start(t.TempDir())
	s.to, _ = start(s.dir)
	t.Cleanup(func() { close(s.over) })
	must(t, (&pipeline.Target{Address: url, Repository: "x"}).Push(t.Context(), img))
	index := pipeline.Target{Address: url, Repository: "x"}
	must(t, index.Point(t.Context(), img, "build-41"))
	materials, err := pipeline.Attach(img, "application/spdx+json", "what is in it")
	must(t, err)
	must(t, index.Push(t.Context(), materials))
	signed, err := pipeline.Attach(
		pipeline.Image{Index: materials.Manifests[0]},
		"application/vnd.skarvind.signature",
		"of the materials",
	)
	must(t, err)
	must(t, index.Push(t.Context(), signed))
	s.signature = signed.Manifests[0].Digest
	return s
}

// cargo reads the image and what refers to it.
func (s *sides) cargo(ctx context.Context) (plan.Cargo, error) {
	keep := &memory{}
	tree, err := transfer.ReadTree(ctx, s.from, keep, s.root)
	if err != nil {
		return plan.Cargo{}, err
	}
	attached, err := transfer.ReadAttached(ctx, s.from, keep, tree, s.from.Referrers, func(ocispec.Descriptor) bool { return true })
	return plan.Cargo{Image: tree, Attached: attached}, err
}

// copy does a whole copy, with the fault at the request numbered at; it gives how many requests there were.
func (s *sides) copy(ctx context.Context, at int, f sim.Fault) (int, error) {
	s.mu.Lock()
	s.n, s.at, s.fault = 0, at, f
	s.mu.Unlock()
	err := func() error {
		cargo, err := s.cargo(ctx)
		if err != nil {
			return err
		}
		have, err := transfer.Look(ctx, s.to, cargo)
		if err != nil {
			return err
		}
		return move(ctx, s.from, s.to, cargo, plan.NewCopy(cargo, have), transfer.Options{FirstWait: time.Millisecond})
	}()
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.n, err
}

// move moves to one destination.
func move(ctx context.Context, from, to *registry.Repository, cargo plan.Cargo, c plan.Copy, opt transfer.Options) error {
	return transfer.Move(ctx, transfer.NewSource(from, nil).Reader(c), to, cargo, c, opt)
}

func image(t *testing.T) pipeline.Image {
	t.Helper()
	img, err := pipeline.Build{
		Component: "slope-sensor",
		Version:   "4.1.7",
		Platforms: []string{"linux/arm64", "linux/arm/v7"},
		Bytes:     8 << 10,
	}.Make()
	must(t, err)
	return img
}

// TestAFaultAtEveryRequest: whichever single request of a copy fails, in whichever way, the copy ends right by itself
// or fails with a problem and leaves a destination that a second copy completes. At no time does the root stand there
// before all that is below it, which the stand-in would refuse.
func TestAFaultAtEveryRequest(t *testing.T) {
	img := image(t)
	requests, err := newSides(t, img, 5*time.Second).copy(t.Context(), -1, sim.Fault{})
	must(t, err)
	for name, f := range map[string]sim.Fault{
		"500": {Status: 500}, "429": {Status: 429}, "reset": {Reset: true}, "cut": {CutAfter: 30}, "flipped byte": {Flip: true},
		"cut in the request": {TakeOnly: 30}, "no room": {Status: 507}, "stall": {Hold: make(chan struct{})},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			mended, stall := 0, 5*time.Second
			if f.Hold != nil {
				stall = 500 * time.Millisecond // more than a request takes beside seven other tests
			}
			for at := range requests {
				s := newSides(t, img, stall)
				if f.Hold != nil {
					f.Hold = s.over
				}
				_, err := s.copy(t.Context(), at, f)
				if err == nil {
					mended++
				} else if p := problem.From(err); p.Kind == problem.Internal || p.Remedy == "" {
					t.Errorf("request %d: not a problem that helps: %v", at, err)
				}
				if _, err := s.copy(t.Context(), -1, sim.Fault{}); err != nil {
					t.Fatalf("request %d: a second copy does not complete it: %v", at, err)
				}
				if n := s.opened(t); n != 0 {
					t.Errorf("request %d: %d uploads are left open", at, n)
				}
				for _, root := range []digest.Digest{s.root, s.signature} {
					if d, err := s.to.Head(t.Context(), root.String()); err != nil || d.Digest != root {
						t.Fatalf("request %d: %v %v", at, d, err)
					}
				}
			}
			t.Logf("%d of %d mended by themselves", mended, requests)
			if !f.Flip && f.Status != 507 && mended < requests*9/10 { // an upload whose one PUT was refused is begun again with its blob
				t.Errorf("only %d of %d single faults were mended without a second copy", mended, requests)
			}
		})
	}
}

// TestASecondCopyMovesNothing, and one HEAD for each piece tells that.
func TestASecondCopyMovesNothing(t *testing.T) {
	s := newSides(t, image(t), 5*time.Second)
	_, err := s.copy(t.Context(), -1, sim.Fault{})
	must(t, err)
	n, err := s.copy(t.Context(), -1, sim.Fault{})
	must(t, err)
	if want := 5 + 5 + 5 + 10; n != want { // manifests read, listed what refers to them, looked at; blobs looked at
		t.Errorf("%d requests, want %d", n, want)
	}
}

// TestMountedWithinARegistry: what a sibling repository holds is not moved.
func TestMountedWithinARegistry(t *testing.T) {
	s := newSides(t, image(t), 5*time.Second)
	_, err := s.copy(t.Context(), -1, sim.Fault{})
	must(t, err)
	cargo, err := s.cargo(t.Context())
	must(t, err)
	came := map[transfer.How]int{}
	var mu sync.Mutex
	s.mu.Lock()
	s.n = 0
	s.mu.Unlock()
	sibling := s.to.Sibling("y")
	err = move(t.Context(), s.from, sibling, cargo, plan.NewCopy(cargo, nil), transfer.Options{
		Siblings: func(context.Context, plan.Piece) ([]*registry.Repository, error) {
			return []*registry.Repository{s.to}, nil
		},
		Arrived: func(p plan.Piece, by transfer.How) { mu.Lock(); came[by]++; mu.Unlock() }})
	must(t, err)
	if came[transfer.ByMount] != 10 || came[transfer.ByMoving] != 5 {
		t.Errorf("came by %v", came)
	}
	if want := 10 + 5 + 1; s.n != want {
		t.Errorf("%d requests, want one mount a blob, one PUT a manifest, one look: %d", s.n, want)
	}
}

// TestWhatIsListedAndNotAttached is left behind: what was deleted since it was listed, and what names no subject or another's.
func TestWhatIsListedAndNotAttached(t *testing.T) {
	img := image(t)
	s := newSides(t, img, 5*time.Second)
	keep := &memory{}
	tree, err := transfer.ReadTree(t.Context(), s.from, keep, s.root)
	must(t, err)
	gone := ocispec.Descriptor{MediaType: ocispec.MediaTypeImageManifest, Digest: digest.FromString("gone"), Size: 4}
	another := ocispec.Descriptor{MediaType: ocispec.MediaTypeImageManifest, Digest: s.signature, Size: 500} // of the materials
	asked := 0
	got, err := transfer.ReadAttached(
		t.Context(),
		s.from,
		keep,
		tree,
		func(_ context.Context, d digest.Digest) ([]ocispec.Descriptor, error) {
			asked++
			if d == s.root {
				return []ocispec.Descriptor{gone, another, img.Manifests[0].Descriptor}, nil
			}
			return nil, nil
		},
		func(ocispec.Descriptor) bool { return true },
	)
	if err != nil || len(got) != 0 || asked != len(tree) {
		t.Errorf("%d carried along, %d lists, %v", len(got), asked, err)
	}
}
