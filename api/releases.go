package api

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"dovrak/api/wire"
	"dovrak/core/gate"
	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/service"
	"dovrak/store"
)

// releaseRoutes are those of promotions and roll backs.
func releaseRoutes() []route {
	const one = "/api/v1/promotions/:number"
	return []route{
		call(http.MethodPost, "/api/v1/promotion-plans", service.Read, "plan", "What a promotion would do", planPromotion),
		call(http.MethodGet, "/api/v1/promotions", service.Read, "promotions", "Promotions and roll backs, newest first", promotions),
		call(http.MethodPost, "/api/v1/promotions", service.Promote, "promote", "Ask for a promotion", askPromotion).starts(),
		call(http.MethodGet, one, service.Read, "promotionNumbered", "One promotion or roll back", promotionNumbered),
		call(
			http.MethodPost,
			one+"/stop",
			service.Promote,
			"stopPromotion",
			"End one before its tags are pointed, or take back one that is split",
			stopPromotion,
		).or(service.RollBack),
		call(
			http.MethodPost,
			one+"/resume",
			service.Promote,
			"resumePromotion",
			"Go on with one that is split, or begin one again",
			resumePromotion,
		).
			or(service.RollBack),
		call(
			http.MethodPost,
			one+"/review",
			service.Approve,
			"reviewPromotion",
			"Review an emergency, or one that skipped an environment",
			reviewPromotion,
		).or(service.Promote),
		call(http.MethodPost, "/api/v1/roll-back-plans", service.Read, "planRollBack", "What a roll back would do", planRollBack),
		call(http.MethodPost, "/api/v1/roll-backs", service.RollBack, "rollBack", "Ask for a roll back", askRollBack).starts(),
	}
}

type (
	promotionsQuery struct {
		PageQuery
		Component   string `query:"component"   json:"-"`
		Environment string `query:"environment" json:"-"`
		WaitsFor    string `query:"waits-for"   json:"-" enum:"me,review" description:"me: those alone that the one who asks is to agree to; review: that nobody has reviewed yet; all of them, on one page"`
	}
	keyedPromotion struct {
		KeyQuery
		wire.NewPromotion
	}
	keyedRollBack struct {
		KeyQuery
		wire.NewRollBack
	}
	remarkOn struct {
		Number int64 `path:"number" param:"number" json:"-" required:"true"`
		wire.Remark
	}
)

func stopPromotion(ctx context.Context, a *API, by service.Actor, in onNumber) (wire.Promotion, error) {
	w, err := a.service.StopPromotion(ctx, by, in.Number)
	return viewPromotion(w), err
}

func resumePromotion(ctx context.Context, a *API, by service.Actor, in onNumber) (wire.Promotion, error) {
	w, err := a.service.ResumePromotion(ctx, by, in.Number)
	return viewPromotion(w), err
}

func reviewPromotion(ctx context.Context, a *API, by service.Actor, in remarkOn) (wire.Promotion, error) {
	w, err := a.service.ReviewPromotion(ctx, by, in.Number, in.Remark.Remark)
	return viewPromotion(w), err
}

func planRollBack(ctx context.Context, a *API, by service.Actor, in wire.NewRollBackPlan) (wire.Plan, error) {
	p, version, err := a.service.PlanRollBack(ctx, by, service.NewRollBack{Component: in.Component, In: in.In, To: in.To})
	return viewPlan(p, version), err
}

func askRollBack(ctx context.Context, a *API, by service.Actor, in keyedRollBack) (accepted, error) {
	w, err := a.service.AskRollBack(
		ctx,
		by,
		service.NewRollBack{Component: in.Component, In: in.In, To: in.To, Because: in.Because, Key: in.Key},
	)
	return accepted{"/api/v1/promotions/" + strconv.FormatInt(w.Number, 10), w.Number}, err
}

// chosen reads which image a promotion is of.
func chosen(in wire.Chosen) (service.NewPromotion, error) {
	n := service.NewPromotion{From: in.From, Version: in.Version, Build: in.Build}
	if in.Image == "" {
		return n, nil
	}
	d, err := image.ParseDigest(in.Image)
	n.Image = d
	return n, err
}

func planPromotion(ctx context.Context, a *API, by service.Actor, in wire.NewPlan) (wire.Plan, error) {
	n, err := chosen(in.Chosen)
	if err != nil {
		return wire.Plan{}, err
	}
	n.Component, n.To, n.Referrers, n.Emergency, n.Again = in.Component, in.To, in.Referrers, in.Emergency, in.Again
	p, version, err := a.service.PlanPromotion(ctx, by, n)
	return viewPlan(p, version), err
}

func promotions(ctx context.Context, a *API, by service.Actor, in promotionsQuery) (wire.Promotions, error) {
	if in.WaitsFor != "" {
		waiting := a.service.WaitsFor
		if in.WaitsFor == "review" {
			waiting = a.service.Unreviewed
		}
		rows, err := waiting(ctx, by)
		return wire.Promotions{Items: each(rows, viewPromotion)}, err
	}
	page, err := in.page()
	if err != nil {
		return wire.Promotions{}, err
	}
	rows, err := a.service.Promotions(ctx, by, page, in.Component, in.Environment)
	rows, next := cut(rows, in.limit(), func(p store.PromotionWork) int64 { return p.Promotion.Number })
	return wire.Promotions{Items: each(rows, viewPromotion), Next: next}, err
}

func askPromotion(ctx context.Context, a *API, by service.Actor, in keyedPromotion) (accepted, error) {
	n, err := chosen(in.Chosen)
	if err != nil {
		return accepted{}, err
	}
	n.Component, n.To, n.Because, n.Referrers, n.Key = in.Component, in.To, in.Because, in.Referrers, in.Key
	n.Emergency, n.Again = in.Emergency, in.Again
	w, err := a.service.AskPromotion(ctx, by, n)
	return accepted{"/api/v1/promotions/" + strconv.FormatInt(w.Number, 10), w.Number}, err
}

func promotionNumbered(ctx context.Context, a *API, by service.Actor, in numbered) (wire.Promotion, error) {
	p, err := a.service.PromotionNumbered(ctx, by, in.Number)
	return viewPromotion(p), err
}

func viewPlan(p plan.Promotion, version string) wire.Plan {
	return wire.Plan{
		Component:   p.Component,
		Environment: p.Environment,
		From:        p.From,
		Emergency:   p.Emergency,
		Skips:       p.Skips,
		RollBack:    p.RollBack,
		Again:       p.Again,
		Binding:     p.Binding(),
		Source:      p.Source,
		Digest:      p.Digest.String(),
		Version:     version,
		Charter:     p.Charter,
		Places:      each(p.Places, viewPlanPlace),
		Gates:       each(p.Gates, viewGate),
		Expires:     unlessZero(p.Expires),
	}
}

func viewGate(r gate.Result) wire.Gate {
	return wire.Gate{
		Gate:    image.Printable(r.Gate),
		Asks:    image.Printable(r.Asks),
		Verdict: string(r.Verdict),
		Seen:    image.Printable(r.Seen),
		Wants:   image.Printable(r.Wants),
		Comes:   string(r.Comes),
		Waived:  r.Waived,
		At:      unlessZero(r.At),
	}
}

func unlessZero(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return utc(&t)
}

func viewPlanPlace(p plan.Place) wire.PlanPlace {
	t := p.Copy.Totals()
	return wire.PlanPlace{
		Checked:      p.Checked.UTC(),
		Repository:   p.Repository,
		Move:         t.Move,
		MoveBytes:    t.MoveBytes,
		Present:      t.Present,
		PresentBytes: t.PresentBytes,
		Tags: each(p.Tags, func(c plan.TagChange) wire.PlanTag {
			return wire.PlanTag{Tag: c.Tag, Kind: string(c.Kind), From: c.From.String(), To: c.To.String()}
		}),
		Stays: each(p.Stays, func(t plan.TagStays) wire.PlanStays {
			return wire.PlanStays{Tag: t.Tag, From: t.From.String(), Why: t.Why}
		}),
	}
}

func viewStand(s plan.Stand) wire.TagStand {
	return wire.TagStand{
		Repository: s.Repository,
		Tag:        s.Tag,
		Kind:       string(s.Kind),
		Before:     s.Before.String(),
		Wanted:     s.Wanted.String(),
		Means:      s.Means.String(),
		Seen:       unlessZero(s.At),
		Why:        s.Why,
		Platforms: each(s.Platforms, func(r plan.Resolved) wire.Resolved {
			return wire.Resolved{Platform: r.Platform, Digest: r.Digest.String()}
		}),
	}
}

func viewPromotion(p store.PromotionWork) wire.Promotion {
	out := wire.Promotion{
		Work:        viewWork(p.Work, p.Promotion.Number, p.RequesterName),
		Component:   p.Promotion.Component,
		Environment: p.Promotion.Environment,
		Digest:      p.Promotion.Digest.String(),
		Version:     p.Promotion.Version,
		Because:     p.Work.Because,
		Plan:        viewPlan(p.Promotion.Plan, p.Promotion.Version),
		RollBack:    p.Promotion.RollBack,
		Stands:      each(p.Promotion.Stands, viewStand),
		Unreviewed:  p.Promotion.Unreviewed(),
	}
	if p.Promotion.ReviewedAt != nil {
		out.Review = &wire.Review{By: p.Promotion.Reviewer, At: p.Promotion.ReviewedAt.UTC(), Remark: p.Promotion.Review}
	}
	return out
}

func viewOpen(w store.PromotionWork) wire.OpenPromotion {
	return wire.OpenPromotion{
		Number:      w.Promotion.Number,
		RollBack:    w.Promotion.RollBack,
		Environment: w.Promotion.Environment,
		State:       w.Work.State,
		Version:     w.Promotion.Version,
		By:          w.RequesterName,
		Asked:       w.Work.AskedAt.UTC(),
		Progress:    each(w.Work.Progress, viewProgress),
	}
}
