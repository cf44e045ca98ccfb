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

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// judgement is what the gates and freezes of an environment say of a promotion.
type judgement struct {
	results  []gate.Result
	decision gate.Decision
	at       time.Time // when waiting for time alone may have an end; zero: it is not time that is waited for
}

// said is who has asked for a promotion, and what others have said of it so far.
type said struct {
	requester  string
	requesters []string // the persons that may be behind the request
	approvals  []gate.Approval
	expires    time.Time // until when it waits; zero: it is asked only now
	work       uuid.UUID // the promotion's; zero likewise
}

// judgeGates asks the gates and freezes of the environment that a draft goes to, and whether those have agreed who must.
func (s *Service) judgeGates(ctx context.Context, p said, d draft) (judgement, error) {
	cond := d.env.Conditions()
	f, err := s.gateFacts(ctx, p.requester, d)
	if err != nil {
		return judgement{}, err
	}
	j := judgement{results: gate.Judge(ctx, cond.Gates, f)}
	frozen := gate.Frozen(cond.Freezes, f.Now)
	if d.plan.Emergency {
		gate.Waive(j.results, func(name string) bool { return slices.Contains(d.env.Emergency.Waives, name) })
		gate.Waive(frozen, func(string) bool { return true })
	}
	j.results = append(j.results, frozen...)
	if rule := d.env.AgreementTo(d.plan.Emergency, d.plan.Skips); rule.Count > 0 {
		w := gate.Wanted{Rule: rule, Bound: d.plan.Binding(), Requesters: p.requesters, Now: f.Now}
		j.results = append(j.results, gate.Agreement(w, p.approvals))
	}
	other, busy, err := s.db.Switching(ctx, d.plan.Component, d.plan.Environment)
	if err != nil {
		return judgement{}, err
	}
	if busy && other.Work.ID != p.work {
		j.results = append(j.results, otherSwitch(other))
	}
	end := p.expires
	if end.IsZero() {
		end = expiry(d.env, f.Now)
	}
	gate.Until(j.results, end)
	j.decision, j.at = gate.Decide(j.results)
	return j, ctx.Err()
}

// otherSwitch holds a promotion back while the tags of another are being pointed at the same home: the end of that wakes it.
func otherSwitch(o store.PromotionWork) gate.Result {
	n := number(o.Promotion.Number)
	return gate.Result{Gate: "one switch", Asks: "no other switch is under way there", Verdict: gate.DoesNot, Comes: gate.ByOther,
		Seen: "promotion " + n + " is " + o.Work.State, Wants: "the end of promotion " + n}
}

// gateFacts gathers what gates may ask. What is known costs no request.
func (s *Service) gateFacts(ctx context.Context, requester string, d draft) (gate.Facts, error) {
	now, err := s.db.Now(ctx)
	if err != nil {
		return gate.Facts{}, err
	}
	f := gate.Facts{Component: d.plan.Component, Environment: d.plan.Environment, From: d.before, Now: now, Requester: requester,
		Stood: map[string]time.Time{}, Required: d.law.Components[d.plan.Component].Platforms}
	if len(d.env.Conditions().Gates) == 0 { // freezes need the time alone
		return f, nil
	}
	f.Image = imageFacts(d)
	if f.Build, err = s.buildFactsOf(ctx, d, &f.Image); err != nil {
		return f, err
	}
	if f.Evidence, err = s.vouchedFor(ctx, d); err != nil {
		return f, err
	}
	if f.Standing, err = s.standsThere(ctx, d); err != nil {
		return f, err
	}
	for _, env := range d.law.Routes[d.law.Components[d.plan.Component].Route] {
		since, ok, err := s.stoodSince(ctx, d, env)
		if err != nil {
			return f, err
		}
		if ok {
			f.Stood[env] = since
		}
	}
	return f, nil
}

func imageFacts(d draft) gate.Image {
	root := d.cargo.Root()
	img := gate.Image{Digest: root.Digest.String(), Version: d.version, Size: d.described.Size, Platforms: []string{},
		Annotations: root.Annotations, Labels: map[string]string{}, Base: image.BaseOf(root).Name}
	if d.described.Created != nil {
		img.Created = *d.described.Created
	}
	for i, m := range d.described.Members {
		img.Platforms = append(img.Platforms, m.Platform.String())
		if i == 0 {
			for k, v := range m.Config.Labels {
				img.Labels[k] = v
			}
		}
		for k, v := range img.Labels {
			if m.Config.Labels[k] != v {
				delete(img.Labels, k)
			}
		}
	}
	return img
}

// buildFactsOf tells of the build that made the image, as its pipeline reported it.
func (s *Service) buildFactsOf(ctx context.Context, d draft, img *gate.Image) (gate.Build, error) {
	builds, err := s.db.BuildsMaking(ctx, []digest.Digest{d.plan.Digest})
	if err != nil {
		return gate.Build{}, err
	}
	out := gate.Build{}
	for _, b := range builds {
		if b.Build.Component == d.plan.Component {
			out = gate.Build{Known: true, Number: b.Build.Run, Branch: b.Build.Branch, Commit: b.Build.Revision, Started: b.Work.AskedAt}
			if b.Build.Base != "" {
				img.Base = b.Build.Base
			}
			break
		}
	}
	attested, err := s.evidenceOf(ctx, d.from, Image{Description: d.described, Referrers: Referrers{All: attachedTo(d.cargo)}})
	for _, a := range attested.Attestations {
		out.Attested = out.Attested || a.Fits && a.Key != ""
	}
	return out, err
}

// attachedTo is what refers to an image, as its description would list it.
func attachedTo(c plan.Cargo) []image.Beside {
	var out []image.Beside
	for _, a := range c.Attached {
		out = append(out, image.BesideOf(a.As, a.Subject))
	}
	return out
}

func (s *Service) vouchedFor(ctx context.Context, d draft) ([]gate.Evidence, error) {
	vouches, err := s.db.Vouches(ctx, []digest.Digest{d.plan.Digest})
	out := []gate.Evidence{}
	for _, v := range vouches {
		e := gate.Evidence{Claim: v.Claim, Passed: v.Verdict == "passed", By: v.ActorName, At: v.At}
		if v.ExpiresAt != nil {
			e.Expires = *v.ExpiresAt
		}
		if v.Platform == "" { // of the whole
			out = append(out, e)
		}
	}
	return out, err
}

// standsThere is what the first place of the environment means by its standing tag.
func (s *Service) standsThere(ctx context.Context, d draft) (gate.Standing, error) {
	at, err := s.spot(ctx, d.env.Places[0].At(d.plan.Component))
	if err != nil {
		return gate.Standing{}, err
	}
	now, _, err := s.means(ctx, at, d.env.Standing)
	if err != nil || now == "" {
		return gate.Standing{}, err
	}
	sum, err := s.summary(ctx, at, now)
	return gate.Standing{Digest: now.String(), Version: sum.Version, Size: sum.Size}, err
}

// stoodSince is since when all places of an environment mean the image by their standing tag, as Dovrak has pointed it.
func (s *Service) stoodSince(ctx context.Context, d draft, environment string) (since time.Time, ok bool, err error) {
	env := d.law.Environments[environment]
	for _, p := range env.Places {
		at, err := s.spot(ctx, p.At(d.plan.Component))
		if err != nil {
			return since, false, err
		}
		began, stands, err := s.db.MeansSince(ctx, at.at(), env.Standing, d.plan.Digest)
		if err != nil || !stands {
			return since, false, err
		}
		if began.After(since) {
			since = began
		}
	}
	return since, true, nil
}

// refused is the refusal of a promotion by its gates.
func refused(n NewPromotion, charter int64, results []gate.Result) *problem.Problem {
	var seen, wants []string
	for _, r := range results {
		if r.Open() && r.Comes == "" {
			seen = append(seen, fmt.Sprintf("%q %s: %s", r.Gate, r.Verdict, r.Seen))
			wants = append(wants, r.Wants)
		}
	}
	return &problem.Problem{
		Kind:   problem.Refused,
		Title:  "A gate does not let this promotion pass",
		Asked:  n.Component + " to " + n.To,
		Seen:   strings.Join(seen, "; "),
		Rule:   fmt.Sprintf("gates of %s, charter %d", n.To, charter),
		Remedy: strings.Join(slices.Compact(wants), "; "),
	}
}

// waitsFor says in words what a promotion waits for.
func waitsFor(results []gate.Result) string {
	var out []string
	for _, r := range results {
		if r.Open() {
			out = append(out, r.Gate+": "+r.Wants)
		}
	}
	return strings.Join(out, "; ")
}

// endedAs is an error that ends a work in a state of its own.
type endedAs struct {
	state string
	error
}

func (e endedAs) Unwrap() error { return e.error }

// judgeAgain judges a promotion that is about to go on, by the charter of now. Whether it may is false where it waits, and then it
// has been given back. What has changed since it was judged last is written down: an approval of the old plan says nothing of the new.
func (s *Service) judgeAgain(ctx context.Context, sh *shift, w *store.PromotionWork) (may bool, err error) {
	n := NewPromotion{Component: w.Promotion.Component, To: w.Promotion.Environment, Because: w.Work.Because,
		From: w.Promotion.Plan.From, Emergency: w.Promotion.Plan.Emergency,
		Referrers: w.Promotion.Plan.Referrers, Again: w.Promotion.Plan.Again, bound: w.Promotion.Digest}
	if err := s.db.Judging(ctx, sh.lease); err != nil {
		return false, err
	}
	if w.Promotion.RollBack {
		return s.backAgain(ctx, sh, w)
	}
	d, err := s.draft(ctx, Actor{ID: w.Work.RequestedBy, Name: w.RequesterName}, n)
	if problem.Is(err, problem.Refused) || problem.Is(err, problem.NotFound) {
		return false, endedAs{store.StateRefused, err} // a charter of now, or a registry, has no room for it any more
	}
	if err != nil {
		return false, err
	}
	if err := s.stillMayAsk(ctx, w.Work.RequestedBy, d); err != nil {
		return false, err
	}
	words, err := s.saidOf(ctx, *w, d.law)
	if err != nil {
		return false, err
	}
	j, err := s.judgeGates(ctx, words, d)
	if err != nil {
		return false, err
	}
	old := w.Promotion.Plan
	changed := plan.Changed(old, d.plan)
	w.Promotion.Plan = plan.KeepCopies(old, d.plan)
	w.Promotion.Plan.Gates, w.Promotion.Plan.Expires = j.results, old.Expires
	now, err := s.db.Now(ctx)
	if err != nil {
		return false, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.SetPromotionPlan(ctx, sh.lease, w.Promotion.Plan); err != nil || changed == "" {
			return err
		}
		e := promotionEntry(trail.PromotionJudged, w.RequesterName, w.Work.Because, w.Promotion)
		e.facts["changed"] = changed
		return s.record(ctx, tx, e)
	})
	switch {
	case err != nil:
		return false, err
	case j.decision == gate.Refuse:
		return false, endedAs{store.StateRefused, refused(n, d.law.Version, j.results)}
	case j.decision == gate.Go:
		return true, nil
	case !now.Before(old.Expires):
		return false, endedAs{store.StateExpired, expired(n, j.results)}
	}
	return false, s.leaveWaiting(ctx, sh, *w, j)
}

func expired(n NewPromotion, results []gate.Result) *problem.Problem {
	return &problem.Problem{Kind: problem.Refused, Title: "This promotion has waited too long", Asked: n.Component + " to " + n.To,
		Seen: waitsFor(results), Rule: "waits of " + n.To, Remedy: "ask again when it is met"}
}

// leaveWaiting gives a promotion back until something that it waits for may have come.
func (s *Service) leaveWaiting(ctx context.Context, sh *shift, w store.PromotionWork, j judgement) error {
	return s.db.Tx(ctx, func(tx store.Tx) error {
		woken, err := tx.LeaveWaiting(ctx, sh.lease)
		if err != nil {
			return err
		}
		if woken {
			err = s.queue.Insert(ctx, tx.PGX, PromotionJob{w.Work.ID})
		} else {
			err = s.wakeLater(ctx, tx, w, j)
		}
		if err != nil {
			return err
		}
		return sh.what.tell(ctx, tx, store.StateWaiting)
	})
}

// wakeLater has a waiting promotion judged again when its time has come, or when it expires.
func (s *Service) wakeLater(ctx context.Context, tx store.Tx, w store.PromotionWork, j judgement) error {
	at := w.Promotion.Plan.Expires
	if !j.at.IsZero() && j.at.Before(at) {
		at = j.at
	}
	return s.queue.InsertAt(ctx, tx.PGX, PromotionJob{w.Promotion.WorkID}, at)
}

// wakeWaiting has the waiting promotions judged again that something may concern: an image, a repository, or all.
func (s *Service) wakeWaiting(ctx context.Context, tx store.Tx, about store.WaitingFor) error {
	works, err := tx.WakePromotions(ctx, about)
	for _, w := range works {
		err = errors.Join(err, s.queue.Insert(ctx, tx.PGX, PromotionJob{w}))
	}
	return err
}

// expiry is when a promotion that is asked now has waited long enough.
func expiry(env charter.Environment, now time.Time) time.Time { return now.Add(env.Waits()) }
