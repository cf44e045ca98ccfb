package store

import (
	"context"
	"time"

	"github.com/opencontainers/go-digest"
)

// SeenTag is a sighting with its registry's name.
type SeenTag struct {
	Registry, Repository, Tag string
	Digest                    *digest.Digest
	SeenAt                    time.Time
}

// SeenTags lists what the named tags were last seen to mean, everywhere.
func (q Queries) SeenTags(ctx context.Context, tags []string) ([]SeenTag, error) {
	var rows []SeenTag
	err := q.g.WithContext(ctx).Table("sightings s").Joins("JOIN registries r ON r.id = s.registry_id AND r.dropped_at IS NULL").
		Select("r.name AS registry, s.repository, s.tag, s.digest, s.seen_at").Where("s.tag IN ?", tags).Scan(&rows).Error
	return rows, err
}

// DecidedTag is the newest change that was done to a tag.
type DecidedTag struct {
	Registry, Repository, Tag string
	ToDigest                  digest.Digest
	SettledAt                 time.Time
	ActorName                 string
	PromotionNo               *int64
	RollBack, Unreviewed      bool // of the promotion
}

// DecidedTags lists the newest change done to each of the named tags, everywhere.
func (q Queries) DecidedTags(ctx context.Context, tags []string) ([]DecidedTag, error) {
	var rows []DecidedTag
	err := q.g.WithContext(ctx).Raw(`SELECT DISTINCT ON (c.registry_id, c.repository, c.tag)
			r.name AS registry, c.repository, c.tag, c.to_digest, c.settled_at, a.name AS actor_name, p.number AS promotion_no,
			coalesce(p.roll_back, false) AS roll_back, coalesce(p.reviewed_at IS NULL
				AND (p.plan->>'emergency' = 'true' OR p.plan->>'skips' = 'true'), false) AS unreviewed
		FROM tag_changes c JOIN registries r ON r.id = c.registry_id AND r.dropped_at IS NULL JOIN actors a ON a.id = c.actor_id
			LEFT JOIN promotions p ON p.work_id = c.work_id
		WHERE c.tag IN ? AND c.outcome = 'done'
		ORDER BY c.registry_id, c.repository, c.tag, c.settled_at DESC, c.number DESC`, tags).Scan(&rows).Error
	return rows, err
}

// Contents finds many at once; those that are not kept are left out.
func (q Queries) Contents(ctx context.Context, ds []digest.Digest) ([]Content, error) {
	if len(ds) == 0 {
		return nil, nil
	}
	var rows []Content
	return rows, q.g.WithContext(ctx).Table("contents").Where("digest IN ?", ds).Find(&rows).Error
}
