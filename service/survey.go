package service

import (
	"context"
	"errors"
	"slices"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/registry"
	"dovrak/store"

	"github.com/opencontainers/go-digest"
	"golang.org/x/sync/errgroup"
)

// surveyFor is how long a look at all tags of a repository is shown, with its age, before they are asked again.
const surveyFor = time.Minute

// surveyPage is how many tags are asked, written down and passed on together.
const surveyPage = 200

// Survey is how far a look at all tags of a repository is.
type Survey struct {
	Tags   int64 // asked so far
	Images int64 // images read for the first time
	SeenAt time.Time
	Kept   bool // nothing was asked: the last look is not older than a minute
}

// survey asks a repository for all its tags, and each tag for what it means. What an image is, is asked only of images
// that were never seen: a known one costs a HEAD for each of its tags. Nothing grows with the number of tags: each page
// is written down, and told, before the next is asked. Who asks while another does so waits for that one.
func (s *Service) survey(ctx context.Context, at spot, each func(Survey, []string) error) (Survey, error) {
	if err := s.conns.surveys.Acquire(ctx, 1); err != nil {
		return Survey{}, err
	}
	defer s.conns.surveys.Release(1)
	var out Survey
	err := s.db.InTurn(ctx, "survey "+at.conn.ID.String()+" "+at.ref.Repository, func() error {
		now, err := s.db.Now(ctx)
		if err != nil {
			return err
		}
		last, ok, err := s.db.LastSurvey(ctx, at.at())
		if err != nil {
			return err
		}
		if ok && now.Sub(last.BeganAt) < surveyFor {
			out = Survey{Tags: last.Tags, SeenAt: last.BeganAt.UTC(), Kept: true}
			return each(out, nil)
		}
		out.SeenAt = now
		return s.surveyPages(ctx, at, &out, each)
	})
	return out, err
}

func (s *Service) surveyPages(ctx context.Context, at spot, out *Survey, each func(Survey, []string) error) error {
	err := at.Repository.Tags(ctx, func(tags []string) error {
		// No registry may hold what is no tag; and a list of referrers is no image.
		tags = slices.DeleteFunc(tags, func(t string) bool { return image.CheckTag(t) != nil || registry.IsFallbackTag(t) })
		for page := range slices.Chunk(tags, surveyPage) {
			if err := s.surveyPage(ctx, at, page, out); err != nil {
				return err
			}
			if err := each(*out, page); err != nil {
				return err
			}
		}
		return nil
	})
	if problem.Is(err, problem.NotFound) {
		p := problem.From(err)
		p.Title, p.Asked = "There is no such repository, or nothing is in it yet", at.ref.In()
		p.Remedy = "see where Dovrak knows images: dovrak where COMPONENT; dovrak registry destinations"
		err = when(p, out.SeenAt)
	}
	if err != nil {
		return err
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		return tx.EndSurvey(ctx, store.Survey{RegistryID: at.conn.ID, Repository: at.ref.Repository, BeganAt: out.SeenAt, Tags: out.Tags})
	})
}

// surveyPage asks for some tags, and reads the images that were never seen.
func (s *Service) surveyPage(ctx context.Context, at spot, tags []string, out *Survey) error {
	seen, err := s.db.Now(ctx)
	if err != nil {
		return err
	}
	rows := make([]store.Sighting, len(tags))
	g, asking := errgroup.WithContext(ctx)
	g.SetLimit(8)
	for i, t := range tags {
		g.Go(func() error {
			rows[i] = store.Sighting{RegistryID: at.conn.ID, Repository: at.ref.Repository, Tag: t, SeenAt: seen}
			d, err := at.Head(asking, t)
			if problem.Is(err, problem.NotFound) { // taken away since it was listed
				return nil
			}
			rows[i].Digest = &d.Digest
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if err := s.db.SeeAll(ctx, rows); err != nil {
		return err
	}
	read, err := s.readNew(ctx, at, rows)
	out.Tags += int64(len(tags))
	out.Images += read
	return err
}

// readNew reads and keeps the images that no summary is kept of. One that cannot be read is kept as that.
func (s *Service) readNew(ctx context.Context, at spot, rows []store.Sighting) (int64, error) {
	var ds []digest.Digest
	for _, r := range rows {
		if r.Digest != nil {
			ds = append(ds, *r.Digest)
		}
	}
	slices.Sort(ds)
	fresh, err := s.db.Unsummarised(ctx, slices.Compact(ds))
	if err != nil {
		return 0, err
	}
	g, reading := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, d := range fresh {
		g.Go(func() error {
			_, err := s.describe(reading, at, d)
			if problem.Is(err, problem.Altered) {
				p := problem.From(err)
				err = s.db.Summarise(
					reading,
					store.Summary{Digest: d, Kind: "unreadable", Platforms: []string{}, Problem: p.Title + ": " + p.Seen},
				)
			}
			if absent(err) { // an image whose parts are not there any more
				err = s.db.Summarise(
					reading,
					store.Summary{Digest: d, Kind: "unreadable", Platforms: []string{}, Problem: "parts of it are not there"},
				)
			}
			return firstOf(err, s.db.Hold(reading, at.at(), d, false))
		})
	}
	return int64(len(fresh)), g.Wait()
}

// TagList is a page of a repository's tags, as they were last seen.
type TagList struct {
	Ref          image.Reference
	Tags, Images int64      // in all
	SurveyedAt   *time.Time // when all of them were last looked at; nil: never
	Items        []TagView
	Mark         Mark
}

// TagView is a tag with what it means. Rule says what kind of tag it is.
type TagView struct {
	store.TagRow
	Rule string // fixed, standing, moving
}

// TagQuery says which tags are listed, and how.
type TagQuery struct {
	Match, Order, After string
	Ascending           bool
	Limit               int
}

// Tags lists a repository's tags as they were last seen; nothing is asked of the registry. See [Service.LookAtTags].
func (s *Service) Tags(ctx context.Context, by Actor, ref image.Reference, q TagQuery) (TagList, error) {
	if err := by.Require(Read); err != nil {
		return TagList{}, err
	}
	at, glob, err := s.tagsOf(ctx, ref, &q)
	if err != nil {
		return TagList{}, err
	}
	like := ""
	if q.Match != "" {
		like = glob.Like()
	}
	rows, err := s.db.Tags(
		ctx,
		at.at(),
		store.TagQuery{Like: like, Order: q.Order, After: q.After, Ascending: q.Ascending, Limit: q.Limit},
	)
	if err != nil {
		return TagList{}, err
	}
	out := TagList{Ref: at.ref}
	if out.Items, err = s.viewTags(ctx, at, rows); err != nil {
		return out, err
	}
	last, ok, err := s.db.LastSurvey(ctx, at.at())
	if ok {
		seen := last.BeganAt.UTC()
		out.SurveyedAt = &seen
	}
	if err == nil {
		out.Tags, out.Images, err = s.db.CountTags(ctx, at.at(), like)
	}
	if err == nil {
		out.Mark, err = s.mark(ctx, at.conn.Registry)
	}
	return out, err
}

func (s *Service) viewTags(ctx context.Context, at spot, rows []store.TagRow) ([]TagView, error) {
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return nil, err
	}
	rules, err := s.rulesOf(ctx, law, at)
	out := make([]TagView, len(rows))
	for i, r := range rows {
		out[i] = TagView{r, string(rules.Of(r.Tag, tagging.Facts{}).Kind)}
	}
	return out, err
}

// LookAtTags asks a repository for all its tags, unless that was done within a minute, and tells of each page as it comes.
func (s *Service) LookAtTags(ctx context.Context, by Actor, ref image.Reference, each func(Survey, []TagView) error) (Survey, error) {
	if err := by.Require(Read); err != nil {
		return Survey{}, err
	}
	at, err := s.spot(ctx, ref)
	if err != nil {
		return Survey{}, err
	}
	return s.survey(ctx, at, func(so Survey, page []string) error {
		if len(page) == 0 {
			return each(so, nil)
		}
		rows, err := s.db.Tags(ctx, at.at(), store.TagQuery{Order: "name", Ascending: true, Only: page, Limit: len(page)})
		if err != nil {
			return err
		}
		views, err := s.viewTags(ctx, at, rows)
		return errors.Join(err, each(so, views))
	})
}

func (q *TagQuery) order() error {
	if q.Order == "" {
		q.Order = "version"
	}
	if slices.Contains([]string{"version", "name", "age", "size"}, q.Order) {
		return nil
	}
	return &problem.Problem{Kind: problem.Malformed, Title: "Tags have no such order", Asked: image.Printable(q.Order),
		Remedy: "say version, name, age or size"}
}
