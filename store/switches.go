package store

import (
	"context"
	"encoding/json"
	"errors"

	"dovrak/core/plan"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/opencontainers/go-digest"
)

// ErrSwitching says that another work's tags are being pointed in the same environment of the same component.
var ErrSwitching = errors.New("store: another switch is under way there")

// BeginSwitch marks that a promotion's tags are being pointed from now on. The database lets no two do so at one home.
func (q Queries) BeginSwitch(ctx context.Context, l Lease, p Promotion) error {
	err := q.update(ctx, l, "state = ?, switches = ?, problem = NULL", StateSwitching, p.Component+" "+p.Environment)
	if pg, ok := errors.AsType[*pgconn.PgError](err); ok && pg.ConstraintName == "works_one_switch" {
		return ErrSwitching
	}
	return err
}

// Switching finds the promotion whose tags are being pointed in an environment, or are pointed in some of its places only.
func (q Queries) Switching(ctx context.Context, component, environment string) (PromotionWork, bool, error) {
	return one(paged[PromotionWork](ctx, q, promotionFrom, Page{Limit: 1}, "w.switches = ?", component+" "+environment))
}

// GoBack marks that a switch is being taken back, and why.
func (q Queries) GoBack(ctx context.Context, l Lease, problem []byte) error {
	return q.update(ctx, l, "state = ?, problem = ?", StateGoingBack, string(problem))
}

// SetStands keeps what the tags of a promotion were seen to mean.
func (q Queries) SetStands(ctx context.Context, l Lease, stands []plan.Stand) error {
	return q.updatePromotion(ctx, l, "stands", stands)
}

// SetUndoes keeps what a roll back takes from where it stands.
func (q Queries) SetUndoes(ctx context.Context, l Lease, undoes []digest.Digest) error {
	return q.updatePromotion(ctx, l, "undoes", undoes)
}

// WorkChanges lists the tag changes of a work, oldest first, with those of which nobody can tell yet what came of them. What came
// to nothing is left out.
func (q Queries) WorkChanges(ctx context.Context, work uuid.UUID) ([]TagChange, error) {
	var rows []TagChange
	return rows, q.g.WithContext(ctx).Table("tag_changes").
		Where("work_id = ? AND (outcome IS NULL OR outcome IN ('done', 'unknown'))", work).Order("number").Find(&rows).Error
}

// EndBeforeSwitch ends a promotion of which no tag is being pointed yet; whoever works on it finds that its lease is gone. False if it
// is further than that.
func (t Tx) EndBeforeSwitch(ctx context.Context, work uuid.UUID) (bool, error) {
	r := t.g.WithContext(ctx).Exec(`UPDATE works SET state = ?, ended = true, ended_at = now(), owner = NULL, lease_until = NULL
		WHERE id = ? AND NOT ended AND switches IS NULL`, StateStopped, work)
	if r.Error != nil || r.RowsAffected == 0 {
		return false, r.Error
	}
	return true, t.notify(ctx, WorkNotice(work))
}

// TakeUpSplit has somebody work again at a promotion that is split: forward, or back. False if it is not. From now on it counts as begun, so
// that it is taken up even if the job is lost that tells of it.
func (t Tx) TakeUpSplit(ctx context.Context, work uuid.UUID, state string) (bool, error) {
	r := t.g.WithContext(ctx).Exec("UPDATE works SET state = ?, began_at = now() WHERE id = ? AND NOT ended AND state = ?",
		state, work, StateSplit)
	return r.RowsAffected == 1, r.Error
}

// ResumePromotion begins a promotion again that ended without being done; false if it did not. It waits anew until expires.
func (t Tx) ResumePromotion(ctx context.Context, work uuid.UUID, p plan.Promotion) (bool, error) {
	r := t.g.WithContext(ctx).Exec(`UPDATE works SET state = ?, ended = false, ended_at = NULL, began_at = NULL, problem = NULL
		WHERE id = ? AND ended AND state IN (?, ?, ?)`, StateJudged, work, StateStopped, StateFailed, StateTakenBack)
	if r.Error != nil || r.RowsAffected == 0 {
		return false, r.Error
	}
	raw, err := json.Marshal(p)
	if err != nil {
		return false, err
	}
	return true, t.g.WithContext(ctx).Exec("UPDATE promotions SET plan = ?, stands = '[]' WHERE work_id = ?", string(raw), work).Error
}

// Undone is a digest that was rolled back in an environment, and by which roll back.
type Undone struct {
	Component     string
	Environment   string
	Digest        digest.Digest
	Number        int64
	RequesterName string
	Because       string
}

// Undone lists the digests that were rolled back and were not promoted there again since: in one environment of one component, or, where
// neither is named, everywhere.
func (q Queries) Undone(ctx context.Context, component, environment string) ([]Undone, error) {
	var rows []Undone
	return rows, q.g.WithContext(ctx).Raw(`SELECT DISTINCT ON (p.component, p.environment, u.digest) p.component, p.environment,
			u.digest, p.number, a.name AS requester_name, w.because
		FROM promotions p JOIN works w ON w.id = p.work_id JOIN actors a ON a.id = w.requested_by,
			jsonb_array_elements_text(p.undoes) AS u(digest)
		WHERE p.roll_back AND (@component = '' OR p.component = @component) AND (@environment = '' OR p.environment = @environment)
			AND w.state = @done AND NOT EXISTS (
			SELECT 1 FROM promotions later JOIN works l ON l.id = later.work_id
			WHERE later.component = p.component AND later.environment = p.environment AND later.digest = u.digest
				AND later.number > p.number AND l.state = @done)
		ORDER BY p.component, p.environment, u.digest, p.number DESC`,
		map[string]any{"component": component, "environment": environment, "done": StateVerified}).Scan(&rows).Error
}

// Reviewed keeps that someone looked at a promotion; false if someone did already, or there is nothing to look at yet.
func (t Tx) Reviewed(ctx context.Context, work, by uuid.UUID, remark string) (bool, error) {
	r := t.g.WithContext(ctx).Exec(`UPDATE promotions SET reviewed_by = ?, reviewed_at = now(), review = ? FROM works w
		WHERE work_id = ? AND w.id = work_id AND w.ended AND reviewed_at IS NULL
			AND (plan->>'emergency' = 'true' OR plan->>'skips' = 'true')`, by, remark, work)
	return r.RowsAffected == 1, r.Error
}

// Unreviewed lists the promotions that went another way than usual, and were not looked at yet, newest first.
func (q Queries) Unreviewed(ctx context.Context, limit int) ([]PromotionWork, error) {
	return paged[PromotionWork](
		ctx,
		q,
		promotionFrom,
		Page{Limit: limit},
		"d.reviewed_at IS NULL AND (d.plan->>'emergency' = 'true' OR d.plan->>'skips' = 'true') AND w.ended AND w.state = ?",
		StateVerified,
	)
}
