package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/opencontainers/go-digest"
	"gorm.io/gorm/clause"
)

// Summary is an image in a few words. It never changes: it is worked out of content that is known by its digest.
type Summary struct {
	Digest    digest.Digest
	Kind      string
	Size      int64
	Platforms []string `gorm:"serializer:json"`
	Version   string
	Revision  string
	CreatedAt *time.Time
	Problem   string
}

// Summarise keeps a summary.
func (q Queries) Summarise(ctx context.Context, s Summary) error {
	return q.g.WithContext(ctx).Table("summaries").Clauses(clause.OnConflict{DoNothing: true}).Create(&s).Error
}

// Referrers is what was listed as attached to a digest in a repository: descriptors, as JSON.
type Referrers struct {
	Descriptors json.RawMessage
	SeenAt      time.Time
}

// Referrers finds the list that was last seen.
func (q Queries) Referrers(ctx context.Context, at Spot, d digest.Digest) (Referrers, bool, error) {
	return first[Referrers](q.g.WithContext(ctx).Table("referrers").Where("registry_id = ? AND repository = ? AND digest = ?",
		at.RegistryID, at.Repository, d.String()))
}

// KeepReferrers keeps a list that was seen now.
func (q Queries) KeepReferrers(ctx context.Context, at Spot, d digest.Digest, descriptors []byte) error {
	return q.g.WithContext(ctx).Exec(`INSERT INTO referrers (registry_id, repository, digest, descriptors)
		VALUES (@registry, @repository, @digest, CAST(@list AS jsonb))
		ON CONFLICT (registry_id, repository, digest) DO UPDATE SET descriptors = excluded.descriptors, seen_at = now()`,
		map[string]any{"registry": at.RegistryID, "repository": at.Repository, "digest": d.String(), "list": string(descriptors)}).Error
}

// TagsMeaning lists the tags of a repository that were last seen to mean a digest, by name.
func (q Queries) TagsMeaning(ctx context.Context, at Spot, d digest.Digest) ([]string, error) {
	var out []string
	return out, q.g.WithContext(ctx).Table("sightings").Where("registry_id = ? AND repository = ? AND digest = ?",
		at.RegistryID, at.Repository, d.String()).Order("tag").Limit(200).Pluck("tag", &out).Error
}
