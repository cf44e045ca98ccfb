package service

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"dovrak/core/charter"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/store"
)

// Destination is a repository that Dovrak may write to: a place of the charter, or one that was declared by hand. What
// is nil is not known.
type Destination struct {
	Ref                      image.Reference
	Component, Environment   string // of a place of the charter
	Owner                    string // of one declared by hand
	By                       string // who declared it
	At                       *time.Time
	TagsFixed, Public, There *bool
	SeenAt                   *time.Time
}

// destinations are the charter's places, one for each component, in order.
func (l law) destinations() []Destination {
	var out []Destination
	for _, env := range l.Order() {
		for _, name := range slices.Sorted(maps.Keys(l.Components)) {
			if !slices.Contains(l.Routes[l.Components[name].Route], env) {
				continue
			}
			for _, p := range l.Environments[env].Places {
				out = append(out, Destination{Ref: p.At(name), Component: name, Environment: env})
			}
		}
	}
	return out
}

// Destinations lists the repositories that Dovrak may write to.
func (s *Service) Destinations(ctx context.Context, by Actor) ([]Destination, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	out, err := s.allDestinations(ctx)
	if err != nil {
		return nil, err
	}
	for i := range out {
		r, ok, err := s.db.RegistryNamed(ctx, out[i].Ref.Registry)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		k, _, err := s.db.KnownRepository(ctx, store.Spot{RegistryID: r.ID, Repository: out[i].Ref.Repository})
		if err != nil {
			return nil, err
		}
		out[i].TagsFixed, out[i].Public, out[i].There, out[i].SeenAt = k.TagsFixed, k.Public, k.There, k.SeenAt
	}
	return out, nil
}

func (s *Service) allDestinations(ctx context.Context) ([]Destination, error) {
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return nil, err
	}
	out := law.destinations()
	rows, err := s.db.Declared(ctx)
	for _, r := range rows {
		ref := image.Reference{Registry: r.RegistryName, Repository: r.Repository.Repository}
		if !slices.ContainsFunc(out, func(d Destination) bool { return d.Ref == ref }) {
			out = append(out, Destination{Ref: ref, Owner: r.Repository.Owner, By: r.DeclaringName, At: r.Repository.DeclaredAt})
		}
	}
	return out, err
}

// Declare lets Dovrak write to a repository that no charter names. The registry is not asked: the repository need not be
// there yet.
func (s *Service) Declare(ctx context.Context, by Actor, ref image.Reference, owner string, tagsFixed *bool) error {
	if err := by.Require(Keep); err != nil {
		return err
	}
	if owner == "" || len(owner) > 200 || image.Printable(owner) != owner {
		return &problem.Problem{Kind: problem.Malformed, Title: "A declared repository has an owner", Asked: ref.In(),
			Seen: "no owner, or one that is no name", Remedy: "say who answers for it: --owner NAME"}
	}
	at, err := s.spot(ctx, ref)
	if err != nil {
		return err
	}
	row := store.Repository{RegistryID: at.conn.ID, Repository: ref.Repository, Owner: owner, TagsFixed: tagsFixed, DeclaredBy: &by.ID}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.Declare(ctx, row); err != nil {
			return err
		}
		return s.record(ctx, tx, entry{act: trail.Declared, actor: by.Name, subject: ref.In(), sealed: map[string]string{"owner": owner}})
	})
}

// Undeclare ends that Dovrak may write to a repository that was declared by hand.
func (s *Service) Undeclare(ctx context.Context, by Actor, ref image.Reference) error {
	if err := by.Require(Keep); err != nil {
		return err
	}
	at, err := s.spot(ctx, ref)
	if err != nil {
		return err
	}
	k, _, err := s.db.KnownRepository(ctx, at.at())
	if err != nil {
		return err
	}
	if k.DeclaredBy == nil {
		return &problem.Problem{Kind: problem.NotFound, Title: "This repository was not declared by hand", Asked: ref.In(),
			Remedy: "dovrak registry destinations lists them; a place of the charter is ended by a new charter"}
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		k.Owner, k.DeclaredBy = "", nil
		if err := tx.Declare(ctx, k); err != nil {
			return err
		}
		return s.record(ctx, tx, entry{act: trail.Undeclared, actor: by.Name, subject: ref.In()})
	})
}

// undeclared reports whether Dovrak may not write to a repository.
func (s *Service) undeclared(ctx context.Context, r store.Registry, ref image.Reference) (bool, error) {
	law, err := s.lawIfAny(ctx)
	if err != nil || law.HomeOf(ref) != (charter.Home{}) {
		return false, err
	}
	k, _, err := s.db.KnownRepository(ctx, store.Spot{RegistryID: r.ID, Repository: ref.Repository})
	return k.DeclaredBy == nil, err
}

// mayWrite refuses to write to a repository that nobody declared: some registries make a new one out of a slip of typing.
func (s *Service) mayWrite(ctx context.Context, at spot) error {
	no, err := s.undeclared(ctx, at.conn.Registry, at.ref)
	if err != nil || !no {
		return err
	}
	all, err := s.allDestinations(ctx)
	if err != nil {
		return err
	}
	names := make([]string, len(all))
	for i, d := range all {
		names[i] = d.Ref.In()
	}
	p := &problem.Problem{
		Kind:   problem.Refused,
		Title:  "Dovrak does not write to this repository",
		Asked:  at.ref.In(),
		Seen:   "a repository that neither the charter names nor anyone declared",
		Rule:   "destinations are declared",
		Remedy: "declare it: dovrak registry declare " + at.ref.In() + " --owner NAME",
	}
	if near := cmp.Or(image.Nearest(at.ref.In(), names), sameEnd(at.ref, all)); near != "" {
		p.Remedy = "did you mean " + near + "? If not, " + p.Remedy
	}
	return p
}

// sameEnd finds a destination whose path ends as the one asked for, under another project or registry.
func sameEnd(ref image.Reference, all []Destination) string {
	end := ref.Repository[strings.LastIndexByte(ref.Repository, '/')+1:]
	for _, d := range all {
		if d.Ref.Repository == end || strings.HasSuffix(d.Ref.Repository, "/"+end) {
			return d.Ref.In()
		}
	}
	return ""
}

// rulesOf gives the rules for tags in a repository.
func (s *Service) rulesOf(ctx context.Context, law law, at spot) (rules tagging.Rules, err error) {
	if h := law.HomeOf(at.ref); h != (charter.Home{}) {
		if rules, err = s.homeRules(ctx, law, h); err != nil {
			return rules, err
		}
	}
	k, _, err := s.db.KnownRepository(ctx, at.at())
	rules.NoOverwrite = k.TagsFixed != nil && *k.TagsFixed
	return rules, err
}

// homeRules are the rules for a component's tags in an environment, with the branches that its builds have.
func (s *Service) homeRules(ctx context.Context, law law, h charter.Home) (rules tagging.Rules, err error) {
	rules = law.Environments[h.Environment].Rules(h.Environment)
	rules.First = law.Routes[law.Components[h.Component].Route][0] == h.Environment
	rules.Branches, err = s.db.Branches(ctx, h.Component)
	return rules, err
}
