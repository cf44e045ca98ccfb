package service

import (
	"context"
	"maps"
	"time"

	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/opencontainers/go-digest"
)

// conclude asks the registry what the tag means now and writes the outcome down.
func (s *Service) conclude(
	ctx context.Context,
	at spot,
	c store.TagChange,
	how tagging.Answer,
	lease store.TagLease,
) (tagging.Outcome, error) {
	look, cancel := context.WithTimeout(ctx, lookDeadline)
	defer cancel()
	var from digest.Digest
	if c.FromDigest != nil {
		from = *c.FromDigest
	}
	for pause := shownFirst; ; pause *= 2 {
		now, seen, err := s.means(look, at, c.Tag)
		if err != nil {
			return tagging.Open, nil // the registry cannot be asked: it stays an intent, and is settled when the lease is over
		}
		o := tagging.Resolve(from, c.ToDigest, now, how)
		if o != tagging.Open {
			return o, s.writeOutcome(ctx, at, c, o, now, seen, lease)
		}
		// One that took the change may go on showing what was, for a while.
		if how != tagging.Accepted || waitFor(look, pause) != nil {
			return o, nil
		}
	}
}

// shownFirst is how soon a registry is asked again that has taken a change and does not show it.
const shownFirst = 100 * time.Millisecond

var actOf = map[tagging.Outcome]trail.Act{
	tagging.Done:      trail.TagPointed,
	tagging.NotDone:   trail.TagNotPointed,
	tagging.Overtaken: trail.TagOvertaken,
	tagging.Unknown:   trail.TagUnknown,
}

func (s *Service) writeOutcome(
	ctx context.Context,
	at spot,
	c store.TagChange,
	o tagging.Outcome,
	now digest.Digest,
	seen time.Time,
	lease store.TagLease,
) error {
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		written, err := tx.SettleChange(ctx, c, o, seen, lease.Fence)
		if err != nil || !written {
			return err
		}
		actor, _, err := tx.ActorByID(ctx, c.ActorID)
		if err != nil {
			return err
		}
		facts := map[string]string{"change": number(c.Number), "to": c.ToDigest.String(),
			"unseen from": stamp(c.SeenBeforeAt), "unseen until": stamp(seen)}
		if c.FromDigest != nil {
			facts["from"] = c.FromDigest.String()
		}
		if c.Back {
			facts["back"] = "yes"
		}
		if o == tagging.Overtaken {
			facts["seen"] = now.String()
		}
		if err := partOf(ctx, tx, c, facts); err != nil {
			return err
		}
		tag := at.ref
		tag.Tag = c.Tag
		home := law.HomeOf(at.ref)
		news := map[string]string{"tag": tag.String(), "component": home.Component, "outcome": string(o)}
		if err := tx.Tell(ctx, store.TopicTag, news); err != nil {
			return err
		}
		if err := s.wakeWaiting(ctx, tx, store.WaitingFor{Repository: at.ref.In()}); err != nil { // what they are bound to may be another
			return err
		}
		act := actOf[o]
		switch {
		case o == tagging.Done && c.ToDigest == "":
			act = trail.TagRemoved
		case o == tagging.Done && c.Back:
			act = trail.TagRestored
		}
		return s.record(ctx, tx, entry{act: act, actor: actor.Name, sealed: map[string]string{"because": c.Because}, facts: facts,
			subject: tag.String(), component: home.Component, work: c.WorkID})
	})
}

// partOf adds to a change's facts what it is part of: a promotion, or a build.
func partOf(ctx context.Context, tx store.Tx, c store.TagChange, facts map[string]string) error {
	if c.Together != nil {
		facts["together"] = c.Together.String()
	}
	if c.WorkID == nil {
		return nil
	}
	p, ok, err := tx.PromotionByWork(ctx, *c.WorkID)
	if err != nil {
		return err
	}
	if ok {
		facts["promotion"] = number(p.Promotion.Number)
		maps.Copy(facts, marks(p.Promotion))
		return nil
	}
	b, ok, err := tx.BuildByWork(ctx, *c.WorkID)
	if ok {
		facts["build"] = buildName(b.Build)
	}
	return err
}

// settleLeased resolves a dead writer's change. The caller holds the lease, so the writer's deadline is over.
func (s *Service) settleLeased(ctx context.Context, at spot, c store.TagChange, lease store.TagLease) error {
	o, err := s.conclude(context.WithoutCancel(ctx), at, c, tagging.Refused, lease)
	if err != nil {
		return err
	}
	if o != tagging.Open {
		return nil
	}
	if c.Outcome == nil {
		now, err := s.db.Now(ctx)
		if err == nil {
			err = s.writeOutcome(ctx, at, c, tagging.Unknown, "", now, lease)
		}
		if err != nil {
			return err
		}
	}
	return &problem.Problem{
		Kind:   problem.Unreachable,
		Title:  "It cannot be told what this tag means",
		Asked:  at.ref.In() + ":" + c.Tag,
		Seen:   "a change of it without an outcome, and a registry that does not answer",
		Where:  at.String(),
		Rule:   "an unknown outcome blocks the tag",
		Remedy: "see that the registry is up, then ask again: the change is resolved by asking the registry first",
	}
}
