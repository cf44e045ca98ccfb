package transfer

import (
	"context"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"dovrak/core/plan"
	"dovrak/registry"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// How a blob is read once for several.
const (
	window    = 2 << 20                // bytes between the fastest reader and the slowest
	gather    = 500 * time.Millisecond // the first waits so long for others that will read the same
	patience  = 2 * time.Second        // and so long for one that holds them up
	markEvery = 4 << 20                // bytes between places from which reading can go on
	readStep  = 256 << 10              // bytes read at once
)

// Source is a repository from which blobs are read for several destinations: once for all who need the same blob at the same
// time. Memory is bounded by a window for each blob under way. Who falls out of the window reads the rest alone, and is not
// waited for any more. What one alone needs flows straight through.
type Source struct {
	from *registry.Repository
	pace func(context.Context, int) error

	mu      sync.Mutex
	wanted  map[digest.Digest]map[*Reader]bool // who has yet to read a blob
	flowing map[digest.Digest]*flow
}

// NewSource makes a source. Pace waits until so many more bytes may be read from it; nil is no limit.
func NewSource(from *registry.Repository, pace func(ctx context.Context, bytes int) error) *Source {
	if pace == nil {
		pace = func(context.Context, int) error { return nil }
	}
	return &Source{from: from, pace: pace, wanted: map[digest.Digest]map[*Reader]bool{}, flowing: map[digest.Digest]*flow{}}
}

// Reader is one destination's view of a source.
type Reader struct {
	src  *Source
	slow atomic.Bool // it has held others up
}

// Reader makes the reader for a destination. To share, make those of all destinations before the first is used.
func (s *Source) Reader(c plan.Copy) *Reader {
	r := &Reader{src: s}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range c.Blobs {
		if p.Present || p.Foreign || p.Mount != "" {
			continue
		}
		if s.wanted[p.Digest] == nil {
			s.wanted[p.Digest] = map[*Reader]bool{}
		}
		s.wanted[p.Digest][r] = true
	}
	return r
}

// pass says that the reader will not read a blob, or not again.
func (r *Reader) pass(d digest.Digest) {
	r.src.mu.Lock()
	defer r.src.mu.Unlock()
	r.src.arrive(r, d)
}

// arrive takes a reader off those who are waited for. The lock is held.
func (s *Source) arrive(r *Reader, d digest.Digest) {
	delete(s.wanted[d], r)
	if len(s.wanted[d]) == 0 {
		delete(s.wanted, d)
	}
	if f := s.flowing[d]; f != nil && !s.more(d) {
		f.begin()
	}
}

// late takes note of those who kept others waiting for a blob: they are not waited for again.
func (s *Source) late(d digest.Digest) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for r := range s.wanted[d] {
		r.slow.Store(true)
	}
}

// more reports whether others will want a blob that are worth waiting for. The lock is held.
func (s *Source) more(d digest.Digest) bool {
	for r := range s.wanted[d] {
		if !r.slow.Load() {
			return true
		}
	}
	return false
}

// stream is a blob that is being read. Mark is a place in it, not behind what was read, from which reading can go on.
type stream interface {
	io.ReadCloser
	Mark() (registry.Mark, error)
}

// open gives a blob from a mark on.
func (r *Reader) open(ctx context.Context, d ocispec.Descriptor, from registry.Mark) (stream, error) {
	if t := r.join(ctx, d, from); t != nil {
		return t, nil
	}
	return r.alone(ctx, d, from)
}

func (r *Reader) alone(ctx context.Context, d ocispec.Descriptor, from registry.Mark) (stream, error) {
	s, err := r.src.from.Blob(ctx, d, from)
	if err != nil {
		return nil, err
	}
	return &paced{s, func(n int) error { return r.src.pace(ctx, n) }}, nil
}

// paced is a stream that is read no faster than it may be.
type paced struct {
	*registry.Stream
	pace func(int) error
}

func (p *paced) Read(b []byte) (int, error) {
	n, err := p.Stream.Read(b)
	if perr := p.pace(n); perr != nil && (err == nil || err == io.EOF) {
		err = perr
	}
	return n, err
}

// join takes part in the reading of a blob for several; nil where there is nobody else, or it is too late.
func (r *Reader) join(ctx context.Context, d ocispec.Descriptor, from registry.Mark) *tap {
	s := r.src
	s.mu.Lock()
	defer s.mu.Unlock()
	defer s.arrive(r, d.Digest)
	if from.Offset > 0 {
		return nil
	}
	f := s.flowing[d.Digest]
	if f == nil {
		delete(s.wanted[d.Digest], r)
		if !s.more(d.Digest) {
			return nil
		}
		f = newFlow(ctx, s, d)
		s.flowing[d.Digest] = f
		go f.run()
	}
	return f.tap(ctx, r)
}
