package service

import (
	"context"

	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"
)

// Promotions lists promotions, newest first.
func (s *Service) Promotions(ctx context.Context, by Actor, p store.Page, component, environment string) ([]store.PromotionWork, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	return s.db.Promotions(ctx, p, component, environment)
}

// PromotionNumbered gives one promotion, with the tags it has pointed.
func (s *Service) PromotionNumbered(ctx context.Context, by Actor, n int64) (store.PromotionWork, error) {
	if err := by.Require(Read); err != nil {
		return store.PromotionWork{}, err
	}
	return s.promotionNumbered(ctx, n)
}

func (s *Service) promotionNumbered(ctx context.Context, n int64) (store.PromotionWork, error) {
	w, ok, err := s.db.PromotionNumbered(ctx, n)
	if err == nil && !ok {
		err = &problem.Problem{
			Kind:   problem.NotFound,
			Title:  "There is no such promotion",
			Asked:  "promotion " + number(n),
			Remedy: "dovrak promotions lists them",
		}
	}
	return w, err
}

// StopPromotion ends a promotion that waits. One that moves already is left to its end.
func (s *Service) StopPromotion(ctx context.Context, by Actor, n int64) (store.PromotionWork, error) {
	w, err := s.promotionNumbered(ctx, n)
	if err != nil {
		return w, err
	}
	if err := s.promotesThere(ctx, by, w.Promotion); err != nil {
		return w, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		stopped, err := tx.EndWaiting(ctx, w.Work.ID, store.StateStopped, nil)
		if err != nil {
			return err
		}
		if !stopped {
			return &problem.Problem{
				Kind:   problem.Refused,
				Title:  "This promotion cannot be stopped",
				Asked:  "promotion " + number(n),
				Seen:   "it is " + w.Work.State,
				Rule:   "a promotion that waits can be stopped",
				Remedy: "dovrak promotions shows how it stands",
			}
		}
		if err := numbered(store.TopicPromotion, n).tell(ctx, tx, store.StateStopped); err != nil {
			return err
		}
		e := promotionEntry(trail.PromotionStopped, by.Name, w.Work.Because, w.Promotion)
		return s.record(ctx, tx, e)
	})
	if err != nil {
		return w, err
	}
	return s.promotionNumbered(ctx, n)
}
