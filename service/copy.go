package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/failpoint"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// NewCopy asks for an image to be copied. To names repositories, each with a tag that is pointed there at the end, or without.
// Verify asks for every piece again, however lately the image was verified there.
type NewCopy struct {
	From      image.Reference
	To        []image.Reference
	Verify    bool
	Referrers string           // what goes along of all that refers to it; empty is all
	Platforms []image.Platform // only these; none is the whole
	Because   string           // for the trail; required where a tag is pointed
	Key       string           // Idempotency-Key
}

// maxPlaces bounds the destinations of one copy.
const maxPlaces = 20

// tags reports whether a tag is to be pointed.
func (n NewCopy) tags() bool {
	return slices.ContainsFunc(n.To, func(r image.Reference) bool { return r.Tag != "" })
}

// may refuses whom a copy is not permitted: to point a tag is a permission of its own.
func (n NewCopy) may(by Actor) error {
	if err := by.Require(Copy); err != nil || !n.tags() {
		return err
	}
	return firstOf(by.Require(Point), reason(n.Because))
}

// CopyPlan is what a copy would move. Made is true where only some platforms are copied and a new index is written for them.
type CopyPlan struct {
	From   image.Reference
	Whole  digest.Digest // the image that was asked for
	Root   digest.Digest // what arrives
	Made   bool
	Places []PlacePlan
}

// PlacePlan is what would be done at one destination.
type PlacePlan struct {
	To image.Reference
	plan.Copy
	Means digest.Digest // what the tag means there now; empty is nothing, or that there is none
}

// copyDraft is a copy as it will be done.
type copyDraft struct {
	from  spot
	to    []spot
	whole digest.Digest
	root  image.Manifest
	made  bool
}

// PlanCopy says what a copy would move, and moves nothing.
func (s *Service) PlanCopy(ctx context.Context, by Actor, n NewCopy) (CopyPlan, error) {
	if err := by.Require(Read); err != nil {
		return CopyPlan{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, planDeadline)
	defer cancel()
	d, err := s.draftCopy(ctx, by, &n)
	if err != nil {
		return CopyPlan{}, err
	}
	cargo, err := s.load(ctx, d.from, d.root.Digest, n.Referrers)
	if err != nil {
		return CopyPlan{}, err
	}
	out := CopyPlan{From: d.from.ref, Whole: d.whole, Root: d.root.Digest, Made: d.made, Places: make([]PlacePlan, len(d.to))}
	errs := make([]error, len(d.to))
	inEach(d.to, func(i int, to spot) {
		p := &out.Places[i]
		if p.To = n.To[i]; p.To.Tag != "" {
			if p.Means, _, errs[i] = s.means(ctx, to, p.To.Tag); errs[i] != nil {
				return
			}
		}
		p.Copy, errs[i] = s.planCopy(ctx, d.from, to, cargo, n.Verify)
	})
	return out, firstOf(errs...)
}

// draftCopy finds source and destinations, and the image that is to be copied. A new index for some platforms is kept, since the
// source does not have it.
func (s *Service) draftCopy(ctx context.Context, by Actor, n *NewCopy) (d copyDraft, err error) {
	n.Referrers = cmp.Or(n.Referrers, AllReferrers)
	if err := checkReferrers(n.Referrers); err != nil {
		return d, err
	}
	if d.from, err = s.spot(ctx, n.From); err != nil {
		return d, err
	}
	if d.to, err = s.destinationsOf(ctx, n); err != nil {
		return d, err
	}
	if d.root, err = s.sourceRoot(ctx, d.from, n.From); err != nil {
		return d, err
	}
	d.whole = d.root.Digest
	if len(n.Platforms) > 0 {
		if d.root, d.made, err = plan.Subset(d.root, n.Platforms); err != nil {
			return d, err
		}
	}
	if d.made {
		if err := s.db.KeepContent(ctx, store.Content{Digest: d.root.Digest, MediaType: d.root.MediaType, Bytes: d.root.Bytes}); err != nil {
			return d, err
		}
	}
	for i, to := range d.to {
		if n.To[i].Tag == "" {
			continue
		}
		w, err := s.copyWish(ctx, d.from, to, n.To[i].Tag, d.root, by, n.Because)
		if err == nil {
			err = s.mayPoint(ctx, w)
		}
		if err != nil {
			return d, err
		}
	}
	return d, nil
}

// destinationsOf finds the places that a copy names, each once.
func (s *Service) destinationsOf(ctx context.Context, n *NewCopy) ([]spot, error) {
	if len(n.To) == 0 || len(n.To) > maxPlaces {
		return nil, &problem.Problem{Kind: problem.Malformed, Title: "No destination, or too many", Asked: n.From.String(),
			Seen: fmt.Sprintf("%d destinations", len(n.To)), Remedy: fmt.Sprintf("name 1 to %d repositories", maxPlaces)}
	}
	var out []spot
	seen := map[string]bool{n.From.In(): true}
	for _, ref := range n.To {
		if seen[ref.In()] {
			return nil, &problem.Problem{
				Kind:   problem.Malformed,
				Title:  "A repository is named twice",
				Asked:  n.From.String() + " to " + ref.String(),
				Rule:   "source and destinations differ from one another",
				Remedy: "to give the image another name there, point a tag: dovrak point",
			}
		}
		seen[ref.In()] = true
		to, err := s.spot(ctx, ref)
		if err == nil {
			err = s.mayWrite(ctx, to)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, to)
	}
	return out, nil
}

// copyWish is the tag that a copy points at the end. The rules there speak of it as of one that is pointed by hand.
func (s *Service) copyWish(ctx context.Context, from, to spot, tag string, root image.Manifest, by Actor, because string) (wish, error) {
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return wish{}, err
	}
	w := wish{at: to, tag: tag, to: root, by: by, because: because}
	if w.rules, err = s.rulesOf(ctx, law, to); err != nil || w.rules.Environment == "" {
		return w, err
	}
	w.facts, err = s.factsOf(ctx, from, root.Digest)
	return w, err
}

// AskCopy decides on a copy and queues it.
func (s *Service) AskCopy(ctx context.Context, by Actor, n NewCopy) (Asked, error) {
	if err := n.may(by); err != nil {
		return Asked{}, err
	}
	a := ask{n.Key, hashOf("copy", n.From, n.To, n.Verify, n.Referrers, n.Platforms, n.Because)}
	if had, ok, err := s.before(ctx, by, a); err != nil {
		return Asked{}, err
	} else if ok {
		w, _, err := s.db.CopyByWork(ctx, had.WorkID)
		return Asked{w.Copy.Number}, err
	}
	d, err := s.draftCopy(ctx, by, &n)
	if err != nil {
		return Asked{}, err
	}
	w := store.Work{ID: store.NewID(), Kind: store.KindCopy, State: store.StateAsked, RequestedBy: by.ID, Because: n.Because}
	c := store.Copy{WorkID: w.ID, SourceID: d.from.conn.ID, Source: d.from.ref.Repository, Digest: d.root.Digest, SourceDigest: d.whole,
		Verify: n.Verify, Referrers: n.Referrers}
	for i, to := range d.to {
		c.Places = append(c.Places, store.CopyPlace{RegistryID: to.conn.ID, Repository: to.ref.Repository, Tag: n.To[i].Tag})
	}
	for _, p := range n.Platforms {
		c.Platforms = append(c.Platforms, p.String())
	}
	var no int64
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if no, err = tx.AddCopy(ctx, w, c); err != nil {
			return err
		}
		return s.enqueue(ctx, tx, by, a, w.ID, fmt.Sprintf("copy %d", no), numbered(store.TopicCopy, no), CopyJob{w.ID})
	})
	return Asked{Number: no}, err
}

// sourceRoot finds what is to be copied. A digest that was seen in the repository before costs no request.
func (s *Service) sourceRoot(ctx context.Context, from spot, ref image.Reference) (image.Manifest, error) {
	if ref.Digest != "" {
		held, err := s.db.Holds(ctx, from.at(), ref.Digest)
		if err != nil {
			return image.Manifest{}, err
		}
		if held {
			return transfer.Manifest(ctx, from.Repository, contents{s.db}, ref.Digest)
		}
	}
	m, err := s.present(ctx, from, ref)
	if err != nil {
		return m, err
	}
	return m, s.db.Hold(ctx, from.at(), m.Digest, false)
}

// enqueue puts a new work's job, its answer and its news into the transaction that decides it.
func (s *Service) enqueue(ctx context.Context, tx store.Tx, by Actor, a ask, work uuid.UUID, name string, what subject, job Job) error {
	if err := s.keepAnswer(ctx, tx, by, a, work, name); err != nil {
		return err
	}
	if err := what.tell(ctx, tx, store.StateAsked); err != nil {
		return err
	}
	return s.queue.Insert(ctx, tx.PGX, job)
}

// keepAnswer keeps to which work a key has led.
func (s *Service) keepAnswer(ctx context.Context, tx store.Tx, by Actor, a ask, work uuid.UUID, name string) error {
	if a.key == "" {
		return nil
	}
	err := tx.KeepAnswer(ctx, by.ID, a.key, store.Answered{RequestHash: a.hash, Location: name, WorkID: work})
	if store.IsDuplicate(err) {
		return &problem.Problem{
			Kind:   problem.Busy,
			Title:  "The same request is under way",
			Asked:  a.key,
			Rule:   "one key, one request",
			Remedy: "ask again in a moment",
		}
	}
	return err
}

// RunCopy does a copy that was asked for, unless another process does.
func (s *Service) RunCopy(ctx context.Context, work uuid.UUID) error {
	w, ok, err := s.db.CopyByWork(ctx, work)
	if err != nil || !ok {
		return err
	}
	return s.underLease(
		ctx,
		work,
		numbered(store.TopicCopy, w.Copy.Number),
		func(ctx context.Context, sh *shift) error { return s.runCopy(ctx, sh, w) },
		func(context.Context, store.Tx, *problem.Problem) error { return nil },
	)
}

func (s *Service) runCopy(ctx context.Context, sh *shift, w store.CopyWork) error {
	v, err := s.viewCopy(ctx, w)
	if err != nil {
		return err
	}
	from, to := v.source, v.to
	if err := sh.state(ctx, store.StateMoving); err != nil {
		return err
	}
	cargo, err := s.load(ctx, from, w.Copy.Digest, w.Copy.Referrers)
	if err != nil {
		return err
	}
	planned := func(ctx context.Context, i int, c plan.Copy) (plan.Copy, error) {
		if first := w.Copy.Places[i].Plan; first != nil {
			return *first, nil
		}
		return c, s.db.SetCopyPlan(ctx, w.Work.ID, i, c)
	}
	err = s.carry(ctx, sh, freight{from: from, to: to, cargo: cargo, verify: w.Copy.Verify, planned: planned})
	if err != nil {
		return err
	}
	if err := failpoint.At(ctx, "copy-in-place"); err != nil {
		return err
	}
	if err := s.pointCopied(ctx, sh, w, from, to, cargo.Root()); err != nil {
		return err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	moved, _ := sh.progress()
	return sh.end(ctx, func(tx store.Tx) error {
		for _, at := range to {
			p, _ := find(moved, func(p store.Progress) bool { return p.Repository == at.ref.In() })
			e := entry{act: trail.ImageCopied, actor: w.RequesterName, subject: at.ref.In(), component: law.HomeOf(at.ref).Component,
				work: &w.Work.ID, facts: copyFacts(w.Copy, from, at, p)}
			if err := s.record(ctx, tx, e); err != nil {
				return err
			}
		}
		return nil
	})
}

// pointCopied points the tags that a copy was asked to point, when the image is whole in all its places. What a tag means is looked
// at and judged again: someone may have moved it while the bytes did.
func (s *Service) pointCopied(ctx context.Context, sh *shift, w store.CopyWork, from spot, to []spot, root image.Manifest) error {
	by := Actor{ID: w.Work.RequestedBy, Name: w.RequesterName}
	for i, p := range w.Copy.Places {
		if p.Tag == "" {
			continue
		}
		wish, err := s.copyWish(ctx, from, to[i], p.Tag, root, by, w.Work.Because)
		if err != nil {
			return err
		}
		wish.under = &sh.lease
		if _, err := s.point(ctx, wish); err != nil {
			return err
		}
	}
	return nil
}

func copyFacts(c store.Copy, from, to spot, p store.Progress) map[string]string {
	return map[string]string{"copy": number(c.Number), "digest": c.Digest.String(), "from": from.ref.In(), "to": to.ref.In(),
		"bytes moved": number(p.Moved), "bytes present": number(p.Present + p.Mounted)}
}

func (s *Service) spotByID(ctx context.Context, id uuid.UUID, repository string) (spot, error) {
	r, ok, err := s.db.RegistryByID(ctx, id)
	if err == nil && !ok {
		err = &problem.Problem{
			Kind:   problem.NotFound,
			Title:  "The registry of this work is not connected any more",
			Asked:  id.String(),
			Remedy: "connect it again and ask anew",
		}
	}
	if err != nil {
		return spot{}, err
	}
	return s.spotIn(r, repository)
}
