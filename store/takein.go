package store

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"
)

// TakeIn is the reading of what a registry holds. Report is what was found, nil before it has ended.
type TakeIn struct {
	WorkID     uuid.UUID
	Number     int64 `gorm:"->"`
	RegistryID uuid.UUID
	Pattern    string
	Report     json.RawMessage `gorm:"->"`
}

// TakeInWork is the record with its work and the requester's name.
type TakeInWork struct {
	Work          Work   `gorm:"embedded"`
	TakeIn        TakeIn `gorm:"embedded"`
	RequesterName string
}

const takeInFrom = "works w JOIN take_ins d ON d.work_id = w.id JOIN actors a ON a.id = w.requested_by"

// AddTakeIn keeps a taking-in that was asked for and gives its number.
func (t Tx) AddTakeIn(ctx context.Context, w Work, n TakeIn) (int64, error) {
	if err := t.addWork(ctx, w); err != nil {
		return 0, err
	}
	if err := t.g.WithContext(ctx).Table("take_ins").Create(&n).Error; err != nil {
		return 0, err
	}
	return t.number(ctx, "take_ins", w.ID)
}

// TakeIns lists them, newest first.
func (q Queries) TakeIns(ctx context.Context, p Page) ([]TakeInWork, error) {
	return paged[TakeInWork](ctx, q, takeInFrom, p, "")
}

// TakeInNumbered finds one.
func (q Queries) TakeInNumbered(ctx context.Context, n int64) (TakeInWork, bool, error) {
	return one(paged[TakeInWork](ctx, q, takeInFrom, Page{Limit: 1}, "d.number = ?", n))
}

// TakeInByWork finds one.
func (q Queries) TakeInByWork(ctx context.Context, id uuid.UUID) (TakeInWork, bool, error) {
	return one(paged[TakeInWork](ctx, q, takeInFrom, Page{Limit: 1}, "w.id = ?", id))
}

// TakenRepository is how far one repository is.
type TakenRepository struct {
	WorkID     uuid.UUID
	Repository string
	Tags       int64
	Entries    int64
	Problem    string
	Done       bool
}

// AddTaken keeps repositories that are to be read; those that are kept already stay as they are.
func (q Queries) AddTaken(ctx context.Context, work uuid.UUID, repositories []string) error {
	for _, r := range repositories {
		err := q.g.WithContext(ctx).
			Exec("INSERT INTO take_in_repositories (work_id, repository) VALUES (?, ?) ON CONFLICT DO NOTHING", work, r).
			Error
		if err != nil {
			return err
		}
	}
	return nil
}

// Taken lists the repositories of a taking-in, by name.
func (q Queries) Taken(ctx context.Context, work uuid.UUID) ([]TakenRepository, error) {
	var rows []TakenRepository
	return rows, q.g.WithContext(ctx).Table("take_in_repositories").Where("work_id = ?", work).Order("repository").Find(&rows).Error
}

// SetTaken writes how far a repository is.
func (t Tx) SetTaken(ctx context.Context, r TakenRepository) error {
	return t.g.WithContext(ctx).Exec(`UPDATE take_in_repositories SET tags = ?, entries = entries + ?, problem = ?, done = ?
		WHERE work_id = ? AND repository = ?`, r.Tags, r.Entries, r.Problem, r.Done, r.WorkID, r.Repository).Error
}

// SetReport keeps what was found.
func (t Tx) SetReport(ctx context.Context, work uuid.UUID, report []byte) error {
	_, err := t.PGX.Exec(ctx, "UPDATE take_ins SET report = $2 WHERE work_id = $1", work, string(report))
	return err
}

// Unexplained gives tags of a repository that mean something and have no entry on the trail, behind one by name.
func (q Queries) Unexplained(ctx context.Context, at Spot, subject, after string, limit int) ([]Sighting, error) {
	var rows []Sighting
	err := q.g.WithContext(ctx).Raw(`SELECT * FROM sightings s WHERE s.registry_id = @registry AND s.repository = @repository
		AND s.digest IS NOT NULL AND s.tag > @after
		AND NOT EXISTS (SELECT 1 FROM trail_entries e WHERE e.subject = @subject || ':' || s.tag)
		ORDER BY s.tag LIMIT @limit`, map[string]any{"registry": at.RegistryID, "repository": at.Repository, "subject": subject,
		"after": after, "limit": limit}).Scan(&rows).Error
	return rows, err
}

// Estate sums up what the repositories of a taking-in hold, by what was seen.
type Estate struct {
	Repositories, Tags, Images, Unreadable, Sharing, Size int64
}

// EstateOf sums up what the repositories of a taking-in hold. Sharing counts the tags whose image another tag of the same
// repository means, too; Size counts each image once, in bytes.
func (q Queries) EstateOf(ctx context.Context, registry, work uuid.UUID) (Estate, error) {
	var e Estate
	err := q.g.WithContext(ctx).Raw(`
		WITH here AS (SELECT s.repository, s.tag, s.digest FROM sightings s JOIN take_in_repositories t
				ON t.work_id = @work AND t.repository = s.repository WHERE s.registry_id = @registry AND s.digest IS NOT NULL),
		images AS (SELECT DISTINCT digest FROM here)
		SELECT (SELECT count(*) FROM take_in_repositories WHERE work_id = @work) AS repositories,
			(SELECT count(*) FROM here) AS tags, (SELECT count(*) FROM images) AS images,
			(SELECT count(*) FROM images JOIN summaries m USING (digest) WHERE m.problem <> '') AS unreadable,
			(SELECT coalesce(sum(n), 0) FROM (SELECT count(*) AS n FROM here GROUP BY repository, digest HAVING count(*) > 1) g) AS sharing,
			(SELECT coalesce(sum(m.size), 0) FROM images JOIN summaries m USING (digest)) AS size`,
		map[string]any{"registry": registry, "work": work}).Scan(&e).Error
	return e, err
}

// PlatformCount is for how many images there is one for a platform.
type PlatformCount struct {
	Platform string
	Images   int64
}

// PlatformsOf counts the platforms of what the repositories of a taking-in hold, the most frequent first.
func (q Queries) PlatformsOf(ctx context.Context, registry, work uuid.UUID) ([]PlatformCount, error) {
	var rows []PlatformCount
	err := q.g.WithContext(ctx).Raw(`SELECT p AS platform, count(*) AS images FROM (
			SELECT DISTINCT s.digest FROM sightings s JOIN take_in_repositories t ON t.work_id = ? AND t.repository = s.repository
			WHERE s.registry_id = ? AND s.digest IS NOT NULL) d
		JOIN summaries m USING (digest), jsonb_array_elements_text(m.platforms) p GROUP BY p ORDER BY count(*) DESC, p`, work, registry).
		Scan(&rows).Error
	return rows, err
}

// Untagged lists digests that a repository was seen to hold as images and that no tag of it means.
func (q Queries) Untagged(ctx context.Context, at Spot, limit int) ([]string, error) {
	var out []string
	err := q.g.WithContext(ctx).Raw(`SELECT h.digest FROM holdings h JOIN summaries m ON m.digest = h.digest
		WHERE h.registry_id = @registry AND h.repository = @repository AND h.gone_at IS NULL AND NOT EXISTS (SELECT 1 FROM sightings s
			WHERE s.registry_id = h.registry_id AND s.repository = h.repository AND s.digest = h.digest) ORDER BY h.digest LIMIT @limit`,
		map[string]any{"registry": at.RegistryID, "repository": at.Repository, "limit": limit}).Scan(&out).Error
	return out, err
}
