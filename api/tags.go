package api

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"

	"dovrak/api/wire"
	"dovrak/core/compare"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/service"
	"dovrak/store"

	"github.com/labstack/echo/v5"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

type (
	tagsQuery struct {
		RepositoryQuery
		Match     string `query:"match"     json:"-" description:"a pattern with * and ?"`
		Order     string `query:"order"     json:"-" description:"version, the highest first, if not given" enum:"version,name,age,size"`
		Ascending bool   `query:"ascending" json:"-"`
		After     string `query:"after"     json:"-" description:"the next of the page before"`
		Limit     int    `query:"limit"     json:"-" description:"1 to 1000; 200 if not given"`
	}
	acrossQuery struct {
		Component string `query:"component" json:"-" required:"true"`
		Match     string `query:"match"     json:"-"                 description:"a pattern with * and ?"`
		Attached  bool   `query:"attached"  json:"-"                 description:"compare what is attached, too"`
	}
	whereQuery struct {
		What string `query:"what" json:"-" required:"true" description:"a digest, its beginning, a commit, tag, version, component or image"`
	}
	compareQuery struct {
		A string `query:"a" json:"-" required:"true" description:"a full reference"`
		B string `query:"b" json:"-" required:"true" description:"a full reference"`
	}
)

// reference reads a full reference. Where it cannot be read, what was probably meant is looked for.
func (a *API) reference(ctx context.Context, text string) (image.Reference, error) {
	ref, err := image.ParseReference(text)
	if err != nil {
		return ref, a.service.Mended(ctx, text, err)
	}
	return ref, nil
}

func (q tagsQuery) limit() int {
	if q.Limit < 1 || q.Limit > 1000 {
		return 200
	}
	return q.Limit
}

func tags(ctx context.Context, a *API, by service.Actor, in tagsQuery) (wire.Tags, error) {
	ref, err := image.ParseRepository(in.Repository)
	if err != nil {
		return wire.Tags{}, err
	}
	limit := in.limit()
	l, err := a.service.Tags(
		ctx,
		by,
		ref,
		service.TagQuery{Match: in.Match, Order: in.Order, Ascending: in.Ascending, After: in.After, Limit: limit + 1},
	)
	out := wire.Tags{Repository: l.Ref.In(), Tags: l.Tags, Images: l.Images, Surveyed: l.SurveyedAt, Registry: viewMark(l.Mark),
		Items: each(l.Items[:min(limit, len(l.Items))], viewTag)}
	if len(l.Items) > limit {
		out.Next = l.Items[limit-1].Tag
	}
	return out, err
}

// lookAtTags streams a look at all tags of a repository: what was just seen, how far it is, and at last that it is done.
func (a *API) lookAtTags(c *echo.Context, by service.Actor) error {
	var in RepositoryQuery
	if err := take(c, &in); err != nil {
		return err
	}
	ref, err := image.ParseRepository(in.Repository)
	if err != nil {
		return err
	}
	out := stream{w: c.Response(), flush: http.NewResponseController(c.Response()).Flush}
	began := false
	say := func(l wire.TagsLook) error {
		if !began { // until then, an error can still be an answer of its own
			c.Response().Header().Set("Content-Type", "text/event-stream")
			c.Response().Header().Set("X-Accel-Buffering", "no")
			c.Response().WriteHeader(http.StatusOK)
			began = true
		}
		raw, err := json.Marshal(l)
		if err != nil {
			return err
		}
		return out.say("data: " + string(raw) + "\n\n")
	}
	done, err := a.service.LookAtTags(c.Request().Context(), by, ref, func(so service.Survey, page []service.TagView) error {
		return say(viewLook(so, page))
	})
	last := viewLook(done, nil)
	last.Done = err == nil
	if err != nil {
		if !began {
			return err
		}
		p := viewProblem(problem.From(err))
		last.Problem = &p
	}
	if err := say(last); err != nil {
		return nil // the reader went away
	}
	return nil
}

func across(ctx context.Context, a *API, by service.Actor, in acrossQuery) (wire.Across, error) {
	x, err := a.service.Across(ctx, by, in.Component, in.Match, in.Attached)
	return wire.Across{Component: x.Component, Places: each(x.Places, viewAcrossPlace), Rows: each(x.Rows, viewAcrossRow),
		Exceptions: each(x.Exceptions, viewTagException)}, err
}

func exceptTags(ctx context.Context, a *API, by service.Actor, in wire.NewTagException) (numberOnly, error) {
	n, err := a.service.ExceptTags(
		ctx,
		by,
		service.NewTagException{Component: in.Component, Pattern: in.Pattern, Place: in.Place, Because: in.Because},
	)
	return numberOnly{n}, err
}

type numberOnly struct {
	Number int64 `json:"number"`
}

func endTagException(ctx context.Context, a *API, by service.Actor, in numbered) (wire.Health, error) {
	return wire.Health{Status: "ended"}, a.service.EndTagException(ctx, by, in.Number)
}

func unpoint(ctx context.Context, a *API, by service.Actor, in wire.Unpoint) (wire.TagChange, error) {
	tag, err := a.reference(ctx, in.Tag)
	if err != nil {
		return wire.TagChange{}, err
	}
	p, err := a.service.Unpoint(ctx, by, tag, in.Because)
	return viewPointed(p), err
}

func where(ctx context.Context, a *API, by service.Actor, in whereQuery) (wire.Where, error) {
	w, err := a.service.Where(ctx, by, in.What)
	return wire.Where{
		Builds: each(w.Builds, viewBuildRef),
		Asked:  w.Asked,
		As:     each(w.As, func(s string) string { return s }),
		Items:  each(w.Items, viewFound),
		More:   w.More,
	}, err
}

func compareImages(ctx context.Context, a *API, by service.Actor, in compareQuery) (wire.Comparison, error) {
	left, err := a.reference(ctx, in.A)
	if err != nil {
		return wire.Comparison{}, err
	}
	right, err := a.reference(ctx, in.B)
	if err != nil {
		return wire.Comparison{}, err
	}
	c, err := a.service.Compare(ctx, by, left, right)
	if err != nil {
		return wire.Comparison{}, err
	}
	return wire.Comparison{
		Between:   viewBetween(c.Between),
		Same:      c.Same,
		A:         viewImage(c.A),
		B:         viewImage(c.B),
		Platforms: each(c.Platforms, viewCompared),
		Labels:    each(c.Labels, viewChange),
		Attached: each(c.Attached, func(x compare.Attachment) wire.ComparedAttached {
			return wire.ComparedAttached{Kind: string(x.Kind), Type: x.Type, A: x.A, B: x.B}
		}),
	}, nil
}

func viewTag(t service.TagView) wire.Tag {
	out := wire.Tag{Tag: t.Tag, Digest: t.Digest.String(), Rule: t.Rule, Kind: t.Kind, Since: t.Since.UTC(), Created: utc(t.CreatedAt),
		Version: t.Version, Size: t.Size, Platforms: listed(t.Platforms), Shares: t.Shares,
		With: strings.Fields(t.With), Seen: t.SeenAt.UTC(), Problem: t.Problem}
	if t.DecidedAt != nil {
		out.Since, out.Decided = t.DecidedAt.UTC(), true
	}
	return out
}

// listed is a list that is never null.
func listed(l []string) []string { return each(l, func(s string) string { return s }) }

func viewLook(s service.Survey, page []service.TagView) wire.TagsLook {
	return wire.TagsLook{Tags: s.Tags, Images: s.Images, Seen: s.SeenAt.UTC(), Kept: s.Kept, Items: each(page, viewTag)}
}

func viewAcrossPlace(p service.AcrossPlace) wire.AcrossPlace {
	return wire.AcrossPlace{
		Environment: p.Environment,
		Repository:  p.Ref.In(),
		Seen:        p.SeenAt,
		Problem:     p.Problem,
		Registry:    viewMark(p.Mark),
	}
}

func viewAcrossRow(r compare.Row) wire.AcrossRow {
	out := wire.AcrossRow{Tag: r.Tag, Verdict: string(r.Verdict), Platforms: listed(r.Platforms), Exception: r.Exception,
		Cells: each(r.Cells, func(c compare.Cell) wire.AcrossCell {
			cell := wire.AcrossCell{Digest: c.Digest.String(), Platforms: listed(c.Platforms)}
			if c.Digest != "" {
				cell.Since = &c.Since
			}
			if c.Attached != nil {
				n := len(c.Attached)
				cell.Attached = &n
			}
			return cell
		})}
	if !r.Since.IsZero() {
		out.Since = &r.Since
	}
	return out
}

func viewTagException(e store.TagException) wire.TagException {
	return wire.TagException{
		Number:  e.Number,
		Pattern: e.Pattern,
		Place:   e.Place,
		Because: e.Because,
		By:      e.MakerName,
		Made:    e.MadeAt.UTC(),
	}
}

func viewFound(f service.WhereItem) wire.WhereItem {
	return wire.WhereItem{
		Repository:  f.Registry + "/" + f.Repository,
		Tag:         f.Tag,
		Digest:      f.Digest.String(),
		Kind:        f.Kind,
		Version:     f.Version,
		Revision:    f.Revision,
		Size:        f.Size,
		Platforms:   listed(f.Platforms),
		Created:     utc(f.CreatedAt),
		Component:   f.Component,
		Environment: f.Environment,
		Stands:      f.Stands,
		Origin:      f.Origin,
		Seen:        f.SeenAt.UTC(),
	}
}

func viewCompared(p compare.Platform) wire.ComparedPlatform {
	layer := func(l ocispec.Descriptor) wire.Layer {
		return wire.Layer{Digest: l.Digest.String(), Size: l.Size, MediaType: l.MediaType}
	}
	return wire.ComparedPlatform{Platform: p.Platform.String(), A: p.A.String(), B: p.B.String(), SizeA: p.SizeA, SizeB: p.SizeB,
		Shared: each(p.Shared, layer), Removed: each(p.Removed, layer), Added: each(p.Added, layer),
		SharedBytes: p.SharedBytes(), AddedBytes: p.AddedBytes(), Config: each(p.Config, viewChange), Labels: each(p.Labels, viewChange)}
}

func viewChange(c compare.Change) wire.ComparedValue {
	return wire.ComparedValue{Name: c.Name, A: c.A, B: c.B}
}
