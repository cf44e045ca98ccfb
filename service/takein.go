package service

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/failpoint"
	"dovrak/registry"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// TakenIn is what was found in a registry that was taken in. Nothing was changed by it.
type TakenIn struct {
	Repositories int64                 `json:"repositories"`
	Tags         int64                 `json:"tags"`
	Images       int64                 `json:"images"`
	Size         int64                 `json:"size"` // in bytes, each image once
	Platforms    []store.PlatformCount `json:"platforms"`
	Sharing      int64                 `json:"sharing"`    // tags whose image another tag means, too
	Untagged     int64                 `json:"untagged"`   // images that were seen before, that no tag means, and that are there still
	Unruled      int64                 `json:"unruled"`    // tags whose names no rule of the charter could have made
	Unreadable   int64                 `json:"unreadable"` // images that cannot be read, or contradict themselves
	Examples     []string              `json:"examples"`   // of tags that no rule could have made
}

// TakeInView is a taking-in as it is looked at.
type TakeInView struct {
	store.TakeInWork
	Registry     string
	Repositories []store.TakenRepository
	Report       *TakenIn
}

// Limits of a taking-in.
const (
	maxRepositories = 50_000
	maxExamples     = 20
	maxUntagged     = 1000 // asked for in one repository
)

var repositoryPattern = regexp.MustCompile(`^[a-z0-9._/*?-]{1,255}$`)

// AskTakeIn decides on taking a registry in and queues it. pattern names repositories, with * and ?; empty is all.
func (s *Service) AskTakeIn(ctx context.Context, by Actor, name, pattern, key string) (Asked, error) {
	if err := by.Require(Keep); err != nil {
		return Asked{}, err
	}
	if pattern != "" && !repositoryPattern.MatchString(pattern) {
		return Asked{}, &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "This is not a pattern of repositories",
			Asked:  image.Printable(pattern),
			Remedy: "use the letters of repositories, * for any but / and ? for one, e.g. live/*",
		}
	}
	a := ask{key, hashOf("take-in", name, pattern)}
	if had, ok, err := s.before(ctx, by, a); err != nil {
		return Asked{}, err
	} else if ok {
		w, _, err := s.db.TakeInByWork(ctx, had.WorkID)
		return Asked{w.TakeIn.Number}, err
	}
	r, err := s.registryNamed(ctx, name)
	if err != nil {
		return Asked{}, err
	}
	w := store.Work{ID: store.NewID(), Kind: store.KindTakeIn, State: store.StateAsked, RequestedBy: by.ID}
	var no int64
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if no, err = tx.AddTakeIn(ctx, w, store.TakeIn{WorkID: w.ID, RegistryID: r.ID, Pattern: pattern}); err != nil {
			return err
		}
		return s.enqueue(ctx, tx, by, a, w.ID, fmt.Sprintf("take-in %d", no), numbered(store.TopicTakeIn, no), TakeInJob{w.ID})
	})
	return Asked{no}, err
}

// RunTakeIn does a taking-in that was asked for, unless another process does. Begun again after a death, it goes on with the
// repositories that are not done.
func (s *Service) RunTakeIn(ctx context.Context, work uuid.UUID) error {
	w, ok, err := s.db.TakeInByWork(ctx, work)
	if err != nil || !ok {
		return err
	}
	return s.underLease(ctx, work, numbered(store.TopicTakeIn, w.TakeIn.Number),
		func(ctx context.Context, sh *shift) error { return s.runTakeIn(ctx, sh, w) },
		func(context.Context, store.Tx, *problem.Problem) error { return nil })
}

func (s *Service) runTakeIn(ctx context.Context, sh *shift, w store.TakeInWork) error {
	if err := sh.state(ctx, store.StateReading); err != nil {
		return err
	}
	r, ok, err := s.db.RegistryByID(ctx, w.TakeIn.RegistryID)
	if err != nil || !ok {
		return err
	}
	conn, err := s.conns.to(r)
	if err != nil {
		return err
	}
	todo, err := s.db.Taken(ctx, w.Work.ID)
	if err != nil {
		return err
	}
	if len(todo) == 0 {
		if err := s.listRepositories(ctx, conn, w); err != nil {
			return err
		}
		if todo, err = s.db.Taken(ctx, w.Work.ID); err != nil {
			return err
		}
	}
	for _, t := range todo {
		if t.Done {
			continue
		}
		if err := s.takeRepository(ctx, sh, w, r, t); err != nil {
			return err
		}
		if err := failpoint.At(ctx, "repository-taken"); err != nil {
			return err
		}
	}
	report, err := s.report(ctx, r, w.Work.ID)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(report)
	if err != nil {
		return err
	}
	return sh.end(ctx, func(tx store.Tx) error {
		if err := tx.SetReport(ctx, w.Work.ID, raw); err != nil {
			return err
		}
		return s.record(ctx, tx, entry{act: trail.TakenIn, actor: w.RequesterName, work: &w.Work.ID, facts: map[string]string{
			"registry": r.Name, "pattern": w.TakeIn.Pattern, "repositories": number(report.Repositories), "tags": number(report.Tags),
			"images": number(report.Images)}})
	})
}

// listRepositories finds what is to be read: the one repository that is named or, by the registry's list, all of a pattern.
func (s *Service) listRepositories(ctx context.Context, conn *connection, w store.TakeInWork) error {
	pattern := w.TakeIn.Pattern
	if pattern != "" && !regexp.MustCompile(`[*?]`).MatchString(pattern) {
		return s.db.AddTaken(ctx, w.Work.ID, []string{pattern})
	}
	n := 0
	err := conn.client.Catalog(ctx, func(names []string) error {
		names = slices.DeleteFunc(names, func(name string) bool {
			fits, _ := path.Match(pattern, name) // the pattern was checked when it was asked for
			_, err := image.ParseRepository(conn.Name + "/" + name)
			return err != nil || pattern != "" && !fits
		})
		if n += len(names); n > maxRepositories {
			return &problem.Problem{Kind: problem.Refused, Title: "There are too many repositories to take in at once", Asked: conn.Name,
				Seen: fmt.Sprintf("more than %d", maxRepositories), Remedy: "take them in part by part: --repository PATTERN"}
		}
		return s.db.AddTaken(ctx, w.Work.ID, names)
	})
	switch registry.Status(err) {
	case 400, 401, 403, 404, 405, 501:
		return (&problem.Problem{Kind: problem.RegistryError, Title: "This registry does not list its repositories", Asked: conn.Name,
			Seen: problem.From(err).Seen, Where: conn.Name, Remedy: "name them one by one: --repository NAME"}).Because(err)
	}
	return err
}

// takeRepository looks at one repository whole, and gives each of its tags that the trail knows nothing of a first entry.
// One that cannot be read is kept as that, and does not end the rest.
func (s *Service) takeRepository(ctx context.Context, sh *shift, w store.TakeInWork, r store.Registry, t store.TakenRepository) error {
	at, err := s.spotIn(r, t.Repository)
	if err != nil {
		return err
	}
	so, err := s.survey(ctx, at, func(Survey, []string) error { return nil })
	if err != nil {
		if ctx.Err() != nil {
			return err
		}
		p := problem.From(err)
		t.Problem = p.Title + ": " + p.Seen
	}
	t.Tags = so.Tags
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	component := law.HomeOf(at.ref).Component
	for after := ""; ; {
		found, err := s.db.Unexplained(ctx, at.at(), at.ref.In(), after, surveyPage)
		if err != nil {
			return err
		}
		t.Entries, t.Done = int64(len(found)), len(found) < surveyPage
		err = s.db.Tx(ctx, func(tx store.Tx) error {
			if err := tx.Renew(ctx, sh.lease, workLease); err != nil {
				return err
			}
			for _, f := range found {
				tag := at.ref
				tag.Tag = f.Tag
				e := entry{act: trail.TagFound, actor: w.RequesterName, subject: tag.String(), component: component, work: &w.Work.ID,
					facts: map[string]string{"to": f.Digest.String(), "seen": stamp(f.SeenAt), "found": "not decided"}}
				if err := s.record(ctx, tx, e); err != nil {
					return err
				}
			}
			if err := tx.SetTaken(ctx, t); err != nil {
				return err
			}
			return sh.what.tell(ctx, tx, "")
		})
		if err != nil || t.Done {
			return err
		}
		after = found[len(found)-1].Tag
	}
}

// report sums up what was found.
func (s *Service) report(ctx context.Context, r store.Registry, work uuid.UUID) (TakenIn, error) {
	e, err := s.db.EstateOf(ctx, r.ID, work)
	if err != nil {
		return TakenIn{}, err
	}
	out := TakenIn{
		Repositories: e.Repositories,
		Tags:         e.Tags,
		Images:       e.Images,
		Size:         e.Size,
		Sharing:      e.Sharing,
		Unreadable:   e.Unreadable,
		Examples:     []string{},
	}
	if out.Platforms, err = s.db.PlatformsOf(ctx, r.ID, work); err != nil {
		return out, err
	}
	taken, err := s.db.Taken(ctx, work)
	if err != nil {
		return out, err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return out, err
	}
	for _, t := range taken {
		at, err := s.spotIn(r, t.Repository)
		if err != nil {
			return out, err
		}
		if err := s.countUntagged(ctx, at, &out); err != nil {
			return out, err
		}
		if err := s.countUnruled(ctx, at, law, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

func (s *Service) countUntagged(ctx context.Context, at spot, out *TakenIn) error {
	ds, err := s.db.Untagged(ctx, at.at(), maxUntagged)
	if err != nil {
		return err
	}
	for _, d := range ds {
		there, err := transfer.Has(ctx, at.Repository, digest.Digest(d))
		if err != nil {
			return err
		}
		if there {
			out.Untagged++
		} else if err := s.db.Forget(ctx, at.at(), digest.Digest(d)); err != nil {
			return err
		}
	}
	return nil
}

// countUnruled counts the tags that no rule of the charter could have made: of the repository's own environment or, where it
// has none, of any.
func (s *Service) countUnruled(ctx context.Context, at spot, law law, out *TakenIn) error {
	var all []tagging.Rules
	if h := law.HomeOf(at.ref); h.Environment != "" {
		rules, err := s.homeRules(ctx, law, h)
		if err != nil {
			return err
		}
		all = append(all, rules)
	} else {
		for name, e := range law.Environments {
			all = append(all, e.Rules(name))
		}
	}
	for after := ""; ; {
		rows, err := s.db.Tags(ctx, at.at(), store.TagQuery{Order: "name", Ascending: true, After: after, Limit: 1000})
		if err != nil {
			return err
		}
		for _, row := range rows {
			if slices.ContainsFunc(all, func(r tagging.Rules) bool { return r.Names(row.Tag) }) {
				continue
			}
			out.Unruled++
			if len(out.Examples) < maxExamples {
				out.Examples = append(out.Examples, at.ref.In()+":"+row.Tag)
			}
		}
		if len(rows) < 1000 {
			return nil
		}
		after = rows[len(rows)-1].Tag
	}
}

// TakeIns lists what was taken in, newest first.
func (s *Service) TakeIns(ctx context.Context, by Actor, p store.Page) ([]TakeInView, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	rows, err := s.db.TakeIns(ctx, p)
	if err != nil {
		return nil, err
	}
	out := make([]TakeInView, len(rows))
	for i, w := range rows {
		if out[i], err = s.viewTakeIn(ctx, w); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// TakeInNumbered gives one.
func (s *Service) TakeInNumbered(ctx context.Context, by Actor, n int64) (TakeInView, error) {
	if err := by.Require(Read); err != nil {
		return TakeInView{}, err
	}
	w, ok, err := s.db.TakeInNumbered(ctx, n)
	if err == nil && !ok {
		err = &problem.Problem{Kind: problem.NotFound, Title: "There is no such taking-in", Asked: "take-in " + number(n),
			Remedy: "dovrak registry take-ins lists them"}
	}
	if err != nil {
		return TakeInView{}, err
	}
	return s.viewTakeIn(ctx, w)
}

func (s *Service) viewTakeIn(ctx context.Context, w store.TakeInWork) (TakeInView, error) {
	v := TakeInView{TakeInWork: w}
	r, _, err := s.db.RegistryByID(ctx, w.TakeIn.RegistryID)
	if err != nil {
		return v, err
	}
	v.Registry = r.Name
	if v.Repositories, err = s.db.Taken(ctx, w.Work.ID); err != nil || w.TakeIn.Report == nil {
		return v, err
	}
	v.Report = &TakenIn{}
	return v, json.Unmarshal(w.TakeIn.Report, v.Report)
}
