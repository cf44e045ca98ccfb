package service

import (
	"context"
	"slices"
	"time"

	"dovrak/core/life"
	"dovrak/store"
)

// Life is a component's images on their way along its route.
type Life struct {
	Component string
	Platforms []string
	Route     []string
	Row       StandingRow // what stands where
	Images    []life.Image
	Leads     []life.Lead
}

// How far back a component's life is looked at.
const (
	maxLifeBuilds     = 100
	maxLifePromotions = 500
)

// LifeOf tells how the images of a component got along its route, and how long that takes. It asks no registry.
func (s *Service) LifeOf(ctx context.Context, by Actor, component string) (Life, error) {
	if err := by.Require(Read); err != nil {
		return Life{}, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return Life{}, err
	}
	comp, err := law.Component(component)
	if err != nil {
		return Life{}, err
	}
	out := Life{Component: component, Platforms: comp.Platforms, Route: law.Routes[comp.Route]}
	builds, err := s.db.Builds(ctx, store.Page{Limit: maxLifeBuilds}, component, false)
	if err != nil {
		return out, err
	}
	var made []life.Made
	for _, b := range builds {
		if b.Build.Digest != "" {
			made = append(
				made,
				life.Made{Digest: b.Build.Digest, Version: b.Build.Version, Build: b.Build.Run, Reported: b.Work.AskedAt.UTC()},
			)
		}
	}
	done, err := s.db.DonePromotions(ctx, component, maxLifePromotions)
	if err != nil {
		return out, err
	}
	var passed []life.Passage
	for _, p := range done {
		passed = append(
			passed,
			life.Passage{Number: p.Number, Environment: p.Environment, Digest: p.Digest, Version: p.Version, RollBack: p.RollBack,
				Asked: p.AskedAt.UTC(), Approved: unlessNil(p.ApprovedAt), Verified: p.EndedAt.UTC()},
		)
	}
	first, err := s.stood(ctx, component, law.Environments[out.Route[0]]) // where builds go, and nothing is promoted to
	if err != nil {
		return out, err
	}
	for _, f := range first {
		passed = append(
			passed,
			life.Passage{Environment: out.Route[0], Digest: f.Digest, Version: f.Version, Asked: f.From, Verified: f.From},
		)
	}
	out.Images, out.Leads = life.Of(out.Route, made, passed)
	st, err := s.Standing(ctx, by)
	i := slices.IndexFunc(st.Rows, func(r StandingRow) bool { return r.Component == component })
	if err == nil && i >= 0 {
		out.Row = st.Rows[i]
	}
	return out, err
}

func unlessNil(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return t.UTC()
}
