package service

import (
	"context"
	"time"

	"dovrak/store"

	"golang.org/x/sync/errgroup"
)

// How often is looked for what nobody can tell: that a process died.
const (
	recoverEvery  = 2 * time.Second
	sequenceEvery = 30 * time.Second // besides being told
	batch         = 500
)

// Run keeps the trail numbered and takes up what dead processes left, until ctx ends.
func (s *Service) Run(ctx context.Context) error {
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { s.sequence(ctx); return nil })
	g.Go(func() error { s.heal(ctx); return nil })
	return g.Wait()
}

// sequence numbers what is on the trail, whenever there is something new.
func (s *Service) sequence(ctx context.Context) {
	wake, stop := s.link.Subscribe(store.NoticeTrail)
	defer stop()
	tick := time.NewTicker(sequenceEvery)
	defer tick.Stop()
	for {
		for {
			n, err := s.db.Sequence(ctx, batch)
			if err != nil && ctx.Err() == nil {
				s.log.ErrorContext(ctx, "the trail could not be numbered", "error", err)
			}
			if n < batch {
				break
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-wake:
		case <-tick.C:
		}
	}
}

// heal looks for work whose process died, and for tag changes without an outcome: at once, then again and again.
func (s *Service) heal(ctx context.Context) {
	tick := time.NewTicker(recoverEvery)
	defer tick.Stop()
	for {
		if err := s.takeUp(ctx); err != nil && ctx.Err() == nil {
			s.log.ErrorContext(ctx, "what was left behind could not be taken up", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (s *Service) takeUp(ctx context.Context) error {
	works, err := s.db.Abandoned(ctx, batch)
	if err != nil {
		return err
	}
	for _, w := range works {
		s.log.InfoContext(ctx, "taking up a work that was left", "work", w.ID, "kind", w.Kind, "state", w.State)
		job := jobOf(w)
		if err := s.db.Tx(ctx, func(tx store.Tx) error { return s.queue.Insert(ctx, tx.PGX, job) }); err != nil {
			return err
		}
	}
	intents, err := s.db.DeadIntents(ctx, batch)
	if err != nil {
		return err
	}
	for _, c := range intents {
		if err := s.settle(ctx, c); err != nil {
			s.log.WarnContext(ctx, "a tag change could not be resolved", "change", c.Number, "error", err)
		}
	}
	return nil
}

func jobOf(w store.Work) Job {
	switch w.Kind {
	case store.KindCopy:
		return CopyJob{w.ID}
	case store.KindTakeIn:
		return TakeInJob{w.ID}
	case store.KindBuild:
		return BuildJob{w.ID}
	case store.KindJoin:
		return JoinJob{w.ID}
	}
	return PromotionJob{w.ID}
}

// settle resolves a tag change whose writer is gone, unless someone does so already.
func (s *Service) settle(ctx context.Context, c store.TagChange) error {
	at, err := s.spotByID(ctx, c.RegistryID, c.Repository)
	if err != nil {
		return err
	}
	lease, ok, err := s.db.LeaseTag(ctx, at.at(), c.Tag, store.NewID(), tagLease)
	if err != nil || !ok {
		return err
	}
	open, still, err := s.db.OpenChange(ctx, at.at(), c.Tag)
	if err == nil && still {
		err = s.settleLeased(ctx, at, open, lease)
	}
	return firstOf(err, s.db.FreeTag(context.WithoutCancel(ctx), lease))
}

// Prune drops what only had to be kept for a while.
func (s *Service) Prune(ctx context.Context) error {
	return firstOf(s.endUploads(ctx), s.db.Prune(ctx))
}
