package api

import (
	"context"
	"net/http"
	"slices"
	"strconv"
	"time"

	"dovrak/api/wire"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/service"
	"dovrak/store"
)

// What routes take besides a body: from the path, the query and the headers. What is embedded has a capital, since
// fields of an embedded type without one cannot be filled.
type (
	none      struct{}
	PageQuery struct {
		Before string `query:"before" json:"-" description:"the next of the page before"`
		Limit  int    `query:"limit"  json:"-" description:"1 to 200; 50 if not given"`
	}
	charterQuery struct {
		Version int64 `query:"version" json:"-" minimum:"1" description:"left out: the one in force"`
	}
	numbered struct {
		Number int64 `path:"number" param:"number" json:"-" required:"true"`
	}
	// onNumber asks for something to be done to what has a number.
	onNumber struct {
		Number int64 `path:"number" param:"number" json:"-" required:"true"`
	}
	trailQuery struct {
		PageQuery
		Subject   string `query:"subject"   json:"-" description:"a tag in full, REGISTRY/REPOSITORY:TAG, or a repository"`
		Component string `query:"component" json:"-"`
		Promotion int64  `query:"promotion" json:"-" minimum:"1" description:"what happened in a promotion or a roll back, to tags too"`
	}
	meaningQuery struct {
		Tag string `query:"tag" json:"-" required:"true" description:"REGISTRY/REPOSITORY:TAG"`
		At  string `query:"at"  json:"-" required:"true" description:"a time, RFC 3339"`
	}
	historyQuery struct {
		Component string `query:"component" json:"-" required:"true"`
		Since     string `query:"since"     json:"-"                 description:"a time, RFC 3339; 28 days ago if not given"`
	}
	KeyQuery struct {
		Key string `header:"Idempotency-Key" json:"-" description:"the same key and request give the same work again"`
	}
	keyedCopy struct {
		KeyQuery
		wire.NewCopy
	}
	// accepted is the answer to a request that starts work: its number, and where it can be looked at.
	accepted struct {
		Location string `header:"Location" json:"-"      required:"true"`
		Number   int64  `                  json:"number"`
	}
)

// NoBody says that all is in the path.
func (onNumber) NoBody() {}

func (p PageQuery) limit() int {
	if p.Limit < 1 || p.Limit > 200 {
		return 50
	}
	return p.Limit
}

func (p PageQuery) page() (store.Page, error) {
	page := store.Page{Limit: p.limit() + 1} // one more tells whether others follow
	if p.Before == "" {
		return page, nil
	}
	n, err := strconv.ParseInt(p.Before, 10, 64)
	if err != nil || n < 1 {
		return page, &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "This list cannot be gone on with",
			Asked:  image.Printable(p.Before),
			Remedy: "begin the list anew, and take its next as it is given",
		}
	}
	page.Before = n
	return page, nil
}

// cut takes a page's items and its cursor from one item too many.
func cut[T any](items []T, limit int, number func(T) int64) ([]T, string) {
	if len(items) <= limit {
		return items, ""
	}
	items = items[:limit]
	return items, strconv.FormatInt(number(items[limit-1]), 10)
}

// allRoutes is every route there is, with the permission that it needs.
func allRoutes() []route {
	return slices.Concat(routes(), releaseRoutes(), buildRoutes(), charterRoutes(), peopleRoutes())
}

func routes() []route {
	return []route{
		open(http.MethodGet, "/healthz", "health", "Whether the process lives", health),
		open(http.MethodGet, "/readyz", "ready", "Whether it can do its work", ready),
		call(http.MethodGet, "/api/v1/whoami", service.Read, "whoami", "Who is signed in", whoami).or(service.Report),

		call(http.MethodGet, "/api/v1/registries", service.Read, "registries", "The connected registries", registries),
		call(http.MethodPost, "/api/v1/registries", service.Keep, "addRegistry", "Connect a registry", addRegistry),
		call(http.MethodGet, "/api/v1/registries/:name", service.Read, "registry", "One connected registry", registryNamed),
		call(http.MethodPatch, "/api/v1/registries/:name", service.Keep, "editRegistry", "Change a connection", editRegistry),
		call(http.MethodDelete, "/api/v1/registries/:name", service.Keep, "dropRegistry", "End a connection", dropRegistry),
		call(
			http.MethodPost,
			"/api/v1/registries/:name/checks",
			service.Copy,
			"checkRegistry",
			"Find out what a registry permits",
			checkRegistry,
		),
		call(
			http.MethodPost,
			"/api/v1/registries/:name/take-ins",
			service.Keep,
			"takeIn",
			"Read what a registry holds",
			askTakeIn,
		).starts(),
		call(http.MethodGet, "/api/v1/take-ins", service.Read, "takeIns", "What was taken in, newest first", takeIns),
		call(http.MethodGet, "/api/v1/take-ins/:number", service.Read, "takeInNumbered", "One of them", takeInNumbered),
		call(http.MethodGet, "/api/v1/destinations", service.Read, "destinations", "Repositories that may be written to", destinations),
		call(http.MethodPost, "/api/v1/destinations", service.Keep, "declare", "Declare a repository that may be written to", declare),
		call(http.MethodDelete, "/api/v1/destinations", service.Keep, "undeclare", "End what was declared by hand", undeclare),
		call(http.MethodGet, "/api/v1/tokens", service.Keep, "tokens", "Tokens, newest first", tokens),
		call(http.MethodPost, "/api/v1/tokens", service.Keep, "issueToken", "Issue a token", issueToken),
		call(http.MethodDelete, "/api/v1/tokens/:number", service.Keep, "revokeToken", "Revoke a token", revokeToken),

		call(http.MethodGet, "/api/v1/image", service.Read, "image", "What a reference means", showImage),
		{
			method:  http.MethodGet,
			path:    "/api/v1/content",
			needs:   service.Read,
			id:      "content",
			summary: "The very bytes of a manifest or config",
			in:      contentQuery{},
			out:     "",
			media:   "application/octet-stream",
			handle:  (*API).content,
		},
		call(http.MethodPost, "/api/v1/tag-changes", service.Point, "point", "Point tags", point),
		call(http.MethodPost, "/api/v1/tag-removals", service.Point, "unpoint", "Take one tag away", unpoint),
		call(http.MethodGet, "/api/v1/tags", service.Read, "tags", "A repository's tags, as they were last seen", tags),
		{
			method:  http.MethodGet,
			path:    "/api/v1/tags/look",
			needs:   service.Read,
			id:      "lookAtTags",
			summary: "Ask a repository for all its tags",
			in:      RepositoryQuery{},
			out:     wire.TagsLook{},
			media:   "text/event-stream",
			handle:  (*API).lookAtTags,
		},
		call(http.MethodGet, "/api/v1/tags/across", service.Read, "across", "A component's tags side by side in all its places", across),
		call(http.MethodPost, "/api/v1/tag-exceptions", service.Point, "exceptTags", "Declare a gap that is meant", exceptTags),
		call(
			http.MethodDelete,
			"/api/v1/tag-exceptions/:number",
			service.Point,
			"endTagException",
			"End such an exception",
			endTagException,
		),
		call(
			http.MethodGet,
			"/api/v1/where",
			service.Read,
			"where",
			"Everything known of a digest, commit, tag, component or image",
			where,
		),
		call(http.MethodGet, "/api/v1/comparison", service.Read, "compare", "Two images side by side", compareImages),
		call(http.MethodPost, "/api/v1/copy-plans", service.Read, "planCopy", "What a copy would move", planCopy),
		call(http.MethodGet, "/api/v1/copies", service.Read, "copies", "Copies, newest first", copies),
		call(http.MethodPost, "/api/v1/copies", service.Copy, "copy", "Copy an image", askCopy).starts(),
		call(http.MethodGet, "/api/v1/copies/:number", service.Read, "copyNumbered", "One copy", copyNumbered),
		call(http.MethodPost, "/api/v1/copies/:number/stop", service.Copy, "stopCopy", "End a copy that is under way", stopCopy),
		call(http.MethodPost, "/api/v1/copies/:number/resume", service.Copy, "resumeCopy", "Go on with one that ended early", resumeCopy),
		call(http.MethodGet, "/api/v1/trail", service.Read, "trail", "What happened, newest first", trailPage),
		call(http.MethodGet, "/api/v1/meaning", service.Read, "meaning", "What a tag meant at a time", meaning),
		call(http.MethodGet, "/api/v1/standing", service.Read, "standing", "What stands where", standing),
		call(
			http.MethodGet,
			"/api/v1/components/:name",
			service.Read,
			"component",
			"How a component's images get along its route",
			componentLife,
		),
		call(http.MethodGet, "/api/v1/history", service.Read, "history", "What a component's tags meant over a time", history),
		{
			method:  http.MethodGet,
			path:    "/api/v1/events",
			needs:   service.Read,
			id:      "events",
			summary: "What changes, as it changes; Last-Event-ID resumes",
			in:      none{},
			out:     wire.Event{},
			media:   "text/event-stream",
			handle:  (*API).events,
		},
		{method: http.MethodGet, path: "/metrics", needs: service.Read, id: "metrics", summary: "Measurements, as OpenMetrics",
			in: none{}, out: "", media: "application/openmetrics-text", handle: (*API).metrics},
	}
}

func health(context.Context, *API, none) (wire.Health, error) {
	return wire.Health{Status: "lives"}, nil
}

func ready(ctx context.Context, a *API, _ none) (wire.Health, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := a.service.Ready(ctx); err != nil {
		return wire.Health{}, (&problem.Problem{
			Kind:   problem.Unreachable,
			Title:  "The service is not ready",
			Seen:   "its database does not answer",
			Remedy: "see that PostgreSQL is up; the service goes on by itself",
		}).Because(err)
	}
	return wire.Health{Status: "ready"}, nil
}

func whoami(_ context.Context, _ *API, by service.Actor, _ none) (wire.Actor, error) {
	return viewActor(by), nil
}

func tokens(ctx context.Context, a *API, by service.Actor, in PageQuery) (wire.Tokens, error) {
	page, err := in.page()
	if err != nil {
		return wire.Tokens{}, err
	}
	rows, err := a.service.Tokens(ctx, by, page)
	rows, next := cut(rows, in.limit(), func(t store.ListedToken) int64 { return t.Number })
	return wire.Tokens{Items: each(rows, viewToken), Next: next}, err
}

func issueToken(ctx context.Context, a *API, by service.Actor, in wire.NewToken) (wire.IssuedToken, error) {
	life, err := time.ParseDuration(in.For)
	if err != nil {
		return wire.IssuedToken{}, &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "This token cannot be issued",
			Asked:  "for " + image.Printable(in.For),
			Seen:   "no duration",
			Remedy: "write e.g. 12h or 720h",
		}
	}
	n := service.NewToken{Name: in.Name, Kind: in.Kind, For: in.Components, Life: life}
	for _, m := range in.May {
		n.May = append(n.May, service.Permission(m))
	}
	t, err := a.service.IssueToken(ctx, by, n)
	return wire.IssuedToken{Number: t.Number, Token: t.Secret, Expires: t.Expires}, err
}

func revokeToken(ctx context.Context, a *API, by service.Actor, in numbered) (wire.Health, error) {
	return wire.Health{Status: "revoked"}, a.service.RevokeToken(ctx, by, in.Number)
}

func point(ctx context.Context, a *API, by service.Actor, in wire.NewPoint) (wire.TagChanges, error) {
	ref, err := a.reference(ctx, in.Image)
	if err != nil {
		return wire.TagChanges{}, err
	}
	out, err := a.service.Point(ctx, by, ref, in.Tags, in.Because)
	return wire.TagChanges{Items: each(out, viewPointed)}, err
}

func copies(ctx context.Context, a *API, by service.Actor, in PageQuery) (wire.Copies, error) {
	page, err := in.page()
	if err != nil {
		return wire.Copies{}, err
	}
	rows, err := a.service.Copies(ctx, by, page)
	rows, next := cut(rows, in.limit(), func(c service.CopyView) int64 { return c.Copy.Number })
	return wire.Copies{Items: each(rows, func(c service.CopyView) wire.Copy { return viewCopy(c, false) }), Next: next}, err
}

func askCopy(ctx context.Context, a *API, by service.Actor, in keyedCopy) (accepted, error) {
	n, err := a.copyAsked(ctx, in.NewCopy)
	if err != nil {
		return accepted{}, err
	}
	n.Key = in.Key
	w, err := a.service.AskCopy(ctx, by, n)
	return accepted{"/api/v1/copies/" + strconv.FormatInt(w.Number, 10), w.Number}, err
}

// copyAsked reads what is to be copied.
func (a *API) copyAsked(ctx context.Context, in wire.NewCopy) (n service.NewCopy, err error) {
	n.Verify, n.Referrers, n.Because = in.Verify, in.Referrers, in.Because
	if n.From, err = a.reference(ctx, in.From); err != nil {
		return n, err
	}
	for _, text := range in.To {
		to, err := image.ParseDestination(text)
		if err != nil {
			return n, err
		}
		n.To = append(n.To, to)
	}
	for _, text := range in.Platforms {
		p, err := image.ParsePlatform(text)
		if err != nil {
			return n, err
		}
		n.Platforms = append(n.Platforms, p)
	}
	return n, nil
}

func planCopy(ctx context.Context, a *API, by service.Actor, in wire.NewCopy) (wire.CopyPlan, error) {
	n, err := a.copyAsked(ctx, in)
	if err != nil {
		return wire.CopyPlan{}, err
	}
	p, err := a.service.PlanCopy(ctx, by, n)
	return viewCopyPlan(p), err
}

func copyNumbered(ctx context.Context, a *API, by service.Actor, in numbered) (wire.Copy, error) {
	c, err := a.service.CopyNumbered(ctx, by, in.Number)
	return viewCopy(c, true), err
}

func stopCopy(ctx context.Context, a *API, by service.Actor, in onNumber) (wire.Copy, error) {
	c, err := a.service.StopCopy(ctx, by, in.Number)
	return viewCopy(c, true), err
}

func resumeCopy(ctx context.Context, a *API, by service.Actor, in onNumber) (wire.Copy, error) {
	c, err := a.service.ResumeCopy(ctx, by, in.Number)
	return viewCopy(c, true), err
}

func trailPage(ctx context.Context, a *API, by service.Actor, in trailQuery) (wire.Trail, error) {
	limit := in.limit()
	rows, err := a.service.Trail(
		ctx,
		by,
		service.TrailFilter{Subject: in.Subject, Component: in.Component, Promotion: in.Promotion, Before: in.Before, Limit: limit + 1},
	)
	out := wire.Trail{Items: each(rows[:min(len(rows), limit)], viewEntry)}
	if len(rows) > limit {
		out.Next = rows[limit-1].ID
	}
	return out, err
}

func meaning(ctx context.Context, a *API, by service.Actor, in meaningQuery) (wire.Meaning, error) {
	tag, err := a.reference(ctx, in.Tag)
	if err != nil {
		return wire.Meaning{}, err
	}
	at, err := service.Moment(in.At)
	if err != nil {
		return wire.Meaning{}, err
	}
	m, err := a.service.MeantAt(ctx, by, tag, at)
	out := viewStretch(m)
	out.Tag = tag.String()
	return out, err
}

func standing(ctx context.Context, a *API, by service.Actor, _ none) (wire.Standing, error) {
	s, err := a.service.Standing(ctx, by)
	return viewStanding(s), err
}

func componentLife(ctx context.Context, a *API, by service.Actor, in NameParam) (wire.ComponentLife, error) {
	l, err := a.service.LifeOf(ctx, by, in.Name)
	return viewLife(l), err
}

func history(ctx context.Context, a *API, by service.Actor, in historyQuery) (wire.History, error) {
	since := time.Now().Add(-28 * 24 * time.Hour)
	if in.Since != "" {
		var err error
		if since, err = service.Moment(in.Since); err != nil {
			return wire.History{}, err
		}
	}
	h, err := a.service.History(ctx, by, in.Component, since)
	return viewHistory(h), err
}

// each turns records into their views; never nil, so that JSON has a list.
func each[A, B any](in []A, f func(A) B) []B {
	out := make([]B, 0, len(in))
	for _, v := range in {
		out = append(out, f(v))
	}
	return slices.Clip(out)
}
