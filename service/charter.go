package service

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dovrak/core/charter"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/opencontainers/go-digest"
)

// Adopted is what came of a charter that was to be adopted: a version in force, or a proposal that waits for people to agree.
type Adopted struct {
	Version  int64
	Proposal int64
	Changes  []string // against the version before
}

// Adopt makes a document the charter in force, or, where the charter in force says that others must agree, proposes it to them. The
// document in force already is not adopted again.
func (s *Service) Adopt(ctx context.Context, by Actor, document, because string) (Adopted, error) {
	if err := by.Require(Keep); err != nil {
		return Adopted{}, err
	}
	parsed, err := charter.ParseNew([]byte(document))
	if err != nil {
		return Adopted{}, err
	}
	var out Adopted
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.Lock(ctx, "charter"); err != nil {
			return err
		}
		now, ok, err := tx.CurrentCharter(ctx)
		if err != nil || ok && now.Document == document {
			out.Version = now.Version
			return err
		}
		if !ok {
			out, err = s.adopt(ctx, tx, by, document, parsed, nil)
			return err
		}
		before, err := charter.Parse([]byte(now.Document))
		if err != nil {
			return err
		}
		if before.Adoption.Count > 0 {
			out, err = s.propose(ctx, tx, by, store.Proposal{Document: document, Base: now.Version, AskedBy: by.ID, Because: because},
				charter.Difference(before, parsed))
			return err
		}
		out, err = s.adopt(ctx, tx, by, document, parsed, before)
		return err
	})
	return out, err
}

// adopt puts a charter in force; before is the one that was, or nil.
func (s *Service) adopt(ctx context.Context, tx store.Tx, by Actor, document string, parsed, before *charter.Charter) (Adopted, error) {
	out := Adopted{}
	if before != nil {
		out.Changes = charter.Difference(before, parsed)
	}
	c, err := tx.AddCharter(ctx, store.Charter{Document: document, AdoptedBy: by.ID})
	if err != nil {
		return out, err
	}
	out.Version = c.Version
	if err := tx.Overtake(ctx, c.Version); err != nil {
		return out, err
	}
	if err := tx.Tell(ctx, store.TopicCharter, map[string]int64{"version": c.Version}); err != nil {
		return out, err
	}
	if err := s.wakeWaiting(ctx, tx, store.WaitingFor{}); err != nil {
		return out, err
	}
	return out, s.record(ctx, tx, entry{act: trail.CharterAdopted, actor: by.Name, facts: charterFacts(c, parsed, out.Changes)})
}

// Charter gives a version of the charter; 0 is the one in force.
func (s *Service) Charter(ctx context.Context, by Actor, version int64) (store.Charter, error) {
	if err := by.Require(Read); err != nil {
		return store.Charter{}, err
	}
	if version == 0 {
		l, err := s.law(ctx)
		return l.Stored, err
	}
	c, ok, err := s.db.CharterVersion(ctx, version)
	if err == nil && !ok {
		err = &problem.Problem{
			Kind:   problem.NotFound,
			Title:  "There is no such version of the charter",
			Asked:  "charter " + number(version),
			Remedy: "dovrak charter show shows the one in force, with its version",
		}
	}
	return c, err
}

// charterFacts are what the trail says of an adopted charter: its version, and the digest of its very bytes.
func charterFacts(c store.Charter, parsed *charter.Charter, changes []string) map[string]string {
	return map[string]string{
		"changes":      shortened(strings.Join(changes, "; ")),
		"version":      fmt.Sprint(c.Version),
		"document":     digest.FromString(c.Document).String(),
		"organisation": parsed.Organisation,
	}
}

// shortened bounds words on the trail: the document's digest tells it all.
func shortened(words string) string {
	if len(words) > maxBecause {
		return strings.ToValidUTF8(words[:maxBecause], "") + "…"
	}
	return words
}

// law is the charter in force, read.
type law struct {
	*charter.Charter
	Version int64
	Stored  store.Charter
}

func (s *Service) law(ctx context.Context) (law, error) {
	c, ok, err := s.db.CurrentCharter(ctx)
	if err != nil {
		return law{}, err
	}
	if !ok {
		return law{}, &problem.Problem{Kind: problem.NotFound, Title: "There is no charter yet", Seen: "no version was ever adopted",
			Remedy: "write one (docs/charter.md) and adopt it: dovrak charter adopt FILE"}
	}
	if parsed, ok := s.laws.Load(c.Version); ok { // a version never changes, and nobody changes what was read
		return law{parsed.(*charter.Charter), c.Version, c}, nil
	}
	parsed, err := charter.Parse([]byte(c.Document))
	if err != nil {
		return law{}, err
	}
	s.laws.Store(c.Version, parsed)
	return law{parsed, c.Version, c}, nil
}

// lawIfAny is the charter in force, or an empty one.
func (s *Service) lawIfAny(ctx context.Context) (law, error) {
	l, err := s.law(ctx)
	if problem.Is(err, problem.NotFound) {
		return law{Charter: &charter.Charter{}}, nil
	}
	return l, err
}

// calendarAhead and calendarBehind bound what a calendar of freezes shows.
const (
	calendarBehind = 7 * 24 * time.Hour
	calendarAhead  = 56 * 24 * time.Hour
)

// InWords is a version of the charter as people read it.
type InWords struct {
	Stored   store.Charter
	By       string
	Changes  []string // against the version before
	InForce  bool
	Now      time.Time
	From, To time.Time // of the calendar
	Rules    []charter.Rules
	*charter.Charter
}

// CharterInWords tells a version of the charter in words; 0 is the one in force.
func (s *Service) CharterInWords(ctx context.Context, by Actor, version int64) (InWords, error) {
	stored, err := s.Charter(ctx, by, version)
	if err != nil {
		return InWords{}, err
	}
	out := InWords{Stored: stored}
	if out.Charter, err = charter.Parse([]byte(stored.Document)); err != nil {
		return out, err
	}
	if out.Now, err = s.db.Now(ctx); err != nil {
		return out, err
	}
	out.From, out.To = out.Now.Add(-calendarBehind), out.Now.Add(calendarAhead)
	out.Rules = out.Words(out.From, out.To)
	if out.Changes, err = s.changesOf(ctx, stored, out.Charter); err != nil {
		return out, err
	}
	now, _, err := s.db.CurrentCharter(ctx)
	if err != nil {
		return out, err
	}
	out.InForce = now.Version == stored.Version
	who, _, err := s.db.ActorByID(ctx, stored.AdoptedBy)
	out.By = who.Name
	return out, err
}

// changesOf says in words what a version changed against the one before it.
func (s *Service) changesOf(ctx context.Context, c store.Charter, parsed *charter.Charter) ([]string, error) {
	before, ok, err := s.db.CharterBefore(ctx, c.Version)
	if err != nil || !ok {
		return nil, err
	}
	old, err := charter.Parse([]byte(before.Document))
	if err != nil {
		return nil, err
	}
	return charter.Difference(old, parsed), nil
}

// CharterVersions lists the versions of the charter, newest first.
func (s *Service) CharterVersions(ctx context.Context, by Actor, p store.Page) ([]store.AdoptedCharter, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	return s.db.Charters(ctx, p)
}
