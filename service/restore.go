package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/failpoint"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
)

// goBack restores what the switch has changed, as far as it is still what the switch made it. why is what has failed.
func (x *switching) goBack(ctx context.Context, why *problem.Problem) error {
	raw, err := json.Marshal(why)
	if err != nil {
		return err
	}
	err = x.s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.GoBack(ctx, x.sh.lease, raw); err != nil {
			return err
		}
		return x.sh.what.tell(ctx, tx, store.StateGoingBack)
	})
	if err != nil {
		return goesOn{err}
	}
	if err := failpoint.At(ctx, "going-back"); err != nil {
		return err
	}
	changes, err := x.s.db.WorkChanges(ctx, x.w.Work.ID)
	if err != nil {
		return goesOn{err}
	}
	newest := newestOf(changes)
	stands := make([][]plan.Stand, len(x.places))
	errs := make([]error, len(x.places))
	inEach(x.places, func(i int, at spot) {
		stands[i], errs[i] = x.restoreIn(ctx, at, x.w.Promotion.Plan.Places[i].Tags, newest)
	})
	if err := errors.Join(errs...); err != nil {
		return goesOn{err}
	}
	if err := failpoint.At(ctx, "gone-back"); err != nil {
		return err
	}
	if err := x.endBack(ctx, why, slices.Concat(stands...)); err != nil {
		return goesOn{err}
	}
	return nil
}

// tagAt names a tag of a switch.
type tagAt struct {
	at  store.Spot
	tag string
}

// newestOf gives the newest change of each tag.
func newestOf(changes []store.TagChange) map[tagAt]store.TagChange {
	out := map[tagAt]store.TagChange{}
	for _, c := range changes {
		out[tagAt{c.Spot(), c.Tag}] = c
	}
	return out
}

// restoreIn goes back in one place, the standing tag first, and says what each tag means then. An error is ours, and not the place's.
func (x *switching) restoreIn(
	ctx context.Context,
	at spot,
	tags []plan.TagChange,
	newest map[tagAt]store.TagChange,
) ([]plan.Stand, error) {
	var out []plan.Stand
	for _, t := range slices.Backward(tags) {
		c, touched := newest[tagAt{at.at(), t.Tag}]
		st := plan.Stand{Repository: at.ref.In(), Tag: t.Tag, Kind: t.Kind, Before: t.From, Wanted: t.To, Touched: touched && !c.Back}
		var failed error
		if st.Touched && t.Kind != tagging.Fixed {
			failed = x.restore(ctx, at, c)
		}
		means, seen, err := x.s.glance(ctx, at, t.Tag)
		switch {
		case ctx.Err() != nil || errors.Is(failed, store.ErrLost):
			return nil, cmp.Or(ctx.Err(), failed)
		case err != nil:
			st.Why = problem.From(err).Title
		default:
			st.Means, st.At = means, seen
			if failed != nil {
				st.Why = problem.From(failed).Title
			}
		}
		out = append(out, st)
		if err := failpoint.At(ctx, "tag-restored"); err != nil {
			return nil, err
		}
	}
	slices.Reverse(out)
	return out, nil
}

// restore points a tag back to what it meant before the switch, where it still means what the switch made of it. What it means to someone
// else by now is left alone, and so is what meant nothing before.
func (x *switching) restore(ctx context.Context, at spot, c store.TagChange) error {
	if c.FromDigest == nil {
		return nil
	}
	before, err := transfer.Manifest(ctx, at.Repository, contents{x.s.db}, *c.FromDigest)
	if err != nil {
		return err
	}
	_, err = x.s.point(ctx, wish{at: at, tag: c.Tag, to: before, by: x.requester(), because: x.w.Work.Because, restores: true,
		under: &x.sh.lease, believes: []digest.Digest{c.ToDigest}})
	if otherwise(err) {
		return nil
	}
	return err
}

// endBack ends a switch that went back: as taken back, or split where it could not go back everywhere. Who has said to take it back, once it
// was split, has what is new and stays.
func (x *switching) endBack(ctx context.Context, why *problem.Problem, stands []plan.Stand) error {
	again := x.w.Work.State == store.StateGoingBack && len(x.w.Promotion.Stands) > 0
	left := plan.Split(stands)
	if again {
		left = slices.DeleteFunc(left, plan.Stand.New)
	}
	p := *why
	state, act := store.StateTakenBack, trail.PromotionBack
	p.Remedy = "every place means what it did before. " + sentence(why.Remedy) + " Then: dovrak resume " + number(x.w.Promotion.Number)
	if len(left) > 0 {
		state, act = store.StateSplit, trail.PromotionSplit
		p = *splitProblem(x.w.Promotion, why, stands)
	}
	raw, err := json.Marshal(&p)
	if err != nil {
		return err
	}
	progress, _ := x.sh.progress()
	return x.s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.SetStands(ctx, x.sh.lease, stands); err != nil {
			return err
		}
		if err := tx.SetProgress(ctx, x.sh.lease, progress, x.sh.before.Requests+x.sh.requests.Load()); err != nil {
			return err
		}
		if state == store.StateSplit {
			err = tx.Leave(ctx, x.sh.lease, state, raw)
		} else {
			err = tx.End(ctx, x.sh.lease, state, raw)
		}
		if err = firstOf(err, x.wakeOthers(ctx, tx)); err != nil {
			return err
		}
		e := promotionEntry(act, x.w.RequesterName, x.w.Work.Because, x.w.Promotion)
		e.facts["problem"], e.facts["means"] = why.Title, shortened(plan.Says(stands))
		if err := x.s.record(ctx, tx, e); err != nil {
			return err
		}
		return x.sh.what.tell(ctx, tx, state)
	})
}

// sentence ends words as a sentence.
func sentence(s string) string {
	if s == "" {
		return ""
	}
	return strings.ToUpper(s[:1]) + strings.TrimSuffix(s[1:], ".") + "."
}

func splitProblem(p store.Promotion, why *problem.Problem, stands []plan.Stand) *problem.Problem {
	n := number(p.Number)
	return &problem.Problem{
		Kind:  problem.RegistryError,
		Title: "The places of " + p.Environment + " mean different things",
		Asked: p.Component + " to " + p.Environment + ": " + p.Digest.String(),
		Seen:  plan.Says(stands) + ". It failed: " + why.Title + ": " + why.Seen,
		Where: why.Where,
		Rule:  "tags change together in every place, or are taken back",
		Remedy: "see that the place is up; then go on (dovrak resume " + n + ") or take it back (dovrak stop " + n +
			"); until then nothing else is promoted there",
	}
}
