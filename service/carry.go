package service

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"time"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// What goes along of all that refers to an image: all of it, nothing, or what is of one artifact type.
const (
	AllReferrers = "all"
	NoReferrers  = "none"
)

// checkReferrers refuses what is neither of those words nor an artifact type.
func checkReferrers(which string) error {
	if which == AllReferrers || which == NoReferrers ||
		strings.Count(which, "/") == 1 && len(which) <= 255 && image.Printable(which) == which {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.Malformed,
		Title:  "It is not clear what of the attached is meant",
		Asked:  "referrers " + image.Printable(which),
		Remedy: "say all, none, or an artifact type, e.g. application/spdx+json",
	}
}

// load reads an image and what refers to it, as far as that is to go along. What is kept costs no request; a list of what
// refers to a manifest is asked for again after a minute.
func (s *Service) load(ctx context.Context, from spot, root digest.Digest, referrers string) (plan.Cargo, error) {
	tree, err := transfer.ReadTree(ctx, from.Repository, contents{s.db}, root)
	if err != nil || referrers == NoReferrers {
		return plan.Cargo{Image: tree}, err
	}
	list := func(ctx context.Context, d digest.Digest) ([]ocispec.Descriptor, error) {
		return s.listed(ctx, from, d)
	}
	attached, err := transfer.ReadAttached(ctx, from.Repository, contents{s.db}, tree, list,
		func(d ocispec.Descriptor) bool { return referrers == AllReferrers || d.ArtifactType == referrers })
	return plan.Cargo{Image: tree, Attached: attached}, err
}

// listed is what a repository lists as attached to a digest, not older than a minute.
func (s *Service) listed(ctx context.Context, at spot, d digest.Digest) ([]ocispec.Descriptor, error) {
	list, _, err := s.referrersOf(ctx, at, d)
	return list, err
}

// referrersOf gives the list and when it was seen.
func (s *Service) referrersOf(ctx context.Context, at spot, d digest.Digest) ([]ocispec.Descriptor, time.Time, error) {
	kept, ok, err := s.db.Referrers(ctx, at.at(), d)
	if err != nil {
		return nil, time.Time{}, err
	}
	now, err := s.db.Now(ctx)
	if err != nil {
		return nil, now, err
	}
	var list []ocispec.Descriptor
	if ok && now.Sub(kept.SeenAt) < referrersFor {
		err := json.Unmarshal(kept.Descriptors, &list)
		return list, kept.SeenAt.UTC(), err
	}
	if list, err = at.Referrers(ctx, d); err != nil {
		return nil, now, err
	}
	raw, err := json.Marshal(list)
	if err == nil {
		err = s.db.KeepReferrers(ctx, at.at(), d, raw)
	}
	return list, now, err
}

// freight is an image to be carried to places, from one source that is read once for all of them.
type freight struct {
	from   spot
	to     []spot
	cargo  plan.Cargo
	verify bool // ask for every piece again
	// planned is told what is to be done at a place, and gives what was to be done there when the work began. May be nil.
	planned func(ctx context.Context, place int, c plan.Copy) (plan.Copy, error)
}

// carry moves an image to places, only what is missing. An image that was verified whole there not long ago costs one HEAD.
// A place that fails does not hold the others up; the first failure is given when all have ended.
func (s *Service) carry(ctx context.Context, sh *shift, f freight) error {
	plans, errs := make([]plan.Copy, len(f.to)), make([]error, len(f.to))
	tides := make([]*tide, len(f.to))
	inEach(f.to, func(i int, to spot) {
		if plans[i], errs[i] = s.planCopy(ctx, f.from, to, f.cargo, f.verify); errs[i] != nil {
			return
		}
		first := plans[i]
		if f.planned != nil {
			first, errs[i] = f.planned(ctx, i, plans[i])
		}
		tides[i] = sh.tide(to.ref.In(), first, plans[i])
	})
	source := transfer.NewSource(f.from.Repository, f.from.conn.budget.Bytes)
	readers := make([]*transfer.Reader, len(f.to))
	for i := range f.to {
		if errs[i] == nil {
			readers[i] = source.Reader(plans[i])
		}
	}
	inEach(f.to, func(i int, to spot) {
		if errs[i] == nil {
			errs[i] = s.carryTo(ctx, sh, f, to, readers[i], plans[i], tides[i])
		}
		if errs[i] != nil && tides[i] != nil && ctx.Err() == nil {
			tides[i].failed(problem.From(errs[i]).Title)
		}
	})
	return s.firstFailed(ctx, f.to, errs)
}

// inEach does the same in all places at once.
func inEach(places []spot, do func(int, spot)) {
	var all sync.WaitGroup
	for i, p := range places {
		all.Go(func() { do(i, p) })
	}
	all.Wait()
}

// firstFailed gives the first failure, and says in which other places there was one. That the work is another process's by now comes
// before all.
func (s *Service) firstFailed(ctx context.Context, places []spot, errs []error) error {
	var first error
	var also []string
	for i, err := range errs {
		switch {
		case err == nil:
		case errors.Is(err, store.ErrLost):
			return err
		case first == nil:
			first = err
		default:
			also = append(also, places[i].ref.In())
			s.log.ErrorContext(ctx, "a place failed besides another", "place", places[i].ref.In(), "error", err)
		}
	}
	if len(also) == 0 || ctx.Err() != nil {
		return first
	}
	p := *problem.From(first)
	p.Seen = strings.TrimSuffix(p.Seen, ".") + "; it failed also in " + strings.Join(also, ", ")
	return p.Because(first)
}

func (s *Service) carryTo(ctx context.Context, sh *shift, f freight, to spot, from *transfer.Reader, c plan.Copy, td *tide) error {
	err := transfer.Move(ctx, from, to.Repository, f.cargo, c, transfer.Options{
		AtOnce: to.conn.TransfersAtOnce,
		Turn:   func(ctx context.Context) (func(), error) { return s.blobTurn(ctx, to) },
		Pace:   to.conn.budget.Bytes,
		Flowed: td.flowed, Arrived: td.arrived,
		InTurn: func(ctx context.Context, subject digest.Digest, write func() error) error {
			return s.db.InTurn(ctx, "what refers to "+subject.String()+" in "+to.ref.In(), write)
		},
		Hold: func(ctx context.Context, p plan.Piece) (transfer.Hold, error) {
			return s.holdBlob(ctx, sh.lease, to, p.Digest)
		},
		Siblings: func(ctx context.Context, p plan.Piece) ([]*registry.Repository, error) {
			return s.siblings(ctx, f.from, to, p)
		},
	})
	if err != nil {
		return err
	}
	for _, p := range c.Blobs {
		if p.Foreign {
			continue
		}
		if err := s.db.Hold(ctx, to.at(), p.Digest, false); err != nil {
			return err
		}
	}
	for _, root := range f.cargo.Roots() {
		if err := s.db.Hold(ctx, to.at(), root, true); err != nil {
			return err
		}
	}
	there := true
	return s.db.Noticed(ctx, to.at(), &there, nil)
}

// blobTurn waits until one more blob may be moved: by the limit of the registry it goes to, then by this process's own.
func (s *Service) blobTurn(ctx context.Context, to spot) (func(), error) {
	there, err := to.conn.budget.Transfer(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.blobs.Acquire(ctx, 1); err != nil {
		there()
		return nil, err
	}
	return func() { s.blobs.Release(1); there() }, nil
}

// planCopy asks the destination what it has, and remembers which sibling holds what it has not.
func (s *Service) planCopy(ctx context.Context, from, to spot, cargo plan.Cargo, verify bool) (plan.Copy, error) {
	root := cargo.Root().Digest
	known := !verify
	for _, d := range cargo.Roots() {
		whole, err := s.db.WholeWithin(ctx, to.at(), d, wholeFor)
		if err != nil {
			return plan.Copy{}, err
		}
		known = known && whole
	}
	if known {
		there, err := transfer.Has(ctx, to.Repository, root)
		if err != nil {
			return plan.Copy{}, err
		}
		if there {
			return plan.NewCopy(cargo, everything(cargo)), nil
		}
		if err := s.db.Forget(ctx, to.at(), root); err != nil {
			return plan.Copy{}, err
		}
	}
	have, err := transfer.Look(ctx, to.Repository, cargo)
	if err != nil {
		return plan.Copy{}, err
	}
	c := plan.NewCopy(cargo, have)
	for i, p := range c.Blobs {
		if p.Present || p.Foreign {
			continue
		}
		siblings, err := s.siblings(ctx, from, to, p)
		if err != nil {
			return c, err
		}
		if len(siblings) > 0 {
			c.Blobs[i].Mount = siblings[0].Name()
		}
	}
	return c, nil
}

func everything(cargo plan.Cargo) plan.Presence {
	have := plan.Presence{}
	for _, m := range cargo.Manifests() {
		have[m.Digest] = true
		for _, d := range m.Blobs() {
			have[d.Digest] = true
		}
	}
	return have
}

// siblings are repositories of the destination's registry from which a blob may be mounted: the source itself where
// it lies in the same registry, and those that were seen to hold it.
func (s *Service) siblings(ctx context.Context, from, to spot, p plan.Piece) ([]*registry.Repository, error) {
	if from.conn.ID == to.conn.ID {
		return []*registry.Repository{from.Repository}, nil
	}
	names, err := s.db.Siblings(ctx, to.at(), p.Digest, 2)
	if err != nil {
		return nil, err
	}
	var out []*registry.Repository
	for _, n := range names {
		out = append(out, to.Sibling(n))
	}
	return out, nil
}
