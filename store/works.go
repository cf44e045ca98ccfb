package store

import (
	"context"
	"encoding/json"
	"time"

	"dovrak/core/plan"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// Work is a copy or a promotion under way, or ended.
type Work struct {
	ID          uuid.UUID
	Kind        string
	State       string
	Ended       bool
	RequestedBy uuid.UUID
	Because     string
	Progress    []Progress      `gorm:"serializer:json"`
	Problem     json.RawMessage `gorm:"->"`
	AskedAt     time.Time       `gorm:"->"`
	BeganAt     *time.Time      `gorm:"->"`
	EndedAt     *time.Time      `gorm:"->"`
	Fence       int64           `gorm:"->"`
	Requests    int64           `gorm:"->"` // to registries
}

// The kinds of work, and the states they go through.
const (
	KindCopy      = "copy"
	KindPromotion = "promotion"
	KindTakeIn    = "take-in"
	KindBuild     = "build"
	KindJoin      = "join"

	StateAsked     = "asked"
	StateReading   = "reading"
	StateMoving    = "moving"
	StateSwitching = "switching"
	StateGoingBack = "going back" // a place failed: the others are restored
	StateSplit     = "split"      // it could not go back everywhere: nobody works on it, and it blocks its environment
	StateTakenBack = "taken back" // every tag means again what it did before the switch
	StateWaiting   = "waiting"    // for gates that can yet be met, people among them
	StateJudged    = "judged"     // it may go on
	StateReady     = "ready"      // all is in place, and no tag is pointed yet
	StateDeclined  = "declined"   // by someone who was to agree
	StateRefused   = "refused"    // by a gate, when it was to go on
	StateExpired   = "expired"    // it waited too long
	StateVerified  = "verified"
	StateFailed    = "failed"
	StateStopped   = "stopped" // by someone; it can be resumed
)

// Progress is how far one place is. Bytes of pieces that were there already count as Present.
type Progress struct {
	Repository string `json:"repository"`
	Moved      int64  `json:"moved"`
	Mounted    int64  `json:"mounted"` // from a sibling, without moving
	Total      int64  `json:"total"`   // to move or mount
	Present    int64  `json:"present"`
	Blobs      int    `json:"blobs"`             // moved or mounted
	Rate       int64  `json:"rate,omitempty"`    // bytes a second, of late
	Flowing    []Flow `json:"flowing,omitempty"` // the blobs that are on their way
	Problem    string `json:"problem,omitempty"` // why it was given up
	Came       string `json:"came,omitempty"`    // for each piece of the plan, blobs first, how it came: one of the letters below
}

// Flow is a blob on its way. Sizes are in bytes.
type Flow struct {
	Digest digest.Digest `json:"digest"`
	Moved  int64         `json:"moved"`
}

// How a piece came to be where it is. Of one that was there before anything was done, the plan says so.
const (
	NotYet        = '.'
	CameByMoving  = 'm'
	CameByMount   = 'n'
	CameByAnother = 'o' // by another copy, at the same time
)

// Copy is a copy's own record.
type Copy struct {
	WorkID       uuid.UUID
	Number       int64 `gorm:"->"`
	SourceID     uuid.UUID
	Source       string
	Digest       digest.Digest
	Verify       bool
	Referrers    string
	SourceDigest digest.Digest // where only some platforms are copied: the image that they are taken from
	Platforms    []string      `gorm:"serializer:json"`
	Places       []CopyPlace   `gorm:"->;serializer:json"`
}

// CopyPlace is one of a copy's destinations.
type CopyPlace struct {
	RegistryID uuid.UUID  `json:"registry"`
	Repository string     `json:"repository"`
	Tag        string     `json:"tag"`  // pointed at the end; empty is none
	Plan       *plan.Copy `json:"plan"` // as it was first made; nil before
}

// Promotion is a promotion's own record.
type Promotion struct {
	WorkID      uuid.UUID
	Number      int64 `gorm:"->"`
	Component   string
	Environment string
	Digest      digest.Digest
	Version     string
	Plan        plan.Promotion `gorm:"serializer:json"`
	RollBack    bool
	Undoes      []digest.Digest `gorm:"serializer:json"`    // what a roll back took from where it stood
	Stands      []plan.Stand    `gorm:"->;serializer:json"` // what every tag was seen to mean in the end
	ReviewedAt  *time.Time      `gorm:"->"`
	Review      string          `gorm:"->"`
	Reviewer    string          `gorm:"->"`
}

// Unreviewed reports that it went another way than usual, and nobody has looked at that yet.
func (p Promotion) Unreviewed() bool {
	return (p.Plan.Emergency || p.Plan.Skips) && p.ReviewedAt == nil
}

// CopyWork and PromotionWork are the records together, with the requester's name.
type (
	CopyWork struct {
		Work          Work `gorm:"embedded"`
		Copy          Copy `gorm:"embedded"`
		RequesterName string
	}
	PromotionWork struct {
		Work          Work      `gorm:"embedded"`
		Promotion     Promotion `gorm:"embedded"`
		RequesterName string
	}
)

func (t Tx) addWork(ctx context.Context, w Work) error {
	w.Progress = []Progress{}
	return t.g.WithContext(ctx).Table("works").Create(&w).Error
}

// AddCopy keeps a copy that was asked for and gives its number.
func (t Tx) AddCopy(ctx context.Context, w Work, c Copy) (int64, error) {
	if err := t.addWork(ctx, w); err != nil {
		return 0, err
	}
	if c.Platforms == nil {
		c.Platforms = []string{}
	}
	if err := t.g.WithContext(ctx).Table("copies").Create(&c).Error; err != nil {
		return 0, err
	}
	for i, p := range c.Places {
		err := t.g.WithContext(ctx).Exec("INSERT INTO copy_places (work_id, place, registry_id, repository, tag) VALUES (?, ?, ?, ?, ?)",
			w.ID, i, p.RegistryID, p.Repository, p.Tag).Error
		if err != nil {
			return 0, err
		}
	}
	return t.number(ctx, "copies", w.ID)
}

// AddPromotion keeps a promotion that was asked for and gives its number.
func (t Tx) AddPromotion(ctx context.Context, w Work, p Promotion) (int64, error) {
	if err := t.addWork(ctx, w); err != nil {
		return 0, err
	}
	if p.Undoes == nil {
		p.Undoes = []digest.Digest{}
	}
	if err := t.g.WithContext(ctx).Table("promotions").Create(&p).Error; err != nil {
		return 0, err
	}
	return t.number(ctx, "promotions", w.ID)
}

func (t Tx) number(ctx context.Context, table string, work uuid.UUID) (int64, error) {
	var n int64
	return n, t.g.WithContext(ctx).Table(table).Where("work_id = ?", work).Pluck("number", &n).Error
}

const (
	copyFrom = `works w JOIN (SELECT c.*, (SELECT jsonb_agg(jsonb_build_object('registry', p.registry_id, 'repository', p.repository,
		'tag', p.tag, 'plan', p.plan) ORDER BY p.place) FROM copy_places p WHERE p.work_id = c.work_id) AS places FROM copies c) d
		ON d.work_id = w.id JOIN actors a ON a.id = w.requested_by`
	promotionFrom = `works w JOIN (SELECT p.*, coalesce(r.name, '') AS reviewer FROM promotions p LEFT JOIN actors r ON r.id = p.reviewed_by) d
		ON d.work_id = w.id JOIN actors a ON a.id = w.requested_by`
)

// Page asks for at most Limit records with a number below Before (0: from the newest on).
type Page struct {
	Before int64
	Limit  int
}

func paged[T any](ctx context.Context, q Queries, from string, p Page, where string, args ...any) ([]T, error) {
	g := q.g.WithContext(ctx).Table(from).Select("w.*, d.*, a.name AS requester_name").Order("d.number DESC").Limit(p.Limit)
	if p.Before > 0 {
		g = g.Where("d.number < ?", p.Before)
	}
	if where != "" {
		g = g.Where(where, args...)
	}
	var rows []T
	return rows, g.Find(&rows).Error
}

func one[T any](rows []T, err error) (T, bool, error) {
	if err != nil || len(rows) == 0 {
		var zero T
		return zero, false, err
	}
	return rows[0], true, nil
}

// Copies lists copies, newest first.
func (q Queries) Copies(ctx context.Context, p Page) ([]CopyWork, error) {
	return paged[CopyWork](ctx, q, copyFrom, p, "")
}

// CopyNumbered finds a copy.
func (q Queries) CopyNumbered(ctx context.Context, n int64) (CopyWork, bool, error) {
	return one(paged[CopyWork](ctx, q, copyFrom, Page{Limit: 1}, "d.number = ?", n))
}

// CopyByWork finds a copy.
func (q Queries) CopyByWork(ctx context.Context, id uuid.UUID) (CopyWork, bool, error) {
	return one(paged[CopyWork](ctx, q, copyFrom, Page{Limit: 1}, "w.id = ?", id))
}

// Promotions lists promotions, newest first; of one component and environment where they are named.
func (q Queries) Promotions(ctx context.Context, p Page, component, environment string) ([]PromotionWork, error) {
	where, args := homed(component, environment)
	return paged[PromotionWork](ctx, q, promotionFrom, p, where, args...)
}

// homed selects promotions by what is named alone, so that an index serves.
func homed(component, environment string) (where string, args []any) {
	where = "true"
	if component != "" {
		where, args = where+" AND d.component = ?", append(args, component)
	}
	if environment != "" {
		where, args = where+" AND d.environment = ?", append(args, environment)
	}
	return where, args
}

// PromotionNumbered finds a promotion.
func (q Queries) PromotionNumbered(ctx context.Context, n int64) (PromotionWork, bool, error) {
	return one(paged[PromotionWork](ctx, q, promotionFrom, Page{Limit: 1}, "d.number = ?", n))
}

// PromotionByWork finds a promotion.
func (q Queries) PromotionByWork(ctx context.Context, id uuid.UUID) (PromotionWork, bool, error) {
	return one(paged[PromotionWork](ctx, q, promotionFrom, Page{Limit: 1}, "w.id = ?", id))
}

// OpenPromotions lists the promotions that have not ended, for all homes or for one.
func (q Queries) OpenPromotions(ctx context.Context, component, environment string) ([]PromotionWork, error) {
	where, args := homed(component, environment)
	return paged[PromotionWork](ctx, q, promotionFrom, Page{Limit: 1000}, "NOT w.ended AND "+where, args...)
}
