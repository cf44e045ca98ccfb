package service

import (
	"context"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"dovrak/core/charter"
	"dovrak/core/image"
	"dovrak/core/join"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/store"
)

// NewBuild reports a build. With an image, the pipeline has pushed the whole index already; else parts follow.
type NewBuild struct {
	Component      string
	Run            int64 // the pipeline's own number
	Commit, Branch string
	Version        string // promised; may be empty
	Link, Source   string
	CommitLink     string
	Trigger        string
	Base           image.Base
	Changes        []store.Change
	Image          image.Reference
	Key            string // Idempotency-Key
}

// Limits of what a pipeline says of its build.
const (
	maxChanges = 1000
	maxWord    = 200 // bytes of a branch or a trigger
	maxLink    = 1000
)

var (
	commitID = regexp.MustCompile(`^[0-9a-f]{7,64}$`)
	changeID = regexp.MustCompile(`^[A-Za-z0-9._/#-]{1,64}$`)
)

func (n NewBuild) check() error {
	p := &problem.Problem{
		Kind:  problem.Malformed,
		Title: "This build cannot be reported",
		Asked: image.Printable(n.Component) + "/" + number(n.Run),
	}
	bad := func(seen, remedy string) error { p.Seen, p.Remedy = seen, remedy; return p }
	switch {
	case n.Run < 1:
		return bad("no number", "give the number of the pipeline's run: --number 41")
	case !commitID.MatchString(n.Commit):
		return bad("the commit "+image.Printable(n.Commit), "give it in 7 to 64 hexadecimal digits: --commit 4f1c9d2…")
	case !isWord(n.Branch) || n.Branch == "":
		return bad("the branch "+image.Printable(n.Branch), "name the branch: --branch main")
	case !isWord(n.Trigger):
		return bad("the trigger "+image.Printable(n.Trigger), "say in a few words what started the run, e.g. push")
	case !isLink(n.Link) || !isLink(n.Source) || !isLink(n.CommitLink):
		return bad("a link that is none", "give the whole address, https://…")
	case len(n.Changes) > maxChanges:
		return bad(fmt.Sprintf("%d changes", len(n.Changes)), "give the newest 1000")
	case n.Image.Registry != "" && n.Image.Digest == "":
		return bad("an image by its tag", "name it by its digest, since a tag may mean another by now")
	}
	for _, c := range n.Changes {
		if !changeID.MatchString(c.ID) {
			return bad(
				"the change "+image.Printable(c.ID),
				`give each an id of letters and digits, and a title: [{"id": "4f1c9d2", "title": "…"}]`,
			)
		}
	}
	if n.Version != "" {
		_, err := tagging.ParseVersion(n.Version)
		return err
	}
	return nil
}

func isWord(s string) bool {
	return len(s) <= maxWord && image.Visible(s) == s && !strings.Contains(s, "\n")
}

// isLink takes what a browser may be sent to.
func isLink(s string) bool {
	u, err := url.Parse(s)
	return s == "" || err == nil && len(s) <= maxLink && u.Host != "" && (u.Scheme == "https" || u.Scheme == "http")
}

// report is a build on its way into the records.
type report struct {
	NewBuild
	by    Actor
	law   law
	env   string
	rules tagging.Rules
	tags  []store.BuildTag
	ask   ask
}

// StartBuild takes a build's report. The same build again gives the same record; another commit under its number is refused,
// and so is a version or a fixed tag that another build has.
func (s *Service) StartBuild(ctx context.Context, by Actor, n NewBuild) (BuildView, error) {
	if err := firstOf(by.reportsFor(n.Component), n.check()); err != nil {
		return BuildView{}, err
	}
	for i, c := range n.Changes { // whatever somebody once wrote: cut, and made visible, but no reason to refuse a build
		n.Changes[i].Title = image.Printable(c.Title)
	}
	r := report{NewBuild: n, by: by, ask: ask{n.Key, hashOf("build", n.Component, n.Run, n.Commit, n.Branch, n.Version, n.Image)}}
	if had, ok, err := s.before(ctx, by, r.ask); err != nil {
		return BuildView{}, err
	} else if ok {
		return s.buildByWork(ctx, had.WorkID)
	}
	var err error
	if r.law, err = s.law(ctx); err != nil {
		return BuildView{}, err
	}
	if r.env, _, err = r.law.First(n.Component); err != nil {
		return BuildView{}, err
	}
	if had, ok, err := s.db.BuildOf(ctx, n.Component, n.Run); err != nil || ok {
		return s.again(ctx, had, n, err)
	}
	if r.rules, err = s.homeRules(ctx, r.law, charter.Home{Component: n.Component, Environment: r.env}); err != nil {
		return BuildView{}, err
	}
	if err := s.earn(ctx, &r); err != nil {
		return BuildView{}, err
	}
	var parts []store.Part
	if n.Image.Registry != "" {
		if parts, err = s.givenParts(ctx, r); err != nil {
			return BuildView{}, err
		}
	}
	return s.keepBuild(ctx, r, parts)
}

// again answers for a build that is known: with itself, if it is the same.
func (s *Service) again(ctx context.Context, had store.BuildWork, n NewBuild, err error) (BuildView, error) {
	if err != nil {
		return BuildView{}, err
	}
	b := had.Build
	if b.Revision == n.Commit && b.Branch == n.Branch && b.Version == n.Version &&
		(n.Image.Registry == "" || b.Given == n.Image.String()) {
		return s.viewBuild(ctx, had)
	}
	return BuildView{}, &problem.Problem{
		Kind:  problem.Refused,
		Title: "Another build has this number",
		Asked: describeBuild(n.Component, n.Run, n.Commit,
			n.Branch, n.Version),
		Seen:   describeBuild(b.Component, b.Run, b.Revision, b.Branch, b.Version),
		Rule:   "one number, one build",
		Remedy: "give each run of the pipeline its own number",
	}
}

func describeBuild(component string, run int64, commit, branch, version string) string {
	out := fmt.Sprintf("%s/%d of %s on %s", component, run, commit, branch)
	if version != "" {
		out += ", version " + version
	}
	return out
}

// earn fills the tags that the build gets in each place, and asks the registries that no fixed one is taken.
func (s *Service) earn(ctx context.Context, r *report) error {
	facts := tagging.Facts{Component: r.Component, Number: r.Run, Commit: r.Commit, Branch: r.Branch, Version: r.Version}
	now, err := s.db.Now(ctx)
	if err != nil {
		return err
	}
	facts.Started = now
	r.rules.Branches = append(slices.Clone(r.rules.Branches), r.Branch)
	for _, p := range r.law.Environments[r.env].Places {
		at, err := s.spot(ctx, p.At(r.Component))
		if err != nil {
			return err
		}
		r.tags = append(r.tags, earnedTags(r.rules, facts, at.ref)...)
		for _, t := range r.tags {
			if t.Kind != string(tagging.Fixed) || t.Repository != at.ref.In() {
				continue
			}
			means, _, err := s.means(ctx, at, t.Tag)
			if err != nil {
				return err
			}
			if means == "" {
				if means, err = s.db.LastMeant(ctx, at.at(), t.Tag); err != nil {
					return err
				}
			}
			if means != "" && means != r.Image.Digest {
				return s.taken(ctx, *r, t, "it means "+means.String())
			}
		}
	}
	return nil
}

// earnedTags are the tags of one place, as records.
func earnedTags(rules tagging.Rules, f tagging.Facts, at image.Reference) []store.BuildTag {
	var out []store.BuildTag
	for i, e := range rules.Earn(f, tagging.ByBuild) {
		if e.Tag != "" {
			out = append(
				out,
				store.BuildTag{Repository: at.In(), Tag: e.Tag, Kind: string(e.Rule.Kind), Rule: e.Rule.Text(), Position: i},
			)
		}
	}
	return out
}

// taken refuses a fixed tag that is not free: for a version, with the next one that is.
func (s *Service) taken(ctx context.Context, r report, t store.BuildTag, seen string) error {
	p := &problem.Problem{
		Kind:  problem.Refused,
		Title: "A fixed tag of this build is taken",
		Asked: describeBuild(r.Component, r.Run, r.Commit,
			r.Branch, r.Version),
		Seen:   t.Repository + ":" + t.Tag + ": " + seen,
		Rule:   "fixed tag " + t.Rule + " in " + r.env,
		Remedy: "a template that makes the same tag for two builds needs {number} besides, or is a moving one: see the charter",
	}
	template, err := tagging.ParseTemplate(t.Rule)
	if err == nil && template.Uses("number") {
		p.Remedy = "give each run its own number; dovrak trail " + t.Repository + ":" + t.Tag + " tells how the tag came to be"
	}
	if err != nil || !template.Uses("version") {
		return p
	}
	p.Title = "This version is not new"
	p.Remedy = "take a new one"
	next, err := s.nextVersion(ctx, r)
	if next != "" {
		p.Remedy = "the next free one is " + next
	}
	return firstOf(err, p)
}

func (s *Service) nextVersion(ctx context.Context, r report) (next string, err error) {
	at, err := s.spot(ctx, r.law.Environments[r.env].Places[0].At(r.Component))
	if err != nil {
		return "", err
	}
	tries := 0
	next = tagging.Next(r.Version, func(v string) bool {
		if tries++; err != nil || tries > 200 {
			return false
		}
		builds, berr := s.db.BuildsByVersion(ctx, r.Component, v)
		meant, merr := s.db.LastMeant(ctx, at.at(), strings.ReplaceAll(v, "+", "_"))
		err = firstOf(berr, merr)
		return meant != "" || slices.ContainsFunc(builds, func(b store.BuildWork) bool { return b.Work.State != store.StateGivenUp })
	})
	if tries > 200 {
		next = ""
	}
	return next, err
}

// keepBuild writes the build down, with its parts where they are known already.
func (s *Service) keepBuild(ctx context.Context, r report, parts []store.Part) (BuildView, error) {
	w := store.Work{ID: store.NewID(), Kind: store.KindBuild, State: store.StateOpen, RequestedBy: r.by.ID}
	b := store.Build{
		WorkID:      w.ID,
		Component:   r.Component,
		Run:         r.Run,
		Revision:    r.Commit,
		Branch:      r.Branch,
		Version:     r.Version,
		Link:        r.Link,
		CommitLink:  r.CommitLink,
		Source:      r.Source,
		TriggeredBy: r.Trigger,
		Base:        r.Base.Name,
		BaseDigest:  r.Base.Digest.String(),
		Changes:     r.Changes,
		Environment: r.env,
	}
	if r.Image.Registry != "" {
		w.State, b.Given = store.StateAsked, r.Image.String()
	}
	var had *store.BuildWork
	err := s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.Lock(ctx, "builds "+r.Component); err != nil {
			return err
		}
		if other, ok, err := tx.BuildOf(ctx, r.Component, r.Run); err != nil || ok { // another runner was quicker
			had = &other
			return err
		}
		if err := s.takeOver(ctx, tx, r); err != nil {
			return err
		}
		kept, err := tx.AddBuild(ctx, w, b, r.law.Components[r.Component].Within())
		if err != nil {
			return err
		}
		for i := range r.tags {
			r.tags[i].WorkID = w.ID
		}
		if err := tx.SetBuildTags(ctx, w.ID, r.tags); err != nil {
			return err
		}
		for _, p := range parts {
			p.WorkID = w.ID
			if err := tx.AddPart(ctx, p); err != nil {
				return err
			}
		}
		return s.tellBuild(ctx, tx, r, kept)
	})
	if err != nil {
		return BuildView{}, err
	}
	if had != nil {
		return s.again(ctx, *had, r.NewBuild, nil)
	}
	return s.buildByWork(ctx, w.ID)
}

func (s *Service) tellBuild(ctx context.Context, tx store.Tx, r report, b store.BuildWork) error {
	if err := s.keepAnswer(ctx, tx, r.by, r.ask, b.Work.ID, "build "+buildName(b.Build)); err != nil {
		return err
	}
	what := buildSubject(b.Build)
	if err := what.tell(ctx, tx, b.Work.State); err != nil {
		return err
	}
	job, at := Job(DueJob{b.Work.ID}), b.Build.DueAt
	if b.Work.State == store.StateAsked {
		job, at = BuildJob{b.Work.ID}, b.Work.AskedAt
	}
	if err := s.queue.InsertAt(ctx, tx.PGX, job, at); err != nil {
		return err
	}
	return s.record(ctx, tx, buildEntry(trail.BuildReported, r.by.Name, b.Build, nil))
}

// takeOver refuses what another build has, and gives up a build that did not keep the promise of the same version.
func (s *Service) takeOver(ctx context.Context, tx store.Tx, r report) error {
	for _, b := range r.rules.Branches {
		if b != r.Branch && tagging.Written(b) == tagging.Written(r.Branch) && r.rules.UseBranch() {
			return twoBranches(r, b)
		}
	}
	for _, t := range r.tags {
		if t.Kind != string(tagging.Fixed) {
			continue
		}
		others, err := tx.BuildsTagged(ctx, t.Repository, t.Tag)
		if err != nil {
			return err
		}
		for _, o := range others {
			if err := s.yields(ctx, tx, r, t, o); err != nil {
				return err
			}
		}
	}
	return nil
}

func twoBranches(r report, other string) error {
	return &problem.Problem{Kind: problem.Refused, Title: "Two branches would have one tag",
		Asked: describeBuild(r.Component, r.Run, r.Commit, r.Branch, r.Version),
		Seen:  "the branch " + other + " is written " + tagging.Written(other) + ", too", Rule: "tags with {branch} in " + r.env,
		Remedy: "what a tag may not have is written as a hyphen: give the branch another name"}
}

func (s *Service) yields(ctx context.Context, tx store.Tx, r report, t store.BuildTag, o store.BuildWork) error {
	template, err := tagging.ParseTemplate(t.Rule)
	if err != nil {
		return err
	}
	failed := o.Work.State == store.StateFailed || o.Work.State == store.StateIncomplete
	if !failed || o.Build.Version == "" || o.Build.Version != r.Version || !template.Uses("version") {
		return s.taken(ctx, r, t, "it is that of "+buildName(o.Build)+", "+o.Work.State)
	}
	moved, err := tx.MoveBuild(ctx, o.Work.ID, store.StateGivenUp, store.StateFailed, store.StateIncomplete)
	if err != nil {
		return err
	}
	if !moved {
		return s.taken(ctx, r, t, "it is that of "+buildName(o.Build)+", which is being closed again")
	}
	what := buildSubject(o.Build)
	if err := what.tell(ctx, tx, store.StateGivenUp); err != nil {
		return err
	}
	return s.record(
		ctx,
		tx,
		buildEntry(trail.BuildGivenUp, r.by.Name, o.Build, map[string]string{"for": r.Component + "/" + number(r.Run)}),
	)
}

// buildSubject names a build to those who watch.
func buildSubject(b store.Build) subject {
	return subject{
		store.TopicBuild,
		map[string]string{"component": b.Component, "build": number(b.Run)},
		store.BuildNotice(b.Component, b.Run),
	}
}

func buildEntry(act trail.Act, actor string, b store.Build, more map[string]string) entry {
	facts := map[string]string{
		"build":   buildName(b),
		"commit":  b.Revision,
		"branch":  b.Branch,
		"version": b.Version,
		"digest":  b.Digest.String(),
	}
	for k, v := range more {
		facts[k] = v
	}
	return entry{act: act, actor: actor, facts: facts, component: b.Component, work: &b.WorkID}
}

// wanted is what a build's parts are held against.
func (l law) wanted(b store.Build) join.Wanted {
	comp := l.Components[b.Component]
	return join.Wanted{Component: b.Component, Required: comp.Platforms, Optional: comp.Optional, WarnOnly: comp.LabelsWarn(),
		Facts: join.Facts{Version: b.Version, Revision: b.Revision, Source: b.Source}}
}

// buildFor finds a build that an actor may report on.
func (s *Service) buildFor(ctx context.Context, component string, run int64) (store.BuildWork, error) {
	b, ok, err := s.db.BuildOf(ctx, component, run)
	if err == nil && !ok {
		err = &problem.Problem{
			Kind:   problem.NotFound,
			Title:  "There is no such build",
			Asked:  image.Printable(component) + "/" + number(run),
			Remedy: "report it first: dovrak build start --component " + image.Printable(component) + " --number " + number(run) + " …",
		}
	}
	return b, err
}
