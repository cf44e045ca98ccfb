package service

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/failpoint"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
)

// switching is a switch under way: the tags of one promotion, or of one roll back, in all its places.
//
// It goes in rounds, each in all places at once: fixed tags, moving tags, the standing tag last. Where a place fails it is tried again
// for as long as the environment's rules say; then all go back. What was done stands in the records of the tag changes, so that
// another process goes on from where a dead one was, forth or back.
type switching struct {
	s      *Service
	sh     *shift
	w      store.PromotionWork
	law    law
	from   spot
	places []spot
	cargo  plan.Cargo
}

// switchOf gathers what a switch needs to be begun or gone on with. It asks no registry.
func (s *Service) switchOf(ctx context.Context, sh *shift, w store.PromotionWork) (*switching, error) {
	x := &switching{s: s, sh: sh, w: w}
	source, err := image.ParseRepository(w.Promotion.Plan.Source)
	if err != nil {
		return nil, err
	}
	if x.law, err = s.law(ctx); err != nil {
		return nil, err
	}
	if x.places, err = s.places(ctx, w.Promotion.Plan); err != nil {
		return nil, err
	}
	x.from, err = s.spot(ctx, source)
	return x, err
}

// supply moves content to every place, only what is missing. Verifying, it asks for every piece again, and moves anew what is gone.
func (x *switching) supply(ctx context.Context, verify bool) (err error) {
	p := x.w.Promotion
	if x.cargo, err = x.s.load(ctx, x.from, p.Digest, cmp.Or(p.Plan.Referrers, AllReferrers)); err != nil {
		return err
	}
	planned := func(_ context.Context, i int, _ plan.Copy) (plan.Copy, error) { return p.Plan.Places[i].Copy, nil }
	return x.s.carry(ctx, x.sh, freight{from: x.from, to: x.places, cargo: x.cargo, planned: planned, verify: verify})
}

// goesOn is a failure of ours in the midst of a switch, not of a place: another shift takes the work up where it is.
type goesOn struct{ error }

func (e goesOn) Unwrap() error { return e.error }

// run points the tags everywhere, or nowhere: where a place fails, the others go back.
func (x *switching) run(ctx context.Context) error {
	if err := x.begin(ctx); err != nil {
		return err
	}
	if err := failpoint.At(ctx, "switch-begun"); err != nil {
		return err
	}
	if err := x.pointAll(ctx); err != nil {
		return x.failed(ctx, err)
	}
	if err := failpoint.At(ctx, "all-pointed"); err != nil {
		return err
	}
	stands, err := x.prove(ctx)
	if err != nil {
		return x.failed(ctx, err)
	}
	if err := x.s.db.SetStands(ctx, x.sh.lease, stands); err != nil {
		return goesOn{err}
	}
	err = x.sh.end(ctx, func(tx store.Tx) error {
		if err := x.wakeOthers(ctx, tx); err != nil {
			return err
		}
		return x.s.record(ctx, tx, promotionEntry(done(x.w.Promotion), x.w.RequesterName, x.w.Work.Because, x.w.Promotion))
	})
	if err != nil {
		return goesOn{err}
	}
	return nil
}

// failed has a switch that cannot go on go back: unless it is this process that goes, or nothing has come of it but that it must be judged
// anew.
func (x *switching) failed(ctx context.Context, why error) error {
	if ctx.Err() != nil || errors.Is(why, store.ErrLost) {
		return why
	}
	untouched, err := x.untouched(ctx)
	if err != nil {
		return goesOn{err}
	}
	if untouched && otherwise(why) {
		return errJudgeAnew
	}
	return x.goBack(ctx, problem.From(why))
}

// errJudgeAnew says that a tag means something else than was decided on, and that none has changed its meaning yet.
var errJudgeAnew = errors.New("service: a tag means something else than was decided on")

// otherwise reports a refusal since a tag means something else than was decided on.
func otherwise(err error) bool {
	p, ok := errors.AsType[*problem.Problem](err)
	return ok && p.Rule == ruleAsDecided
}

// untouched reports that the switch has not changed what any tag means: it has made new fixed ones at the most.
func (x *switching) untouched(ctx context.Context) (bool, error) {
	changes, err := x.s.db.WorkChanges(ctx, x.w.Work.ID)
	newest := newestOf(changes)
	for i, at := range x.places {
		for _, t := range x.w.Promotion.Plan.Places[i].Tags {
			c, pointed := newest[tagAt{at.at(), t.Tag}]
			if t.Kind != tagging.Fixed && pointed && !c.Back {
				return false, err
			}
		}
	}
	return true, err
}

func done(p store.Promotion) trail.Act {
	if p.RollBack {
		return trail.RollBackDone
	}
	return trail.PromotionDone
}

// begin takes the environment for this switch alone.
func (x *switching) begin(ctx context.Context) error {
	return x.s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.BeginSwitch(ctx, x.sh.lease, x.w.Promotion); err != nil {
			return err
		}
		return x.sh.what.tell(ctx, tx, store.StateSwitching)
	})
}

// pointAll points round by round. A place that fails holds the next round up, and is tried again while the rules give it time.
func (x *switching) pointAll(ctx context.Context) error {
	until, err := x.retriesUntil(ctx)
	if err != nil {
		return err
	}
	for _, round := range x.w.Promotion.Plan.Rounds() {
		for pause := time.Second; ; pause = min(2*pause, 15*time.Second) {
			err := x.point(ctx, round)
			if err == nil {
				break
			}
			now, nerr := x.s.db.Now(ctx)
			if nerr != nil || !passing(err) || !now.Add(pause).Before(until) {
				return err
			}
			if err := waitFor(ctx, pause); err != nil {
				return err
			}
		}
	}
	return nil
}

// passing reports a failure that may be over in a while: of a registry, and not of a rule.
func passing(err error) bool {
	return problem.Is(err, problem.Unreachable) || problem.Is(err, problem.RegistryError) || problem.Is(err, problem.Busy)
}

// retriesUntil is until when a place that fails is tried again: from the first tag that was pointed on.
func (x *switching) retriesUntil(ctx context.Context) (time.Time, error) {
	began, err := x.s.db.Now(ctx)
	if err != nil {
		return began, err
	}
	changes, err := x.s.db.WorkChanges(ctx, x.w.Work.ID)
	for _, c := range changes {
		if c.IntendedAt.Before(began) && (x.w.Work.BeganAt == nil || c.IntendedAt.After(*x.w.Work.BeganAt)) {
			began = c.IntendedAt
		}
	}
	return began.Add(x.law.Environments[x.w.Promotion.Environment].Retries()), err
}

// point points the tags of a round in all places at once, in each in their order.
func (x *switching) point(ctx context.Context, round plan.Round) error {
	met := newMeeting(len(x.places))
	errs := make([]error, len(x.places))
	inEach(x.places, func(i int, to spot) {
		at := &seat{at: met}
		defer at.arrive()
		errs[i] = x.pointIn(ctx, to, round[i], at)
		x.tell(i, errs[i])
	})
	if err := x.s.firstFailed(ctx, x.places, errs); err != nil || !met.missed || !standing(round) {
		return err
	}
	inEach(x.places, func(i int, to spot) { errs[i] = x.askAgain(ctx, to, round[i]) })
	return x.s.firstFailed(ctx, x.places, errs)
}

func standing(round plan.Round) bool {
	return slices.ContainsFunc(round, func(tags []plan.TagChange) bool {
		return len(tags) > 0 && tags[0].Kind == tagging.Standing
	})
}

// tell shows why a place fails while it is tried again, or that it does no more.
func (x *switching) tell(place int, err error) {
	why := ""
	if err != nil {
		why = problem.From(err).Title
	}
	if t := x.sh.tideOf(x.places[place].ref.In()); t != nil {
		t.failed(why)
	}
}

func (x *switching) pointIn(ctx context.Context, to spot, tags []plan.TagChange, at *seat) error {
	if len(tags) == 0 {
		return nil
	}
	rules, err := x.s.rulesOf(ctx, x.law, to)
	if err != nil {
		return err
	}
	facts, err := x.s.factsOf(ctx, x.from, x.cargo.Root().Digest)
	if err != nil {
		return err
	}
	for _, t := range tags {
		w := wish{at: to, tag: t.Tag, to: x.cargo.Root(), by: x.requester(), because: x.w.Work.Because, rules: rules, facts: facts,
			mover: x.w.Promotion.Plan.Mover(), under: &x.sh.lease, believes: []digest.Digest{t.From}}
		if t.Kind == tagging.Standing {
			w.seat = at
		}
		if _, err := x.s.point(ctx, w); err != nil {
			return err
		}
		if err := failpoint.At(ctx, "tag-pointed"); err != nil {
			return err
		}
	}
	return nil
}

func (x *switching) requester() Actor {
	return Actor{ID: x.w.Work.RequestedBy, Name: x.w.RequesterName}
}

// askAgain asks what tags mean that were pointed while another place was late.
func (x *switching) askAgain(ctx context.Context, to spot, tags []plan.TagChange) error {
	for _, t := range tags {
		now, _, err := x.s.glance(ctx, to, t.Tag)
		if err != nil {
			return err
		}
		if now != t.To {
			return &problem.Problem{
				Kind:   problem.RegistryError,
				Title:  "A tag does not mean what it was pointed at",
				Asked:  to.ref.In() + ":" + t.Tag,
				Seen:   orNothing(now) + " in place of " + t.To.String(),
				Where:  to.String(),
				Remedy: "look at who else writes there: dovrak trail " + to.ref.In() + ":" + t.Tag,
			}
		}
	}
	return nil
}

// prove asks each place for what a client of each required platform is given by the tags, which were seen to mean the image just now.
func (x *switching) prove(ctx context.Context) ([]plan.Stand, error) {
	now, err := x.s.db.Now(ctx)
	if err != nil {
		return nil, err
	}
	out, errs := make([][]plan.Stand, len(x.places)), make([]error, len(x.places))
	inEach(x.places, func(i int, to spot) {
		var resolved []plan.Resolved
		if resolved, errs[i] = x.resolve(ctx, to); errs[i] != nil {
			return
		}
		for _, t := range x.w.Promotion.Plan.Places[i].Tags {
			st := plan.Stand{
				Repository: to.ref.In(),
				Tag:        t.Tag,
				Kind:       t.Kind,
				Before:     t.From,
				Wanted:     t.To,
				Means:      t.To,
				Touched:    t.From != t.To,
				At:         now,
			}
			if t.Kind == tagging.Standing {
				st.Platforms = resolved
			}
			out[i] = append(out[i], st)
		}
	})
	return slices.Concat(out...), x.s.firstFailed(ctx, x.places, errs)
}

// resolve asks a place for the image of each required platform that the promoted one has: one request each.
func (x *switching) resolve(ctx context.Context, to spot) ([]plan.Resolved, error) {
	var out []plan.Resolved
	required := x.law.Components[x.w.Promotion.Component].Platforms
	for _, p := range plan.Clients(x.cargo.Root(), required) {
		there, err := transfer.Has(ctx, to.Repository, p.Digest)
		if err != nil {
			return nil, err
		}
		if !there {
			return nil, &problem.Problem{
				Kind:   problem.RegistryError,
				Title:  "A platform's image is not there behind its tag",
				Asked:  x.w.Promotion.Digest.String() + " for " + p.Platform,
				Seen:   p.Digest.String() + " is nowhere in the repository",
				Where:  to.String(),
				Rule:   "a reader of a tag never sees an image that is not whole",
				Remedy: "see what the registry has collected; then resume: what is missing is moved again",
			}
		}
		out = append(out, plan.Resolved{Platform: p.Platform, Digest: p.Digest})
	}
	return out, nil
}

// wakeOthers has those judged again that wait for this switch to be over.
func (x *switching) wakeOthers(ctx context.Context, tx store.Tx) error {
	for _, at := range x.places {
		if err := x.s.wakeWaiting(ctx, tx, store.WaitingFor{Repository: at.ref.In()}); err != nil {
			return err
		}
	}
	return nil
}

// places are those of a plan.
func (s *Service) places(ctx context.Context, p plan.Promotion) ([]spot, error) {
	var out []spot
	for _, place := range p.Places {
		ref, err := image.ParseRepository(place.Repository)
		if err != nil {
			return nil, err
		}
		to, err := s.spot(ctx, ref)
		if err != nil {
			return nil, err
		}
		out = append(out, to)
	}
	return out, nil
}
