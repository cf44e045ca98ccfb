package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"strings"

	"dovrak/core/charter"
	"dovrak/core/gate"
	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/failpoint"
	"dovrak/store"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// NewPromotion asks for a component to be promoted. What stands in the environment before is what moves, unless an image there is named:
// by its version, its build or its digest.
type NewPromotion struct {
	Component, To, Because string
	From                   string // the environment it comes from; empty is the one before
	Version                string
	Build                  int64
	Image                  digest.Digest
	Emergency              bool
	Again                  bool          // although it was rolled back there
	Referrers              string        // what goes along of all that refers to the image; empty is all
	bound                  digest.Digest // the image, where it was settled before; else what stands there now
	Key                    string        // Idempotency-Key
}

// draft is a plan with what it was made from.
type draft struct {
	plan      plan.Promotion
	version   string
	facts     tagging.Facts
	cargo     plan.Cargo
	described image.Description
	from      spot
	before    string // the environment that it comes from
	law       law
	env       charter.Environment
}

// PlanPromotion says what a promotion would do, and does nothing. A promotion that a rule forbids is refused here.
func (s *Service) PlanPromotion(ctx context.Context, by Actor, n NewPromotion) (plan.Promotion, string, error) {
	if err := by.Require(Read); err != nil {
		return plan.Promotion{}, "", err
	}
	d, err := s.draft(ctx, by, n)
	if err != nil {
		return d.plan, d.version, err
	}
	j, err := s.judgeGates(ctx, said{requester: by.Name, requesters: []string{by.ID.String()}}, d)
	d.plan.Gates = j.results
	return d.plan, d.version, err
}

// draft plans a promotion by the charter in force.
func (s *Service) draft(ctx context.Context, by Actor, n NewPromotion) (draft, error) {
	law, err := s.law(ctx)
	if err != nil {
		return draft{}, err
	}
	return s.draftBy(ctx, by, n, law)
}

func (s *Service) draftBy(ctx context.Context, by Actor, n NewPromotion, law law) (draft, error) {
	ctx, cancel := context.WithTimeout(ctx, planDeadline)
	defer cancel()
	n.Referrers = cmp.Or(n.Referrers, AllReferrers)
	if err := checkReferrers(n.Referrers); err != nil {
		return draft{}, err
	}
	before, err := law.From(n.Component, n.To, n.From)
	if err != nil {
		return draft{}, err
	}
	d := draft{law: law, env: law.Environments[n.To], before: before}
	if n.Emergency && d.env.Emergency == nil {
		return draft{}, noEmergency(n)
	}
	src := law.Environments[before]
	if d.from, err = s.spot(ctx, src.Places[0].At(n.Component)); err != nil {
		return draft{}, err
	}
	root, err := s.chosen(ctx, n, d.from, before, src)
	if err != nil {
		return draft{}, err
	}
	if d.cargo, err = s.load(ctx, d.from, root, n.Referrers); err != nil {
		return draft{}, err
	}
	if d.described, err = s.describeTree(ctx, d.from, d.cargo.Image); err != nil {
		return draft{}, err
	}
	d.version = d.described.Version
	if err := judgePlatforms(law, n, d); err != nil {
		return draft{}, err
	}
	if d.facts, err = s.factsOf(ctx, d.from, root); err != nil {
		return draft{}, err
	}
	undone, err := s.meantAgain(ctx, n, root, d.version)
	if err != nil {
		return draft{}, err
	}
	step, err := law.Before(n.Component, n.To)
	if err != nil {
		return draft{}, err
	}
	d.plan = plan.Promotion{
		Component:   n.Component,
		Environment: n.To,
		From:        before,
		Emergency:   n.Emergency,
		Skips:       before != step,
		Again:       undone,
		Source:      d.from.ref.In(),
		Digest:      root,
		Charter:     law.Version,
		Referrers:   n.Referrers,
	}
	for _, p := range d.env.Places {
		place, err := s.draftPlace(ctx, by, n, d, p)
		if err != nil {
			return draft{}, err
		}
		d.plan.Places = append(d.plan.Places, place)
	}
	return d, nil
}

// judgePlatforms refuses an image that lacks a platform which the component requires.
func judgePlatforms(law law, n NewPromotion, d draft) error {
	root, img := d.cargo.Root(), d.described
	if c := img.Contradiction(); c != "" {
		return &problem.Problem{
			Kind:   problem.Altered,
			Title:  "The image contradicts itself",
			Asked:  n.Component + " to " + n.To,
			Seen:   c,
			Where:  d.from.ref.In(),
			Rule:   "an image is for the platform that its index says",
			Remedy: "have whoever built it push it again",
		}
	}
	var own image.Platform
	if !root.Index && len(img.Members) == 1 {
		own = img.Members[0].Platform
	}
	required := law.Components[n.Component].Platforms
	if missing := plan.Missing(required, root, own); len(missing) > 0 {
		return &problem.Problem{
			Kind:   problem.Refused,
			Title:  "The image lacks a platform that the component requires",
			Asked:  n.Component + " to " + n.To,
			Seen:   root.Digest.String() + " without " + strings.Join(missing, ", "),
			Where:  d.from.ref.In(),
			Rule:   "required platforms of " + n.Component + ": " + strings.Join(required, ", "),
			Remedy: "build it for every platform, and point the standing tag at that index",
		}
	}
	return nil
}

func (s *Service) draftPlace(ctx context.Context, by Actor, n NewPromotion, d draft, p charter.Place) (plan.Place, error) {
	to, err := s.spot(ctx, p.At(n.Component))
	if err != nil {
		return plan.Place{}, err
	}
	fit, err := s.fitForPush(ctx, by, to)
	if err != nil {
		return plan.Place{}, err
	}
	c, err := s.planCopy(ctx, d.from, to, d.cargo, false)
	if err != nil {
		return plan.Place{}, err
	}
	place := plan.Place{Repository: to.ref.In(), Checked: fit.At, Copy: c}
	return place, s.draftTags(ctx, d, to, &place)
}

// draftTags finds the tags that would be pointed in a place. A moving one whose rule does not let it move there stays, and is
// said; any other refusal is one of the promotion.
func (s *Service) draftTags(ctx context.Context, d draft, to spot, place *plan.Place) error {
	rules, err := s.rulesOf(ctx, d.law, to)
	if err != nil {
		return err
	}
	for _, e := range plan.Tags(rules, d.facts, d.plan.Mover()) {
		from, _, err := s.means(ctx, to, e.Tag)
		if err != nil {
			return err
		}
		w := wish{at: to, tag: e.Tag, to: d.cargo.Root(), rules: rules, facts: d.facts, mover: d.plan.Mover()}
		err = s.judge(ctx, w, from)
		if problem.Is(err, problem.Refused) && e.Rule.Kind == tagging.MovingTag {
			place.Stays = append(place.Stays, plan.TagStays{Tag: e.Tag, From: from, Why: problem.From(err).Seen})
			continue
		}
		if err != nil {
			return err
		}
		place.Tags = append(place.Tags, plan.TagChange{Tag: e.Tag, Kind: e.Rule.Kind, From: from, To: d.cargo.Root().Digest})
	}
	return nil
}

// AskPromotion decides on a promotion by its plan, and queues it. That a rule refuses it goes on the trail, and changes nothing else.
func (s *Service) AskPromotion(ctx context.Context, by Actor, n NewPromotion) (Asked, error) {
	asked, err := s.askPromotion(ctx, by, n)
	if p := problem.From(err); err != nil && p.Kind == problem.Refused {
		refused := entry{
			act:       trail.PromotionRefused,
			actor:     by.Name,
			sealed:    map[string]string{"because": n.Because},
			component: n.Component,
			facts: map[string]string{
				"environment": n.To,
				"version":     n.Version,
				"digest":      n.Image.String(),
				"why":         shortened(p.Title + ": " + p.Seen),
				"rule":        p.Rule,
			},
		}
		if n.Emergency {
			refused.facts["emergency"] = "yes"
		}
		err = errors.Join(err, s.db.Tx(ctx, func(tx store.Tx) error { return s.record(ctx, tx, refused) }))
	}
	return asked, err
}

func (s *Service) askPromotion(ctx context.Context, by Actor, n NewPromotion) (Asked, error) {
	if err := firstOf(by.Require(Promote), reason(n.Because), s.promotesThere(ctx, by, store.Promotion{Environment: n.To})); err != nil {
		return Asked{}, err
	}
	a := ask{n.Key, hashOf("promotion", n.Component, n.To, n.Because, n.Referrers, n.From, n.Version, number(n.Build), n.Image.String(),
		fmt.Sprint(n.Emergency), fmt.Sprint(n.Again))}
	if had, ok, err := s.before(ctx, by, a); err != nil {
		return Asked{}, err
	} else if ok {
		w, _, err := s.db.PromotionByWork(ctx, had.WorkID)
		return Asked{w.Promotion.Number}, err
	}
	if err := oneAtATime(ctx, s.db.Queries, n); err != nil { // said before registries are asked, which may be why
		return Asked{}, err
	}
	d, err := s.draft(ctx, by, n)
	if err != nil {
		return Asked{}, err
	}
	requesters, err := s.requestersOf(ctx, by.ID)
	if err != nil {
		return Asked{}, err
	}
	j, err := s.judgeGates(ctx, said{requester: by.Name, requesters: requesters}, d)
	if err != nil {
		return Asked{}, err
	}
	if j.decision == gate.Refuse {
		return Asked{}, refused(n, d.law.Version, j.results)
	}
	now, err := s.db.Now(ctx)
	if err != nil {
		return Asked{}, err
	}
	d.plan.Gates, d.plan.Expires = j.results, expiry(d.env, now)
	w := store.Work{ID: store.NewID(), Kind: store.KindPromotion, State: store.StateJudged, RequestedBy: by.ID, Because: n.Because}
	if j.decision == gate.Wait {
		w.State = store.StateWaiting
	}
	p := store.Promotion{WorkID: w.ID, Component: n.Component, Environment: n.To, Digest: d.plan.Digest, Version: d.version, Plan: d.plan}
	var no int64
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := firstOf(lockHome(ctx, tx, n.Component, n.To), oneAtATime(ctx, tx.Queries, n)); err != nil {
			return err
		}
		if no, err = tx.AddPromotion(ctx, w, p); err != nil {
			return err
		}
		if err := s.keepAnswer(ctx, tx, by, a, w.ID, fmt.Sprintf("promotion %d", no)); err != nil {
			return err
		}
		if err := numbered(store.TopicPromotion, no).tell(ctx, tx, w.State); err != nil {
			return err
		}
		p.Number = no
		if j.decision == gate.Wait {
			err = s.wakeLater(ctx, tx, store.PromotionWork{Promotion: p}, j)
		} else {
			err = s.queue.Insert(ctx, tx.PGX, PromotionJob{w.ID})
		}
		if err != nil {
			return err
		}
		return s.record(ctx, tx, promotionEntry(trail.PromotionAsked, by.Name, n.Because, p))
	})
	return Asked{Number: no}, err
}

// lockHome lets one transaction at a time decide on what is promoted to an environment of a component.
func lockHome(ctx context.Context, tx store.Tx, component, environment string) error {
	return tx.Lock(ctx, "promotion "+component+" "+environment)
}

// oneAtATime refuses a second promotion of a component to an environment while one is under way.
func oneAtATime(ctx context.Context, q store.Queries, n NewPromotion) error {
	open, err := q.OpenPromotions(ctx, n.Component, n.To)
	if err == nil && len(open) > 0 {
		err = &problem.Problem{
			Kind:   problem.Refused,
			Title:  "Another promotion of this component is under way there",
			Asked:  n.Component + " to " + n.To,
			Seen:   fmt.Sprintf("promotion %d, %s, asked by %s", open[0].Promotion.Number, open[0].Work.State, open[0].RequesterName),
			Rule:   "promotions to one environment never interleave",
			Remedy: "wait for it, then ask again",
		}
	}
	return err
}

// marks are those facts of a promotion by which it goes another way than usual.
func marks(p store.Promotion) map[string]string {
	out := map[string]string{}
	for mark, is := range map[string]bool{
		"emergency": p.Plan.Emergency, "skips": p.Plan.Skips, "again": p.Plan.Again, "roll back": p.RollBack,
	} {
		if is {
			out[mark] = "yes"
		}
	}
	return out
}

func promotionEntry(act trail.Act, actor, because string, p store.Promotion) entry {
	facts := map[string]string{
		"promotion":   number(p.Number),
		"environment": p.Environment,
		"digest":      p.Digest.String(),
		"version":     p.Version,
		"from":        p.Plan.Source,
		"charter":     number(p.Plan.Charter),
	}
	maps.Copy(facts, marks(p))
	for i, place := range p.Plan.Places {
		facts[fmt.Sprintf("place %d", i+1)] = place.Repository
	}
	return entry{
		act:       act,
		actor:     actor,
		sealed:    map[string]string{"because": because},
		facts:     facts,
		component: p.Component,
		work:      &p.WorkID,
	}
}

func ended(p store.Promotion) trail.Act {
	if p.RollBack {
		return trail.RollBackEnded
	}
	return trail.PromotionEnded
}

// RunPromotion does a promotion that was asked for, unless another process does. Begun again after a death, it finds
// what is in place already and goes on from there.
func (s *Service) RunPromotion(ctx context.Context, work uuid.UUID) error {
	w, ok, err := s.db.PromotionByWork(ctx, work)
	if err != nil || !ok {
		return err
	}
	return s.underLease(ctx, work, numbered(store.TopicPromotion, w.Promotion.Number),
		func(ctx context.Context, sh *shift) error { return resumable(ctx, w, s.runPromotion(ctx, sh, work)) },
		func(ctx context.Context, tx store.Tx, p *problem.Problem) error {
			e := promotionEntry(ended(w.Promotion), w.RequesterName, w.Work.Because, w.Promotion)
			e.facts["problem"], e.facts["rule"] = p.Title, p.Rule
			return s.record(ctx, tx, e)
		})
}

// resumable adds to a failure that ends a promotion that it can be begun again.
func resumable(ctx context.Context, w store.PromotionWork, err error) error {
	_, over := errors.AsType[endedAs](err)
	if err == nil || over || midway(err) || ctx.Err() != nil || errors.Is(err, store.ErrLost) {
		return err
	}
	p := *problem.From(err)
	p.Remedy = strings.TrimSpace(sentence(p.Remedy) + " Then: dovrak resume " + number(w.Promotion.Number))
	return p.Because(err)
}

func (s *Service) runPromotion(ctx context.Context, sh *shift, work uuid.UUID) error {
	w, _, err := s.db.PromotionByWork(ctx, work) // as it is under the lease
	if err != nil {
		return err
	}
	if w.Work.State == store.StateGoingBack || w.Work.State == store.StateSwitching {
		anew, err := s.carryThrough(ctx, sh, w)
		if err != nil || !anew {
			return err
		}
	}
	if may, err := s.judgeAgain(ctx, sh, &w); err != nil || !may {
		return err
	}
	if err := sh.state(ctx, store.StateMoving); err != nil {
		return err
	}
	x, err := s.switchOf(ctx, sh, w)
	if err != nil {
		return err
	}
	if err := x.supply(ctx, false); err != nil {
		return err
	}
	if err := failpoint.At(ctx, "content-in-place"); err != nil {
		return err
	}
	for range triesToSwitch {
		if err := sh.state(ctx, store.StateReady); err != nil {
			return err
		}
		if may, err := s.judgeAgain(ctx, sh, &w); err != nil || !may { // bytes take their time: a freeze may have begun
			return err
		}
		if x, err = s.switchOf(ctx, sh, w); err != nil {
			return err
		}
		if err := x.supply(ctx, true); err != nil {
			return err
		}
		if err := failpoint.At(ctx, "verified-again"); err != nil {
			return err
		}
		err := x.run(ctx)
		if !errors.Is(err, errJudgeAnew) && !errors.Is(err, store.ErrSwitching) {
			return err
		}
	}
	return &problem.Problem{
		Kind:   problem.Busy,
		Title:  "The tags are moved again and again while this is judged",
		Asked:  w.Promotion.Component + " to " + w.Promotion.Environment,
		Seen:   fmt.Sprintf("%d times something else than was decided on", triesToSwitch),
		Rule:   ruleAsDecided,
		Remedy: "find out who else writes there",
	}
}

// triesToSwitch bounds how often a promotion is judged anew since a tag was moved at the last moment.
const triesToSwitch = 5

// carryThrough goes on with a switch that was begun, forth or back: it was judged then. anew is true where it is to be judged anew.
func (s *Service) carryThrough(ctx context.Context, sh *shift, w store.PromotionWork) (anew bool, err error) {
	x, err := s.switchOf(ctx, sh, w)
	switch {
	case err != nil:
		return false, goesOn{err}
	case w.Work.State == store.StateGoingBack:
		return false, x.goBack(ctx, problemOf(w.Work.Problem))
	}
	if err := x.supply(ctx, true); err != nil {
		return false, x.failed(ctx, err)
	}
	err = x.run(ctx)
	if errors.Is(err, errJudgeAnew) {
		return true, nil
	}
	return false, err
}

func problemOf(raw []byte) *problem.Problem {
	var p problem.Problem
	if err := json.Unmarshal(raw, &p); err != nil { // it was written by the service itself
		return problem.From(err)
	}
	return &p
}
