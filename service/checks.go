package service

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/store"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Check is what a registry was seen to permit.
type Check struct {
	Registry   string
	Repository string // in which permissions were looked at; empty: in none
	At         time.Time
	Steps      []CheckStep
}

// CheckStep is one thing that was checked.
type CheckStep = registry.Step

// Step gives one step's result, [registry.NotTried] where there is none.
func (c Check) Step(name string) CheckStep {
	for _, s := range c.Steps {
		if s.Name == name {
			return s
		}
	}
	return CheckStep{Name: name, Result: registry.NotTried}
}

// Fails is the first step that fails; false if none does.
func (c Check) Fails() (CheckStep, bool) {
	for _, s := range c.Steps {
		if s.Result == registry.Fails {
			return s, true
		}
	}
	return CheckStep{}, false
}

// NewCheck says what to check. For holds permissions that will be used: pull, push, delete. None means pull, and push
// where the repository is declared.
type NewCheck struct {
	Repository string // empty: one that the charter names in this registry
	For        []string
}

// checkedFor is how long a check of a place counts for a promotion's plan.
const checkedFor = 24 * time.Hour

// CheckRegistry finds out what a registry permits, and keeps it with its time. It needs the permission to copy, since
// that is what it tries.
func (s *Service) CheckRegistry(ctx context.Context, by Actor, name string, n NewCheck) (Check, error) {
	if err := by.Require(Copy); err != nil {
		return Check{}, err
	}
	for _, f := range n.For {
		if !slices.Contains([]string{"pull", "push", "delete"}, f) {
			return Check{}, &problem.Problem{Kind: problem.Malformed, Title: "This cannot be checked for", Asked: image.Printable(f),
				Remedy: "name pull, push or delete"}
		}
	}
	r, err := s.registryNamed(ctx, name)
	if err != nil {
		return Check{}, err
	}
	if n.Repository == "" {
		if n.Repository, err = s.placeIn(ctx, name); err != nil {
			return Check{}, err
		}
	} else if _, err := image.ParseRepository(name + "/" + n.Repository); err != nil {
		return Check{}, err
	}
	return s.check(ctx, by, r, n)
}

// placeIn is the first repository that the charter names in a registry, or empty.
func (s *Service) placeIn(ctx context.Context, registry string) (string, error) {
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return "", err
	}
	for _, d := range law.destinations() {
		if d.Ref.Registry == registry {
			return d.Ref.Repository, nil
		}
	}
	return "", nil
}

func (s *Service) check(ctx context.Context, by Actor, r store.Registry, n NewCheck) (Check, error) {
	o, err := s.checkOptions(ctx, r, n)
	if err != nil {
		return Check{}, err
	}
	cfg, err := s.conns.config(r)
	if err != nil {
		return Check{}, err
	}
	conn, err := s.conns.to(r)
	if err != nil {
		return Check{}, err
	}
	cfg.Pace, cfg.Attempts = conn.budget, 2
	client, err := registry.New(cfg) // a new one, so that the sign-in is made and not remembered
	if err != nil {
		return Check{}, err
	}
	defer client.Close()
	found := client.Check(ctx, o)
	if err := ctx.Err(); err != nil {
		return Check{}, err
	}
	raw, err := json.Marshal(found.Steps)
	if err != nil {
		return Check{}, err
	}
	row, err := s.db.AddCheck(ctx, store.Check{ID: store.NewID(), RegistryID: r.ID, Repository: n.Repository, AskedBy: by.ID, Steps: raw})
	if err == nil && n.Repository != "" {
		err = s.db.Noticed(ctx, store.Spot{RegistryID: r.ID, Repository: n.Repository}, found.There, found.Public)
	}
	if err == nil {
		err = s.db.Tx(ctx, func(tx store.Tx) error { return tx.Tell(ctx, store.TopicRegistry, map[string]string{"name": r.Name}) })
	}
	return Check{r.Name, n.Repository, row.At.UTC(), found.Steps}, err
}

func (s *Service) checkOptions(ctx context.Context, r store.Registry, n NewCheck) (registry.CheckOptions, error) {
	now, err := s.db.Now(ctx)
	if err != nil {
		return registry.CheckOptions{}, err
	}
	asked := time.Now() // the database's clock, carried on by this machine's for the length of the check
	o := registry.CheckOptions{Repository: n.Repository, Now: func() time.Time { return now.Add(time.Since(asked)) }}
	if n.Repository == "" {
		return o, nil
	}
	at := store.Spot{RegistryID: r.ID, Repository: n.Repository}
	ref := image.Reference{Registry: r.Name, Repository: n.Repository}
	undeclared, err := s.undeclared(ctx, r, ref)
	if err != nil {
		return o, err
	}
	switch {
	case len(n.For) > 0 && !slices.Contains(n.For, "push"):
		o.NoPush = "not asked for"
	case undeclared:
		o.NoPush = "the repository is not declared as one that Dovrak may write to"
	}
	switch {
	case !slices.Contains(n.For, "delete"):
		o.NoDelete = "not asked for: --for delete"
	case undeclared:
		o.NoDelete = "the repository is not declared as one that Dovrak may write to"
	}
	sibling, d, ok, err := s.db.SharedBlob(ctx, at)
	if ok {
		o.MountFrom, o.MountBlob = sibling, ocispec.Descriptor{Digest: d}
	}
	return o, err
}

func readCheck(registryName string, row store.Check) (Check, error) {
	c := Check{Registry: registryName, Repository: row.Repository, At: row.At.UTC()}
	return c, json.Unmarshal(row.Steps, &c.Steps)
}

// fitForPush gives the newest check of a place, and makes one where it is older than a day or said nothing of pushing.
// A place that may not be pushed to is refused: better now than with half of a promotion done.
func (s *Service) fitForPush(ctx context.Context, by Actor, at spot) (Check, error) {
	row, ok, err := s.db.CheckedWithin(ctx, at.at(), checkedFor)
	if err != nil {
		return Check{}, err
	}
	var c Check
	if ok {
		if c, err = readCheck(at.conn.Name, row); err != nil {
			return c, err
		}
	}
	if c.Step(registry.StepPush).Result != registry.Holds { // also where it failed: it may have been mended
		if c, err = s.check(ctx, by, at.conn.Registry, NewCheck{Repository: at.ref.Repository, For: []string{"push"}}); err != nil {
			return c, err
		}
	}
	bad, fails := c.Fails()
	if c.Step(registry.StepPush).Result == registry.Holds || !fails {
		return c, nil
	}
	return c, &problem.Problem{
		Kind:   problem.Refused,
		Title:  "A place cannot be written to",
		Asked:  at.ref.In(),
		Seen:   bad.Name + " fails: " + bad.Seen,
		Where:  at.ref.In(),
		Rule:   "a place is seen to take a push before anything is moved to it",
		Remedy: bad.Remedy,
	}
}
