package transfer

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync"
	"time"

	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/failpoint"
	"dovrak/registry"

	"github.com/cenkalti/backoff/v5"
)

// Hold is the right to send one blob to one repository: while one has it, nobody else sends the same there.
type Hold interface {
	// Waited reports whether another had it meanwhile, and may have sent the blob.
	Waited() bool
	// Kept is what an earlier holder left under way; zero is nothing.
	Kept() Session
	// Keep writes down how far the blob is, so that another process can go on with it.
	Keep(context.Context, Session) error
	// Release gives the right back; leave says that what was kept is to be gone on with.
	Release(ctx context.Context, leave bool) error
}

// Session is a blob half sent: where its upload goes on, and marks of its source from which reading can go on, oldest first.
type Session struct {
	Location string
	Marks    []registry.Mark
}

// noHold is the hold of one who is alone.
type noHold struct{}

func (noHold) Waited() bool                        { return false }
func (noHold) Kept() Session                       { return Session{} }
func (noHold) Keep(context.Context, Session) error { return nil }
func (noHold) Release(context.Context, bool) error { return nil }

const (
	keepEvery = 2 * time.Second // while a blob flows, it is written down how far it is
	worthIt   = 1 << 20         // bytes of a broken upload that are worth being gone on with
	longest   = time.Minute     // that is waited because a registry asks for it
	maxCuts   = 100             // of one blob, even where each try gets further
)

// passage is one blob on its way to one destination. What breaks is gone on with where it broke, as far as the
// destination still has it; else it is begun again, a bounded number of times.
type passage struct {
	from  *Reader
	to    *registry.Repository
	piece plan.Piece
	opt   Options
	hold  Hold
	up    *registry.Upload
	began bool // an upload of its own; what was kept is of no use any more
	marks []registry.Mark
	told  int64 // bytes that were told to have flowed
	lost  error // why it could not be written down how far it is: another may be at it
}

// errThere says that the blob is there, though its upload is not known any more.
var errThere = errors.New("transfer: the blob is there already")

// run moves the blob. A try that finds more of it there than the one before counts as the first again.
func (x *passage) run(ctx context.Context) error {
	wait := backoff.NewExponentialBackOff()
	wait.InitialInterval = x.opt.FirstWait
	best := int64(0)
	for tries, cuts := uint(1), 1; ; tries, cuts = tries+1, cuts+1 {
		err := x.try(ctx)
		if err == nil || err == errThere {
			x.tell(x.piece.Size)
			return nil
		}
		if x.up != nil && x.up.Offset() > best {
			best, tries = x.up.Offset(), 1
			wait.Reset()
		}
		after := registry.After(err)
		again := ctx.Err() == nil && after <= longest && (registry.Passing(err) || x.forgotten(ctx, err))
		if !again || tries >= x.opt.Attempts || cuts >= maxCuts {
			return x.explain(err)
		}
		if werr := pause(ctx, max(wait.NextBackOff(), after)); werr != nil {
			return werr
		}
	}
}

func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// forgotten gives up an upload that was broken before and that the registry does not take up where it said it would.
func (x *passage) forgotten(ctx context.Context, err error) bool {
	switch registry.Status(err) {
	case http.StatusBadRequest, http.StatusNotFound, http.StatusRequestedRangeNotSatisfiable:
	default:
		return false
	}
	if x.up == nil || x.up.Offset() == 0 {
		return false
	}
	x.up.Cancel(ctx)
	x.up, x.began = nil, true
	return true
}

// try sends the blob, from where it is.
func (x *passage) try(ctx context.Context) error {
	if err := x.open(ctx); err != nil {
		return err
	}
	x.tell(x.up.Offset())
	ctx, cancel := context.WithCancel(ctx)
	body, err := x.read(ctx)
	if err != nil {
		cancel()
		return err
	}
	flow := &outflow{x: x, ctx: ctx, body: body, kept: time.Now()}
	err = failpoint.At(ctx, "blob-opened")
	for whole := false; err == nil && !whole; {
		if whole, err = x.up.Send(ctx, flow); err == nil && !whole {
			err = flow.keep()
		}
	}
	cancel() // a connection may still read when its request has failed
	return join(err, flow.Close())
}

// open finds the upload to go on with, or begins one.
func (x *passage) open(ctx context.Context) (err error) {
	if x.up != nil {
		if err = x.up.Ask(ctx); err == nil || registry.Passing(err) {
			return err
		}
		x.up.Cancel(ctx)
	} else if kept := x.hold.Kept(); kept.Location != "" && !x.began {
		if x.up, err = x.to.ReopenUpload(ctx, x.piece.Descriptor(), kept.Location); err == nil {
			x.marks = kept.Marks
			return nil
		}
		if registry.Passing(err) {
			return err
		}
		x.to.CancelUpload(ctx, kept.Location)
	}
	if err != nil { // the upload is gone: closed, or lapsed; or it is not told how far it is
		there, herr := x.to.HasBlob(ctx, x.piece.Descriptor())
		if there {
			return errThere
		}
		if herr != nil {
			return herr
		}
	}
	x.marks, x.began = nil, true
	if x.up, err = x.to.OpenUpload(ctx, x.piece.Descriptor()); err != nil {
		x.up = nil
		return err
	}
	return x.keep(ctx)
}

// keep writes down how far the blob is.
func (x *passage) keep(ctx context.Context) error {
	x.lost = x.hold.Keep(ctx, Session{x.up.Location(), x.marks})
	return x.lost
}

// read opens the source where the destination goes on: at the last mark before it, whence the bytes between are read and
// hashed, and not sent.
func (x *passage) read(ctx context.Context) (stream, error) {
	var from registry.Mark
	at := x.up.Offset()
	for i, m := range x.marks {
		if m.Offset > at {
			x.marks = x.marks[:i]
			break
		}
		from = m
	}
	body, err := x.from.open(ctx, x.piece.Descriptor(), from)
	if err != nil {
		return nil, err
	}
	if _, err := io.CopyN(io.Discard, body, at-from.Offset); err != nil {
		return nil, errors.Join(err, body.Close())
	}
	return body, nil
}

// tell tells that so many bytes are there.
func (x *passage) tell(n int64) {
	if n != x.told {
		x.opt.Flowed(x.piece, n-x.told)
		x.told = n
	}
}

// leave ends the passage after an error: what may still be gone on with is left as it is, anything else is cancelled.
func (x *passage) leave(ctx context.Context, err error) bool {
	if x.up == nil {
		return false
	}
	if x.lost != nil && ctx.Err() == nil {
		return true
	}
	if (ctx.Err() != nil || registry.Passing(err)) && x.told >= worthIt {
		return true
	}
	x.up.Cancel(ctx)
	x.tell(0)
	return false
}

// explain gives a stream that broke the words of a problem; other errors have theirs.
func (x *passage) explain(err error) error {
	if _, ok := err.(*registry.Error); !ok {
		return err
	}
	return (&problem.Problem{
		Kind:   problem.Unreachable,
		Title:  "A layer could not be moved",
		Asked:  x.piece.Digest.String(),
		Seen:   err.Error(),
		Where:  x.from.src.from.String() + " to " + x.to.String(),
		Remedy: "ask again: what has arrived is kept, and no tag was pointed",
	}).Because(err)
}

// outflow is what flows to the destination in one try: told, paced, and from time to time written down. Ended, it gives
// nothing more to a connection that still reads.
type outflow struct {
	x    *passage
	ctx  context.Context
	mu   sync.Mutex
	body stream
	kept time.Time
	done bool
}

func (o *outflow) Read(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.done {
		return 0, context.Canceled
	}
	n, err := o.body.Read(p)
	o.x.tell(o.x.told + int64(n))
	if err != nil && err != io.EOF {
		return n, err
	}
	if merr := o.mark(); merr != nil {
		return n, merr
	}
	if perr := o.x.opt.Pace(o.ctx, n); perr != nil {
		return n, perr
	}
	return n, err
}

// mark takes note of where reading could go on, and keeps it.
func (o *outflow) mark() error {
	x := o.x
	if last := len(x.marks) - 1; last < 0 && x.told >= markEvery || last >= 0 && x.told-x.marks[last].Offset >= markEvery {
		m, err := o.body.Mark()
		if err != nil {
			return err
		}
		if last < 0 && m.Offset > 0 || last >= 0 && m.Offset > x.marks[last].Offset {
			x.marks = append(x.marks, m)
		}
	}
	if time.Since(o.kept) < keepEvery {
		return nil
	}
	return o.save()
}

// keep drops the marks that are not needed any more, and keeps the others, behind each chunk.
func (o *outflow) keep() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	x := o.x
	for len(x.marks) > 1 && x.marks[1].Offset <= x.up.Offset() {
		x.marks = x.marks[1:]
	}
	return o.save()
}

func (o *outflow) save() error {
	o.kept = time.Now()
	return o.x.keep(o.ctx)
}

// Close ends it, and waits for whoever reads.
func (o *outflow) Close() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.done = true
	return o.body.Close()
}
