package store

import (
	"context"
	"strings"
	"time"

	"dovrak/core/tagging"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
	"gorm.io/gorm/clause"
)

// Content is a manifest's or a config's own bytes.
type Content struct {
	Digest    digest.Digest
	MediaType string
	Bytes     []byte
}

// Spot is a repository in a registry.
type Spot struct {
	RegistryID uuid.UUID
	Repository string
}

// Content finds bytes by digest, verified on reading back: false if they are not kept, or are no longer what the
// digest says, which a caller mends by fetching them again.
func (q Queries) Content(ctx context.Context, d digest.Digest) (Content, bool, error) {
	c, ok, err := first[Content](q.g.WithContext(ctx).Table("contents").Where("digest = ?", d.String()))
	if err != nil || !ok {
		return Content{}, false, err
	}
	if d.Algorithm().FromBytes(c.Bytes) != d {
		return Content{}, false, nil
	}
	return c, true, nil
}

// KeepContent keeps bytes once. What was kept and has gone bad is replaced.
func (q Queries) KeepContent(ctx context.Context, c Content) error {
	return q.g.WithContext(ctx).Table("contents").Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "digest"}},
		DoUpdates: clause.AssignmentColumns([]string{"bytes", "media_type"}),
	}).Create(&c).Error
}

// Hold records that a repository was seen to hold a digest; whole, that all below it was verified to be there too.
func (q Queries) Hold(ctx context.Context, at Spot, d digest.Digest, whole bool) error {
	return q.g.WithContext(ctx).Exec(`
		INSERT INTO holdings (registry_id, repository, digest, seen_at, whole_at)
		VALUES (@registry, @repository, @digest, now(), CASE WHEN @whole THEN now() END)
		ON CONFLICT (registry_id, repository, digest) DO UPDATE
		SET seen_at = now(), gone_at = NULL, whole_at = CASE WHEN @whole THEN now() ELSE holdings.whole_at END`,
		map[string]any{"registry": at.RegistryID, "repository": at.Repository, "digest": d.String(), "whole": whole}).Error
}

// Forget takes back that a repository holds a digest whole: it was asked for and is not there.
func (q Queries) Forget(ctx context.Context, at Spot, d digest.Digest) error {
	return q.g.WithContext(ctx).Exec(`UPDATE holdings SET whole_at = NULL, gone_at = coalesce(gone_at, now())
		WHERE registry_id = ? AND repository = ? AND digest = ?`, at.RegistryID, at.Repository, d.String()).Error
}

// WholeWithin reports whether a repository was verified to hold all of a digest within the time.
func (q Queries) WholeWithin(ctx context.Context, at Spot, d digest.Digest, within time.Duration) (bool, error) {
	var n int64
	err := q.g.WithContext(ctx).Table("holdings").Where(`registry_id = ? AND repository = ? AND digest = ?
		AND whole_at > now() - make_interval(secs => ?)`, at.RegistryID, at.Repository, d.String(), within.Seconds()).Count(&n).Error
	return n > 0, err
}

// Holds reports whether a repository was seen to hold a digest.
func (q Queries) Holds(ctx context.Context, at Spot, d digest.Digest) (bool, error) {
	var n int64
	err := q.g.WithContext(ctx).Table("holdings").Where("registry_id = ? AND repository = ? AND digest = ? AND gone_at IS NULL",
		at.RegistryID, at.Repository, d.String()).Count(&n).Error
	return n > 0, err
}

// HeldUntil is when a repository was last seen to hold a digest that was then seen to be gone; false if it never held it.
func (q Queries) HeldUntil(ctx context.Context, at Spot, d digest.Digest) (time.Time, bool, error) {
	type row struct{ SeenAt time.Time }
	r, ok, err := first[row](q.g.WithContext(ctx).Table("holdings").Select("seen_at").
		Where("registry_id = ? AND repository = ? AND digest = ? AND gone_at IS NOT NULL", at.RegistryID, at.Repository, d.String()))
	return r.SeenAt, ok, err
}

// Siblings are other repositories of a registry that were seen to hold a blob or manifest, newest first.
func (q Queries) Siblings(ctx context.Context, at Spot, d digest.Digest, limit int) ([]string, error) {
	var out []string
	err := q.g.WithContext(ctx).Table("holdings").Where("registry_id = ? AND repository <> ? AND digest = ? AND gone_at IS NULL",
		at.RegistryID, at.Repository, d.String()).Order("seen_at DESC").Limit(limit).Pluck("repository", &out).Error
	return out, err
}

// Sighting is what a tag was last seen to mean. Digest is nil where it was seen to mean nothing.
type Sighting struct {
	RegistryID uuid.UUID
	Repository string
	Tag        string
	Digest     *digest.Digest
	SeenAt     time.Time
	WasDigest  *digest.Digest `gorm:"->"` // before it was seen to mean nothing,
	WasSeenAt  *time.Time     `gorm:"->"` // and when it was last seen so
}

// See records what a tag was seen to mean at a time, unless something newer is known.
func (q Queries) See(ctx context.Context, s Sighting) error {
	return q.SeeAll(ctx, []Sighting{s})
}

// SeeAll records many at once. Since is kept while the meaning stays; a tag that means nothing keeps what it meant before.
func (q Queries) SeeAll(ctx context.Context, all []Sighting) error {
	if len(all) == 0 {
		return nil
	}
	var rows strings.Builder
	var args []any
	for i, s := range all {
		if i > 0 {
			rows.WriteString(", ")
		}
		rows.WriteString("(CAST(? AS uuid), ?, ?, ?, CAST(? AS timestamptz), CAST(? AS timestamptz), ?)")
		args = append(args, s.RegistryID, s.Repository, s.Tag, s.Digest, s.SeenAt, s.SeenAt, tagging.OrderKey(s.Tag))
	}
	return q.g.WithContext(ctx).Exec(`
		INSERT INTO sightings (registry_id, repository, tag, digest, seen_at, since, order_key) VALUES `+rows.String()+`
		ON CONFLICT (registry_id, repository, tag) DO UPDATE SET digest = excluded.digest, seen_at = excluded.seen_at,
			order_key = excluded.order_key,
			since = CASE WHEN sightings.digest IS NOT DISTINCT FROM excluded.digest THEN coalesce(sightings.since, sightings.seen_at)
				ELSE excluded.since END,
			was_digest = CASE WHEN excluded.digest IS NULL THEN coalesce(sightings.digest, sightings.was_digest) END,
			was_seen_at = CASE WHEN excluded.digest IS NOT NULL THEN NULL
				WHEN sightings.digest IS NULL THEN sightings.was_seen_at ELSE sightings.seen_at END
		WHERE sightings.seen_at < excluded.seen_at`, args...).Error
}

// Sighting finds what a tag was last seen to mean.
func (q Queries) Sighting(ctx context.Context, at Spot, tag string) (Sighting, bool, error) {
	return first[Sighting](q.g.WithContext(ctx).Table("sightings").
		Where("registry_id = ? AND repository = ? AND tag = ?", at.RegistryID, at.Repository, tag))
}
