package service

import (
	"cmp"
	"context"
	"fmt"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// NewCopy asks for an image to be copied. To names a repository. Verify asks for every piece again, however lately
// the image was verified there.
type NewCopy struct {
	From, To  image.Reference
	Verify    bool
	Referrers string           // what goes along of all that refers to it; empty is all
	Platforms []image.Platform // only these; none is the whole
	Key       string           // Idempotency-Key
}

// CopyPlan is what a copy would move. Made is true where only some platforms are copied and a new index is written for them.
type CopyPlan struct {
	plan.Copy
	From, To image.Reference
	Whole    digest.Digest // the image that was asked for
	Made     bool
}

// copyDraft is a copy as it will be done.
type copyDraft struct {
	from, to spot
	whole    digest.Digest
	root     image.Manifest
	made     bool
}

// PlanCopy says what a copy would move, and moves nothing.
func (s *Service) PlanCopy(ctx context.Context, by Actor, n NewCopy) (CopyPlan, error) {
	if err := by.Require(Read); err != nil {
		return CopyPlan{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, planDeadline)
	defer cancel()
	d, err := s.draftCopy(ctx, &n)
	if err != nil {
		return CopyPlan{}, err
	}
	cargo, err := s.load(ctx, d.from, d.root.Digest, n.Referrers)
	if err != nil {
		return CopyPlan{}, err
	}
	c, err := s.planCopy(ctx, d.from, d.to, cargo, n.Verify)
	return CopyPlan{Copy: c, From: d.from.ref, To: d.to.ref, Whole: d.whole, Made: d.made}, err
}

// draftCopy finds source and destination, and the image that is to be copied. A new index for some platforms is kept, since the
// source does not have it.
func (s *Service) draftCopy(ctx context.Context, n *NewCopy) (d copyDraft, err error) {
	n.Referrers = cmp.Or(n.Referrers, AllReferrers)
	if err := checkReferrers(n.Referrers); err != nil {
		return d, err
	}
	if d.from, err = s.spot(ctx, n.From); err != nil {
		return d, err
	}
	if d.to, err = s.spot(ctx, n.To); err != nil {
		return d, err
	}
	if d.from.ref.In() == d.to.ref.In() {
		return d, &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "Source and destination are one repository",
			Asked:  n.From.String() + " to " + n.To.String(),
			Remedy: "to give the image another name there, point a tag: dovrak point",
		}
	}
	if err := s.mayWrite(ctx, d.to); err != nil {
		return d, err
	}
	if d.root, err = s.sourceRoot(ctx, d.from, n.From); err != nil {
		return d, err
	}
	d.whole = d.root.Digest
	if len(n.Platforms) == 0 {
		return d, nil
	}
	if d.root, d.made, err = plan.Subset(d.root, n.Platforms); err != nil || !d.made {
		return d, err
	}
	return d, s.db.KeepContent(ctx, store.Content{Digest: d.root.Digest, MediaType: d.root.MediaType, Bytes: d.root.Bytes})
}

// AskCopy decides on a copy and queues it.
func (s *Service) AskCopy(ctx context.Context, by Actor, n NewCopy) (Asked, error) {
	if err := by.Require(Copy); err != nil {
		return Asked{}, err
	}
	a := ask{n.Key, hashOf("copy", n.From, n.To, n.Verify, n.Referrers, n.Platforms)}
	if had, ok, err := s.before(ctx, by, a); err != nil {
		return Asked{}, err
	} else if ok {
		w, _, err := s.db.CopyByWork(ctx, had.WorkID)
		return Asked{w.Copy.Number}, err
	}
	d, err := s.draftCopy(ctx, &n)
	if err != nil {
		return Asked{}, err
	}
	w := store.Work{ID: store.NewID(), Kind: store.KindCopy, State: store.StateAsked, RequestedBy: by.ID}
	c := store.Copy{WorkID: w.ID, SourceID: d.from.conn.ID, Source: d.from.ref.Repository, DestinationID: d.to.conn.ID,
		Destination: d.to.ref.Repository, Digest: d.root.Digest, SourceDigest: d.whole, Verify: n.Verify, Referrers: n.Referrers}
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
	cargo, err := s.load(ctx, from, w.Copy.Digest, w.Copy.Referrers)
	if err != nil {
		return err
	}
	c, err := s.carry(ctx, sh, from, to, cargo, w.Copy.Verify)
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

// StopCopy ends a copy that is under way. What has arrived is kept, and nothing points to it.
func (s *Service) StopCopy(ctx context.Context, by Actor, n int64) (CopyView, error) {
	return s.turnCopy(ctx, by, n, trail.CopyStopped, store.StateStopped, func(tx store.Tx, w store.Work) (bool, error) {
		return tx.StopWork(ctx, w.ID)
	})
}

// ResumeCopy goes on with a copy that was stopped or has failed, from what has arrived.
func (s *Service) ResumeCopy(ctx context.Context, by Actor, n int64) (CopyView, error) {
	return s.turnCopy(ctx, by, n, trail.CopyResumed, store.StateAsked, func(tx store.Tx, w store.Work) (bool, error) {
		turned, err := tx.ResumeWork(ctx, w.ID)
		if err == nil && turned {
			err = s.queue.Insert(ctx, tx.PGX, CopyJob{w.ID})
		}
		return turned, err
	})
}

// turnCopy stops a copy or resumes it.
func (s *Service) turnCopy(ctx context.Context, by Actor, n int64, act trail.Act, to string,
	turn func(store.Tx, store.Work) (bool, error)) (CopyView, error) {
	if err := by.Require(Copy); err != nil {
		return CopyView{}, err
	}
	v, err := s.copyNumbered(ctx, n)
	if err != nil {
		return v, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		turned, err := turn(tx, v.Work)
		if err != nil {
			return err
		}
		if !turned {
			return &problem.Problem{
				Kind:   problem.Refused,
				Title:  "This copy cannot be " + map[string]string{store.StateStopped: "stopped", store.StateAsked: "resumed"}[to],
				Asked:  "copy " + number(n),
				Seen:   "it is " + v.Work.State,
				Rule:   "what is under way can be stopped, what was stopped or failed can be resumed",
				Remedy: "dovrak copies shows how it stands; a verified one is asked for anew with dovrak copy --verify",
			}
		}
		if err := tx.Wake(ctx, store.WorkNotice(v.Work.ID)); err != nil {
			return err
		}
		if err := numbered(store.TopicCopy, n).tell(ctx, tx, to); err != nil {
			return err
		}
		return s.record(ctx, tx, entry{act: act, actor: by.Name, subject: v.Destination.In(), work: &v.Work.ID,
			facts: map[string]string{"copy": number(n), "digest": v.Copy.Digest.String()}})
	})
	if err != nil {
		return v, err
	}
	return s.copyNumbered(ctx, n)
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
	return s.copyNumbered(ctx, n)
}

func (s *Service) copyNumbered(ctx context.Context, n int64) (CopyView, error) {
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
