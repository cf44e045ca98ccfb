package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// Check is what a registry was seen to permit, in one repository or, where that is empty, at all.
type Check struct {
	ID         uuid.UUID
	RegistryID uuid.UUID
	Repository string
	AskedBy    uuid.UUID
	At         time.Time       `gorm:"->"`
	Steps      json.RawMessage `gorm:"type:jsonb"`
}

// AddCheck keeps a check, and gives it with its time.
func (q Queries) AddCheck(ctx context.Context, c Check) (Check, error) {
	err := q.g.WithContext(ctx).Raw(`INSERT INTO registry_checks (id, registry_id, repository, asked_by, steps)
		VALUES (@id, @registry, @repository, @by, CAST(@steps AS jsonb)) RETURNING at`,
		map[string]any{"id": c.ID, "registry": c.RegistryID, "repository": c.Repository, "by": c.AskedBy, "steps": string(c.Steps)}).
		Scan(&c.At).Error
	return c, err
}

// LastChecks gives the newest check of each repository of a registry, newest first.
func (q Queries) LastChecks(ctx context.Context, registry uuid.UUID) ([]Check, error) {
	var rows []Check
	err := q.g.WithContext(ctx).Raw(`SELECT * FROM (SELECT DISTINCT ON (repository) * FROM registry_checks WHERE registry_id = ?
		ORDER BY repository, at DESC) AS newest ORDER BY at DESC`, registry).Scan(&rows).Error
	return rows, err
}

// CheckedWithin finds the newest check of a repository, if it is not older than the time.
func (q Queries) CheckedWithin(ctx context.Context, at Spot, age time.Duration) (Check, bool, error) {
	return first[Check](q.g.WithContext(ctx).Table("registry_checks").
		Where("registry_id = ? AND repository = ? AND at > now() - make_interval(secs => ?)", at.RegistryID, at.Repository, age.Seconds()).
		Order("at DESC"))
}

// SharedBlob finds a blob, of those that are not manifests, that a repository and a sibling of it were both seen to hold.
func (q Queries) SharedBlob(ctx context.Context, at Spot) (sibling string, d digest.Digest, found bool, err error) {
	type row struct {
		Repository string
		Digest     digest.Digest
	}
	r, ok, err := first[row](q.g.WithContext(ctx).Table("holdings here").
		Joins(`JOIN holdings there ON there.registry_id = here.registry_id AND there.digest = here.digest
			AND there.repository <> here.repository`).
		Where("here.registry_id = ? AND here.repository = ? AND here.gone_at IS NULL AND there.gone_at IS NULL", at.RegistryID, at.Repository).
		Where("NOT EXISTS (SELECT 1 FROM contents c WHERE c.digest = here.digest AND c.media_type ~ 'manifest|index')").
		Select("there.repository, here.digest").Order("there.seen_at DESC"))
	return r.Repository, r.Digest, ok, err
}

// Repository is what is known of a repository besides its content. What is nil is not known. DeclaredBy is there where
// it was declared by hand as one that Dovrak may write to.
type Repository struct {
	RegistryID uuid.UUID
	Repository string
	Owner      string
	TagsFixed  *bool
	Public     *bool
	There      *bool
	SeenAt     *time.Time
	DeclaredBy *uuid.UUID
	DeclaredAt *time.Time
}

// DeclaredRepository is one with its registry's name and who declared it.
type DeclaredRepository struct {
	Repository    Repository `gorm:"embedded"`
	RegistryName  string
	DeclaringName string
}

// Declared lists the repositories that were declared by hand.
func (q Queries) Declared(ctx context.Context) ([]DeclaredRepository, error) {
	var rows []DeclaredRepository
	err := q.g.WithContext(ctx).Raw(`SELECT p.*, r.name AS registry_name, a.name AS declaring_name FROM repositories p
		JOIN registries r ON r.id = p.registry_id AND r.dropped_at IS NULL JOIN actors a ON a.id = p.declared_by
		ORDER BY r.name, p.repository`).Scan(&rows).Error
	return rows, err
}

// KnownRepository finds what is known of a repository.
func (q Queries) KnownRepository(ctx context.Context, at Spot) (Repository, bool, error) {
	return first[Repository](q.g.WithContext(ctx).Table("repositories").
		Where("registry_id = ? AND repository = ?", at.RegistryID, at.Repository))
}

// Declare keeps that Dovrak may write to a repository, or, without a declarer, that it may no more.
func (t Tx) Declare(ctx context.Context, r Repository) error {
	return t.g.WithContext(ctx).Exec(`INSERT INTO repositories AS p (registry_id, repository, owner, tags_fixed, declared_by, declared_at)
		VALUES (@registry, @repository, @owner, @fixed, @by, now()) ON CONFLICT (registry_id, repository) DO UPDATE
		SET owner = excluded.owner, tags_fixed = excluded.tags_fixed, declared_by = excluded.declared_by, declared_at = now()`,
		map[string]any{
			"registry":   r.RegistryID,
			"repository": r.Repository,
			"owner":      r.Owner,
			"fixed":      r.TagsFixed,
			"by":         r.DeclaredBy,
		}).
		Error
}

// Noticed keeps what was seen of a repository: whether it is there, and whether anyone may pull from it.
func (q Queries) Noticed(ctx context.Context, at Spot, there, public *bool) error {
	return q.g.WithContext(ctx).Exec(`INSERT INTO repositories AS p (registry_id, repository, there, public, seen_at)
		VALUES (@registry, @repository, @there, @public, now()) ON CONFLICT (registry_id, repository) DO UPDATE
		SET there = coalesce(excluded.there, p.there), public = coalesce(excluded.public, p.public), seen_at = now()`,
		map[string]any{"registry": at.RegistryID, "repository": at.Repository, "there": there, "public": public}).Error
}
