package service

import (
	"context"
	"slices"
	"time"

	"dovrak/core/charter"
	"dovrak/core/tagging"
	"dovrak/store"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// BuildView is a build as it is looked at.
type BuildView struct {
	store.BuildWork
	Parts              []store.Part
	Tags               []store.BuildTag
	Required, Optional []string // platforms, by the charter in force
	Missing            []string // of those required
	Places             []string // where it goes
	Promise            Promise
	Before             int64 // the build that it follows, by number; 0: none
}

// Promise is a version that was promised an image. It is open until the digest of one was read back from the registry.
type Promise struct {
	Version string
	KeptBy  string // the build whose image keeps it; empty: open
	Tries   int64  // that failed
}

func (s *Service) buildByWork(ctx context.Context, work uuid.UUID) (BuildView, error) {
	b, _, err := s.db.BuildByWork(ctx, work)
	return s.viewIf(ctx, b, err)
}

func (s *Service) viewBuild(ctx context.Context, b store.BuildWork) (BuildView, error) {
	all, err := s.viewBuilds(ctx, []store.BuildWork{b})
	if err != nil {
		return BuildView{}, err
	}
	before, ok, err := s.db.BuildBefore(ctx, b.Build)
	if ok {
		all[0].Before = before.Build.Run
	}
	return all[0], err
}

func (s *Service) viewBuilds(ctx context.Context, rows []store.BuildWork) ([]BuildView, error) {
	law, err := s.lawIfAny(ctx)
	if err != nil || len(rows) == 0 {
		return []BuildView{}, err
	}
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.Work.ID
	}
	parts, err := s.db.Parts(ctx, ids...)
	if err != nil {
		return nil, err
	}
	tags, err := s.db.BuildTags(ctx, ids...)
	if err != nil {
		return nil, err
	}
	out := make([]BuildView, len(rows))
	for i, r := range rows {
		v := BuildView{BuildWork: r, Parts: []store.Part{}, Tags: []store.BuildTag{}, Promise: Promise{Version: r.Build.Version}}
		v.Required, v.Optional = law.Components[r.Build.Component].Platforms, law.Components[r.Build.Component].Optional
		for _, p := range parts {
			if p.WorkID == r.Work.ID {
				v.Parts = append(v.Parts, p)
			}
		}
		for _, t := range tags {
			if t.WorkID == r.Work.ID {
				v.Tags = append(v.Tags, t)
			}
		}
		for _, p := range law.Environments[r.Build.Environment].Places {
			v.Places = append(v.Places, p.At(r.Build.Component).In())
		}
		v.Missing = law.wanted(r.Build).Missing(platformsOf(v.Parts))
		if v.Promise, err = s.promise(ctx, r.Build); err != nil {
			return nil, err
		}
		out[i] = v
	}
	return out, nil
}

func (s *Service) promise(ctx context.Context, b store.Build) (Promise, error) {
	p := Promise{Version: b.Version}
	if b.Version == "" {
		return p, nil
	}
	same, err := s.db.BuildsByVersion(ctx, b.Component, b.Version)
	for _, o := range same {
		if o.Work.State == store.StateVerified {
			p.KeptBy = buildName(o.Build)
		}
	}
	if err == nil {
		p.Tries, err = s.db.Tries(ctx, b.Component, b.Version)
	}
	return p, err
}

// Builds lists builds, newest first: of one component where it is named, and only those of promises that are open where
// that is asked.
func (s *Service) Builds(ctx context.Context, by Actor, p store.Page, component string, promised bool) ([]BuildView, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	rows, err := s.db.Builds(ctx, p, component, promised)
	if err != nil {
		return nil, err
	}
	return s.viewBuilds(ctx, rows)
}

// watchFor is how long a look at a build waits for news.
const watchFor = 30 * time.Second

// BuildOf gives a build. With a state, it waits for a while until the build is in another, or until enough is closed.
func (s *Service) BuildOf(
	ctx context.Context,
	by Actor,
	component string,
	run int64,
	unlike string,
	enough <-chan struct{},
) (BuildView, error) {
	if err := by.looksAt(component); err != nil {
		return BuildView{}, err
	}
	wake, stop := s.link.Subscribe(store.BuildNotice(component, run))
	defer stop()
	end := time.NewTimer(watchFor)
	defer end.Stop()
	for {
		b, err := s.buildFor(ctx, component, run)
		if err != nil || b.Work.State != unlike {
			return s.viewIf(ctx, b, err)
		}
		select {
		case <-wake:
		case <-end.C:
			return s.viewBuild(ctx, b)
		case <-enough:
			return s.viewBuild(ctx, b)
		case <-ctx.Done():
			return BuildView{}, ctx.Err()
		}
	}
}

// BuildChange is a commit that a build brought.
type BuildChange struct {
	store.Change
	Run int64
}

// Between is what lies between two builds of a component, from the older to the newer.
type Between struct {
	From, To store.BuildWork
	Changes  []BuildChange
}

// between finds what builds say lies between two images; nil where they are not builds of one component.
func (s *Service) between(ctx context.Context, a, b digest.Digest) (*Between, error) {
	rows, err := s.db.BuildsMaking(ctx, []digest.Digest{a, b})
	if err != nil {
		return nil, err
	}
	var out Between
	for _, r := range rows {
		if r.Build.Digest == a {
			out.From = r
		} else {
			out.To = r
		}
	}
	if out.From.Build.Component == "" || out.From.Build.Component != out.To.Build.Component {
		return nil, nil
	}
	low, high := min(out.From.Build.Run, out.To.Build.Run), max(out.From.Build.Run, out.To.Build.Run)
	builds, err := s.db.BuildsBetween(ctx, out.To.Build.Component, low, high, 200)
	slices.Reverse(builds)
	for _, r := range builds {
		for _, c := range r.Build.Changes {
			out.Changes = append(out.Changes, BuildChange{c, r.Build.Run})
		}
	}
	return &out, err
}

// TagRule is a rule for tags of a component in an environment, with the tag that it makes for the newest build.
type TagRule struct {
	Environment string
	Rule        tagging.Rule
	Tag, Why    string // the tag, or why there is none
}

// TagRules lists the rules for a component's tags along its route. newest is the build that they were tried on; 0: none.
func (s *Service) TagRules(ctx context.Context, by Actor, component string) (rules []TagRule, newest int64, err error) {
	if err := by.Require(Read); err != nil {
		return nil, 0, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return nil, 0, err
	}
	comp, err := law.Component(component)
	if err != nil {
		return nil, 0, err
	}
	builds, err := s.db.Builds(ctx, store.Page{Limit: 1}, component, false)
	if err != nil {
		return nil, 0, err
	}
	facts := tagging.Facts{Component: component}
	if len(builds) > 0 {
		facts, newest = buildFacts(builds[0]), builds[0].Build.Run
	}
	for _, env := range law.Routes[comp.Route] {
		r, err := s.homeRules(ctx, law, charter.Home{Component: component, Environment: env})
		if err != nil {
			return nil, 0, err
		}
		for _, rule := range r.All() {
			rules = append(rules, tried(env, rule, facts, newest > 0))
		}
	}
	return rules, newest, nil
}

func tried(env string, rule tagging.Rule, f tagging.Facts, built bool) TagRule {
	out := TagRule{Environment: env, Rule: rule}
	switch {
	case rule.Kind == tagging.Standing:
		out.Tag = rule.Text()
	case rule.Kind == tagging.Other || rule.Kind == tagging.Unruled:
	case !built:
		out.Why = "there is no build yet"
	default:
		tag, err := rule.Template.Fill(f)
		if out.Tag = tag; err != nil {
			out.Why = err.Error()
		}
	}
	return out
}
