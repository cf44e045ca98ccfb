package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"dovrak/core/plan"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// ErrLost says that a work's lease went to another process: whoever sees it stops at once.
var ErrLost = errors.New("store: the lease on this work went to another process")

// lockClass is the first half of the advisory lock that each living process holds.
const lockClass = 8620

// free is true of a work that nobody works on: its lease ran out or was given back, or its owner's process is dead.
const free = "(owner IS NULL OR lease_until < now() OR NOT EXISTS (" + living + " AND p.id = owner))"

// living are the processes that live, which the database knows by the locks that die with them.
const living = `SELECT 1 FROM processes p JOIN pg_locks l ON l.locktype = 'advisory' AND l.classid = 8620 AND l.objid::bigint = p.lock_key
	AND l.objsubid = 2 AND l.granted AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database()) WHERE true`

// Lease is the right to work on one work. Fence grows with each owner.
type Lease struct {
	Work  uuid.UUID
	Owner uuid.UUID
	Fence int64
}

// Claim takes a work for a process; false if another works on it, or it has ended.
func (q Queries) Claim(ctx context.Context, work, process uuid.UUID, life time.Duration) (Lease, bool, error) {
	l, ok, err := first[Lease](q.g.WithContext(ctx).Raw(`
		UPDATE works SET owner = ?, fence = fence + 1, lease_until = now() + make_interval(secs => ?), began_at = coalesce(began_at, now())
		WHERE id = ? AND NOT ended AND state <> '`+StateSplit+`' AND `+free+` RETURNING id AS work, owner, fence`, process, life.Seconds(), work))
	return l, ok, err
}

// update changes a work under its lease.
func (q Queries) update(ctx context.Context, l Lease, set string, args ...any) error {
	r := q.g.WithContext(ctx).Exec("UPDATE works SET "+set+" WHERE id = ? AND owner = ? AND fence = ? AND NOT ended",
		append(args, l.Work, l.Owner, l.Fence)...)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrLost
	}
	return r.Error
}

// Renew keeps the lease for another while.
func (q Queries) Renew(ctx context.Context, l Lease, life time.Duration) error {
	return q.update(ctx, l, "lease_until = now() + make_interval(secs => ?)", life.Seconds())
}

// GiveBack ends the lease, so that the next process need not wait.
func (q Queries) GiveBack(ctx context.Context, l Lease) error {
	return q.update(ctx, l, "owner = NULL, lease_until = NULL")
}

// Leave gives a work back in a state in which nobody takes it up before someone says so.
func (q Queries) Leave(ctx context.Context, l Lease, state string, problem []byte) error {
	return q.update(ctx, l, "state = ?, problem = ?, owner = NULL, lease_until = NULL, began_at = NULL", state, string(problem))
}

// LeaveWaiting gives a work back until it is woken; nobody takes it up meanwhile. True: something has come since it began to be
// judged, and it is to be judged again at once.
func (q Queries) LeaveWaiting(ctx context.Context, l Lease) (woken bool, err error) {
	if err := q.update(ctx, l, "state = ?, owner = NULL, lease_until = NULL, began_at = NULL, switches = NULL", StateWaiting); err != nil {
		return false, err
	}
	return woken, q.g.WithContext(ctx).Raw("SELECT woken FROM works WHERE id = ?", l.Work).Scan(&woken).Error
}

// Judging clears what has come until now: it is judged with.
func (q Queries) Judging(ctx context.Context, l Lease) error {
	return q.update(ctx, l, "woken = false")
}

// SetPromotionPlan keeps a promotion's plan as it is judged now.
func (q Queries) SetPromotionPlan(ctx context.Context, l Lease, p plan.Promotion) error {
	return q.updatePromotion(ctx, l, "plan", p)
}

// updatePromotion writes a column of a promotion, as JSON, under its work's lease.
func (q Queries) updatePromotion(ctx context.Context, l Lease, column string, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	r := q.g.WithContext(ctx).Exec("UPDATE promotions SET "+column+` = ? WHERE work_id = ? AND EXISTS (
		SELECT 1 FROM works WHERE id = work_id AND owner = ? AND fence = ? AND NOT ended)`, string(raw), l.Work, l.Owner, l.Fence)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrLost
	}
	return r.Error
}

// EndWaiting ends a work that waits; whoever judges it just now finds that its lease is gone. False if it does not wait.
func (t Tx) EndWaiting(ctx context.Context, work uuid.UUID, state string, problem []byte) (bool, error) {
	var p any
	if problem != nil {
		p = string(problem)
	}
	r := t.g.WithContext(ctx).
		Exec(`UPDATE works SET state = ?, problem = ?, ended = true, ended_at = now(), owner = NULL, lease_until = NULL
		WHERE id = ? AND NOT ended AND state = ?`, state, p, work, StateWaiting)
	return r.RowsAffected == 1, r.Error
}

// WaitingFor names what a waiting promotion may have waited for; zero is anything.
type WaitingFor struct {
	Digest     digest.Digest
	Repository string     // REGISTRY/REPOSITORY that it comes from or goes to
	Work       *uuid.UUID // that one alone
}

// WakePromotions marks the promotions that something may concern which has come, and lists their works.
func (t Tx) WakePromotions(ctx context.Context, about WaitingFor) ([]uuid.UUID, error) {
	var out []uuid.UUID
	err := t.g.WithContext(ctx).Raw(`UPDATE works w SET woken = true FROM promotions p WHERE p.work_id = w.id
		AND NOT w.ended AND w.state <> 'split' AND (@digest = '' OR p.digest = @digest) AND (CAST(@work AS uuid) IS NULL OR w.id = @work)
			AND (@repository = '' OR p.plan->>'source' = @repository
				OR p.plan->'places' @> jsonb_build_array(jsonb_build_object('repository', CAST(@repository AS text))))
		RETURNING w.id`,
		map[string]any{"digest": about.Digest.String(), "repository": about.Repository, "work": about.Work}).Scan(&out).Error
	return out, err
}

// SetState moves a work to its next state.
func (q Queries) SetState(ctx context.Context, l Lease, state string) error {
	return q.update(ctx, l, "state = ?", state)
}

// SetProgress records how far a work is, and how much it has asked of registries.
func (q Queries) SetProgress(ctx context.Context, l Lease, p []Progress, requests int64) error {
	raw, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return q.update(ctx, l, "progress = ?, requests = ?", string(raw), requests)
}

// Progress is how far a work was when it was last written down.
func (q Queries) Progress(ctx context.Context, work uuid.UUID) (Work, error) {
	w, _, err := first[Work](q.g.WithContext(ctx).Table("works").Select("progress, requests").Where("id = ?", work))
	return w, err
}

// End ends a work. problem is nil, or why it failed, as JSON.
func (q Queries) End(ctx context.Context, l Lease, state string, problem []byte) error {
	var p any
	if problem != nil {
		p = string(problem)
	}
	return q.update(ctx, l, "state = ?, problem = ?, ended = true, ended_at = now(), owner = NULL, lease_until = NULL, switches = NULL",
		state, p)
}

// StopWork ends a work that has not ended; whoever works on it finds that its lease is gone. False if it has ended.
func (t Tx) StopWork(ctx context.Context, work uuid.UUID) (bool, error) {
	r := t.g.WithContext(ctx).Exec(`UPDATE works SET state = ?, ended = true, ended_at = now(), owner = NULL, lease_until = NULL
		WHERE id = ? AND NOT ended`, StateStopped, work)
	return r.RowsAffected == 1, r.Error
}

// ResumeWork begins a work again that was stopped or has failed; false if it is neither.
func (t Tx) ResumeWork(ctx context.Context, work uuid.UUID) (bool, error) {
	r := t.g.WithContext(ctx).Exec(`UPDATE works SET state = ?, ended = false, ended_at = NULL, problem = NULL
		WHERE id = ? AND state IN (?, ?)`, StateAsked, work, StateStopped, StateFailed)
	return r.RowsAffected == 1, r.Error
}

// Abandoned lists works that were begun and that nobody works on.
func (q Queries) Abandoned(ctx context.Context, limit int) ([]Work, error) {
	var rows []Work
	return rows, q.g.WithContext(ctx).Table("works").Where("NOT ended AND began_at IS NOT NULL AND " + free).
		Order("asked_at").Limit(limit).Find(&rows).Error
}

// SetCopyPlan keeps what a copy found to be done at a place, unless it was found before.
func (q Queries) SetCopyPlan(ctx context.Context, work uuid.UUID, place int, c plan.Copy) error {
	raw, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return q.g.WithContext(ctx).Exec("UPDATE copy_places SET plan = ? WHERE work_id = ? AND place = ? AND plan IS NULL",
		string(raw), work, place).Error
}
