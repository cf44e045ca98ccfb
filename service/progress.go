package service

import (
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"dovrak/core/plan"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
)

// tide counts what one place receives. What an earlier process moved there for the same work is counted, too.
type tide struct {
	mu      sync.Mutex
	is      store.Progress
	came    []byte
	places  map[digest.Digest]int // of pieces in came
	flowing map[digest.Digest]int64
	speed   speed
	changed bool
}

// tide begins to count for a place: first is the plan as it was first made, now what is still to be done.
func (sh *shift) tide(repository string, first, now plan.Copy) *tide {
	t := &tide{places: map[digest.Digest]int{}, flowing: map[digest.Digest]int64{}, changed: true}
	pieces := slices.Concat(first.Blobs, first.Manifests)
	for i, p := range pieces {
		t.places[p.Digest] = i
	}
	earlier, _ := find(sh.before.Progress, func(p store.Progress) bool { return p.Repository == repository })
	if t.came = []byte(earlier.Came); len(t.came) != len(pieces) {
		t.came = slices.Repeat([]byte{store.NotYet}, len(pieces))
		earlier = store.Progress{}
	}
	totals := now.Totals()
	t.is = store.Progress{Repository: repository, Mounted: earlier.Mounted, Blobs: earlier.Blobs}
	t.is.Present = first.Totals().PresentBytes
	t.is.Moved = max(totals.PresentBytes-t.is.Present-t.is.Mounted, 0)
	t.is.Total = totals.MoveBytes + t.is.Mounted + t.is.Moved
	for _, p := range slices.Concat(now.Blobs, now.Manifests) {
		if i, ok := t.places[p.Digest]; ok && p.Present && !pieces[i].Present && t.came[i] == store.NotYet {
			t.came[i] = store.CameByMoving
			t.is.Blobs++
		}
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	sh.tides = append(slices.DeleteFunc(sh.tides, func(o *tide) bool { return o.is.Repository == repository }), t)
	return t
}

// tideOf is the tide of a place; nil where this shift has moved nothing there.
func (sh *shift) tideOf(repository string) *tide {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	t, _ := find(sh.tides, func(t *tide) bool { return t.is.Repository == repository })
	return t
}

func find[T any](all []T, is func(T) bool) (T, bool) {
	if i := slices.IndexFunc(all, is); i >= 0 {
		return all[i], true
	}
	var zero T
	return zero, false
}

// flowed counts bytes of a blob.
func (t *tide) flowed(p plan.Piece, n int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.is.Moved += n
	t.speed.add(n)
	t.flowing[p.Digest] += n
	t.changed = true
}

var letters = map[transfer.How]byte{
	transfer.ByMoving: store.CameByMoving, transfer.ByMount: store.CameByMount, transfer.ByAnother: store.CameByAnother,
}

// arrived counts a piece that is there.
func (t *tide) arrived(p plan.Piece, by transfer.How) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.flowing, p.Digest)
	switch by {
	case transfer.ByMount:
		t.is.Mounted += p.Size
	case transfer.ByAnother:
		t.is.Present, t.is.Total = t.is.Present+p.Size, t.is.Total-p.Size
	}
	t.is.Blobs++
	if i, ok := t.places[p.Digest]; ok {
		t.came[i] = letters[by]
	}
	t.changed = true
}

// failed notes that the place is given up.
func (t *tide) failed(why string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.is.Problem, t.changed = why, true
	clear(t.flowing)
}

// now is how far the place is, and whether that is news.
func (t *tide) now() (store.Progress, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := t.is
	rate := t.speed.now()
	p.Rate, p.Came = rate, string(t.came)
	for d, n := range t.flowing {
		p.Flowing = append(p.Flowing, store.Flow{Digest: d, Moved: n})
	}
	slices.SortFunc(p.Flowing, func(a, b store.Flow) int { return strings.Compare(a.Digest.String(), b.Digest.String()) })
	news := t.changed || rate > 0
	t.changed = false
	return p, news
}

// progress is how far all places are, and whether that is news.
func (sh *shift) progress() ([]store.Progress, bool) {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if len(sh.tides) == 0 { // this shift moves nothing
		return sh.before.Progress, false
	}
	out, news := []store.Progress{}, false
	for _, t := range sh.tides {
		p, changed := t.now()
		news = news || changed
		out = append(out, p)
	}
	slices.SortStableFunc(out, func(a, b store.Progress) int { return strings.Compare(a.Repository, b.Repository) })
	return out, news
}

// speed is how fast something goes of late, in bytes a second: an average that forgets.
type speed struct {
	bytes int64 // since then
	then  time.Time
	rate  float64
}

// speedOver is how far back it remembers.
const speedOver = 4 * time.Second

func (s *speed) add(n int64) {
	if s.then.IsZero() {
		s.then = time.Now()
	}
	s.bytes += n
}

// now gives the rate; nothing where so little goes that it is none.
func (s *speed) now() int64 {
	took := time.Since(s.then)
	if s.then.IsZero() || took < flushEvery/2 {
		return int64(s.rate)
	}
	of := float64(s.bytes) / took.Seconds()
	if s.rate == 0 {
		s.rate = of
	}
	s.rate += (of - s.rate) * (1 - math.Exp(-took.Seconds()/speedOver.Seconds()))
	if s.rate < 1 {
		s.rate = 0
	}
	s.bytes, s.then = 0, time.Now()
	return int64(max(s.rate, 0))
}
