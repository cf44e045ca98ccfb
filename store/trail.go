package store

import (
	"context"
	"fmt"
	"time"

	"dovrak/core/trail"

	"github.com/google/uuid"
	"golang.org/x/mod/sumdb/tlog"
	"gorm.io/gorm"
)

// TrailEntry is an entry as it is kept: its canonical bytes, and what it is found by. Seq is nil until the sequencer
// has come by.
type TrailEntry struct {
	ID        uuid.UUID
	Seq       *int64
	Bytes     []byte
	Act       string
	Subject   string
	Component string
	WorkID    *uuid.UUID
	At        time.Time
}

// Opening reveals a sealed field of an entry.
type Opening struct {
	EntryID uuid.UUID
	Field   string
	Salt    []byte
	Value   string
}

// AddEntry writes an entry in the transaction of its act, and wakes the sequencer when that commits.
func (t Tx) AddEntry(ctx context.Context, e TrailEntry, openings []trail.Opening) error {
	if err := t.g.WithContext(ctx).Table("trail_entries").Create(&e).Error; err != nil {
		return err
	}
	for _, o := range openings {
		row := Opening{e.ID, o.Field, o.Salt, o.Value}
		if err := t.g.WithContext(ctx).Table("trail_openings").Create(&row).Error; err != nil {
			return err
		}
	}
	return t.notify(ctx, NoticeTrail)
}

// TrailQuery selects entries, newest first. Zero fields select nothing away.
type TrailQuery struct {
	Subject, Component string
	Work               *uuid.UUID
	Before             *TrailEntry // entries older than this one
	Limit              int
}

// Trail lists entries with their openings.
func (q Queries) Trail(ctx context.Context, by TrailQuery) ([]TrailEntry, map[uuid.UUID][]trail.Opening, error) {
	g := q.g.WithContext(ctx).Table("trail_entries").Order("at DESC, id DESC").Limit(by.Limit)
	if by.Subject != "" {
		g = g.Where("subject = ?", by.Subject)
	}
	if by.Component != "" {
		g = g.Where("component = ?", by.Component)
	}
	if by.Work != nil {
		g = g.Where("work_id = ?", *by.Work)
	}
	if by.Before != nil {
		g = g.Where("(at, id) < (?, ?)", by.Before.At, by.Before.ID)
	}
	var rows []TrailEntry
	if err := g.Find(&rows).Error; err != nil || len(rows) == 0 {
		return nil, nil, err
	}
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	var opened []Opening
	if err := q.g.WithContext(ctx).Table("trail_openings").Where("entry_id IN ?", ids).Order("field").Find(&opened).Error; err != nil {
		return nil, nil, err
	}
	out := map[uuid.UUID][]trail.Opening{}
	for _, o := range opened {
		out[o.EntryID] = append(out[o.EntryID], trail.Opening{Field: o.Field, Salt: o.Salt, Value: o.Value})
	}
	return rows, out, nil
}

// Entry finds one entry.
func (q Queries) Entry(ctx context.Context, id uuid.UUID) (TrailEntry, bool, error) {
	return first[TrailEntry](q.g.WithContext(ctx).Table("trail_entries").Where("id = ?", id))
}

// TrailSize is how many entries are numbered.
func (q Queries) TrailSize(ctx context.Context) (int64, error) {
	var n int64
	return n, q.g.WithContext(ctx).Raw("SELECT coalesce(max(seq) + 1, 0) FROM trail_entries").Scan(&n).Error
}

// Sequence numbers at most limit committed entries, oldest first, and stores the hashes that each adds to the tree.
// It gives how many it numbered; none also when another process is at it.
func (s *Store) Sequence(ctx context.Context, limit int) (int, error) {
	numbered := 0
	err := s.Tx(ctx, func(tx Tx) error {
		var mine bool
		if err := tx.PGX.QueryRow(ctx, "SELECT pg_try_advisory_xact_lock(862001)").Scan(&mine); err != nil || !mine {
			return err
		}
		size, err := tx.TrailSize(ctx)
		if err != nil {
			return err
		}
		var rows []TrailEntry
		if err := tx.g.WithContext(ctx).Table("trail_entries").Where("seq IS NULL").Order("at, id").Limit(limit).Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			if err := tx.numberEntry(ctx, size+int64(numbered), r); err != nil {
				return err
			}
			numbered++
		}
		return nil
	})
	return numbered, err
}

func (t Tx) numberEntry(ctx context.Context, n int64, r TrailEntry) error {
	hashes, err := trail.Hashes(n, r.Bytes, storedHashes{t.g.WithContext(ctx)})
	if err != nil {
		return err
	}
	position := tlog.StoredHashIndex(0, n)
	for i, h := range hashes {
		row := map[string]any{"position": position + int64(i), "hash": h[:]}
		if err := t.g.WithContext(ctx).Table("trail_hashes").Create(row).Error; err != nil {
			return err
		}
	}
	return t.g.WithContext(ctx).Exec("UPDATE trail_entries SET seq = ? WHERE id = ?", n, r.ID).Error
}

// storedHashes reads the tree's hashes back.
type storedHashes struct{ g *gorm.DB }

func (s storedHashes) ReadHashes(positions []int64) ([]tlog.Hash, error) {
	var rows []struct {
		Position int64
		Hash     []byte
	}
	if err := s.g.Table("trail_hashes").Where("position IN ?", positions).Find(&rows).Error; err != nil {
		return nil, err
	}
	by := map[int64]tlog.Hash{}
	for _, r := range rows {
		by[r.Position] = tlog.Hash(r.Hash)
	}
	out := make([]tlog.Hash, len(positions))
	for i, p := range positions {
		h, ok := by[p]
		if !ok {
			return nil, fmt.Errorf("store: the trail's hash at position %d is missing", p)
		}
		out[i] = h
	}
	return out, nil
}

// TreeHash is the root of the tree over the first size entries.
func (q Queries) TreeHash(ctx context.Context, size int64) (tlog.Hash, error) {
	return tlog.TreeHash(size, storedHashes{q.g.WithContext(ctx)})
}
