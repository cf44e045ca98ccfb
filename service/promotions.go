package service

import (
	"context"
	"time"

	"dovrak/core/charter"
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

// StopPromotion ends a promotion of which no tag is being pointed yet, or has one that is split taken back.
func (s *Service) StopPromotion(ctx context.Context, by Actor, n int64) (store.PromotionWork, error) {
	w, err := s.promotionNumbered(ctx, n)
	if err != nil {
		return w, err
	}
	if err := s.promotesThere(ctx, by, w.Promotion); err != nil {
		return w, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if back, err := tx.TakeUpSplit(ctx, w.Work.ID, store.StateGoingBack); err != nil || back {
			return firstOf(err, s.goOn(ctx, tx, by, w, store.StateGoingBack, trail.TakeBackAsked))
		}
		stopped, err := tx.EndBeforeSwitch(ctx, w.Work.ID)
		if err != nil {
			return err
		}
		if !stopped {
			return &problem.Problem{
				Kind:   problem.Refused,
				Title:  "This promotion cannot be stopped",
				Asked:  "promotion " + number(n),
				Seen:   "it is " + w.Work.State,
				Rule:   "a promotion can be stopped until its tags are pointed, and be taken back while it is split",
				Remedy: "dovrak promotions show " + number(n) + " tells how it stands; once it is done: dovrak rollback",
			}
		}
		if err := numbered(store.TopicPromotion, n).tell(ctx, tx, store.StateStopped); err != nil {
			return err
		}
		return s.record(ctx, tx, promotionEntry(trail.PromotionStopped, by.Name, w.Work.Because, w.Promotion))
	})
	if err != nil {
		return w, err
	}
	return s.promotionNumbered(ctx, n)
}

// goOn has a promotion worked at again, in a state, and writes down who wanted it.
func (s *Service) goOn(ctx context.Context, tx store.Tx, by Actor, w store.PromotionWork, state string, act trail.Act) error {
	if err := s.queue.Insert(ctx, tx.PGX, PromotionJob{w.Work.ID}); err != nil {
		return err
	}
	if err := numbered(store.TopicPromotion, w.Promotion.Number).tell(ctx, tx, state); err != nil {
		return err
	}
	e := promotionEntry(act, by.Name, w.Work.Because, w.Promotion)
	e.facts["was"] = w.Work.State
	return s.record(ctx, tx, e)
}

// ResumePromotion goes on with a promotion that is split: its tags are pointed where they are not yet. One that was taken back, stopped or
// has failed begins anew, and is judged anew: what people said of it counts as long as it is what they were shown.
func (s *Service) ResumePromotion(ctx context.Context, by Actor, n int64) (store.PromotionWork, error) {
	w, err := s.promotionNumbered(ctx, n)
	if err != nil {
		return w, err
	}
	if err := s.promotesThere(ctx, by, w.Promotion); err != nil {
		return w, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return w, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if on, err := tx.TakeUpSplit(ctx, w.Work.ID, store.StateSwitching); err != nil || on {
			return firstOf(err, s.goOn(ctx, tx, by, w, store.StateSwitching, trail.PromotionResumed))
		}
		if err := mayBegin(ctx, tx, w.Promotion); err != nil {
			return err
		}
		now, err := tx.Now(ctx)
		if err = firstOf(err, notLongAgo(w, law.Environments[w.Promotion.Environment], now)); err != nil {
			return err
		}
		w.Promotion.Plan.Expires = expiry(law.Environments[w.Promotion.Environment], now)
		resumed, err := tx.ResumePromotion(ctx, w.Work.ID, w.Promotion.Plan)
		if err != nil {
			return err
		}
		if !resumed {
			return &problem.Problem{
				Kind:  problem.Refused,
				Title: "This promotion cannot be resumed",
				Asked: "promotion " + number(n),
				Seen:  "it is " + w.Work.State,
				Rule:  "what is split, was taken back, was stopped or has failed is resumed",
				Remedy: "dovrak promotions show " + number(n) +
					" tells how it stands; ask anew where it was refused, declined or has expired",
			}
		}
		return s.goOn(ctx, tx, by, w, store.StateJudged, trail.PromotionResumed)
	})
	if err != nil {
		return w, err
	}
	return s.promotionNumbered(ctx, n)
}

// notLongAgo refuses to begin what ended so long ago that what was said of it then should not count any more.
func notLongAgo(w store.PromotionWork, env charter.Environment, now time.Time) error {
	if w.Work.EndedAt == nil || now.Sub(*w.Work.EndedAt) < env.Waits() {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.Refused,
		Title:  "This promotion ended too long ago",
		Asked:  "promotion " + number(w.Promotion.Number),
		Seen:   "it is " + w.Work.State + " since " + stamp(*w.Work.EndedAt),
		Rule:   "waits of " + w.Promotion.Environment,
		Remedy: "ask anew",
	}
}

// mayBegin refuses to begin a promotion again beside another, as it would be refused if it were asked now.
func mayBegin(ctx context.Context, tx store.Tx, p store.Promotion) error {
	if err := lockHome(ctx, tx, p.Component, p.Environment); err != nil {
		return err
	}
	if p.RollBack {
		return oneSwitch(ctx, tx.Queries, NewRollBack{Component: p.Component, In: p.Environment})
	}
	return oneAtATime(ctx, tx.Queries, NewPromotion{Component: p.Component, To: p.Environment})
}

// ReviewPromotion keeps that someone has looked at a promotion that went another way than usual: an emergency, or one that skipped an
// environment. Until then it is shown as such.
func (s *Service) ReviewPromotion(ctx context.Context, by Actor, n int64, remark string) (store.PromotionWork, error) {
	if err := reason(remark); err != nil {
		return store.PromotionWork{}, err
	}
	w, err := s.promotionNumbered(ctx, n)
	if err != nil {
		return w, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return w, err
	}
	to := w.Promotion.Environment
	if groups := law.Environments[to].Approvers(); len(groups) > 0 {
		err = by.approvesFor(to, groups)
	} else { // nobody need agree there: another who promotes
		err = s.promotesThere(ctx, by, w.Promotion)
	}
	if err = firstOf(err, s.notOneself(ctx, by, w, "review it")); err != nil {
		return w, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		reviewed, err := tx.Reviewed(ctx, w.Work.ID, by.ID, remark)
		if err != nil {
			return err
		}
		if !reviewed {
			return &problem.Problem{Kind: problem.Refused, Title: "There is nothing to review here", Asked: "promotion " + number(n),
				Seen:   reviewWords(w),
				Rule:   "emergencies, and promotions that skipped an environment, are reviewed once, when they are over",
				Remedy: "dovrak promotions --to-review lists those that wait for it"}
		}
		if err := numbered(store.TopicPromotion, n).tell(ctx, tx, ""); err != nil {
			return err
		}
		return s.record(ctx, tx, promotionEntry(trail.Reviewed, by.Name, remark, w.Promotion))
	})
	if err != nil {
		return w, err
	}
	return s.promotionNumbered(ctx, n)
}

func reviewWords(w store.PromotionWork) string {
	switch {
	case w.Promotion.ReviewedAt != nil:
		return "it was reviewed by " + w.Promotion.Reviewer
	case !w.Promotion.Unreviewed():
		return "it went the usual way"
	}
	return "it is " + w.Work.State
}

// Unreviewed lists the promotions that wait for a review, newest first.
func (s *Service) Unreviewed(ctx context.Context, by Actor) ([]store.PromotionWork, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	return s.db.Unreviewed(ctx, 200)
}
