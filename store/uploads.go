package store

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// Upload is a blob on its way into a repository.
type Upload struct {
	RegistryID uuid.UUID
	Repository string
	Digest     digest.Digest
	Location   string          // where it goes on; empty before it began
	Marks      json.RawMessage // of its source
}

// HoldBlob gives a work the right to send a blob to a repository, with what an earlier holder left of it; false while a work that is
// under way has it, be it the same: two parts of one build may share a layer. The right lasts as long as the work's lease.
func (q Queries) HoldBlob(ctx context.Context, at Spot, d digest.Digest, l Lease) (Upload, bool, error) {
	return first[Upload](q.g.WithContext(ctx).Raw(`
		INSERT INTO uploads AS u (registry_id, repository, digest, work_id, fence) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (registry_id, repository, digest) DO UPDATE SET work_id = excluded.work_id, fence = excluded.fence
		WHERE u.work_id IS NULL OR u.work_id = excluded.work_id AND u.fence <> excluded.fence OR NOT EXISTS (
			SELECT 1 FROM works w WHERE w.id = u.work_id AND w.fence = u.fence AND NOT w.ended AND NOT `+free+`)
		RETURNING registry_id, repository, digest, location, marks`, at.RegistryID, at.Repository, d.String(), l.Work, l.Fence))
}

const mine = "registry_id = ? AND repository = ? AND digest = ? AND work_id = ? AND fence = ?"

// KeepUpload writes down how far an upload is. ErrLost says that another has the blob now.
func (q Queries) KeepUpload(ctx context.Context, u Upload, l Lease) error {
	r := q.g.WithContext(ctx).Exec("UPDATE uploads SET location = ?, marks = ?, kept_at = now() WHERE "+mine,
		u.Location, string(u.Marks), u.RegistryID, u.Repository, u.Digest.String(), l.Work, l.Fence)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrLost
	}
	return r.Error
}

// LeaveBlob gives the right back and wakes those who wait for it; keep says that the upload is to be gone on with.
func (t Tx) LeaveBlob(ctx context.Context, u Upload, l Lease, keep bool) error {
	change := "DELETE FROM uploads WHERE "
	if keep {
		change = "UPDATE uploads SET work_id = NULL WHERE "
	}
	err := t.g.WithContext(ctx).Exec(change+mine, u.RegistryID, u.Repository, u.Digest.String(), l.Work, l.Fence).Error
	if err != nil {
		return err
	}
	return t.notify(ctx, BlobNotice(Spot{u.RegistryID, u.Repository}, u.Digest))
}

// ForgottenUploads lists uploads that nobody has gone on with for a day.
func (q Queries) ForgottenUploads(ctx context.Context, limit int) ([]Upload, error) {
	var rows []Upload
	return rows, q.g.WithContext(ctx).Raw(`SELECT u.registry_id, u.repository, u.digest, u.location, u.marks FROM uploads u
		LEFT JOIN works w ON w.id = u.work_id AND w.fence = u.fence AND NOT w.ended
		WHERE u.kept_at < now() - interval '1 day' AND w.id IS NULL LIMIT ?`, limit).Scan(&rows).Error
}

// ForgetUpload drops what was kept of an upload that nobody has gone on with meanwhile.
func (q Queries) ForgetUpload(ctx context.Context, u Upload) error {
	return q.g.WithContext(ctx).Exec(`DELETE FROM uploads WHERE registry_id = ? AND repository = ? AND digest = ? AND location = ?
		AND kept_at < now() - interval '1 day'`, u.RegistryID, u.Repository, u.Digest.String(), u.Location).Error
}
