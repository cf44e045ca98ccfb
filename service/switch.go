package service

import (
	"context"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/store"
)

// switchTags points the tags of every place, the standing tag last, and asks each place again by tag.
func (s *Service) switchTags(ctx context.Context, sh *shift, w store.PromotionWork, from spot, places []spot, root image.Manifest) error {
	law, err := s.law(ctx)
	if err != nil {
		return err
	}
	by := Actor{ID: w.Work.RequestedBy, Name: w.RequesterName}
	for i, to := range places {
		rules, err := s.rulesOf(ctx, law, to)
		if err != nil {
			return err
		}
		facts, err := s.factsOf(ctx, from, root.Digest)
		if err != nil {
			return err
		}
		for _, t := range w.Promotion.Plan.Places[i].Tags {
			_, err := s.point(ctx, wish{
				at: to, tag: t.Tag, to: root, by: by, because: w.Work.Because, rules: rules, facts: facts,
				mover: tagging.ByPromotion, under: &sh.lease,
			})
			if err != nil {
				return err
			}
		}
	}
	for i, to := range places {
		for _, t := range w.Promotion.Plan.Places[i].Tags {
			now, _, err := s.means(ctx, to, t.Tag)
			if err != nil {
				return err
			}
			if now != t.To {
				return &problem.Problem{
					Kind:   problem.RegistryError,
					Title:  "A tag does not mean what it was pointed at",
					Asked:  to.ref.In() + ":" + t.Tag,
					Seen:   now.String() + " in place of " + t.To.String(),
					Where:  to.String(),
					Remedy: "look at who else writes there: dovrak trail " + to.ref.In() + ":" + t.Tag,
				}
			}
		}
	}
	return nil
}
