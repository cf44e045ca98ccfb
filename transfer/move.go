package transfer

import (
	"context"
	"time"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/failpoint"
	"dovrak/registry"

	"github.com/opencontainers/go-digest"
	"golang.org/x/sync/errgroup"
)

// Options of a move. The zero Options work.
type Options struct {
	AtOnce    int           // blobs side by side; default 4
	Attempts  uint          // tries of one blob, whose stream may be cut; default 4
	FirstWait time.Duration // before the second try, doubling; default 500 ms

	// Siblings gives repositories of the destination's registry that may hold a blob, to mount it from.
	Siblings func(context.Context, plan.Piece) ([]*registry.Repository, error)
	// InTurn has those who write down what refers to one digest do so one after the other: a registry without a list of its own
	// keeps it in a tag, which all of them read and write. nil is for one writer alone.
	InTurn func(ctx context.Context, subject digest.Digest, write func() error) error
	// Turn waits until one more blob may be moved; what it gives is called when the blob is done. May be nil.
	Turn func(context.Context) (done func(), err error)
	// Hold waits until nobody else sends the same blob to the same repository. nil is for one who is alone.
	Hold func(context.Context, plan.Piece) (Hold, error)
	// Pace waits until so many more bytes may flow to the destination; nil is no limit.
	Pace func(ctx context.Context, bytes int) error
	// Flowed is told of bytes of a blob as they arrive, fewer than none where some were lost; Arrived, of each piece when it is
	// there, and how it came. They must be safe for concurrent use, and quick.
	Flowed  func(p plan.Piece, bytes int64)
	Arrived func(p plan.Piece, by How)
}

// How is the way in which a piece came to be where it is.
type How string

// The ways there are.
const (
	ByMoving  How = "moved"
	ByMount   How = "mounted"        // from a sibling repository
	ByAnother How = "sent by others" // by another copy, at the same time
)

func (o Options) withDefaults() Options {
	if o.AtOnce == 0 {
		o.AtOnce = 4
	}
	if o.Attempts == 0 {
		o.Attempts = 4
	}
	if o.FirstWait == 0 {
		o.FirstWait = 500 * time.Millisecond
	}
	if o.Turn == nil {
		o.Turn = func(context.Context) (func(), error) { return func() {}, nil }
	}
	if o.InTurn == nil {
		o.InTurn = func(_ context.Context, _ digest.Digest, write func() error) error { return write() }
	}
	if o.Hold == nil {
		o.Hold = func(context.Context, plan.Piece) (Hold, error) { return noHold{}, nil }
	}
	if o.Flowed == nil {
		o.Flowed = func(plan.Piece, int64) {}
	}
	if o.Arrived == nil {
		o.Arrived = func(plan.Piece, How) {}
	}
	if o.Pace == nil {
		o.Pace = func(context.Context, int) error { return nil }
	}
	return o
}

// Move does what a copy's plan says, then asks the destination whether it has the root. After an error nothing points
// to what was moved so far, and a second Move goes on from there.
func Move(ctx context.Context, from *Reader, to *registry.Repository, cargo plan.Cargo, c plan.Copy, opt Options) error {
	opt = opt.withDefaults()
	if err := moveBlobs(ctx, from, to, c, opt); err != nil {
		return err
	}
	if err := failpoint.At(ctx, "blobs-moved"); err != nil {
		return err
	}
	rootPut, err := putManifests(ctx, to, cargo, c, opt)
	if err != nil || !rootPut { // else the plan has just seen it
		return err
	}
	there, err := Has(ctx, to, c.Root)
	if err == nil && !there {
		err = &problem.Problem{
			Kind:   problem.RegistryError,
			Title:  "The registry took the image and does not have it",
			Asked:  c.Root.String(),
			Where:  to.String(),
			Seen:   "every piece was accepted, and the root is not there",
			Remedy: "copy again; if it stays, look at the registry's storage",
		}
	}
	return err
}

// putManifests puts what is missing, children before parents, and makes what refers to the image known where the registry
// keeps no list by itself. It reports whether the root was put.
func putManifests(ctx context.Context, to *registry.Repository, cargo plan.Cargo, c plan.Copy, opt Options) (rootPut bool, err error) {
	manifests := map[digest.Digest]image.Manifest{}
	for _, m := range cargo.Manifests() {
		manifests[m.Digest] = m
	}
	attached := map[digest.Digest]plan.Attached{}
	for _, a := range cargo.Attached {
		attached[a.Tree.Root().Digest] = a
	}
	for _, p := range c.Manifests {
		if p.Present {
			continue
		}
		m := manifests[p.Digest]
		put := func() error { return to.PutManifest(ctx, p.Digest.String(), m) }
		if a, ok := attached[p.Digest]; ok {
			put = func() error {
				return opt.InTurn(ctx, a.Subject, func() error { return to.PutReferrer(ctx, m, a.As) })
			}
		}
		if err := put(); err != nil {
			return false, err
		}
		rootPut = rootPut || p.Digest == c.Root
		opt.Flowed(p, p.Size)
		opt.Arrived(p, ByMoving)
	}
	return rootPut, nil
}

func moveBlobs(ctx context.Context, from *Reader, to *registry.Repository, c plan.Copy, opt Options) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(opt.AtOnce)
	for _, p := range c.Blobs {
		if p.Present || p.Foreign {
			continue
		}
		g.Go(func() error {
			defer from.pass(p.Digest)
			by, err := moveBlob(ctx, from, to, p, opt)
			if err == nil {
				opt.Arrived(p, by)
			}
			return err
		})
	}
	return g.Wait()
}

// moveBlob gets one blob there: by another copy that was at it already, by a mount, or by moving it.
func moveBlob(ctx context.Context, from *Reader, to *registry.Repository, p plan.Piece, opt Options) (by How, err error) {
	hold, err := opt.Hold(ctx, p)
	if err != nil {
		return "", err
	}
	leave := false
	defer func() { err = join(err, hold.Release(context.WithoutCancel(ctx), leave)) }()
	if hold.Waited() {
		if there, err := to.HasBlob(ctx, p.Descriptor()); err != nil || there {
			return ByAnother, err
		}
	}
	done, err := opt.Turn(ctx)
	if err != nil {
		return "", err
	}
	defer done()
	if mounted, err := mount(ctx, to, p, opt); err != nil || mounted {
		return ByMount, err
	}
	x := passage{from: from, to: to, piece: p, opt: opt, hold: hold}
	if err = x.run(ctx); err != nil {
		leave = x.leave(ctx, err)
	}
	return ByMoving, err
}

// mount makes the blob of a sibling repository ours, without moving it. A registry that will not is no fault.
func mount(ctx context.Context, to *registry.Repository, p plan.Piece, opt Options) (bool, error) {
	if opt.Siblings == nil {
		return false, nil
	}
	siblings, err := opt.Siblings(ctx, p)
	if err != nil {
		return false, err
	}
	for _, s := range siblings {
		mounted, err := to.Mount(ctx, s, p.Descriptor())
		if mounted {
			return true, nil
		}
		if err != nil && registry.Status(err) == 0 {
			return false, err
		}
	}
	return false, nil
}
