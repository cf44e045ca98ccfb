package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// The states of a build before it is closed, and when another took its version over. From [StateAsked] on they are
// those of every work.
const (
	StateOpen       = "open"       // parts arrive
	StateIncomplete = "incomplete" // its time is over, and parts are missing; they can still arrive
	StateJoining    = "joining"
	StateGivenUp    = "given up"
)

// Change is a commit that a build has and the one before had not.
type Change struct {
	ID    string `json:"id"`
	Title string `json:"title"`
}

// Build is a build's own record. Run is the pipeline's own number, by which people know it.
type Build struct {
	WorkID      uuid.UUID
	Number      int64 `gorm:"->"`
	Component   string
	Run         int64
	Revision    string
	Branch      string
	Version     string
	Link        string
	CommitLink  string
	Source      string
	TriggeredBy string
	Base        string
	BaseDigest  string
	Changes     []Change `gorm:"serializer:json"`
	Environment string
	Given       string
	Digest      digest.Digest
	Tries       int
	Warnings    []string `gorm:"serializer:json"`
	DueAt       time.Time
}

// BuildWork is the record with its work, and the name of who reported it.
type BuildWork struct {
	Work          Work  `gorm:"embedded"`
	Build         Build `gorm:"embedded"`
	RequesterName string
}

// Part is the image of one platform, as a runner reported it.
type Part struct {
	WorkID     uuid.UUID
	Platform   string
	Repository string
	Digest     digest.Digest
	ReportedBy uuid.UUID
	ReportedAt time.Time `gorm:"->"`
	Emulated   *bool
	Seconds    *float64
	Base       string
	BaseDigest string
	Size       int64
	Warnings   []string `gorm:"serializer:json"`
	Reporter   string   `gorm:"->"`
}

// BuildTag is a tag that a build gets by rule. Outcome is empty until it was pointed, or is seen to stay where it is.
type BuildTag struct {
	WorkID     uuid.UUID
	Repository string
	Tag        string
	Kind       string
	Rule       string
	Position   int
	Outcome    string
	Why        string
	Change     *int64
}

const buildFrom = "works w JOIN builds d ON d.work_id = w.id JOIN actors a ON a.id = w.requested_by"

// AddBuild keeps a build that was reported, for so long open to its parts.
func (t Tx) AddBuild(ctx context.Context, w Work, b Build, within time.Duration) (BuildWork, error) {
	if err := t.addWork(ctx, w); err != nil {
		return BuildWork{}, err
	}
	now, err := t.Now(ctx)
	if err != nil {
		return BuildWork{}, err
	}
	b.DueAt = now.Add(within)
	if b.Changes == nil {
		b.Changes = []Change{}
	}
	b.Warnings = []string{}
	if err := t.g.WithContext(ctx).Table("builds").Create(&b).Error; err != nil {
		return BuildWork{}, err
	}
	out, _, err := t.BuildByWork(ctx, w.ID)
	return out, err
}

// BuildByWork finds a build.
func (q Queries) BuildByWork(ctx context.Context, id uuid.UUID) (BuildWork, bool, error) {
	return one(paged[BuildWork](ctx, q, buildFrom, Page{Limit: 1}, "w.id = ?", id))
}

// BuildOf finds a component's build by the pipeline's number.
func (q Queries) BuildOf(ctx context.Context, component string, run int64) (BuildWork, bool, error) {
	return one(paged[BuildWork](ctx, q, buildFrom, Page{Limit: 1}, "d.component = ? AND d.run = ?", component, run))
}

// Builds lists builds, newest first; of one component where it is named, and only those whose promised version no image
// keeps where that is asked.
func (q Queries) Builds(ctx context.Context, p Page, component string, promised bool) ([]BuildWork, error) {
	return paged[BuildWork](
		ctx,
		q,
		buildFrom,
		p,
		`(? = '' OR d.component = ?) AND (NOT CAST(? AS boolean) OR d.version <> '' AND w.state <> 'given up'
		AND NOT EXISTS (SELECT 1 FROM builds k JOIN works kw ON kw.id = k.work_id
			WHERE k.component = d.component AND k.version = d.version AND kw.state = 'verified'))`,
		component,
		component,
		promised,
	)
}

// BuildsByVersion lists the builds of a component that promised a version, newest first.
func (q Queries) BuildsByVersion(ctx context.Context, component, version string) ([]BuildWork, error) {
	return paged[BuildWork](ctx, q, buildFrom, Page{Limit: 100}, "d.component = ? AND d.version = ?", component, version)
}

// BuildBefore finds the newest build of a component and branch that was reported with a lower number; of any branch where
// there is none on the same.
func (q Queries) BuildBefore(ctx context.Context, b Build) (BuildWork, bool, error) {
	before, ok, err := one(q.buildsBefore(ctx, b, "d.branch = ?", b.Branch))
	if err != nil || ok {
		return before, ok, err
	}
	return one(q.buildsBefore(ctx, b, "true"))
}

// buildsBefore walks an index down from the build's number: what came long before is never looked at.
func (q Queries) buildsBefore(ctx context.Context, b Build, where string, args ...any) ([]BuildWork, error) {
	var rows []BuildWork
	return rows, q.g.WithContext(ctx).Table(buildFrom).Select("w.*, d.*, a.name AS requester_name").
		Where("d.component = ? AND d.run < ? AND w.state = 'verified'", b.Component, b.Run).Where(where, args...).
		Order("d.run DESC").Limit(1).Find(&rows).Error
}

// BuildsBetween lists the verified builds of a component whose run is above one and up to another, oldest first.
func (q Queries) BuildsBetween(ctx context.Context, component string, above, upTo int64, limit int) ([]BuildWork, error) {
	var rows []BuildWork
	return rows, q.g.WithContext(ctx).Table(buildFrom).Select("w.*, d.*, a.name AS requester_name").
		Where("d.component = ? AND d.run > ? AND d.run <= ?", component, above, upTo).Order("d.run").Limit(limit).Find(&rows).Error
}

// Span asks for how many builds of a component have an image, behind a run and up to another.
type Span struct {
	Component string `json:"component"`
	Low       int64  `json:"low"`
	High      int64  `json:"high"`
}

// BuildsWithin counts, for each span, in the same order.
func (q Queries) BuildsWithin(ctx context.Context, spans []Span) ([]int, error) {
	raw, err := json.Marshal(spans)
	if err != nil || len(spans) == 0 {
		return nil, err
	}
	var out []int
	return out, q.g.WithContext(ctx).Raw(`SELECT (SELECT count(*) FROM builds b WHERE b.component = s.span->>'component' AND b.digest <> ''
			AND b.run > (s.span->>'low')::bigint AND b.run <= (s.span->>'high')::bigint)
		FROM jsonb_array_elements(CAST(? AS jsonb)) WITH ORDINALITY AS s(span, no) ORDER BY s.no`, string(raw)).Scan(&out).Error
}

// BuildsMaking lists the builds of which an image came, the newest first.
func (q Queries) BuildsMaking(ctx context.Context, ds []digest.Digest) ([]BuildWork, error) {
	if len(ds) == 0 {
		return nil, nil
	}
	return paged[BuildWork](ctx, q, buildFrom, Page{Limit: 1000}, "d.digest IN ?", ds)
}

// BuildsNamed lists builds by their number, or by the beginning of their commit, newest first.
func (q Queries) BuildsNamed(ctx context.Context, run int64, revision string, limit int) ([]BuildWork, error) {
	return paged[BuildWork](
		ctx,
		q,
		buildFrom,
		Page{Limit: limit},
		"d.run = ? OR ? <> '' AND d.revision LIKE ?",
		run,
		revision,
		revision+"%",
	)
}

// Branches lists the branches of a component's builds.
func (q Queries) Branches(ctx context.Context, component string) ([]string, error) {
	var out []string
	return out, q.g.WithContext(ctx).Table("builds").Where("component = ?", component).Distinct("branch").Order("branch").
		Limit(2000).Pluck("branch", &out).Error
}

// BuildsTagged lists the builds that get or got a tag in a repository, newest first. Those that were given up do not count.
func (q Queries) BuildsTagged(ctx context.Context, repository, tag string) ([]BuildWork, error) {
	return paged[BuildWork](ctx, q, buildFrom+" JOIN build_tags bt ON bt.work_id = w.id", Page{Limit: 10},
		"bt.repository = ? AND bt.tag = ? AND w.state <> 'given up'", repository, tag)
}

// AddPart keeps a part. A platform that has one already is an error.
func (t Tx) AddPart(ctx context.Context, p Part) error {
	if p.Warnings == nil {
		p.Warnings = []string{}
	}
	return t.g.WithContext(ctx).Table("build_parts").Create(&p).Error
}

// Parts lists the parts of builds, by platform.
func (q Queries) Parts(ctx context.Context, works ...uuid.UUID) ([]Part, error) {
	var rows []Part
	return rows, q.g.WithContext(ctx).Table("build_parts p").Joins("JOIN actors a ON a.id = p.reported_by").
		Select("p.*, a.name AS reporter").Where("p.work_id IN ?", works).Order("p.platform").Find(&rows).Error
}

// BuildTags lists the tags of builds, in the order in which they are pointed.
func (q Queries) BuildTags(ctx context.Context, works ...uuid.UUID) ([]BuildTag, error) {
	var rows []BuildTag
	return rows, q.g.WithContext(ctx).Table("build_tags").Where("work_id IN ?", works).Order("repository, position").Find(&rows).Error
}

// SetBuildTags makes these the tags that a build gets. What was pointed already stays.
func (t Tx) SetBuildTags(ctx context.Context, work uuid.UUID, tags []BuildTag) error {
	g := t.g.WithContext(ctx).Table("build_tags")
	if err := g.Where("work_id = ? AND outcome = ''", work).Delete(&BuildTag{}).Error; err != nil || len(tags) == 0 {
		return err
	}
	return t.g.WithContext(ctx).Table("build_tags").Clauses(clause.OnConflict{DoNothing: true}).Create(&tags).Error
}

// SettleBuildTag keeps what came of one tag of a build.
func (t Tx) SettleBuildTag(ctx context.Context, b BuildTag) error {
	return t.g.WithContext(ctx).
		Exec("UPDATE build_tags SET outcome = ?, why = ?, change = ? WHERE work_id = ? AND repository = ? AND tag = ?",
			b.Outcome, b.Why, b.Change, b.WorkID, b.Repository, b.Tag).
		Error
}

// SetBuildImage keeps the image that came of a build.
func (t Tx) SetBuildImage(ctx context.Context, work uuid.UUID, d digest.Digest, warnings []string) error {
	if warnings == nil {
		warnings = []string{}
	}
	return t.g.WithContext(ctx).Table("builds").Where("work_id = ?", work).
		Updates(&Build{Digest: d, Warnings: warnings}).Error
}

// CountTry counts a try of a build that failed.
func (t Tx) CountTry(ctx context.Context, work uuid.UUID) error {
	return t.g.WithContext(ctx).Exec("UPDATE builds SET tries = tries + 1 WHERE work_id = ?", work).Error
}

// Tries counts the failed tries of all builds of a component that promised a version; those that were left incomplete count.
func (q Queries) Tries(ctx context.Context, component, version string) (int64, error) {
	var n int64
	err := q.g.WithContext(ctx).
		Raw(`SELECT coalesce(sum(greatest(b.tries, CASE WHEN w.state IN ('incomplete', 'given up') THEN 1 ELSE 0 END)), 0)
		FROM builds b JOIN works w ON w.id = b.work_id WHERE b.component = ? AND b.version = ?`, component, version).
		Scan(&n).
		Error
	return n, err
}

// MoveBuild moves a build that nobody works on from one of some states to another; false if it is in none of them.
func (t Tx) MoveBuild(ctx context.Context, work uuid.UUID, to string, from ...string) (bool, error) {
	r := t.g.WithContext(ctx).Table("works").Where("id = ? AND kind = 'build' AND state IN ?", work, from).
		Updates(map[string]any{"state": to, "ended": to == StateGivenUp, "problem": nil,
			"ended_at": gorm.Expr("CASE WHEN CAST(? AS boolean) THEN now() END", to == StateGivenUp)})
	return r.RowsAffected == 1, r.Error
}

// Join is a join by hand.
type Join struct {
	WorkID     uuid.UUID
	Number     int64 `gorm:"->"`
	RegistryID uuid.UUID
	Repository string
	Tag        string
	Parts      []JoinPart `gorm:"serializer:json"`
	Digest     digest.Digest
	Warnings   []string `gorm:"serializer:json"`
}

// JoinPart is one of its parts.
type JoinPart struct {
	Platform   string        `json:"platform"`
	Repository string        `json:"repository"` // REGISTRY/REPOSITORY
	Digest     digest.Digest `json:"digest"`
}

// JoinWork is the record with its work and the requester's name.
type JoinWork struct {
	Work          Work `gorm:"embedded"`
	Join          Join `gorm:"embedded"`
	RequesterName string
}

const joinFrom = "works w JOIN joins d ON d.work_id = w.id JOIN actors a ON a.id = w.requested_by"

// AddJoin keeps a join that was asked for and gives its number.
func (t Tx) AddJoin(ctx context.Context, w Work, j Join) (int64, error) {
	if err := t.addWork(ctx, w); err != nil {
		return 0, err
	}
	j.Warnings = []string{}
	if err := t.g.WithContext(ctx).Table("joins").Create(&j).Error; err != nil {
		return 0, err
	}
	return t.number(ctx, "joins", w.ID)
}

// JoinByWork finds a join.
func (q Queries) JoinByWork(ctx context.Context, id uuid.UUID) (JoinWork, bool, error) {
	return one(paged[JoinWork](ctx, q, joinFrom, Page{Limit: 1}, "w.id = ?", id))
}

// JoinNumbered finds a join.
func (q Queries) JoinNumbered(ctx context.Context, n int64) (JoinWork, bool, error) {
	return one(paged[JoinWork](ctx, q, joinFrom, Page{Limit: 1}, "d.number = ?", n))
}

// SetJoined keeps the image that came of a join.
func (t Tx) SetJoined(ctx context.Context, work uuid.UUID, d digest.Digest, warnings []string) error {
	if warnings == nil {
		warnings = []string{}
	}
	return t.g.WithContext(ctx).Table("joins").Where("work_id = ?", work).Updates(&Join{Digest: d, Warnings: warnings}).Error
}
