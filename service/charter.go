package service

import (
	"context"
	"fmt"
	"strings"

	"dovrak/core/charter"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/opencontainers/go-digest"
)

// Adopt makes a document the charter in force, and says what it changes. The document in force already is not adopted again.
func (s *Service) Adopt(ctx context.Context, by Actor, document string) (version int64, changes []string, err error) {
	if err := by.Require(Keep); err != nil {
		return 0, nil, err
	}
	parsed, err := charter.ParseNew([]byte(document))
	if err != nil {
		return 0, nil, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.Lock(ctx, "charter"); err != nil {
			return err
		}
		now, ok, err := tx.CurrentCharter(ctx)
		if err != nil || ok && now.Document == document {
			version = now.Version
			return err
		}
		if ok {
			before, err := charter.Parse([]byte(now.Document))
			if err != nil {
				return err
			}
			changes = charter.Difference(before, parsed)
		}
		c, err := tx.AddCharter(ctx, store.Charter{Document: document, AdoptedBy: by.ID})
		if err != nil {
			return err
		}
		version = c.Version
		if err := tx.Tell(ctx, store.TopicCharter, map[string]int64{"version": version}); err != nil {
			return err
		}
		if err := s.wakeWaiting(ctx, tx, store.WaitingFor{}); err != nil {
			return err
		}
		return s.record(ctx, tx, entry{act: trail.CharterAdopted, actor: by.Name, facts: charterFacts(c, parsed, changes)})
	})
	return version, changes, err
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
		err = &problem.Problem{Kind: problem.NotFound, Title: "There is no such version of the charter", Asked: "charter " + number(version),
			Remedy: "dovrak charter show shows the one in force, with its version"}
	}
	return c, err
}

// charterFacts are what the trail says of an adopted charter: its version, and the digest of its very bytes.
func charterFacts(c store.Charter, parsed *charter.Charter, changes []string) map[string]string {
	said := strings.Join(changes, "; ")
	if len(said) > maxBecause { // the document's digest tells it all
		said = strings.ToValidUTF8(said[:maxBecause], "") + "…"
	}
	return map[string]string{
		"changes":      said,
		"version":      fmt.Sprint(c.Version),
		"document":     digest.FromString(c.Document).String(),
		"organisation": parsed.Organisation,
	}
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
