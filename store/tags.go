package store

import (
	"context"
	"slices"
	"time"

	"dovrak/core/tagging"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// TagLease is the right to be the one writer of a tag until a time. Owner is made for each change.
type TagLease struct {
	RegistryID uuid.UUID
	Repository string
	Tag        string
	Owner      uuid.UUID
	Fence      int64
	Until      time.Time
}

// LeaseTag takes the tag's lease, or takes it again for the same owner; false if another has it.
func (q Queries) LeaseTag(ctx context.Context, at Spot, tag string, owner uuid.UUID, life time.Duration) (TagLease, bool, error) {
	var rows []TagLease
	err := q.g.WithContext(ctx).Raw(`
		INSERT INTO tag_leases AS l (registry_id, repository, tag, owner, until)
		VALUES (@registry, @repository, @tag, @owner, now() + make_interval(secs => @life))
		ON CONFLICT (registry_id, repository, tag) DO UPDATE
		SET owner = @owner, until = excluded.until, fence = l.fence + CASE WHEN l.owner = @owner THEN 0 ELSE 1 END
		WHERE l.until < now() OR l.owner = @owner
		RETURNING *`,
		map[string]any{
			"registry":   at.RegistryID,
			"repository": at.Repository,
			"tag":        tag,
			"owner":      owner,
			"life":       life.Seconds(),
		}).
		Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return TagLease{}, false, err
	}
	return rows[0], true, nil
}

// TagLeaseLeft is for how long another's lease on the tag still runs.
func (q Queries) TagLeaseLeft(ctx context.Context, at Spot, tag string) (time.Duration, error) {
	var s float64
	err := q.g.WithContext(ctx).Raw(`SELECT coalesce(max(extract(epoch FROM until - now())), 0)
		FROM tag_leases WHERE registry_id = ? AND repository = ? AND tag = ?`, at.RegistryID, at.Repository, tag).Scan(&s).Error
	return time.Duration(max(s, 0) * float64(time.Second)), err
}

// FreeTag gives the lease back, and wakes those who wait for it.
func (q Queries) FreeTag(ctx context.Context, l TagLease) error {
	return q.g.WithContext(ctx).Exec(`WITH freed AS (UPDATE tag_leases SET until = now() - interval '1 microsecond'
		WHERE registry_id = ? AND repository = ? AND tag = ? AND owner = ? RETURNING 1)
		SELECT pg_notify(?, ?) FROM freed`, l.RegistryID, l.Repository, l.Tag, l.Owner,
		channel, TagNotice(Spot{l.RegistryID, l.Repository}, l.Tag)).Error
}

// TagChange is a change of a tag's meaning, first as an intent, then with its outcome. An empty ToDigest takes the tag away.
type TagChange struct {
	ID           uuid.UUID
	Number       int64 `gorm:"->"`
	RegistryID   uuid.UUID
	Repository   string
	Tag          string
	FromDigest   *digest.Digest
	ToDigest     digest.Digest
	ActorID      uuid.UUID
	Because      string
	WorkID       *uuid.UUID
	Together     *uuid.UUID // changes that were asked as one have the same
	Back         bool       // it restores what a switch had changed
	Fence        int64
	IntendedAt   time.Time `gorm:"->"`
	SeenBeforeAt time.Time
	SeenAfterAt  *time.Time
	Outcome      *tagging.Outcome
	SettledAt    *time.Time
}

// Spot is where the tag lies.
func (c TagChange) Spot() Spot { return Spot{c.RegistryID, c.Repository} }

// Intend writes the change down, before the registry is asked.
func (t Tx) Intend(ctx context.Context, c TagChange) (TagChange, error) {
	if err := t.g.WithContext(ctx).Table("tag_changes").Create(&c).Error; err != nil {
		return c, err
	}
	return c, t.g.WithContext(ctx).Table("tag_changes").Where("id = ?", c.ID).Take(&c).Error
}

// SettleChange writes a change's outcome. Nothing happens, and false is returned, if it has one already (unknown
// does not count), or if someone with a higher fence came in between.
func (t Tx) SettleChange(ctx context.Context, c TagChange, outcome tagging.Outcome, seenAfter time.Time, fence int64) (bool, error) {
	r := t.g.WithContext(ctx).Exec(`UPDATE tag_changes c SET outcome = ?, seen_after_at = ?, settled_at = now()
		WHERE id = ? AND (outcome IS NULL OR outcome = 'unknown') AND NOT EXISTS (
			SELECT 1 FROM tag_leases l WHERE l.registry_id = c.registry_id AND l.repository = c.repository AND l.tag = c.tag AND l.fence > ?)`,
		outcome, seenAfter, c.ID, fence)
	return r.RowsAffected == 1, r.Error
}

// OpenChange finds the change of a tag that is an intent still, or whose outcome is unknown. There is one at most.
func (q Queries) OpenChange(ctx context.Context, at Spot, tag string) (TagChange, bool, error) {
	return first[TagChange](q.g.WithContext(ctx).Table("tag_changes").
		Where("registry_id = ? AND repository = ? AND tag = ? AND (outcome IS NULL OR outcome = 'unknown')", at.RegistryID, at.Repository, tag),
	)
}

// DeadIntents lists intents without an outcome whose writer's lease has run out.
func (q Queries) DeadIntents(ctx context.Context, limit int) ([]TagChange, error) {
	var rows []TagChange
	err := q.g.WithContext(ctx).Raw(`SELECT c.* FROM tag_changes c JOIN tag_leases l USING (registry_id, repository, tag)
		WHERE c.outcome IS NULL AND l.until < now() ORDER BY c.number LIMIT ?`, limit).Scan(&rows).Error
	return rows, err
}

// Meaning is what a tag meant from a time on, by a change of Dovrak's that was done.
type Meaning struct {
	TagChange
	ActorName   string
	PromotionNo *int64
	RollBack    bool // the promotion is one
}

// Meanings gives the changes done to a tag, or to all tags of a repository if tag is empty, oldest first, from the
// last one before since on; at most limit of the newest.
func (q Queries) Meanings(ctx context.Context, at Spot, tag string, since time.Time, limit int) ([]Meaning, error) {
	g := q.g.WithContext(ctx).Table("tag_changes c").
		Joins("JOIN actors a ON a.id = c.actor_id").Joins("LEFT JOIN promotions p ON p.work_id = c.work_id").
		Select("c.*, a.name AS actor_name, p.number AS promotion_no, coalesce(p.roll_back, false) AS roll_back").
		Where("c.registry_id = ? AND c.repository = ? AND c.outcome = 'done'", at.RegistryID, at.Repository).
		Where(`c.settled_at >= coalesce((SELECT max(b.settled_at) FROM tag_changes b WHERE b.registry_id = c.registry_id
			AND b.repository = c.repository AND b.tag = c.tag AND b.outcome = 'done' AND b.settled_at <= ?), '-infinity')`, since)
	if tag != "" {
		g = g.Where("c.tag = ?", tag)
	}
	var rows []Meaning
	err := g.Order("c.settled_at DESC, c.number DESC").Limit(limit).Scan(&rows).Error
	slices.Reverse(rows)
	return rows, err
}

// MeansSince is since when a tag means a digest, by the last change that was done to it; false where it means something else.
func (q Queries) MeansSince(ctx context.Context, at Spot, tag string, d digest.Digest) (time.Time, bool, error) {
	type row struct {
		ToDigest  digest.Digest
		SettledAt time.Time
	}
	r, ok, err := first[row](q.g.WithContext(ctx).Raw(`SELECT to_digest, settled_at FROM tag_changes WHERE registry_id = ? AND repository = ?
		AND tag = ? AND outcome = 'done' ORDER BY number DESC LIMIT 1`, at.RegistryID, at.Repository, tag))
	return r.SettledAt.UTC(), ok && r.ToDigest == d, err
}

// LastMeant is what a tag meant last by the changes that were done to it, or by what was seen; empty if it never did.
func (q Queries) LastMeant(ctx context.Context, at Spot, tag string) (digest.Digest, error) {
	var d digest.Digest
	err := q.g.WithContext(ctx).Raw(`SELECT coalesce(
		(SELECT to_digest FROM tag_changes WHERE registry_id = @registry AND repository = @repository AND tag = @tag
			AND outcome = 'done' AND to_digest <> '' ORDER BY number DESC LIMIT 1),
		(SELECT coalesce(digest, was_digest) FROM sightings WHERE registry_id = @registry AND repository = @repository AND tag = @tag), '')`,
		map[string]any{"registry": at.RegistryID, "repository": at.Repository, "tag": tag}).Scan(&d).Error
	return d, err
}
