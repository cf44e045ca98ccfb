package service

import (
	"context"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"
)

// CopyView is a copy as it is looked at.
type CopyView struct {
	store.CopyWork
	source spot
	to     []spot
}

// Source is the repository that it is copied from.
func (v CopyView) Source() image.Reference { return v.source.ref }

// To are the destinations, with their tags, in the order of its places.
func (v CopyView) To() []image.Reference {
	out := make([]image.Reference, len(v.to))
	for i, at := range v.to {
		out[i] = at.ref
		out[i].Tag = v.Copy.Places[i].Tag
	}
	return out
}

// Progress is how far a place is, by its number.
func (v CopyView) Progress(place int) store.Progress {
	p, _ := find(v.Work.Progress, func(p store.Progress) bool { return p.Repository == v.to[place].ref.In() })
	return p
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

func (s *Service) viewCopy(ctx context.Context, w store.CopyWork) (v CopyView, err error) {
	v.CopyWork = w
	if v.source, err = s.spotByID(ctx, w.Copy.SourceID, w.Copy.Source); err != nil {
		return v, err
	}
	for _, p := range w.Copy.Places {
		at, err := s.spotByID(ctx, p.RegistryID, p.Repository)
		if err != nil {
			return v, err
		}
		v.to = append(v.to, at)
	}
	return v, nil
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
		for _, to := range v.to {
			err := s.record(ctx, tx, entry{act: act, actor: by.Name, subject: to.ref.In(), work: &v.Work.ID,
				facts: map[string]string{"copy": number(n), "digest": v.Copy.Digest.String()}})
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return v, err
	}
	return s.copyNumbered(ctx, n)
}
