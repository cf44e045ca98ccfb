package transfer

import (
	"context"
	"sync/atomic"
	"time"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/failpoint"
	"dovrak/registry"

	"github.com/cenkalti/backoff/v5"
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
	// Pace waits until so many more bytes may flow; nil is no limit.
	Pace func(ctx context.Context, bytes int) error
	// Moved is told of bytes as they arrive, and of each piece when it is there; Mounted, of the bytes of a piece that need not
	// move. They must be safe for concurrent use.
	Moved   func(bytes int64, pieces int)
	Mounted func(bytes int64)
}

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
	if o.Moved == nil {
		o.Moved = func(int64, int) {}
	}
	if o.Pace == nil {
		o.Pace = func(context.Context, int) error { return nil }
	}
	if o.Mounted == nil {
		o.Mounted = func(int64) {}
	}
	return o
}

// Move does what a copy's plan says, then asks the destination whether it has the root. After an error nothing points
// to what was moved so far, and a second Move goes on from there.
func Move(ctx context.Context, from, to *registry.Repository, cargo plan.Cargo, c plan.Copy, opt Options) error {
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
		opt.Moved(p.Size, 1)
	}
	return rootPut, nil
}

func moveBlobs(ctx context.Context, from, to *registry.Repository, c plan.Copy, opt Options) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(opt.AtOnce)
	for _, p := range c.Blobs {
		if p.Present || p.Foreign {
			continue
		}
		g.Go(func() error {
			done, err := opt.Turn(ctx)
			if err != nil {
				return err
			}
			defer done()
			mounted, err := mount(ctx, to, p, opt)
			if mounted {
				opt.Mounted(p.Size)
				opt.Moved(0, 1)
			}
			if err != nil || mounted {
				return err
			}
			return moveBlob(ctx, from, to, p, opt)
		})
	}
	return g.Wait()
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

// moveBlob streams one blob from here to there; a stream that is cut is begun again, a bounded number of times.
func moveBlob(ctx context.Context, from, to *registry.Repository, p plan.Piece, opt Options) error {
	wait := backoff.NewExponentialBackOff()
	wait.InitialInterval = opt.FirstWait
	var last error
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		counted := &counter{tell: opt.Moved, pace: func(n int) error { return opt.Pace(ctx, n) }}
		if last = stream(ctx, from, to, p, counted); last == nil {
			opt.Moved(0, 1)
			return struct{}{}, nil
		}
		opt.Moved(-counted.n.Load(), 0) // what a failed try moved is not there
		if registry.Passing(last) && ctx.Err() == nil {
			return struct{}{}, last
		}
		return struct{}{}, backoff.Permanent(last)
	}, backoff.WithBackOff(wait), backoff.WithMaxTries(opt.Attempts), backoff.WithMaxElapsedTime(0))
	if err != nil {
		return explain(from, to, p, last)
	}
	return nil
}

func stream(ctx context.Context, from, to *registry.Repository, p plan.Piece, count *counter) (err error) {
	body, err := from.Blob(ctx, p.Descriptor())
	if err != nil {
		return err
	}
	defer func() { err = join(err, body.Close()) }()
	count.r = body
	if err := failpoint.At(ctx, "blob-opened"); err != nil {
		return err
	}
	return to.Upload(ctx, p.Descriptor(), count)
}

// explain gives a stream that broke the words of a problem; other errors have theirs.
func explain(from, to *registry.Repository, p plan.Piece, err error) error {
	if _, ok := err.(*registry.Error); !ok {
		return err
	}
	return (&problem.Problem{
		Kind:   problem.Unreachable,
		Title:  "A layer could not be moved",
		Asked:  p.Digest.String(),
		Seen:   err.Error(),
		Where:  from.String() + " to " + to.String(),
		Remedy: "ask again: what has arrived is kept, and no tag was pointed",
	}).Because(err)
}

// counter tells of bytes as they flow by, in steps.
type counter struct {
	r    interface{ Read([]byte) (int, error) }
	tell func(int64, int)
	pace func(int) error
	n    atomic.Int64 // a connection may still read when its request has failed
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n.Add(int64(n))
	c.tell(int64(n), 0)
	if perr := c.pace(n); perr != nil {
		return n, perr
	}
	return n, err
}
