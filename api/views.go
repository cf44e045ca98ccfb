package api

import (
	"encoding/json"
	"time"

	"dovrak/api/wire"
	"dovrak/core/image"
	"dovrak/core/life"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/service"
	"dovrak/store"
)

func viewActor(a service.Actor) wire.Actor {
	return wire.Actor{
		Name:    a.Name,
		Kind:    a.Kind,
		May:     each(a.May, func(p service.Permission) string { return string(p) }),
		For:     a.For,
		Expires: a.Expires,

		Groups: own(a.Groups), PromotesIn: own(a.PromotesIn), RollsBackIn: own(a.RollsBackIn), ApprovesIn: own(a.ApprovesIn),
	}
}

// own is a list that is never null in JSON.
func own(words []string) []string { return each(words, func(s string) string { return s }) }

func viewToken(t store.ListedToken) wire.Token {
	return wire.Token{
		Number:  t.Number,
		Name:    t.Name,
		Kind:    t.Kind,
		Created: t.CreatedAt.UTC(),
		Expires: t.ExpiresAt.UTC(),
		Revoked: utc(t.RevokedAt),
	}
}

func utc(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	u := t.UTC()
	return &u
}

func viewPointed(p service.Pointed) wire.TagChange {
	return wire.TagChange{
		Tag:     p.Tag.String(),
		From:    p.From.String(),
		To:      p.To.String(),
		Changed: p.Changed,
		Number:  p.Number,
		At:      p.At.UTC(),
	}
}

func viewProgress(p store.Progress) wire.Progress {
	return wire.Progress{
		Repository: p.Repository,
		Moved:      p.Moved,
		Mounted:    p.Mounted,
		Total:      p.Total,
		Present:    p.Present,
		Pieces:     p.Blobs,
		Rate:       p.Rate,
		Problem:    p.Problem,
	}
}

func viewWork(w store.Work, number int64, by string) wire.Work {
	out := wire.Work{
		Number:   number,
		State:    w.State,
		Ended:    w.Ended,
		By:       by,
		Asked:    w.AskedAt.UTC(),
		Began:    utc(w.BeganAt),
		EndedAt:  utc(w.EndedAt),
		Progress: each(w.Progress, viewProgress),
		Requests: w.Requests,
	}
	if len(w.Problem) > 0 {
		var p problem.Problem
		if json.Unmarshal(w.Problem, &p) == nil { // it was written by the service itself
			v := viewProblem(&p)
			out.Problem = &v
		}
	}
	return out
}

// viewCopy shows a copy; whole, with each piece.
func viewCopy(c service.CopyView, whole bool) wire.Copy {
	out := wire.Copy{Work: viewWork(c.Work, c.Copy.Number, c.RequesterName), From: c.Source().In(), Digest: c.Copy.Digest.String(),
		Verify: c.Copy.Verify, Referrers: c.Copy.Referrers, Platforms: c.Copy.Platforms, Places: []wire.CopyPlace{}}
	if len(out.Platforms) > 0 {
		out.Of = c.Copy.SourceDigest.String()
	}
	for i, to := range c.To() {
		place := wire.CopyPlace{To: to.String()}
		if first := c.Copy.Places[i].Plan; first != nil {
			out.Attached = len(first.Referrers)
			if whole {
				place.Pieces = viewPieces(*first, c.Progress(i))
			}
		}
		out.Places = append(out.Places, place)
	}
	return out
}

func viewCopyPlan(p service.CopyPlan) wire.CopyPlan {
	out := wire.CopyPlan{From: p.From.In(), Asked: p.Whole.String(), Digest: p.Root.String(), Made: p.Made,
		Referrers: []wire.CopyReferrer{}}
	for _, at := range p.Places {
		out.Referrers = each(at.Referrers, func(r plan.Referrer) wire.CopyReferrer {
			return wire.CopyReferrer{Digest: r.Digest.String(), Subject: r.Subject.String(), Type: image.Printable(r.Type)}
		})
		t := at.Totals()
		out.Places = append(out.Places, wire.CopyPlacePlan{To: at.To.String(), Means: at.Means.String(),
			Manifests: each(at.Manifests, viewPiece), Blobs: each(at.Blobs, viewPiece),
			Move: t.Move, MoveBytes: t.MoveBytes, Mount: t.Mount, MountBytes: t.MountBytes, Present: t.Present, PresentBytes: t.PresentBytes})
	}
	return out
}

func viewPiece(p plan.Piece) wire.CopyPiece {
	out := wire.CopyPiece{Digest: p.Digest.String(), MediaType: image.Printable(p.MediaType), Size: p.Size, What: "move", From: p.Mount}
	switch {
	case p.Foreign:
		out.What = "foreign"
	case p.Present:
		out.What = "present"
	case p.Mount != "":
		out.What = "mount"
	}
	return out
}

// viewPieces shows what has become of each piece of a plan.
func viewPieces(c plan.Copy, is store.Progress) []wire.CopyPiece {
	out := append(each(c.Blobs, viewPiece), each(c.Manifests, viewPiece)...)
	flowing := map[string]int64{}
	for _, f := range is.Flowing {
		flowing[f.Digest.String()] = f.Moved
	}
	came := map[byte]string{store.CameByMoving: "moved", store.CameByMount: "mounted", store.CameByAnother: "sent"}
	for i := range out {
		if n, ok := flowing[out[i].Digest]; ok {
			out[i].What, out[i].Moved = "moving", n
		}
		if i < len(is.Came) && came[is.Came[i]] != "" {
			out[i].What = came[is.Came[i]]
		}
	}
	return out
}

func viewEntry(e service.TrailEntry) wire.TrailEntry {
	facts := e.Facts
	if facts == nil {
		facts = map[string]string{}
	}
	return wire.TrailEntry{
		ID:      e.ID,
		Seq:     e.Seq,
		At:      e.At,
		Act:     string(e.Act),
		By:      e.Opened["actor"],
		Because: e.Opened["because"],
		Person:  e.Opened["person"],
		Facts:   facts,
	}
}

func viewStretch(s service.Stretch) wire.Meaning {
	return wire.Meaning{
		Digest:    s.Digest.String(),
		Version:   s.Version,
		From:      s.From,
		Until:     s.Until,
		By:        s.By,
		Because:   s.Because,
		Promotion: s.Promotion,
		RollBack:  s.RollBack,
		Back:      s.Back,
	}
}

func viewHistory(h service.History) wire.History {
	return wire.History{
		Component: h.Component,
		Since:     h.Since.UTC(),
		Until:     h.Until,
		Lanes: each(h.Lanes, func(l service.Lane) wire.Lane {
			return wire.Lane{
				Environment: l.Environment,
				Registry:    l.Tag.Registry,
				Repository:  l.Tag.Repository,
				Tag:         l.Tag.Tag,
				Fixed:       l.Fixed,
				Stretches:   each(l.Stretches, viewStretch),
			}
		}),
	}
}

func viewStanding(s service.Standing) wire.Standing {
	return wire.Standing{At: s.At, Organisation: s.Organisation, Charter: s.Charter, TrailSize: s.TrailSize,
		Environments: each(s.Environments, func(e service.StandingEnvironment) wire.StandingEnvironment {
			return wire.StandingEnvironment{Name: e.Name, Tag: e.Tag, Places: e.Places}
		}),
		Rows: each(s.Rows, viewRow)}
}

func viewRow(r service.StandingRow) wire.StandingRow {
	return wire.StandingRow{
		Component: r.Component,
		Platforms: own(r.Platforms),
		Cells:     each(r.Cells, viewCell),
		Gaps:      each(r.Gaps, viewGap),
		Open:      each(r.Open, viewOpen),
	}
}

func viewLife(l service.Life) wire.ComponentLife {
	return wire.ComponentLife{
		Component: l.Component,
		Platforms: own(l.Platforms),
		Route:     own(l.Route),
		Row:       viewRow(l.Row),
		Images: each(l.Images, func(i life.Image) wire.ImageLife {
			return wire.ImageLife{Digest: i.Digest.String(), Version: i.Version, Build: i.Build, Built: unlessZero(i.Built),
				Steps: each(i.Steps, viewStep)}
		}),
		Leads: each(l.Leads, func(l life.Lead) wire.Lead {
			return wire.Lead{
				Environment:   l.Environment,
				Images:        l.Images,
				BuiltSeconds:  l.Built.Seconds(),
				AgreedSeconds: l.Agreed.Seconds(),
				MovedSeconds:  l.Moved.Seconds(),
			}
		}),
	}
}

func viewStep(s life.Step) wire.LifeStep {
	return wire.LifeStep{Environment: s.Environment, Promotion: s.Number, Asked: unlessZero(s.Asked), Approved: unlessZero(s.Approved),
		Since: unlessZero(s.Since), Until: unlessZero(s.Until), RolledBack: s.RolledBack, LeadSeconds: s.Lead.Seconds()}
}

func viewGap(g service.StandingGap) wire.StandingGap {
	out := wire.StandingGap{
		From:          g.From,
		To:            g.To,
		Same:          g.Same,
		Builds:        g.Builds,
		BehindSeconds: int64(g.Behind.Seconds()),
		Since:         g.Since,
	}
	if g.RolledBack != nil {
		out.RolledBack = &g.RolledBack.Number
	}
	return out
}

func viewCell(c service.StandingCell) wire.StandingCell {
	out := wire.StandingCell{
		Environment: c.Environment,
		Registry:    c.Registry,
		Repository:  c.Repository,
		Tag:         c.Tag,
		Digest:      c.Digest.String(),
		Version:     c.Version,
		Decided:     c.Decided.String(),
		Drift:       c.Drifted(),
		Since:       c.Since,
		By:          c.By,
		Promotion:   c.Promotion,
		RollBack:    c.RollBack,
		Unreviewed:  c.Unreviewed,
		Build:       c.Build,
	}
	if !c.SeenAt.IsZero() {
		out.Seen = &c.SeenAt
	}
	return out
}
