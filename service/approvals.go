package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"dovrak/core/charter"
	"dovrak/core/gate"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/google/uuid"
)

// Word is what someone says of a promotion that waits. Seen is the binding of the plan that they were shown: what they say is said of
// that, and of no other.
type Word struct {
	Agreed bool
	Remark string
	Seen   string
}

// SayOf keeps what someone says of a promotion. Who declines ends it; who agrees has it judged again.
func (s *Service) SayOf(ctx context.Context, by Actor, n int64, w Word) (store.PromotionWork, error) {
	if err := firstOf(by.Require(Approve), reason(w.Remark)); err != nil {
		return store.PromotionWork{}, err
	}
	p, err := s.promotionNumbered(ctx, n)
	if err != nil {
		return p, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return p, err
	}
	if err := firstOf(s.maySay(ctx, by, law, p), isAsShown(p, w.Seen)); err != nil {
		return p, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		a := store.Approval{ID: store.NewID(), WorkID: p.Work.ID, ActorID: by.ID, Agreed: w.Agreed, Remark: w.Remark, Bound: w.Seen}
		if err := tx.AddApproval(ctx, a); err != nil {
			return err
		}
		if !w.Agreed {
			return s.declined(ctx, tx, by, p, w.Remark)
		}
		if err := numbered(store.TopicPromotion, n).tell(ctx, tx, ""); err != nil {
			return err
		}
		if err := s.wakeWaiting(ctx, tx, store.WaitingFor{Work: &p.Work.ID}); err != nil {
			return err
		}
		return s.record(ctx, tx, promotionEntry(trail.Approved, by.Name, w.Remark, p.Promotion))
	})
	if err != nil {
		return p, err
	}
	return s.promotionNumbered(ctx, n)
}

// maySay is nil if an actor may agree to a promotion or decline it now.
func (s *Service) maySay(ctx context.Context, by Actor, law law, p store.PromotionWork) error {
	to := p.Promotion.Environment
	rule := law.Environments[to].AgreementTo(p.Promotion.Plan.Emergency, p.Promotion.Plan.Skips)
	if p.Promotion.RollBack {
		return &problem.Problem{Kind: problem.Refused, Title: "A roll back needs nobody's word", Asked: "promotion " + number(p.Promotion.Number),
			Rule: "roll backs are asked no gate", Remedy: "dovrak promotions show " + number(p.Promotion.Number) + " tells how it stands"}
	}
	if err := by.approvesFor(to, rule.From); err != nil {
		return err
	}
	if p.Work.State != store.StateWaiting {
		return notWaiting(p.Promotion.Number, p.Work.State)
	}
	return s.notOneself(ctx, by, p, "say that of it")
}

// notOneself refuses somebody's word on what they have asked for themselves.
func (s *Service) notOneself(ctx context.Context, by Actor, p store.PromotionWork, what string) error {
	requesters, err := s.requestersOf(ctx, p.Work.RequestedBy)
	if err != nil || !slices.Contains(requesters, by.ID.String()) {
		return err
	}
	return &problem.Problem{
		Kind:   problem.Refused,
		Title:  "You cannot " + what + ": it is your own request",
		Asked:  "promotion " + number(p.Promotion.Number),
		Seen:   p.RequesterName + " has asked, which is you or bears a token that you issued",
		Rule:   "approvals of " + p.Promotion.Environment + ": never who asks",
		Remedy: "have another of those groups look at it",
	}
}

func notWaiting(n int64, state string) error {
	return &problem.Problem{Kind: problem.Refused, Title: "This promotion does not wait for you", Asked: "promotion " + number(n),
		Seen: "it is " + state, Rule: "a promotion that waits is agreed to or declined",
		Remedy: "dovrak promotions show " + number(n) + " tells how it stands"}
}

// isAsShown refuses a word that was said of another plan.
func isAsShown(p store.PromotionWork, seen string) error {
	if seen == p.Promotion.Plan.Binding() {
		return nil
	}
	return &problem.Problem{Kind: problem.Refused, Title: "This promotion is another than you were shown",
		Asked: "promotion " + number(p.Promotion.Number), Seen: "its plan has changed since",
		Rule: "an approval is bound to the image, the places, the tags and the charter", Remedy: "look at it again, and decide anew"}
}

// declined ends a promotion that someone would not have.
func (s *Service) declined(ctx context.Context, tx store.Tx, by Actor, p store.PromotionWork, remark string) error {
	raw, err := json.Marshal(&problem.Problem{Kind: problem.Refused, Title: "This promotion was declined",
		Asked: p.Promotion.Component + " to " + p.Promotion.Environment, Seen: by.Name + ": " + remark,
		Rule: "approvals of " + p.Promotion.Environment, Remedy: "speak with them; ask again when it is settled"})
	if err != nil {
		return err
	}
	ended, err := tx.EndWaiting(ctx, p.Work.ID, store.StateDeclined, raw)
	if err == nil && !ended {
		err = notWaiting(p.Promotion.Number, "going on already")
	}
	if err == nil {
		err = numbered(store.TopicPromotion, p.Promotion.Number).tell(ctx, tx, store.StateDeclined)
	}
	if err != nil {
		return err
	}
	return s.record(ctx, tx, promotionEntry(trail.Declined, by.Name, remark, p.Promotion))
}

// requestersOf are the persons that may be behind what an actor asks for: themselves, and whoever issued the tokens they bear.
func (s *Service) requestersOf(ctx context.Context, actor uuid.UUID) ([]string, error) {
	issuers, err := s.db.IssuersFor(ctx, actor)
	out := []string{actor.String()}
	for _, i := range issuers {
		out = append(out, i.String())
	}
	return out, err
}

// saidOf gathers what was said of a promotion, with the groups that everyone who said something is in now.
func (s *Service) saidOf(ctx context.Context, w store.PromotionWork, law law) (said, error) {
	out := said{requester: w.RequesterName, expires: w.Promotion.Plan.Expires, work: w.Work.ID}
	var err error
	if out.requesters, err = s.requestersOf(ctx, w.Work.RequestedBy); err != nil {
		return out, err
	}
	all, err := s.db.Approvals(ctx, w.Work.ID)
	if err == nil {
		out.approvals, err = s.weighed(ctx, s.db.Queries, law.Charter, all)
	}
	return out, err
}

// weighed gives what people said the groups that each is in now: none where their rights were withdrawn.
func (s *Service) weighed(ctx context.Context, q store.Queries, c *charter.Charter, all []store.Approval) ([]gate.Approval, error) {
	var out []gate.Approval
	for _, a := range all {
		one := gate.Approval{By: a.Name, Person: a.ActorID.String(), Agreed: a.Agreed, At: a.At.UTC(), Bound: a.Bound, Remark: a.Remark}
		if a.WithdrawnAt == nil {
			accounts, err := q.AccountsOf(ctx, a.ActorID)
			if err != nil {
				return out, err
			}
			one.Groups = groupsIn(c, store.Actor{ID: a.ActorID, Kind: "person", Name: a.Name}, accounts)
		}
		out = append(out, one)
	}
	return out, nil
}

// stillMayAsk ends a promotion whose requester may not promote there any more.
func (s *Service) stillMayAsk(ctx context.Context, requester uuid.UUID, d draft) error {
	actor, _, err := s.db.ActorByID(ctx, requester)
	if err != nil {
		return err
	}
	now, err := s.mayNow(ctx, s.db.Queries, actor)
	if err == nil {
		err = now.promotesTo(d.plan.Environment, d.env)
	}
	if problem.Is(err, problem.NotPermitted) {
		p := problem.From(err)
		err = endedAs{
			store.StateRefused,
			&problem.Problem{Kind: problem.Refused, Title: "Who asked for this may not promote there any more",
				Asked: fmt.Sprintf("%s to %s, asked by %s", d.plan.Component, d.plan.Environment, actor.Name), Seen: p.Seen, Rule: p.Rule,
				Remedy: "have someone ask who may"},
		}
	}
	return err
}

// promotesThere is nil if an actor may do something to a promotion: where it goes, they may promote, or, if it is one, roll back.
func (s *Service) promotesThere(ctx context.Context, by Actor, p store.Promotion) error {
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	env, ok := law.Environments[p.Environment]
	if !ok { // it is no more: whoever may promote at all puts things in order
		env = charter.Environment{}
	}
	if p.RollBack {
		return by.rollsBackTo(p.Environment, env)
	}
	return by.promotesTo(p.Environment, env)
}

// WaitsFor lists the promotions that wait for a word of this actor's, newest first.
func (s *Service) WaitsFor(ctx context.Context, by Actor) ([]store.PromotionWork, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil || len(by.ApprovesIn) == 0 {
		return nil, err
	}
	open, err := s.db.OpenPromotions(ctx, "", "")
	if err != nil {
		return nil, err
	}
	var out []store.PromotionWork
	for _, p := range open {
		waits, err := s.waitsFor(ctx, by, law, p)
		if err != nil {
			return nil, err
		}
		if waits {
			out = append(out, p)
		}
	}
	return out, nil
}

func (s *Service) waitsFor(ctx context.Context, by Actor, law law, p store.PromotionWork) (bool, error) {
	people := false
	for _, g := range p.Promotion.Plan.Gates {
		people = people || g.Open() && g.Comes == gate.ByPerson
	}
	if !people {
		return false, nil
	}
	err := s.maySay(ctx, by, law, p)
	if problem.Is(err, problem.Refused) || problem.Is(err, problem.NotPermitted) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	said, err := s.db.Approvals(ctx, p.Work.ID)
	for _, a := range said {
		if a.ActorID == by.ID && a.Bound == p.Promotion.Plan.Binding() {
			return false, nil
		}
	}
	return true, err
}
