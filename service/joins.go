package service

import (
	"context"
	"fmt"

	"dovrak/core/image"
	"dovrak/core/join"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/google/uuid"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// NewJoin asks for images of single platforms to be joined into one, under a tag.
type NewJoin struct {
	To      image.Reference // with the tag
	Parts   []image.Reference
	Because string
	Key     string // Idempotency-Key
}

// maxParts bounds the parts of a join by hand.
const maxParts = 64

// AskJoin checks a join by hand, its parts and its tag, and queues it. Nothing is written to a registry before that.
func (s *Service) AskJoin(ctx context.Context, by Actor, n NewJoin) (Asked, error) {
	if err := firstOf(by.Require(Point), reason(n.Because), joinable(n)); err != nil {
		return Asked{}, err
	}
	a := ask{n.Key, hashOf("join", n.To, n.Parts, n.Because)}
	if had, ok, err := s.before(ctx, by, a); err != nil {
		return Asked{}, err
	} else if ok {
		w, _, err := s.db.JoinByWork(ctx, had.WorkID)
		return Asked{w.Join.Number}, err
	}
	to, err := s.spot(ctx, n.To)
	if err != nil {
		return Asked{}, err
	}
	if err := s.mayWrite(ctx, to); err != nil {
		return Asked{}, err
	}
	var rows []store.JoinPart
	for _, ref := range n.Parts {
		if ref.In() != n.To.In() { // it is copied in first
			if err := by.Require(Copy); err != nil {
				return Asked{}, err
			}
		}
		p, err := s.partByHand(ctx, ref)
		if err != nil {
			return Asked{}, err
		}
		rows = append(rows, store.JoinPart{Platform: p.Claimed.String(), Repository: p.at.ref.In(), Digest: p.Root.Digest})
	}
	w := store.JoinWork{
		Work: store.Work{ID: store.NewID(), Kind: store.KindJoin, State: store.StateAsked, RequestedBy: by.ID, Because: n.Because},
		Join: store.Join{RegistryID: to.conn.ID, Repository: to.ref.Repository, Tag: n.To.Tag, Parts: rows},
	}
	w.Join.WorkID = w.Work.ID
	made, err := s.draftJoin(ctx, w)
	if err != nil {
		return Asked{}, err
	}
	made.wish.by, made.wish.because = by, n.Because
	if err := s.mayPoint(ctx, made.wish); err != nil {
		return Asked{}, err
	}
	var no int64
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if no, err = tx.AddJoin(ctx, w.Work, w.Join); err != nil {
			return err
		}
		return s.enqueue(ctx, tx, by, a, w.Work.ID, fmt.Sprintf("join %d", no), numbered(store.TopicJoin, no), JoinJob{w.Work.ID})
	})
	return Asked{no}, err
}

func joinable(n NewJoin) error {
	p := &problem.Problem{Kind: problem.Malformed, Title: "This cannot be joined", Asked: n.To.String()}
	switch {
	case n.To.Tag == "" || n.To.Digest != "":
		p.Seen, p.Remedy = "no tag for the joined image", "name it: "+n.To.In()+":TAG"
	case len(n.Parts) == 0 || len(n.Parts) > maxParts:
		p.Seen, p.Remedy = fmt.Sprintf("%d parts", len(n.Parts)), "name 1 to 64 parts behind it"
	default:
		return nil
	}
	return p
}

// partByHand reads a part that claims what its own config says.
func (s *Service) partByHand(ctx context.Context, ref image.Reference) (placed, error) {
	at, err := s.spot(ctx, ref)
	if err != nil {
		return placed{}, err
	}
	m, err := s.present(ctx, at, ref)
	if err != nil {
		return placed{}, err
	}
	part, err := s.readPart(ctx, at, image.Platform{}, m.Digest)
	part.Claimed = part.Config.Platform
	return placed{part, at}, err
}

// joinDraft is a join as it will be done.
type joinDraft struct {
	parts    []placed
	index    image.Manifest
	warnings []string
	wish     wish
}

// draftJoin works a join out from its record, by the charter in force.
func (s *Service) draftJoin(ctx context.Context, w store.JoinWork) (joinDraft, error) {
	var out joinDraft
	for _, row := range w.Join.Parts {
		p, err := s.placedPart(ctx, row.Repository, row.Platform, row.Digest)
		if err != nil {
			return out, err
		}
		out.parts = append(out.parts, p)
	}
	to, err := s.spotByID(ctx, w.Join.RegistryID, w.Join.Repository)
	if err != nil {
		return out, err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return out, err
	}
	want := join.Wanted{Component: to.ref.In(), WarnOnly: true, Facts: alike(out.parts)}
	if h := law.HomeOf(to.ref); h.Component != "" {
		comp := law.Components[h.Component]
		want = join.Wanted{
			Component: h.Component,
			Required:  comp.Platforms,
			Optional:  comp.Optional,
			WarnOnly:  comp.LabelsWarn(),
			Facts:     alike(out.parts),
		}
	}
	if out.index, out.warnings, err = want.Join(bare(out.parts)); err != nil {
		return out, err
	}
	rules, err := s.rulesOf(ctx, law, to)
	out.wish = wish{at: to, tag: w.Join.Tag, to: out.index, rules: rules, under: nil,
		facts: tagging.Facts{Component: law.HomeOf(to.ref).Component, Version: want.Facts.Version, Commit: want.Facts.Revision}}
	return out, err
}

// alike is what all parts say alike of themselves, and what therefore is true of them together.
func alike(parts []placed) join.Facts {
	same := func(key string) string {
		v := parts[0].Config.Labels[key]
		for _, p := range parts {
			if p.Config.Labels[key] != v {
				return ""
			}
		}
		return v
	}
	return join.Facts{
		Version:  same(ocispec.AnnotationVersion),
		Revision: same(ocispec.AnnotationRevision),
		Source:   same(ocispec.AnnotationSource),
	}
}

// RunJoin does a join that was asked for, unless another process does.
func (s *Service) RunJoin(ctx context.Context, work uuid.UUID) error {
	w, ok, err := s.db.JoinByWork(ctx, work)
	if err != nil || !ok {
		return err
	}
	return s.underLease(ctx, work, numbered(store.TopicJoin, w.Join.Number),
		func(ctx context.Context, sh *shift) error { return s.runJoin(ctx, sh, w) },
		func(context.Context, store.Tx, *problem.Problem) error { return nil })
}

func (s *Service) runJoin(ctx context.Context, sh *shift, w store.JoinWork) error {
	if err := sh.state(ctx, store.StateReading); err != nil {
		return err
	}
	d, err := s.draftJoin(ctx, w)
	if err != nil {
		return err
	}
	if err := s.assemble(ctx, sh, d.parts, d.index, []spot{d.wish.at}); err != nil {
		return err
	}
	if err := sh.state(ctx, store.StateSwitching); err != nil {
		return err
	}
	d.wish.by, d.wish.because, d.wish.under = Actor{ID: w.Work.RequestedBy, Name: w.RequesterName}, w.Work.Because, &sh.lease
	if _, err := s.point(ctx, d.wish); err != nil {
		return err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	return sh.end(ctx, func(tx store.Tx) error {
		if err := tx.SetJoined(ctx, w.Work.ID, d.index.Digest, d.warnings); err != nil {
			return err
		}
		facts := map[string]string{"join": number(w.Join.Number), "digest": d.index.Digest.String()}
		for _, p := range d.parts {
			facts["part "+p.Claimed.String()] = p.Root.Digest.String()
		}
		return s.record(
			ctx,
			tx,
			entry{act: trail.PartsJoined, actor: w.RequesterName, sealed: map[string]string{"because": w.Work.Because},
				facts: facts, subject: d.wish.ref().String(), component: law.HomeOf(d.wish.at.ref).Component, work: &w.Work.ID},
		)
	})
}

// JoinView is a join by hand as it is looked at.
type JoinView struct {
	store.JoinWork
	To image.Reference
}

// JoinNumbered gives one join by hand.
func (s *Service) JoinNumbered(ctx context.Context, by Actor, n int64) (JoinView, error) {
	if err := by.Require(Read); err != nil {
		return JoinView{}, err
	}
	w, ok, err := s.db.JoinNumbered(ctx, n)
	if err == nil && !ok {
		err = &problem.Problem{Kind: problem.NotFound, Title: "There is no such join", Asked: "join " + number(n),
			Remedy: "dovrak trail tells what was joined"}
	}
	if err != nil {
		return JoinView{}, err
	}
	at, err := s.spotByID(ctx, w.Join.RegistryID, w.Join.Repository)
	at.ref.Tag = w.Join.Tag
	return JoinView{w, at.ref}, err
}
