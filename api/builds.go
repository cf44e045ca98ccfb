package api

import (
	"context"
	"net/http"
	"time"

	"dovrak/api/wire"
	"dovrak/core/evidence"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/service"
	"dovrak/store"

	"github.com/labstack/echo/v5"
)

type (
	keyedBuild struct {
		KeyQuery
		wire.NewBuild
	}
	BuildPath struct {
		Name   string `path:"name"   param:"name"   json:"-" required:"true" description:"the component"`
		Number int64  `path:"number" param:"number" json:"-" required:"true" description:"the pipeline's own"`
	}
	buildQuery struct {
		BuildPath
		Unlike string `query:"unlike" json:"-" description:"wait for a while until it is in another state than this"`
	}
	keyedPart struct {
		KeyQuery
		BuildPath
		wire.NewPart
	}
	closing struct {
		KeyQuery
		BuildPath
	}
	buildsQuery struct {
		PageQuery
		Component string `query:"component" json:"-"`
		Promised  bool   `query:"promised"  json:"-" description:"only those whose promised version has no image yet"`
	}
	componentPath struct {
		Name string `path:"name" param:"name" json:"-" required:"true" description:"the component"`
	}
	keyedJoin struct {
		KeyQuery
		wire.NewJoin
	}
	largeVouch struct {
		wire.NewVouch
	}
)

// NoBody says that all is in the path.
func (closing) NoBody() {}

// MaxBody lets a report through: 4 MiB in base64, and what stands beside it.
func (largeVouch) MaxBody() int64 { return evidence.MaxReport*4/3 + 64<<10 }

// buildRoutes are those for pipelines, and of what they hand over.
func buildRoutes() []route {
	const build = "/api/v1/components/:name/builds/:number"
	return []route{
		open(
			http.MethodPost,
			"/api/v1/pipeline-sessions",
			"signInPipeline",
			"Trade a token of a pipeline's own issuer for one of Dovrak's",
			signInPipeline,
		),
		call(http.MethodGet, "/api/v1/builds", service.Read, "builds", "Builds, newest first", builds),
		call(http.MethodPost, "/api/v1/builds", service.Report, "startBuild", "Report a build", startBuild),
		call(http.MethodGet, build, service.Read, "build", "One build", oneBuild).or(service.Report),
		call(http.MethodPost, build+"/parts", service.Report, "reportPart", "Report the image of one platform", reportPart),
		call(http.MethodPost, build+"/close", service.Report, "closeBuild", "Join what is there", closeBuild),
		call(
			http.MethodGet,
			"/api/v1/components/:name/tag-rules",
			service.Read,
			"tagRules",
			"The rules for a component's tags",
			tagRules,
		),
		call(http.MethodPost, "/api/v1/joins", service.Point, "join", "Join images of single platforms by hand", askJoin).starts(),
		call(http.MethodGet, "/api/v1/joins/:number", service.Read, "joinNumbered", "One join", joinNumbered),
		call(http.MethodPost, "/api/v1/evidence", service.Report, "vouch", "Put evidence on record", vouch),
		{
			method:  http.MethodGet,
			path:    "/api/v1/evidence/:number/report",
			needs:   service.Read,
			id:      "report",
			summary: "The report of evidence",
			in:      numbered{},
			out:     "",
			media:   "application/octet-stream",
			handle:  (*API).report,
		},
	}
}

func signInPipeline(ctx context.Context, a *API, in wire.PipelineSignIn) (wire.PipelineSession, error) {
	s, err := a.service.SignInPipeline(ctx, in.Token)
	return wire.PipelineSession{Number: s.Number, Token: s.Secret, Name: s.Name, Components: s.Components, Expires: s.Expires}, err
}

func builds(ctx context.Context, a *API, by service.Actor, in buildsQuery) (wire.Builds, error) {
	page, err := in.page()
	if err != nil {
		return wire.Builds{}, err
	}
	rows, err := a.service.Builds(ctx, by, page, in.Component, in.Promised)
	rows, next := cut(rows, in.limit(), func(b service.BuildView) int64 { return b.Build.Number })
	return wire.Builds{Items: each(rows, viewBuild), Next: next}, err
}

func startBuild(ctx context.Context, a *API, by service.Actor, in keyedBuild) (wire.Build, error) {
	n := service.NewBuild{
		Component:  in.Component,
		Run:        in.Number,
		Commit:     in.Commit,
		Branch:     in.Branch,
		Version:    in.Version,
		Link:       in.Link,
		CommitLink: in.CommitLink,
		Source:     in.Source,
		Trigger:    in.Trigger,
		Key:        in.Key,
	}
	for _, c := range in.Changes {
		n.Changes = append(n.Changes, store.Change{ID: c.ID, Title: c.Title})
	}
	var err error
	if n.Base, err = image.ParseBase(in.Base); err != nil {
		return wire.Build{}, err
	}
	if in.NewBuild.Image != "" {
		if n.Image, err = a.reference(ctx, in.NewBuild.Image); err != nil {
			return wire.Build{}, err
		}
	}
	b, err := a.service.StartBuild(ctx, by, n)
	return viewBuild(b), err
}

func oneBuild(ctx context.Context, a *API, by service.Actor, in buildQuery) (wire.Build, error) {
	b, err := a.service.BuildOf(ctx, by, in.Name, in.Number, in.Unlike, a.closing)
	return viewBuild(b), err
}

func reportPart(ctx context.Context, a *API, by service.Actor, in keyedPart) (wire.Build, error) {
	p, err := image.ParsePlatform(in.Platform)
	if err != nil {
		return wire.Build{}, err
	}
	ref, err := a.reference(ctx, in.Image)
	if err != nil {
		return wire.Build{}, err
	}
	if in.Seconds != nil && (*in.Seconds < 0 || *in.Seconds > 1e7) {
		return wire.Build{}, &problem.Problem{Kind: problem.Malformed, Title: "This part cannot be reported", Asked: ref.String(),
			Seen: "seconds below nothing, or of months", Remedy: "say how long the build of the platform took, in seconds"}
	}
	b, err := a.service.ReportPart(
		ctx,
		by,
		in.Name,
		in.Number,
		service.NewPart{Platform: p, Image: ref, Emulated: in.Emulated, Seconds: in.Seconds,
			Key: in.Key},
	)
	return viewBuild(b), err
}

func closeBuild(ctx context.Context, a *API, by service.Actor, in closing) (wire.Build, error) {
	b, err := a.service.CloseBuild(ctx, by, in.Name, in.Number)
	return viewBuild(b), err
}

func tagRules(ctx context.Context, a *API, by service.Actor, in componentPath) (wire.TagRules, error) {
	rules, newest, err := a.service.TagRules(ctx, by, in.Name)
	return wire.TagRules{Component: in.Name, Newest: newest, Items: each(rules, func(r service.TagRule) wire.TagRule {
		return wire.TagRule{Environment: r.Environment, Kind: string(r.Rule.Kind), Template: r.Rule.Text(), Moves: string(r.Rule.Moves),
			Words: r.Rule.Words(), Tag: r.Tag, Why: r.Why}
	})}, err
}

func askJoin(ctx context.Context, a *API, by service.Actor, in keyedJoin) (accepted, error) {
	n := service.NewJoin{Because: in.Because, Key: in.Key}
	var err error
	if n.To, err = a.reference(ctx, in.To); err != nil {
		return accepted{}, err
	}
	for _, text := range in.Parts {
		ref, err := a.reference(ctx, text)
		if err != nil {
			return accepted{}, err
		}
		n.Parts = append(n.Parts, ref)
	}
	w, err := a.service.AskJoin(ctx, by, n)
	return accepted{"/api/v1/joins/" + itoa(w.Number), w.Number}, err
}

func joinNumbered(ctx context.Context, a *API, by service.Actor, in numbered) (wire.Join, error) {
	j, err := a.service.JoinNumbered(ctx, by, in.Number)
	return wire.Join{Work: viewWork(j.Work, j.Join.Number, j.RequesterName), To: j.To.String(), Digest: j.Join.Digest.String(),
		Warnings: listed(j.Join.Warnings), Parts: each(j.Join.Parts, func(p store.JoinPart) wire.JoinPart {
			return wire.JoinPart{Platform: p.Platform, Repository: p.Repository, Digest: p.Digest.String()}
		})}, err
}

func vouch(ctx context.Context, a *API, by service.Actor, in largeVouch) (wire.Vouch, error) {
	n := service.NewVouch{Claim: in.Claim, Verdict: evidence.Verdict(in.Verdict), Link: in.Link, Note: in.Note, Report: in.Report,
		ReportName: in.ReportName}
	var err error
	if n.Image, err = a.reference(ctx, in.Image); err != nil {
		return wire.Vouch{}, err
	}
	if in.Platform != "" {
		p, err := image.ParsePlatform(in.Platform)
		if err != nil {
			return wire.Vouch{}, err
		}
		n.Platform = &p
	}
	if in.For != "" {
		if n.Life, err = time.ParseDuration(in.For); err != nil {
			return wire.Vouch{}, &problem.Problem{
				Kind:   problem.Malformed,
				Title:  "This cannot be put on record",
				Asked:  "for " + image.Printable(in.For),
				Seen:   "no duration",
				Remedy: "write e.g. 720h; leave it out for evidence that counts for ever",
			}
		}
	}
	v, err := a.service.Vouch(ctx, by, n)
	return viewVouch(v), err
}

// report answers with the bytes that were handed in. What they are is somebody's word: they are for saving, not for showing.
func (a *API) report(c *echo.Context, by service.Actor) error {
	var in numbered
	if err := take(c, &in); err != nil {
		return err
	}
	_, raw, err := a.service.ReportOf(c.Request().Context(), by, in.Number)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", "attachment")
	return c.Blob(http.StatusOK, "application/octet-stream", raw)
}

func viewVouch(v store.Vouch) wire.Vouch {
	return wire.Vouch{Number: v.Number, Digest: v.Digest.String(), Repository: v.Repository, Platform: v.Platform, Claim: v.Claim,
		Verdict: v.Verdict, Link: v.Link, Note: v.Note, Report: v.ReportName, ReportSize: v.ReportSize, By: v.ActorName, At: v.At.UTC(),
		Expires: utc(v.ExpiresAt), Expired: v.Expired}
}

func viewAttestation(t service.Attestation) wire.Attestation {
	return wire.Attestation{
		Digest:    t.Digest.String(),
		Of:        t.Of.String(),
		Predicate: t.Predicate,
		Builder:   t.Builder,
		Fits:      t.Fits,
		Key:       t.Key,
		Problem:   t.Problem,
	}
}

func viewBuildRef(b store.BuildWork) wire.BuildRef {
	return wire.BuildRef{
		Component: b.Build.Component,
		Number:    b.Build.Run,
		State:     b.Work.State,
		Commit:    b.Build.Revision,
		Branch:    b.Build.Branch,
		Version:   b.Build.Version,
		Link:      b.Build.Link,
		Digest:    b.Build.Digest.String(),
	}
}

func viewBetween(b *service.Between) *wire.Between {
	if b == nil {
		return nil
	}
	return &wire.Between{
		From: viewBuildRef(b.From),
		To:   viewBuildRef(b.To),
		Changes: each(b.Changes, func(c service.BuildChange) wire.BuildChange {
			return wire.BuildChange{Change: wire.Change{ID: c.ID, Title: c.Title}, Build: c.Run}
		}),
	}
}

func viewBuild(v service.BuildView) wire.Build {
	b, w := v.Build, viewWork(v.Work, v.Build.Run, v.RequesterName)
	out := wire.Build{Component: b.Component, Number: b.Run, State: w.State, Ended: w.Ended, Commit: b.Revision, Branch: b.Branch,
		Version: b.Version, Link: b.Link, CommitLink: b.CommitLink, Source: b.Source, Trigger: b.TriggeredBy, Base: b.Base, BaseDigest: b.BaseDigest,
		Changes:     each(b.Changes, func(c store.Change) wire.Change { return wire.Change(c) }),
		Environment: b.Environment, Places: listed(v.Places), By: w.By, Reported: w.Asked, Due: b.DueAt.UTC(), EndedAt: w.EndedAt, Given: b.Given,
		Digest: b.Digest.String(), Required: listed(v.Required), Optional: listed(v.Optional), Missing: listed(v.Missing),
		Parts: each(v.Parts, viewPart), Tags: each(v.Tags, viewBuildTag), Warnings: listed(b.Warnings), Before: v.Before,
		Problem: w.Problem, Progress: w.Progress}
	if b.Version != "" {
		out.Promise = &wire.Promise{Version: v.Promise.Version, KeptBy: v.Promise.KeptBy, Tries: v.Promise.Tries}
	}
	return out
}

func viewPart(p store.Part) wire.BuildPart {
	return wire.BuildPart{
		Platform:   p.Platform,
		Repository: p.Repository,
		Digest:     p.Digest.String(),
		By:         p.Reporter,
		Reported:   p.ReportedAt.UTC(),
		Emulated:   p.Emulated,
		Seconds:    p.Seconds,
		Base:       p.Base,
		BaseDigest: p.BaseDigest,
		Size:       p.Size,
		Warnings:   listed(p.Warnings),
	}
}

func viewBuildTag(t store.BuildTag) wire.BuildTag {
	out := wire.BuildTag{Repository: t.Repository, Tag: t.Tag, Kind: t.Kind, Rule: t.Rule, Outcome: t.Outcome, Why: t.Why}
	if t.Change != nil {
		out.Change = *t.Change
	}
	return out
}
