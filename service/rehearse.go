package service

import (
	"context"
	"maps"
	"slices"

	"dovrak/core/charter"
	"dovrak/core/gate"
	"dovrak/core/image"
	"dovrak/core/problem"

	"golang.org/x/sync/errgroup"
)

// rehearsedAtOnce is how many promotions, or places, are tried side by side.
const rehearsedAtOnce = 8

// Rehearsed is what would become of a component's next promotion to an environment: by the charter in force, and by another.
type Rehearsed struct{ Component, Environment, Now, Then string }

// Rehearse tells what a charter would change for the next promotion of every component to every environment of its route, as if each
// was asked at this moment. Nothing is asked for, and nothing changes.
func (s *Service) Rehearse(ctx context.Context, by Actor, document string) ([]Rehearsed, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	parsed, err := charter.ParseNew([]byte(document))
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, planDeadline)
	defer cancel()
	now, err := s.lawIfAny(ctx)
	if err != nil {
		return nil, err
	}
	then := law{Charter: parsed, Version: now.Version + 1, Stored: now.Stored}
	out := steps(now, then)
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(rehearsedAtOnce)
	for i := range out {
		g.Go(func() (err error) {
			n := NewPromotion{Component: out[i].Component, To: out[i].Environment}
			if out[i].Now, err = s.outcomeBy(ctx, by, n, now); err == nil {
				out[i].Then, err = s.outcomeBy(ctx, by, n, then)
			}
			return err
		})
	}
	return out, g.Wait()
}

// steps are the promotions that either charter knows of: each component to each environment of its route but the first.
func steps(charters ...law) []Rehearsed {
	var out []Rehearsed
	seen := map[Rehearsed]bool{}
	for _, c := range charters {
		for _, name := range slices.Sorted(maps.Keys(c.Components)) {
			for i, env := range c.Routes[c.Components[name].Route] {
				r := Rehearsed{Component: name, Environment: env}
				if i > 0 && !seen[r] {
					seen[r] = true
					out = append(out, r)
				}
			}
		}
	}
	return out
}

// outcomeBy says in words what a charter makes of a promotion.
func (s *Service) outcomeBy(ctx context.Context, by Actor, n NewPromotion, law law) (string, error) {
	d, err := s.draftBy(ctx, by, n, law)
	var j judgement
	if err == nil {
		j, err = s.judgeGates(ctx, said{requester: by.Name}, d)
	}
	switch p := problem.From(err); {
	case err != nil && (p.Kind == problem.Internal || ctx.Err() != nil):
		return "", err
	case err != nil:
		return "refused: " + p.Title + ": " + p.Seen, nil
	case j.decision == gate.Refuse:
		return "refused: " + refused(n, law.Version, j.results).Seen, nil
	case j.decision == gate.Wait:
		return "waits: " + waitsFor(j.results), nil
	}
	return "goes", nil
}

// PlaceCheck is what a registry says of a place that a charter names. Fails is why images cannot be kept there; nil: they can.
type PlaceCheck struct {
	Component, Environment, Repository string
	Fails                              *problem.Problem
}

// CheckPlaces asks the registries whether every place that a charter names can be written to.
func (s *Service) CheckPlaces(ctx context.Context, by Actor, document string) ([]PlaceCheck, error) {
	if err := by.Require(Keep); err != nil {
		return nil, err
	}
	parsed, err := charter.ParseNew([]byte(document))
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, planDeadline)
	defer cancel()
	var out []PlaceCheck
	var refs []image.Reference
	for _, name := range slices.Sorted(maps.Keys(parsed.Components)) {
		for _, env := range parsed.Routes[parsed.Components[name].Route] {
			for _, p := range parsed.Environments[env].Places {
				ref := p.At(name)
				out, refs = append(out, PlaceCheck{Component: name, Environment: env, Repository: ref.In()}), append(refs, ref)
			}
		}
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(rehearsedAtOnce)
	for i, ref := range refs {
		g.Go(func() error {
			at, err := s.spot(ctx, ref)
			if err == nil {
				_, err = s.fitForPush(ctx, by, at)
			}
			if err != nil && ctx.Err() == nil {
				out[i].Fails, err = problem.From(err), nil
			}
			return err
		})
	}
	return out, g.Wait()
}
