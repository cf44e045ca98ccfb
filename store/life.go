package store

import (
	"context"
	"time"

	"github.com/opencontainers/go-digest"
)

// DonePromotion is a promotion or roll back that was verified, and when the last agreed to it.
type DonePromotion struct {
	Number      int64
	Environment string
	Digest      digest.Digest
	Version     string
	RollBack    bool
	AskedAt     time.Time
	ApprovedAt  *time.Time
	EndedAt     time.Time
}

// DonePromotions lists those of a component, the newest first.
func (q Queries) DonePromotions(ctx context.Context, component string, limit int) ([]DonePromotion, error) {
	var rows []DonePromotion
	return rows, q.g.WithContext(ctx).Raw(`SELECT p.number, p.environment, p.digest, p.version, p.roll_back, w.asked_at, w.ended_at,
			(SELECT max(a.at) FROM approvals a WHERE a.work_id = p.work_id AND a.agreed) AS approved_at
		FROM promotions p JOIN works w ON w.id = p.work_id WHERE p.component = ? AND w.state = ? ORDER BY p.number DESC LIMIT ?`,
		component, StateVerified, limit).Scan(&rows).Error
}
