package service

import (
	"context"
	"fmt"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/google/uuid"
)

// NewCopy asks for an image to be copied. To names a repository. Verify asks for every piece again, however lately
// the image was verified there.
type NewCopy struct {
	From, To image.Reference
	Verify   bool
	Key      string // Idempotency-Key
}

// AskCopy decides on a copy and queues it.
func (s *Service) AskCopy(ctx context.Context, by Actor, n NewCopy) (Asked, error) {
	if err := by.Require(Copy); err != nil {
		return Asked{}, err
	}
	a := ask{n.Key, hashOf("copy", n.From, n.To, n.Verify)}
	if had, ok, err := s.before(ctx, by, a); err != nil {
		return Asked{}, err
	} else if ok {
		w, _, err := s.db.CopyByWork(ctx, had.WorkID)
		return Asked{w.Copy.Number}, err
	}
	from, err := s.spot(ctx, n.From)
	if err != nil {
		return Asked{}, err
	}
	to, err := s.spot(ctx, n.To)
	if err != nil {
		return Asked{}, err
	}
	if from.ref.In() == to.ref.In() {
		return Asked{}, &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "Source and destination are one repository",
			Asked:  n.From.String() + " to " + n.To.String(),
			Remedy: "to give the image another name there, point a tag: dovrak point",
		}
	}
	if err := s.mayWrite(ctx, to); err != nil {
		return Asked{}, err
	}
	root, err := s.sourceRoot(ctx, from, n.From)
	if err != nil {
		return Asked{}, err
	}
	w := store.Work{ID: store.NewID(), Kind: store.KindCopy, State: store.StateAsked, RequestedBy: by.ID}
	c := store.Copy{WorkID: w.ID, SourceID: from.conn.ID, Source: from.ref.Repository, DestinationID: to.conn.ID,
		Destination: to.ref.Repository, Digest: root.Digest, Verify: n.Verify}
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
	from, err := s.spotByID(ctx, w.Copy.SourceID, w.Copy.Source)
	if err != nil {
		return err
	}
	to, err := s.spotByID(ctx, w.Copy.DestinationID, w.Copy.Destination)
	if err != nil {
		return err
	}
	if err := sh.state(ctx, store.StateMoving); err != nil {
		return err
	}
	tree, err := transfer.ReadTree(ctx, from.Repository, contents{s.db}, w.Copy.Digest)
	if err != nil {
		return err
	}
	c, err := s.carry(ctx, sh, from, to, tree, w.Copy.Verify)
	if err != nil {
		return err
	}
	if err := s.db.SetCopyPlan(ctx, w.Work.ID, c); err != nil {
		return err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	return sh.end(ctx, func(tx store.Tx) error {
		return s.record(
			ctx,
			tx,
			entry{
				act:       trail.ImageCopied,
				actor:     w.RequesterName,
				subject:   to.ref.In(),
				component: law.HomeOf(to.ref).Component,
				work:      &w.Work.ID,
				facts:     copyFacts(w.Copy, from, to, c.Totals()),
			},
		)
	})
}

func copyFacts(c store.Copy, from, to spot, t plan.Totals) map[string]string {
	return map[string]string{"copy": number(c.Number), "digest": c.Digest.String(), "from": from.ref.In(), "to": to.ref.In(),
		"bytes moved": number(t.MoveBytes), "bytes present": number(t.PresentBytes)}
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

// CopyView is a copy as it is looked at.
type CopyView struct {
	store.CopyWork
	Source, Destination image.Reference
}

// Copies lists copies, newest first.
func (s *Service) Copies(ctx context.Context, by Actor, p store.Page) ([]CopyView, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	rows, err := s.db.Copies(ctx, p)
	if err != nil {
		return nil, err
	}
	out := make([]CopyView, len(rows))
	for i, r := range rows {
		if out[i], err = s.viewCopy(ctx, r); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// CopyNumbered gives one copy.
func (s *Service) CopyNumbered(ctx context.Context, by Actor, n int64) (CopyView, error) {
	if err := by.Require(Read); err != nil {
		return CopyView{}, err
	}
	w, ok, err := s.db.CopyNumbered(ctx, n)
	if err == nil && !ok {
		err = &problem.Problem{
			Kind:   problem.NotFound,
			Title:  "There is no such copy",
			Asked:  "copy " + number(n),
			Remedy: "dovrak copies lists them",
		}
	}
	if err != nil {
		return CopyView{}, err
	}
	return s.viewCopy(ctx, w)
}

func (s *Service) viewCopy(ctx context.Context, w store.CopyWork) (CopyView, error) {
	from, err := s.spotByID(ctx, w.Copy.SourceID, w.Copy.Source)
	if err != nil {
		return CopyView{}, err
	}
	to, err := s.spotByID(ctx, w.Copy.DestinationID, w.Copy.Destination)
	return CopyView{w, from.ref, to.ref}, err
}
