package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
	"gorm.io/gorm/clause"
)

// Summary is an image in a few words. It never changes: it is worked out of content that is known by its digest.
type Summary struct {
	Digest    digest.Digest
	Kind      string
	Size      int64
	Platforms []string `gorm:"serializer:json"`
	Version   string
	Revision  string
	CreatedAt *time.Time
	Problem   string
}

// Summarise keeps a summary.
func (q Queries) Summarise(ctx context.Context, s Summary) error {
	return q.g.WithContext(ctx).Table("summaries").Clauses(clause.OnConflict{DoNothing: true}).Create(&s).Error
}

// SummaryOf finds a summary that is kept.
func (q Queries) SummaryOf(ctx context.Context, d digest.Digest) (Summary, bool, error) {
	return first[Summary](q.g.WithContext(ctx).Table("summaries").Where("digest = ?", d.String()))
}

// Referrers is what was listed as attached to a digest in a repository: descriptors, as JSON.
type Referrers struct {
	Descriptors json.RawMessage
	SeenAt      time.Time
}

// Referrers finds the list that was last seen.
func (q Queries) Referrers(ctx context.Context, at Spot, d digest.Digest) (Referrers, bool, error) {
	return first[Referrers](q.g.WithContext(ctx).Table("referrers").Where("registry_id = ? AND repository = ? AND digest = ?",
		at.RegistryID, at.Repository, d.String()))
}

// KeepReferrers keeps a list that was seen now.
func (q Queries) KeepReferrers(ctx context.Context, at Spot, d digest.Digest, descriptors []byte) error {
	return q.g.WithContext(ctx).Exec(`INSERT INTO referrers (registry_id, repository, digest, descriptors)
		VALUES (@registry, @repository, @digest, CAST(@list AS jsonb))
		ON CONFLICT (registry_id, repository, digest) DO UPDATE SET descriptors = excluded.descriptors, seen_at = now()`,
		map[string]any{"registry": at.RegistryID, "repository": at.Repository, "digest": d.String(), "list": string(descriptors)}).Error
}

// TagsMeaning lists the tags of a repository that were last seen to mean a digest, by name.
func (q Queries) TagsMeaning(ctx context.Context, at Spot, d digest.Digest) ([]string, error) {
	var out []string
	return out, q.g.WithContext(ctx).Table("sightings").Where("registry_id = ? AND repository = ? AND digest = ?",
		at.RegistryID, at.Repository, d.String()).Order("tag").Limit(200).Pluck("tag", &out).Error
}

// Unsummarised gives those of the digests that no summary is kept of.
func (q Queries) Unsummarised(ctx context.Context, ds []digest.Digest) ([]digest.Digest, error) {
	var have []digest.Digest
	if len(ds) == 0 {
		return nil, nil
	}
	if err := q.g.WithContext(ctx).Table("summaries").Where("digest IN ?", ds).Pluck("digest", &have).Error; err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(ds), func(d digest.Digest) bool { return slices.Contains(have, d) }), nil
}

// Survey is when all tags of a repository were last looked at.
type Survey struct {
	RegistryID uuid.UUID
	Repository string
	BeganAt    time.Time
	EndedAt    time.Time
	Tags       int64
}

// LastSurvey finds when a repository was last looked at as a whole.
func (q Queries) LastSurvey(ctx context.Context, at Spot) (Survey, bool, error) {
	return first[Survey](q.g.WithContext(ctx).Table("surveys").Where("registry_id = ? AND repository = ?", at.RegistryID, at.Repository))
}

// EndSurvey keeps that a repository was looked at as a whole. Tags that were not seen since it began mean nothing now.
func (t Tx) EndSurvey(ctx context.Context, s Survey) error {
	_, err := t.PGX.Exec(ctx, `UPDATE sightings SET was_digest = digest, was_seen_at = seen_at, digest = NULL, seen_at = $3, since = $3
		WHERE registry_id = $1 AND repository = $2 AND digest IS NOT NULL AND seen_at < $3`, s.RegistryID, s.Repository, s.BeganAt)
	if err != nil {
		return err
	}
	_, err = t.PGX.Exec(
		ctx,
		`INSERT INTO surveys (registry_id, repository, began_at, ended_at, tags) VALUES ($1, $2, $3, clock_timestamp(), $4)
		ON CONFLICT (registry_id, repository) DO UPDATE SET began_at = $3, ended_at = clock_timestamp(), tags = $4`,
		s.RegistryID,
		s.Repository,
		s.BeganAt,
		s.Tags,
	)
	return err
}

// TagRow is a tag with what it was last seen to mean.
type TagRow struct {
	Tag       string
	Digest    digest.Digest
	SeenAt    time.Time
	Since     time.Time  // since when it means this, as far as was seen
	DecidedAt *time.Time // when Dovrak pointed it there
	Kind      string
	Size      int64
	Platforms []string `gorm:"serializer:json"`
	Version   string
	CreatedAt *time.Time
	Problem   string
	Shares    int64  // how many other tags of the repository mean the same,
	With      string // and a few of them, separated by spaces
}

// The orders in which tags are listed.
var tagOrders = map[string]string{
	"version": "order_key", "name": "tag", "size": "coalesce(size, 0)", "age": "age",
}

// TagQuery says which tags. Like is an SQL pattern, "" is all; After is the last tag of the page before.
type TagQuery struct {
	Like, Order, After string
	Ascending          bool
	Only               []string // these tags
	Limit              int
}

// Tags lists what the tags of a repository were last seen to mean. Those that mean nothing are left out.
func (q Queries) Tags(ctx context.Context, at Spot, by TagQuery) ([]TagRow, error) {
	order, ok := tagOrders[by.Order]
	if !ok {
		return nil, fmt.Errorf("store: there is no order %q", by.Order)
	}
	way, beyond := "DESC", "<"
	if by.Ascending {
		way, beyond = "ASC", ">"
	}
	args := map[string]any{"registry": at.RegistryID, "repository": at.Repository, "like": by.Like, "after": by.After, "limit": by.Limit,
		"only": strings.Join(by.Only, " ")}
	where := ""
	if by.Like != "" {
		where += " AND s.tag LIKE @like"
	}
	from := "sightings s"
	if len(by.Only) > 0 { // each by the key: of a long list, a planner without statistics would read the whole repository
		from = `unnest(string_to_array(@only, ' ')) o(tag) CROSS JOIN LATERAL (SELECT * FROM sightings i
			WHERE i.registry_id = @registry AND i.repository = @repository AND i.tag = o.tag) s`
	}
	cut := ""
	if by.After != "" {
		cut = fmt.Sprintf("WHERE (%s, tag) %s (SELECT %s, tag FROM base WHERE tag = @after)", order, beyond, order)
	}
	var rows []TagRow
	err := q.g.WithContext(ctx).Raw(`
		WITH base AS (
			SELECT s.tag, coalesce(s.order_key, s.tag) AS order_key, s.digest, s.seen_at, coalesce(s.since, s.seen_at) AS since,
				d.settled_at AS decided_at,
				coalesce(m.kind, '') AS kind, coalesce(m.size, 0) AS size, coalesce(m.platforms, '[]') AS platforms,
				coalesce(m.version, '') AS version, m.created_at, coalesce(m.problem, '') AS problem,
				coalesce(d.settled_at, m.created_at, s.since, s.seen_at) AS age
			FROM `+from+` LEFT JOIN summaries m ON m.digest = s.digest
				LEFT JOIN LATERAL (SELECT settled_at, to_digest FROM tag_changes c WHERE c.registry_id = s.registry_id
					AND c.repository = s.repository AND c.tag = s.tag AND c.outcome = 'done' ORDER BY c.number DESC LIMIT 1) d
					ON d.to_digest = s.digest
			WHERE s.registry_id = @registry AND s.repository = @repository AND s.digest IS NOT NULL`+where+`),
		page AS (SELECT * FROM base `+cut+` ORDER BY `+order+` `+way+`, tag `+way+` LIMIT @limit)
		SELECT page.*, (SELECT count(*) - 1 FROM sightings t WHERE t.registry_id = @registry AND t.repository = @repository
				AND t.digest = page.digest) AS shares,
			(SELECT coalesce(string_agg(x.tag, ' ' ORDER BY x.order_key DESC), '') FROM (
				SELECT t.tag, t.order_key FROM sightings t WHERE t.registry_id = @registry AND t.repository = @repository
					AND t.digest = page.digest AND t.tag <> page.tag ORDER BY t.order_key DESC LIMIT 4) x) AS "with"
		FROM page
		ORDER BY `+order+` `+way+`, page.tag `+way, args).Scan(&rows).Error
	return rows, err
}

// CountTags counts the tags of a repository that mean something, and the images that they mean.
func (q Queries) CountTags(ctx context.Context, at Spot, like string) (tags, images int64, err error) {
	g := q.g.WithContext(ctx).
		Table("sightings").
		Where("registry_id = ? AND repository = ? AND digest IS NOT NULL", at.RegistryID, at.Repository)
	if like != "" {
		g = g.Where("tag LIKE ?", like)
	}
	type row struct{ Tags, Images int64 }
	var r row
	err = g.Select("count(*) AS tags, count(DISTINCT digest) AS images").Scan(&r).Error
	return r.Tags, r.Images, err
}

// TagException says that a gap between places is meant.
type TagException struct {
	Number    int64 `gorm:"->"`
	Component string
	Pattern   string
	Place     string
	Because   string
	MadeBy    uuid.UUID
	MadeAt    time.Time `gorm:"->"`
	MakerName string    `gorm:"->"`
}

// AddTagException keeps an exception and gives its number.
func (t Tx) AddTagException(ctx context.Context, e TagException) (int64, error) {
	var n int64
	return n, t.g.WithContext(ctx).Raw(`INSERT INTO tag_exceptions (component, pattern, place, because, made_by) VALUES (?, ?, ?, ?, ?)
		RETURNING number`, e.Component, e.Pattern, e.Place, e.Because, e.MadeBy).Scan(&n).Error
}

// EndTagException ends an exception; false if there is none under the number.
func (t Tx) EndTagException(ctx context.Context, number int64) (TagException, bool, error) {
	var rows []TagException
	err := t.g.WithContext(ctx).
		Raw("UPDATE tag_exceptions SET ended_at = now() WHERE number = ? AND ended_at IS NULL RETURNING *", number).
		Scan(&rows).
		Error
	if err != nil || len(rows) == 0 {
		return TagException{}, false, err
	}
	return rows[0], true, nil
}

// TagExceptions lists those that count, of one component or, where it is empty, of all.
func (q Queries) TagExceptions(ctx context.Context, component string) ([]TagException, error) {
	g := q.g.WithContext(ctx).Table("tag_exceptions e").Joins("JOIN actors a ON a.id = e.made_by").Select("e.*, a.name AS maker_name").
		Where("e.ended_at IS NULL")
	if component != "" {
		g = g.Where("e.component = ?", component)
	}
	var rows []TagException
	return rows, g.Order("e.number").Scan(&rows).Error
}

// Found is one thing that is known under what was looked for: a tag, or, without one, a digest that a repository holds.
type Found struct {
	Registry, Repository, Tag string
	Digest                    digest.Digest
	SeenAt                    time.Time
	Version, Revision, Kind   string
	Size                      int64
	Platforms                 []string `gorm:"serializer:json"`
	CreatedAt                 *time.Time
	Origin                    string // from where Dovrak first brought it there; empty: it did not
}

// Lookup says what to look for; what is empty is not looked for.
type Lookup struct {
	Digest   string // its beginning, e.g. sha256:4f1c
	Tag      string
	Revision string // its beginning
	Version  string

	Spots []Spot // everything in these repositories
	Limit int
}

// Find looks for tags, and for digests that no tag means, newest first.
func (q Queries) Find(ctx context.Context, l Lookup) ([]Found, error) {
	var conds []string
	args := map[string]any{"limit": l.Limit}
	add := func(given bool, cond, name string, value any) {
		if given {
			conds = append(conds, cond)
			args[name] = value
		}
	}
	add(l.Digest != "", "starts_with(x.digest, @digest)", "digest", l.Digest)
	add(l.Tag != "", "x.tag = @tag", "tag", l.Tag)
	add(l.Revision != "", "starts_with(m.revision, @revision)", "revision", l.Revision)
	add(l.Version != "", "m.version = @version", "version", l.Version)
	for i, s := range l.Spots {
		r, n := fmt.Sprintf("r%d", i), fmt.Sprintf("n%d", i)
		conds = append(conds, fmt.Sprintf("(x.registry_id = @%s AND x.repository = @%s)", r, n))
		args[r], args[n] = s.RegistryID, s.Repository
	}
	if len(conds) == 0 {
		return nil, nil
	}
	var rows []Found
	err := q.g.WithContext(ctx).Raw(`
		WITH x AS (
			SELECT registry_id, repository, tag, digest, seen_at FROM sightings WHERE digest IS NOT NULL
			UNION ALL
			SELECT h.registry_id, h.repository, '', h.digest, h.seen_at FROM holdings h JOIN summaries s ON s.digest = h.digest
			WHERE h.gone_at IS NULL AND NOT EXISTS (SELECT 1 FROM sightings t
				WHERE t.registry_id = h.registry_id AND t.repository = h.repository AND t.digest = h.digest))
		SELECT r.name AS registry, x.repository, x.tag, x.digest, x.seen_at, coalesce(m.version, '') AS version,
			coalesce(m.revision, '') AS revision, coalesce(m.kind, '') AS kind, coalesce(m.size, 0) AS size,
			coalesce(m.platforms, '[]') AS platforms, m.created_at,
			coalesce(o.origin, '') AS origin
		FROM x JOIN registries r ON r.id = x.registry_id AND r.dropped_at IS NULL LEFT JOIN summaries m ON m.digest = x.digest
			LEFT JOIN LATERAL (
				SELECT g.name || '/' || c.source AS origin, w.asked_at
				FROM copies c JOIN copy_places p USING (work_id) JOIN registries g ON g.id = c.source_id JOIN works w ON w.id = c.work_id
				WHERE p.registry_id = x.registry_id AND p.repository = x.repository AND c.digest = x.digest
				UNION ALL
				SELECT p.plan->>'source', w.asked_at FROM promotions p JOIN works w ON w.id = p.work_id
				WHERE p.digest = x.digest AND p.plan->'places' @> jsonb_build_array(jsonb_build_object('repository', r.name || '/' || x.repository))
				ORDER BY asked_at LIMIT 1) o ON true
		WHERE `+strings.Join(conds, " OR ")+`
		ORDER BY m.created_at DESC NULLS LAST, x.digest, r.name, x.repository, x.tag LIMIT @limit`, args).Scan(&rows).Error
	return rows, err
}
