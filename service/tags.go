package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"dovrak/core/charter"
	"dovrak/core/compare"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/opencontainers/go-digest"
)

func (s *Service) tagsOf(ctx context.Context, ref image.Reference, q *TagQuery) (spot, tagging.Glob, error) {
	glob, err := tagging.ParseGlob(q.Match)
	if err = firstOf(err, q.order()); err != nil {
		return spot{}, glob, err
	}
	at, err := s.spot(ctx, ref)
	return at, glob, err
}

// Across is one component's tags side by side in all the places where its images are kept.
type Across struct {
	Component  string
	Places     []AcrossPlace
	Rows       []compare.Row
	Exceptions []store.TagException
}

// AcrossPlace is one of the places.
type AcrossPlace struct {
	Environment string
	Ref         image.Reference
	SeenAt      *time.Time // when its tags were last looked at; nil: never
	Problem     string     // why they could not be looked at now
	Mark        Mark
}

// maxAcross bounds the tags of one place that are set side by side.
const maxAcross = 20_000

// Across looks at every place of a component, as [Service.LookAtTags] does, and sets their tags side by side. A place that
// cannot be asked is shown as it was last seen, and says so. attached compares what is attached to the images, too, which
// costs a request for each tag and place.
func (s *Service) Across(ctx context.Context, by Actor, component, match string, attached bool) (Across, error) {
	if err := by.Require(Read); err != nil {
		return Across{}, err
	}
	glob, err := tagging.ParseGlob(match)
	if err != nil {
		return Across{}, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return Across{}, err
	}
	if _, err := law.Component(component); err != nil {
		return Across{}, err
	}
	out := Across{Component: component}
	var places []compare.Place
	for _, d := range law.destinations() {
		if d.Component != component {
			continue
		}
		at, err := s.spot(ctx, d.Ref)
		if err != nil {
			return out, err
		}
		p, tags, err := s.acrossPlace(ctx, at, d, glob, attached)
		if err != nil {
			return out, err
		}
		out.Places, places = append(out.Places, p), append(places, tags)
	}
	if out.Exceptions, err = s.db.TagExceptions(ctx, component); err != nil {
		return out, err
	}
	var meant []compare.Exception
	for _, e := range out.Exceptions {
		pattern, err := tagging.ParseGlob(e.Pattern)
		if err != nil {
			return out, err
		}
		meant = append(meant, compare.Exception{Number: e.Number, Pattern: pattern, Place: e.Place})
	}
	out.Rows = compare.Across(places, meant)
	return out, nil
}

func (s *Service) acrossPlace(
	ctx context.Context,
	at spot,
	d Destination,
	glob tagging.Glob,
	attached bool,
) (AcrossPlace, compare.Place, error) {
	p := AcrossPlace{Environment: d.Environment, Ref: at.ref}
	tags := compare.Place{Repository: at.ref.In(), Tags: map[string]compare.Cell{}}
	law, err := s.law(ctx)
	if err != nil {
		return p, tags, err
	}
	if tags.Rules, err = s.homeRules(ctx, law, charter.Home{Component: d.Component, Environment: d.Environment}); err != nil {
		return p, tags, err
	}
	if _, err := s.survey(ctx, at, func(Survey, []string) error { return nil }); err != nil && !absent(err) {
		if ctx.Err() != nil {
			return p, tags, err
		}
		f := problem.From(err)
		p.Problem = f.Title + ": " + f.Seen
	}
	last, ok, err := s.db.LastSurvey(ctx, at.at())
	if err != nil {
		return p, tags, err
	}
	if ok {
		seen := last.BeganAt.UTC()
		p.SeenAt = &seen
	}
	if p.Mark, err = s.mark(ctx, at.conn.Registry); err != nil {
		return p, tags, err
	}
	rows, err := s.db.Tags(ctx, at.at(), store.TagQuery{Like: glob.Like(), Order: "version", Limit: maxAcross})
	if err != nil {
		return p, tags, err
	}
	for _, r := range rows {
		c := compare.Cell{Digest: r.Digest, Platforms: r.Platforms, Since: r.Since.UTC()}
		if r.DecidedAt != nil {
			c.Since = r.DecidedAt.UTC()
		}
		if attached {
			if c.Attached, err = s.attachedTo(ctx, at, r.Digest); err != nil {
				return p, tags, err
			}
		}
		tags.Tags[r.Tag] = c
	}
	return p, tags, nil
}

// attachedTo lists the digests of what is attached to an image in a place; nil where that is not known.
func (s *Service) attachedTo(ctx context.Context, at spot, d digest.Digest) ([]digest.Digest, error) {
	r, err := s.referrers(ctx, at, d)
	if err != nil || r.Problem != "" {
		return nil, err
	}
	out := []digest.Digest{}
	for _, b := range r.All {
		out = append(out, b.Digest)
	}
	return out, nil
}

// NewTagException says that a gap is meant: tags of a pattern need not mean the same in a place, or in any.
type NewTagException struct {
	Component, Pattern, Place, Because string
}

// ExceptTags declares an exception and gives its number.
func (s *Service) ExceptTags(ctx context.Context, by Actor, n NewTagException) (int64, error) {
	if err := firstOf(by.Require(Point), reason(n.Because)); err != nil {
		return 0, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return 0, err
	}
	if _, err := law.Component(n.Component); err != nil {
		return 0, err
	}
	if _, err := tagging.ParseGlob(n.Pattern); err != nil || n.Pattern == "" {
		return 0, firstOf(
			err,
			&problem.Problem{Kind: problem.Malformed, Title: "An exception names its tags", Remedy: "give a pattern, e.g. build-*"},
		)
	}
	var places []string
	for _, d := range law.destinations() {
		if d.Component == n.Component {
			places = append(places, d.Ref.In())
		}
	}
	if n.Place != "" && !slices.Contains(places, n.Place) {
		return 0, &problem.Problem{Kind: problem.NotFound, Title: "This is no place of the component", Asked: image.Printable(n.Place),
			Seen: "the places " + strings.Join(places, ", "), Remedy: "name one of them, or none for all"}
	}
	e := store.TagException{Component: n.Component, Pattern: n.Pattern, Place: n.Place, Because: n.Because, MadeBy: by.ID}
	var no int64
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if no, err = tx.AddTagException(ctx, e); err != nil {
			return err
		}
		return s.record(
			ctx,
			tx,
			entry{act: trail.GapAllowed, actor: by.Name, sealed: map[string]string{"because": n.Because}, component: n.Component,
				facts: map[string]string{"exception": number(no), "tags": n.Pattern, "place": n.Place}},
		)
	})
	return no, err
}

// EndTagException ends an exception.
func (s *Service) EndTagException(ctx context.Context, by Actor, no int64) error {
	if err := by.Require(Point); err != nil {
		return err
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		e, ok, err := tx.EndTagException(ctx, no)
		if err != nil {
			return err
		}
		if !ok {
			return &problem.Problem{Kind: problem.NotFound, Title: "There is no such exception", Asked: "exception " + number(no),
				Remedy: "dovrak tags --across COMPONENT lists those that count"}
		}
		return s.record(ctx, tx, entry{act: trail.GapEnded, actor: by.Name, component: e.Component,
			facts: map[string]string{"exception": number(no), "tags": e.Pattern, "place": e.Place}})
	})
}
