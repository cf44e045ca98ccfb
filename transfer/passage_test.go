package transfer_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"dovrak/core/plan"
	"dovrak/registry"
	sim "dovrak/standin/registry"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// line is a simulated registry that counts the bytes of blobs, each way, and can break requests.
type line struct {
	*registry.Repository
	dir     string
	in, out atomic.Int64
	mu      sync.Mutex
	breaks  func(*http.Request) sim.Fault
	asked   []string // "METHOD Range"
}

func newLine(t *testing.T, opt sim.Options, cfg registry.Config) *line {
	t.Helper()
	l := &line{dir: t.TempDir()}
	opt.Dir = l.dir
	opt.Fault = func(_ int, r *http.Request) sim.Fault {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.asked = append(l.asked, strings.TrimSpace(r.Method+" "+r.Header.Get("Range")))
		if l.breaks == nil {
			return sim.Fault{}
		}
		return l.breaks(r)
	}
	h, err := sim.New(opt)
	must(t, err)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body = counted{r.Body, &l.in}
		h.ServeHTTP(countedOut{w, &l.out}, r)
	}))
	t.Cleanup(srv.Close)
	cfg.Name, cfg.Address, cfg.FirstWait = "side", srv.URL, time.Millisecond
	c, err := registry.New(cfg)
	must(t, err)
	t.Cleanup(c.Close)
	l.Repository = c.Repository("x")
	return l
}

type counted struct {
	io.ReadCloser
	n *atomic.Int64
}

func (c counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.n.Add(int64(n))
	return n, err
}

type countedOut struct {
	http.ResponseWriter
	n *atomic.Int64
}

func (c countedOut) Write(p []byte) (int, error) {
	n, err := c.ResponseWriter.Write(p)
	c.n.Add(int64(n))
	return n, err
}

// layer is a blob of random bytes that a source holds, planned to be moved.
func (l *line) layer(t *testing.T, size int) plan.Piece {
	t.Helper()
	raw := make([]byte, size)
	_, err := rand.Read(raw)
	must(t, err)
	p := plan.Piece{Digest: digest.FromBytes(raw), Size: int64(size), MediaType: ocispec.MediaTypeImageLayer}
	up, err := l.OpenUpload(t.Context(), p.Descriptor())
	must(t, err)
	for whole := false; !whole; {
		whole, err = up.Send(t.Context(), bytes.NewReader(raw[up.Offset():]))
		must(t, err)
	}
	l.in.Store(0)
	l.asked = nil
	return p
}

func (l *line) uploads(t *testing.T) int {
	t.Helper()
	left, err := os.ReadDir(filepath.Join(l.dir, "uploads"))
	must(t, err)
	return len(left)
}

// desk is a hold that outlives those who have it, as a database's does.
type desk struct{ kept transfer.Session }

func (d *desk) Waited() bool                                     { return false }
func (d *desk) Kept() transfer.Session                           { return d.kept }
func (d *desk) Keep(_ context.Context, s transfer.Session) error { d.kept = s; return nil }
func (d *desk) Release(_ context.Context, leave bool) error {
	if !leave {
		d.kept = transfer.Session{}
	}
	return nil
}

func blobs(ctx context.Context, from *transfer.Reader, to *line, c plan.Copy, opt transfer.Options) error {
	return transfer.Move(ctx, from, to.Repository, plan.Cargo{}, c, opt)
}

const (
	layerSize = 24 << 20
	chunk     = 8 << 20
)

// cutAt cuts one PATCH in two, the nth.
func cutAt(nth int, after int64) func(*http.Request) sim.Fault {
	n := 0
	return func(r *http.Request) sim.Fault {
		if r.Method == http.MethodPatch {
			if n++; n == nth {
				return sim.Fault{TakeOnly: after}
			}
		}
		return sim.Fault{}
	}
}

// TestAnUploadGoesOnWhereItWasCut: what has arrived is not sent again where the registry tells how much that is; else the blob is
// begun anew. The source is asked for what comes behind.
func TestAnUploadGoesOnWhereItWasCut(t *testing.T) {
	for _, tt := range []struct {
		name   string
		quirks sim.Quirks
		most   int64 // bytes that the destination may receive,
		source int64 // and the source give
	}{
		{"where it says how much came", sim.Quirks{}, layerSize + 1<<20, layerSize + 12<<20},
		{"and anew where it does not", sim.Quirks{NoResuming: true}, 2 * layerSize, 2 * layerSize},
	} {
		t.Run(tt.name, func(t *testing.T) {
			from, to := newLine(
				t,
				sim.Options{},
				registry.Config{},
			), newLine(
				t,
				sim.Options{Quirks: tt.quirks},
				registry.Config{Chunk: chunk},
			)
			p := from.layer(t, layerSize)
			from.out.Store(0)
			to.breaks = cutAt(2, 5<<20)
			var flowed atomic.Int64
			c := plan.Copy{Blobs: []plan.Piece{p}}
			must(
				t,
				blobs(
					t.Context(),
					transfer.NewSource(from.Repository, nil).Reader(c),
					to,
					c,
					transfer.Options{FirstWait: time.Millisecond,
						Flowed: func(_ plan.Piece, n int64) { flowed.Add(n) }},
				),
			)
			if there, err := to.HasBlob(t.Context(), p.Descriptor()); err != nil || !there || to.uploads(t) != 0 ||
				flowed.Load() != layerSize {
				t.Errorf("there %t, %d uploads open, %d bytes told, %v", there, to.uploads(t), flowed.Load(), err)
			}
			if got := to.in.Load(); got < layerSize || got > tt.most {
				t.Errorf("the destination received %d MiB", got>>20)
			}
			if got := from.out.Load(); got > tt.source {
				t.Errorf("the source gave %d MiB: %v", got>>20, from.asked)
			}
		})
	}
}

// TestAnUploadOutlivesItsProcess: what one was at when it was ended, another goes on with, by what was kept; where the registry has
// forgotten the upload, from the beginning.
func TestAnUploadOutlivesItsProcess(t *testing.T) {
	for name, lapsed := range map[string]bool{"still known": false, "lapsed": true} {
		t.Run(name, func(t *testing.T) {
			from, to := newLine(t, sim.Options{}, registry.Config{}), newLine(t, sim.Options{}, registry.Config{Chunk: chunk})
			p := from.layer(t, layerSize)
			c := plan.Copy{Blobs: []plan.Piece{p}}
			kept := &desk{}
			opt := transfer.Options{
				FirstWait: time.Millisecond,
				Hold:      func(context.Context, plan.Piece) (transfer.Hold, error) { return kept, nil },
			}
			ctx, end := context.WithCancel(t.Context())
			patches := 0
			to.breaks = func(r *http.Request) sim.Fault {
				if r.Method == http.MethodPatch {
					patches++
				}
				if patches == 3 {
					return sim.Fault{Call: end}
				}
				return sim.Fault{}
			}
			if err := blobs(ctx, transfer.NewSource(from.Repository, nil).Reader(c), to, c, opt); err == nil {
				t.Fatal("it was not ended")
			}
			if kept.kept.Location == "" || len(kept.kept.Marks) == 0 || to.uploads(t) != 1 {
				t.Fatalf("kept %+v, %d uploads open", kept.kept, to.uploads(t))
			}
			if lapsed {
				to.CancelUpload(t.Context(), kept.kept.Location)
			}
			to.breaks = nil
			to.in.Store(0)
			must(t, blobs(t.Context(), transfer.NewSource(from.Repository, nil).Reader(c), to, c, opt))
			// What was on its way when the first was ended may still be counted.
			if got := to.in.Load(); !lapsed && got > layerSize-2*chunk || lapsed && (got < layerSize || got > layerSize+chunk) ||
				to.uploads(t) != 0 {
				t.Errorf("%d MiB were sent again, %d uploads are open", got>>20, to.uploads(t))
			}
		})
	}
}

// TestReadOnceForSeveral: the source gives each byte once to three who take them alike. One that takes nothing until the others have
// all does not hold them up, and then reads what it missed.
func TestReadOnceForSeveral(t *testing.T) {
	for name, slow := range map[string]bool{"of one speed": false, "and a slow one": true} {
		t.Run(name, func(t *testing.T) {
			from := newLine(t, sim.Options{}, registry.Config{})
			c := plan.Copy{}
			const layers, size = 6, 5 << 20
			for range layers {
				c.Blobs = append(c.Blobs, from.layer(t, size))
			}
			from.out.Store(0)
			src := transfer.NewSource(from.Repository, nil)
			var others, all sync.WaitGroup
			others.Add(3)
			released := make(chan struct{})
			all.Go(func() { others.Wait(); close(released) })
			n := 3
			if slow {
				n = 4
			}
			readers := make([]*transfer.Reader, n)
			for i := range readers {
				readers[i] = src.Reader(c)
			}
			for i, r := range readers {
				to := newLine(t, sim.Options{}, registry.Config{})
				if i == 3 {
					to.breaks = func(r *http.Request) sim.Fault { return sim.Fault{Hold: released} }
				}
				all.Go(func() {
					if i < 3 {
						defer others.Done()
					}
					if err := blobs(t.Context(), r, to, c, transfer.Options{}); err != nil {
						t.Error(err)
					}
					for _, p := range c.Blobs {
						if there, err := to.HasBlob(t.Context(), p.Descriptor()); err != nil || !there {
							t.Errorf("destination %d lacks %s: %v", i, p.Digest, err)
						}
					}
				})
			}
			all.Wait()
			read := float64(from.out.Load()) / (layers * size)
			t.Logf("each byte was read %.3f times", read)
			if most := map[bool]float64{false: 1.05, true: 2.05}[slow]; read > most {
				t.Errorf("each byte was read %.3f times, at most %.2f are right", read, most)
			}
		})
	}
}
