package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dovrak/core/charter"
	"dovrak/core/gate"
	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
)

// NewRollBack asks for an environment to be rolled back to what stood there before: to a version, a digest or a time, or, where To is
// empty, to what stood before that which stands now.
type NewRollBack struct {
	Component, In, To, Because string
	Key                        string        // Idempotency-Key
	bound                      digest.Digest // the image, where it was settled before
}

// PlanRollBack says what a roll back would do, and does nothing. One that cannot be done is refused here.
func (s *Service) PlanRollBack(ctx context.Context, by Actor, n NewRollBack) (plan.Promotion, string, error) {
	if err := by.Require(Read); err != nil {
		return plan.Promotion{}, "", err
	}
	if err := oneSwitch(ctx, s.db.Queries, n); err != nil { // said before registries are asked, which may be why
		return plan.Promotion{}, "", err
	}
	d, err := s.draftBack(ctx, by, n)
	return d.plan, d.version, err
}

// AskRollBack decides on a roll back by its plan, and queues it. No gate is asked and no freeze holds: what it goes back to has stood
// there. A promotion that waits goes on waiting, and is judged anew.
func (s *Service) AskRollBack(ctx context.Context, by Actor, n NewRollBack) (Asked, error) {
	asked, err := s.askRollBack(ctx, by, n)
	if p := problem.From(err); err != nil && p.Kind == problem.Refused {
		refused := entry{
			act:       trail.RollBackRefused,
			actor:     by.Name,
			sealed:    map[string]string{"because": n.Because},
			component: n.Component,
			facts: map[string]string{
				"environment": n.In,
				"wanted":      shortened(image.Printable(n.To)),
				"why":         shortened(p.Title + ": " + p.Seen),
				"rule":        p.Rule,
			},
		}
		err = errors.Join(err, s.db.Tx(ctx, func(tx store.Tx) error { return s.record(ctx, tx, refused) }))
	}
	return asked, err
}

func (s *Service) askRollBack(ctx context.Context, by Actor, n NewRollBack) (Asked, error) {
	law, err := s.law(ctx)
	if err != nil {
		return Asked{}, err
	}
	if err := firstOf(by.Require(RollBack), reason(n.Because), by.rollsBackTo(n.In, law.Environments[n.In])); err != nil {
		return Asked{}, err
	}
	a := ask{n.Key, hashOf("roll back", n.Component, n.In, n.To, n.Because)}
	if had, ok, err := s.before(ctx, by, a); err != nil {
		return Asked{}, err
	} else if ok {
		w, _, err := s.db.PromotionByWork(ctx, had.WorkID)
		return Asked{w.Promotion.Number}, err
	}
	if err := oneSwitch(ctx, s.db.Queries, n); err != nil {
		return Asked{}, err
	}
	d, err := s.draftBack(ctx, by, n)
	if err != nil {
		return Asked{}, err
	}
	w := store.Work{ID: store.NewID(), Kind: store.KindPromotion, State: store.StateJudged, RequestedBy: by.ID, Because: n.Because}
	p := store.Promotion{WorkID: w.ID, Component: n.Component, Environment: n.In, Digest: d.plan.Digest, Version: d.version, Plan: d.plan,
		RollBack: true, Undoes: d.plan.Undoes()}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := firstOf(lockHome(ctx, tx, n.Component, n.In), oneSwitch(ctx, tx.Queries, n)); err != nil {
			return err
		}
		if p.Number, err = tx.AddPromotion(ctx, w, p); err != nil {
			return err
		}
		if err := s.keepAnswer(ctx, tx, by, a, w.ID, fmt.Sprintf("promotion %d", p.Number)); err != nil {
			return err
		}
		if err := numbered(store.TopicPromotion, p.Number).tell(ctx, tx, w.State); err != nil {
			return err
		}
		if err := s.queue.Insert(ctx, tx.PGX, PromotionJob{w.ID}); err != nil {
			return err
		}
		return s.record(ctx, tx, promotionEntry(trail.RollBackAsked, by.Name, n.Because, p))
	})
	return Asked{p.Number}, err
}

// oneSwitch refuses a roll back while another is under way, or while a promotion's tags are being pointed. One that has not come so
// far is not in its way.
func oneSwitch(ctx context.Context, q store.Queries, n NewRollBack) error {
	open, err := q.OpenPromotions(ctx, n.Component, n.In)
	if err != nil {
		return err
	}
	for _, o := range open {
		switching := slices.Contains([]string{store.StateSwitching, store.StateGoingBack, store.StateSplit}, o.Work.State)
		if !o.Promotion.RollBack && !switching {
			continue
		}
		remedy := "wait for it, then ask again"
		if o.Work.State == store.StateSplit {
			remedy = fmt.Sprintf("take it back (dovrak stop %[1]d) or go on with it (dovrak resume %[1]d)", o.Promotion.Number)
		}
		return &problem.Problem{
			Kind:   problem.Refused,
			Title:  "Tags are being pointed there already",
			Asked:  "to roll " + n.Component + " back in " + n.In,
			Seen:   fmt.Sprintf("promotion %d, %s, asked by %s", o.Promotion.Number, o.Work.State, o.RequesterName),
			Rule:   "promotions to one environment never interleave",
			Remedy: remedy,
		}
	}
	return nil
}

// draftBack plans a roll back: from what stands in each place to what stood there before. What it goes back to is looked for piece by
// piece in every place, before anything moves.
func (s *Service) draftBack(ctx context.Context, by Actor, n NewRollBack) (draft, error) {
	ctx, cancel := context.WithTimeout(ctx, planDeadline)
	defer cancel()
	law, err := s.law(ctx)
	if err != nil {
		return draft{}, err
	}
	if _, err := law.Before(n.Component, n.In); err != nil {
		return draft{}, err
	}
	d := draft{law: law, env: law.Environments[n.In], before: n.In}
	root, err := s.goesBackTo(ctx, n, d)
	if err != nil {
		return d, err
	}
	at, err := s.wholeIn(ctx, n, d, root)
	if err != nil {
		return d, err
	}
	d.from, d.cargo = at.from, at.cargo
	if d.described, err = s.describeTree(ctx, d.from, d.cargo.Image); err != nil {
		return d, err
	}
	d.version = d.described.Version
	if d.facts, err = s.factsOf(ctx, d.from, root); err != nil {
		return d, err
	}
	d.plan = plan.Promotion{Component: n.Component, Environment: n.In, RollBack: true, Source: d.from.ref.In(), Digest: root,
		Charter: law.Version, Referrers: at.referrers, Gates: lackedNow(law, n, d)}
	stands := true
	for _, to := range at.places {
		place := plan.Place{Repository: to.ref.In()}
		fit, err := s.fitForPush(ctx, by, to)
		if err != nil {
			return d, err
		}
		place.Checked = fit.At
		if place.Copy, err = s.planCopy(ctx, d.from, to, d.cargo, false); err != nil {
			return d, err
		}
		if err := s.draftTags(ctx, d, to, &place); err != nil {
			return d, err
		}
		for _, t := range place.Tags {
			stands = stands && t.From == t.To
		}
		d.plan.Places = append(d.plan.Places, place)
	}
	if stands && n.bound == "" {
		return d, standsAlready(n, root)
	}
	return d, nil
}

func standsAlready(n NewRollBack, root digest.Digest) error {
	return &problem.Problem{
		Kind:   problem.Refused,
		Title:  "This is what stands there",
		Asked:  "to roll " + n.Component + " back in " + n.In,
		Seen:   root.String() + " stands in every place",
		Rule:   "a roll back goes to what stood before",
		Remedy: "name another: dovrak rollback " + n.Component + " --in " + n.In + " --to VERSION, DIGEST or TIME",
	}
}

// lackedNow says of an image that stood there before which platforms it lacks by the rules of now: that does not keep it from coming back.
func lackedNow(law law, n NewRollBack, d draft) []gate.Result {
	missing := plan.Missing(law.Components[n.Component].Platforms, d.cargo.Root(), image.Platform{})
	if len(missing) == 0 || !d.cargo.Root().Index {
		return nil
	}
	return []gate.Result{{Gate: "platforms", Asks: "every platform that the component requires", Verdict: gate.DoesNot, Waived: true,
		Seen: "without " + strings.Join(missing, ", ") + "; it stood here all the same"}}
}

// stood is what stood in an environment, by the standing tag of its first place, oldest first.
func (s *Service) stood(ctx context.Context, component string, env charter.Environment) ([]plan.Stood, error) {
	at, err := s.spot(ctx, env.Places[0].At(component))
	if err != nil {
		return nil, err
	}
	ms, err := s.db.Meanings(ctx, at.at(), env.Standing, time.Time{}, maxStretches)
	if err != nil {
		return nil, err
	}
	var ds []digest.Digest
	for _, m := range ms {
		ds = append(ds, m.ToDigest)
	}
	versions, err := s.versionsOf(ctx, ds)
	var out []plan.Stood
	for i, m := range ms {
		if m.Back && i > 0 { // a switch that went back: what it had made never stood
			out = out[:max(len(out)-1, 0)]
		}
		if m.ToDigest != "" && !m.Back {
			out = append(
				out,
				plan.Stood{Digest: m.ToDigest, Version: versions[m.ToDigest], From: m.SettledAt.UTC(), ByRollBack: m.RollBack},
			)
		}
	}
	return out, err
}

// goesBackTo is the image that a roll back goes to: it has stood there.
func (s *Service) goesBackTo(ctx context.Context, n NewRollBack, d draft) (digest.Digest, error) {
	if n.bound != "" {
		return n.bound, nil
	}
	history, err := s.stood(ctx, n.Component, d.env)
	if err != nil {
		return "", err
	}
	never := &problem.Problem{Kind: problem.Refused, Title: "Nothing stood there to go back to",
		Asked: strings.TrimSpace("to roll " + n.Component + " back in " + n.In + " " + image.Printable(n.To)),
		Seen:  stoodInWords(history), Rule: "a roll back goes to what stood before",
		Remedy: "promote what is to stand there: dovrak promote " + n.Component + " --to " + n.In}
	if n.To == "" {
		at, err := s.spot(ctx, d.env.Places[0].At(n.Component))
		if err != nil {
			return "", err
		}
		now, _, err := s.means(ctx, at, d.env.Standing)
		if err != nil {
			return "", err
		}
		undone, err := s.undoneIn(ctx, n.Component, n.In)
		if err != nil {
			return "", err
		}
		if before, ok := plan.Before(history, now, undone); ok {
			return before.Digest, nil
		}
		return "", never
	}
	if t, err := Moment(n.To); err == nil {
		if stood, ok := plan.At(history, t); ok {
			return stood.Digest, nil
		}
		return "", never
	}
	stood, ok, ambiguous := plan.Named(history, n.To)
	switch {
	case ambiguous:
		never.Kind, never.Title, never.Remedy = problem.Malformed, "Several images are called so", "name the digest whole"
		return "", never
	case !ok:
		never.Title = "This has never stood there"
		never.Remedy = "name one of those, by version, digest or time; or promote it: dovrak promote " + n.Component + " --to " + n.In
		return "", never
	}
	return stood.Digest, nil
}

// stoodInWords lists what stood, newest first, as far as people read.
func stoodInWords(history []plan.Stood) string {
	var out []string
	for _, h := range slices.Backward(history) {
		words := strings.TrimSpace(h.Version + " " + h.Digest.Encoded()[:12])
		if !slices.Contains(out, words) {
			out = append(out, words)
		}
	}
	if len(out) > 8 {
		out = append(out[:8], "…")
	}
	if len(out) == 0 {
		return "Dovrak has pointed nothing there yet"
	}
	return "what stood there: " + strings.Join(out, ", ")
}

func (s *Service) undoneIn(ctx context.Context, component, environment string) ([]digest.Digest, error) {
	rows, err := s.db.Undone(ctx, component, environment)
	out := make([]digest.Digest, len(rows))
	for i, u := range rows {
		out[i] = u.Digest
	}
	return out, err
}

// standby is where an image that is gone back to is whole, and where it is to stand.
type standby struct {
	from      spot
	cargo     plan.Cargo
	places    []spot
	referrers string // what goes along where something must be copied; nothing where all is there
}

// wholeIn asks every place for every piece of an image. Where one lacks something, it is to be copied from a place that has it all: of
// the same environment, or of one before.
func (s *Service) wholeIn(ctx context.Context, n NewRollBack, d draft, root digest.Digest) (standby, error) {
	var out standby
	var places, others []spot
	for _, env := range slices.Backward(d.law.Routes[d.law.Components[n.Component].Route]) {
		for _, p := range d.law.Environments[env].Places {
			at, err := s.spot(ctx, p.At(n.Component))
			if err != nil {
				return out, err
			}
			if env == n.In {
				places = append(places, at)
			} else {
				others = append(others, at)
			}
		}
	}
	var err error
	for _, at := range slices.Concat(places, others) { // what is kept costs no request, wherever it is from
		if out.cargo, err = s.load(ctx, at, root, NoReferrers); err == nil {
			break
		}
	}
	if err != nil {
		return out, s.goneEverywhere(n, root, []string{problem.From(err).Seen})
	}
	out.places, out.referrers = places, NoReferrers
	lacks := make([]string, len(places))
	errs := make([]error, len(places))
	inEach(places, func(i int, at spot) { lacks[i], errs[i] = s.lacksIn(ctx, at, out.cargo) })
	if err := firstOf(errs...); err != nil {
		return out, err
	}
	whole := slices.Index(lacks, "")
	if whole >= 0 {
		out.from = places[whole]
		if !slices.ContainsFunc(lacks, func(l string) bool { return l != "" }) {
			return out, nil
		}
	} else {
		for _, at := range others {
			lack, err := s.lacksIn(ctx, at, out.cargo)
			if err == nil && lack == "" {
				out.from, whole = at, 0
				break
			}
		}
	}
	if whole < 0 {
		return out, s.goneEverywhere(n, root, lacks)
	}
	out.referrers = AllReferrers
	out.cargo, err = s.load(ctx, out.from, root, AllReferrers)
	return out, err
}

// lacksIn says what of an image is not in a place; empty: nothing. What was believed to be whole there is believed no more.
func (s *Service) lacksIn(ctx context.Context, at spot, cargo plan.Cargo) (string, error) {
	have, err := transfer.Look(ctx, at.Repository, cargo)
	if err != nil {
		return "", err
	}
	t := plan.NewCopy(cargo, have).Totals()
	if t.Move == 0 {
		return "", s.db.Hold(ctx, at.at(), cargo.Root().Digest, true)
	}
	return fmt.Sprintf("%s lacks %d of %d pieces", at.ref.In(), t.Move, t.Move+t.Present), s.db.Forget(ctx, at.at(), cargo.Root().Digest)
}

func (s *Service) goneEverywhere(n NewRollBack, root digest.Digest, lacks []string) error {
	return &problem.Problem{
		Kind:  problem.Refused,
		Title: "What it would go back to is gone",
		Asked: "to roll " + n.Component + " back in " +
			n.In + " to " + root.String(),
		Seen:   strings.Join(lacks, "; "),
		Rule:   "content first, tags last",
		Remedy: "name another that stood there (--to), or have its build pushed again and promote it",
	}
}

// backAgain plans a roll back anew that is about to go on: to the same image, from what the tags mean now. Whether it may is false
// where another switch has begun before it.
func (s *Service) backAgain(ctx context.Context, sh *shift, w *store.PromotionWork) (may bool, err error) {
	actor, _, err := s.db.ActorByID(ctx, w.Work.RequestedBy)
	if err != nil {
		return false, err
	}
	n := NewRollBack{Component: w.Promotion.Component, In: w.Promotion.Environment, bound: w.Promotion.Digest}
	now, err := s.mayNow(ctx, s.db.Queries, actor)
	if err != nil {
		return false, endedAs{store.StateRefused, err}
	}
	d, err := s.draftBack(ctx, Actor{ID: w.Work.RequestedBy, Name: w.RequesterName}, n)
	if err == nil {
		err = now.rollsBackTo(n.In, d.env)
	}
	if problem.Is(err, problem.Refused) || problem.Is(err, problem.NotPermitted) {
		return false, endedAs{store.StateRefused, err}
	}
	if err != nil {
		return false, err
	}
	w.Promotion.Plan = plan.KeepCopies(w.Promotion.Plan, d.plan)
	undoes := append(w.Promotion.Undoes, d.plan.Undoes()...)
	slices.Sort(undoes)
	other, busy, err := s.db.Switching(ctx, n.Component, n.In)
	if err != nil {
		return false, err
	}
	if busy = busy && other.Work.ID != w.Work.ID; busy {
		w.Promotion.Plan.Gates = append(w.Promotion.Plan.Gates, otherSwitch(other))
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.SetUndoes(ctx, sh.lease, slices.Compact(undoes)); err != nil {
			return err
		}
		return tx.SetPromotionPlan(ctx, sh.lease, w.Promotion.Plan)
	})
	if err != nil || !busy {
		return err == nil, err
	}
	end, err := s.db.Now(ctx)
	return false, firstOf(err, s.leaveWaiting(ctx, sh, *w, judgement{at: end.Add(workLease)}))
}

// meantAgain reports that an image was rolled back in an environment, and is meant to come there all the same. Where nobody says that it is
// meant, it is refused: a promotion does not silently undo a roll back.
func (s *Service) meantAgain(ctx context.Context, n NewPromotion, root digest.Digest, version string) (bool, error) {
	rows, err := s.db.Undone(ctx, n.Component, n.To)
	if err != nil {
		return false, err
	}
	i := slices.IndexFunc(rows, func(u store.Undone) bool { return u.Digest == root })
	if i < 0 || n.Again {
		return i >= 0, nil
	}
	return false, &problem.Problem{
		Kind:   problem.Refused,
		Title:  "This image was rolled back there",
		Asked:  n.Component + " " + version + " to " + n.To,
		Seen:   fmt.Sprintf("%s was rolled back by %s (promotion %d): %s", root, rows[i].RequesterName, rows[i].Number, rows[i].Because),
		Rule:   "what was rolled back comes back by a deliberate word only",
		Remedy: "promote the image that mends it; or, where this one is well after all, say so: --again",
	}
}
