package transfer

import (
	"context"
	"errors"
	"io"
	"sync"
	"time"

	"dovrak/registry"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// flow is a blob that is read once for several: a ring of its last bytes, filled by one and emptied by each tap.
type flow struct {
	src    *Source
	blob   ocispec.Descriptor
	ctx    context.Context
	cancel context.CancelFunc
	begun  chan struct{} // closed when all are there who are waited for
	once   sync.Once

	mu      sync.Mutex
	changed *sync.Cond
	ring    []byte
	head    int64 // bytes read so far; the ring holds the last of them
	err     error // io.EOF, or why it ended
	taps    map[*tap]bool
	overdue bool // someone was held up for too long
	marks   []registry.Mark
}

// newFlow makes a flow, which ends when its last tap is closed, not with the first one's context.
func newFlow(ctx context.Context, s *Source, d ocispec.Descriptor) *flow {
	f := &flow{src: s, blob: d, begun: make(chan struct{}), ring: make([]byte, min(window, d.Size)), taps: map[*tap]bool{}}
	f.changed = sync.NewCond(&f.mu)
	f.ctx, f.cancel = context.WithCancel(context.WithoutCancel(ctx))
	return f
}

func (f *flow) begin() { f.once.Do(func() { close(f.begun) }) }

// tap lets one more drink; nil where the first bytes are gone.
func (f *flow) tap(ctx context.Context, r *Reader) *tap {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.head >= int64(len(f.ring)) || f.err != nil || f.ctx.Err() != nil { // with a full ring the first bytes may be written over now
		return nil
	}
	t := &tap{f: f, r: r, ctx: ctx}
	t.stop = context.AfterFunc(ctx, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.changed.Broadcast()
	})
	f.taps[t] = true
	return t
}

// run fills the ring.
func (f *flow) run() {
	defer f.cancel()
	wait := time.NewTimer(gather)
	defer wait.Stop()
	select {
	case <-f.begun:
	case <-wait.C:
		f.src.late(f.blob.Digest)
	case <-f.ctx.Done():
	}
	err := f.fill()
	f.src.mu.Lock()
	if f.src.flowing[f.blob.Digest] == f {
		delete(f.src.flowing, f.blob.Digest)
	}
	f.src.mu.Unlock()
	f.mu.Lock()
	defer f.mu.Unlock()
	f.err = err
	f.changed.Broadcast()
}

func (f *flow) fill() (err error) {
	body, err := f.src.from.Blob(f.ctx, f.blob, registry.Mark{})
	if err != nil {
		return err
	}
	defer func() {
		if cerr := body.Close(); err == io.EOF && cerr != nil {
			err = cerr
		}
	}()
	for {
		room, err := f.room()
		if err != nil {
			return err
		}
		n, err := body.Read(room)
		if merr := f.note(n, body); merr != nil {
			return merr
		}
		if err != nil {
			return err
		}
		if err := f.src.pace(f.ctx, n); err != nil {
			return err
		}
	}
}

// note makes n more bytes known.
func (f *flow) note(n int, body *registry.Stream) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.head += int64(n)
	f.changed.Broadcast()
	if len(f.marks) > 0 && f.head-f.marks[len(f.marks)-1].Offset < markEvery || f.head < markEvery {
		return nil
	}
	m, err := body.Mark()
	f.marks = append(f.marks, m)
	return err
}

// room waits for a piece of the ring that may be written to: one that every tap has read, or has fallen behind.
func (f *flow) room() ([]byte, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	var late *time.Timer
	for {
		last := f.head
		for t := range f.taps {
			last = min(last, t.pos)
		}
		free := int64(len(f.ring)) - (f.head - last)
		switch {
		case len(f.taps) == 0:
			return nil, context.Canceled
		case free > 0:
			f.overdue = false
			at := f.head % int64(len(f.ring))
			return f.ring[at:min(at+free, at+readStep, int64(len(f.ring)))], nil
		case f.overdue && f.thirsty():
			f.leave(last)
			continue
		case late == nil && f.thirsty():
			late = time.AfterFunc(patience, f.hurry)
			defer late.Stop()
		}
		f.changed.Wait()
	}
}

// thirsty reports whether a tap has nothing to read.
func (f *flow) thirsty() bool {
	for t := range f.taps {
		if t.pos == f.head {
			return true
		}
	}
	return false
}

func (f *flow) hurry() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.overdue = true
	f.changed.Broadcast()
}

// leave leaves those behind who hold the others up.
func (f *flow) leave(at int64) {
	for t := range f.taps {
		if t.pos == at {
			t.left = true
			t.r.slow.Store(true)
			delete(f.taps, t)
		}
	}
	f.overdue = false
	f.changed.Broadcast()
}

// tap is one reader's part in a flow.
type tap struct {
	f    *flow
	r    *Reader
	ctx  context.Context
	stop func() bool
	pos  int64
	left bool   // behind, by the flow;
	own  stream // then it reads alone
}

func (t *tap) Read(p []byte) (int, error) {
	if t.own != nil {
		return t.own.Read(p)
	}
	n, err := t.drink(p)
	if err != errLeft {
		return n, err
	}
	if t.own, err = t.goOn(); err != nil {
		return 0, err
	}
	return t.own.Read(p)
}

var errLeft = errors.New("transfer: left behind")

func (t *tap) drink(p []byte) (int, error) {
	f := t.f
	f.mu.Lock()
	defer f.mu.Unlock()
	if t.pos == f.head {
		f.changed.Broadcast() // who waits for room looks whether anyone is thirsty
	}
	for !t.left && t.pos == f.head && f.err == nil && t.ctx.Err() == nil {
		f.changed.Wait()
	}
	switch {
	case t.ctx.Err() != nil:
		return 0, context.Cause(t.ctx)
	case t.left:
		return 0, errLeft
	case t.pos == f.head:
		return 0, f.err
	}
	at := t.pos % int64(len(f.ring))
	n := copy(p[:min(int64(len(p)), f.head-t.pos)], f.ring[at:])
	t.pos += int64(n)
	f.changed.Broadcast()
	return n, nil
}

// goOn opens the rest for itself, from the last mark before where it was.
func (t *tap) goOn() (stream, error) {
	m, _ := t.Mark()
	s, err := t.r.alone(t.ctx, t.f.blob, m)
	if err != nil {
		return nil, err
	}
	if _, err := io.CopyN(io.Discard, s, t.pos-m.Offset); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// Mark is the last place, not behind what was read, from which reading can go on.
func (t *tap) Mark() (last registry.Mark, err error) {
	if t.own != nil {
		return t.own.Mark()
	}
	t.f.mu.Lock()
	defer t.f.mu.Unlock()
	for _, m := range t.f.marks {
		if m.Offset <= t.pos {
			last = m
		}
	}
	return last, nil
}

func (t *tap) Close() error {
	t.stop()
	t.f.mu.Lock()
	delete(t.f.taps, t)
	if len(t.f.taps) == 0 {
		t.f.cancel()
	}
	t.f.changed.Broadcast()
	t.f.mu.Unlock()
	if t.own != nil {
		return t.own.Close()
	}
	return nil
}
