package service

import (
	"context"
	"maps"
	"strconv"
	"time"

	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/google/uuid"
)

// entry is what is to be written on the trail. actor and sealed are personal; facts are for everyone who may read it.
type entry struct {
	act       trail.Act
	actor     string
	sealed    map[string]string
	facts     map[string]string
	subject   string // what it is found by: REGISTRY/REPOSITORY:TAG, a repository, or nothing
	component string
	work      *uuid.UUID
}

// record writes the entry in the transaction of its act.
func (s *Service) record(ctx context.Context, tx store.Tx, e entry) error {
	now, err := tx.Now(ctx)
	if err != nil {
		return err
	}
	id := store.NewID()
	facts := map[string]string{}
	maps.Copy(facts, e.facts)
	if e.subject != "" {
		facts["subject"] = e.subject
	}
	if e.component != "" {
		facts["component"] = e.component
	}
	maps.DeleteFunc(facts, func(_, v string) bool { return v == "" })
	te := trail.Entry{ID: id.String(), At: now, Act: e.act, Facts: facts}
	openings := []trail.Opening{te.Seal("actor", e.actor)}
	for field, value := range e.sealed {
		if value != "" {
			openings = append(openings, te.Seal(field, value))
		}
	}
	raw, err := te.Bytes()
	if err != nil {
		return err
	}
	row := store.TrailEntry{ID: id, Bytes: raw, Act: string(e.act), Subject: e.subject, Component: e.component, WorkID: e.work, At: now}
	return tx.AddEntry(ctx, row, openings)
}

// TrailEntry is an entry as people read it: its facts, and the sealed fields whose opening is kept and fits.
type TrailEntry struct {
	trail.Entry
	Seq    *int64
	Opened map[string]string
}

// TrailFilter selects entries.
type TrailFilter struct {
	Subject, Component string
	Promotion          int64  // what happened in it, to tags too; 0: everything
	Before             string // id of an entry; only older ones
	Limit              int
}

// Trail lists entries, newest first.
func (s *Service) Trail(ctx context.Context, by Actor, f TrailFilter) ([]TrailEntry, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	q := store.TrailQuery{Subject: f.Subject, Component: f.Component, Limit: f.Limit}
	if f.Promotion != 0 {
		w, err := s.promotionNumbered(ctx, f.Promotion)
		if err != nil {
			return nil, err
		}
		q.Work = &w.Work.ID
	}
	if f.Before != "" {
		id, err := uuid.Parse(f.Before)
		if err != nil {
			return nil, badCursor(f.Before)
		}
		before, ok, err := s.db.Entry(ctx, id)
		if err != nil {
			return nil, err
		}
		if !ok {
			return nil, badCursor(f.Before)
		}
		q.Before = &before
	}
	rows, openings, err := s.db.Trail(ctx, q)
	if err != nil {
		return nil, err
	}
	out := make([]TrailEntry, len(rows))
	for i, r := range rows {
		if out[i], err = opened(r, openings[r.ID]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func opened(r store.TrailEntry, openings []trail.Opening) (TrailEntry, error) {
	e, err := trail.Read(r.Bytes)
	if err != nil {
		return TrailEntry{}, err
	}
	out := TrailEntry{Entry: e, Seq: r.Seq, Opened: map[string]string{}}
	for _, o := range openings {
		if e.Opens(o) {
			out.Opened[o.Field] = o.Value
		}
	}
	return out, nil
}

func badCursor(c string) error {
	return &problem.Problem{Kind: problem.Malformed, Title: "This list cannot be gone on with", Asked: "what comes behind " + c,
		Seen: "no such record", Remedy: "begin the list anew, and take its next cursor as it is given"}
}

func number(n int64) string { return strconv.FormatInt(n, 10) }

// stamp is a time as the trail writes it.
func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }
