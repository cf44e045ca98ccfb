package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// Vouch is what somebody vouched for. The report's bytes are only there where one is asked for.
type Vouch struct {
	Number     int64 `gorm:"->;primaryKey"`
	Digest     digest.Digest
	Repository string // REGISTRY/REPOSITORY where the image was seen
	Platform   string // empty: the whole
	Claim      string
	Verdict    string
	Link       string
	Note       string
	Report     []byte
	ReportName string
	ActorID    uuid.UUID
	At         time.Time `gorm:"->"`
	ExpiresAt  *time.Time
	ActorName  string `gorm:"->"`
	ReportSize int64  `gorm:"->"`
	Expired    bool   `gorm:"->"`
}

const vouchColumns = "v.number, v.digest, v.repository, v.platform, v.claim, v.verdict, v.link, v.note, v.report_name, v.actor_id, v.at, v.expires_at, " +
	"a.name AS actor_name, coalesce(length(v.report), 0) AS report_size, coalesce(v.expires_at < now(), false) AS expired"

// AddVouch keeps what somebody vouched for, and gives it as it is shown. life 0 is for ever.
func (t Tx) AddVouch(ctx context.Context, v Vouch, life time.Duration) (Vouch, error) {
	if life > 0 {
		now, err := t.Now(ctx)
		if err != nil {
			return v, err
		}
		end := now.Add(life)
		v.ExpiresAt = &end
	}
	var n int64
	err := t.PGX.QueryRow(ctx, `INSERT INTO vouches (digest, repository, platform, claim, verdict, link, note, report, report_name, actor_id, expires_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) RETURNING number`, v.Digest.String(), v.Repository, v.Platform, v.Claim, v.Verdict,
		v.Link, v.Note, v.Report, v.ReportName, v.ActorID, v.ExpiresAt).
		Scan(&n)
	if err != nil {
		return v, err
	}
	out, _, err := t.VouchNumbered(ctx, n)
	return out, err
}

func (q Queries) vouches(ctx context.Context, where string, args ...any) ([]Vouch, error) {
	var rows []Vouch
	return rows, q.g.WithContext(ctx).Table("vouches v").Joins("JOIN actors a ON a.id = v.actor_id").Select(vouchColumns).
		Where(where, args...).Order("v.number DESC").Limit(500).Find(&rows).Error
}

// Vouches lists what was vouched for of some digests, newest first.
func (q Queries) Vouches(ctx context.Context, ds []digest.Digest) ([]Vouch, error) {
	return q.vouches(ctx, "v.digest IN ?", ds)
}

// VouchNumbered finds one.
func (q Queries) VouchNumbered(ctx context.Context, n int64) (Vouch, bool, error) {
	return one(q.vouches(ctx, "v.number = ?", n))
}

// Report gives the bytes of a vouch's report.
func (q Queries) Report(ctx context.Context, n int64) ([]byte, error) {
	var raw []byte
	return raw, q.g.WithContext(ctx).Raw("SELECT report FROM vouches WHERE number = ?", n).Row().Scan(&raw)
}
