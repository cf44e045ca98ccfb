package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Registry is a connected registry. Its credential and the key of its client certificate are sealed. A credential is
// either a name with its sealed secret, or the name of a secret source; neither is anonymous.
type Registry struct {
	ID                uuid.UUID
	Name              string
	Address           string
	CAPEM             string `gorm:"column:ca_pem"`
	ClientCertPEM     string `gorm:"column:client_cert_pem"`
	ClientKeySealed   []byte
	Plain             bool
	CredentialName    string
	CredentialSealed  []byte
	SecretSource      string
	SignInHosts       []string          `gorm:"serializer:json"`
	Labels            map[string]string `gorm:"serializer:json"`
	RequestsPerSecond float64
	TransfersAtOnce   int
	BytesPerSecond    int64 // of layers, from it and to it; 0 is no limit
	UnverifiedOwner   string
	UnverifiedUntil   *time.Time
	Unverified        bool       `gorm:"->"` // the exception counts now
	CreatedAt         time.Time  `gorm:"->"`
	UpdatedAt         time.Time  `gorm:"->"`
	DroppedAt         *time.Time `gorm:"->"`
}

// tidy gives the fields that are kept as JSON a value: nothing would be kept as null.
func (r *Registry) tidy() {
	if r.SignInHosts == nil {
		r.SignInHosts = []string{}
	}
	if r.Labels == nil {
		r.Labels = map[string]string{}
	}
}

// AddRegistry keeps a registry. A name that is taken gives gorm.ErrDuplicatedKey.
func (t Tx) AddRegistry(ctx context.Context, r Registry) error {
	r.tidy()
	return t.g.WithContext(ctx).Table("registries").Create(&r).Error
}

// EditRegistry keeps a registry's new settings in place of the old ones, its secrets among them.
func (t Tx) EditRegistry(ctx context.Context, r Registry) error {
	r.tidy()
	_, err := t.PGX.Exec(
		ctx,
		`UPDATE registries SET address = $2, ca_pem = $3, client_cert_pem = $4, client_key_sealed = $5, plain = $6,
		credential_name = $7, credential_sealed = $8, secret_source = $9, sign_in_hosts = $10, labels = $11,
		requests_per_second = $12, transfers_at_once = $13, unverified_owner = $14, unverified_until = $15, bytes_per_second = $16, updated_at = clock_timestamp()
		WHERE id = $1`,
		r.ID,
		r.Address,
		r.CAPEM,
		r.ClientCertPEM,
		r.ClientKeySealed,
		r.Plain,
		r.CredentialName,
		r.CredentialSealed,
		r.SecretSource,
		r.SignInHosts,
		r.Labels,
		r.RequestsPerSecond,
		r.TransfersAtOnce,
		r.UnverifiedOwner,
		r.UnverifiedUntil,
		r.BytesPerSecond,
	)
	return err
}

// DropRegistry ends a registry's connection and wipes its secrets. Its history stays.
func (t Tx) DropRegistry(ctx context.Context, id uuid.UUID) error {
	_, err := t.PGX.Exec(ctx, `UPDATE registries SET dropped_at = clock_timestamp(), updated_at = clock_timestamp(),
		credential_name = '', credential_sealed = NULL, client_key_sealed = NULL, secret_source = '' WHERE id = $1`, id)
	return err
}

// registries selects those that are connected.
func (q Queries) registries(ctx context.Context) *gorm.DB {
	return q.g.WithContext(ctx).Table("registries").Select("*, coalesce(unverified_until > now(), false) AS unverified").
		Where("dropped_at IS NULL")
}

// Registries lists all that are connected, by name. There are a handful.
func (q Queries) Registries(ctx context.Context) ([]Registry, error) {
	var rows []Registry
	return rows, q.registries(ctx).Order("name").Find(&rows).Error
}

// RegistryNamed finds a registry.
func (q Queries) RegistryNamed(ctx context.Context, name string) (Registry, bool, error) {
	return first[Registry](q.registries(ctx).Where("name = ?", name))
}

// RegistryByID finds a registry, a dropped one too.
func (q Queries) RegistryByID(ctx context.Context, id uuid.UUID) (Registry, bool, error) {
	return first[Registry](q.g.WithContext(ctx).Table("registries").
		Select("*, coalesce(unverified_until > now(), false) AS unverified").Where("id = ?", id))
}

// LockRegistry reads a registry for a change of it: others who would change it wait.
func (t Tx) LockRegistry(ctx context.Context, name string) (Registry, bool, error) {
	return first[Registry](t.registries(ctx).Where("name = ?", name).Clauses(clause.Locking{Strength: "UPDATE"}))
}

// OpenIn counts what is under way in a registry: works that have not ended, and tag changes without an outcome.
func (q Queries) OpenIn(ctx context.Context, id uuid.UUID, name string) (int64, error) {
	var n int64
	err := q.g.WithContext(ctx).Raw(`SELECT
		(SELECT count(*) FROM tag_changes WHERE registry_id = @id AND (outcome IS NULL OR outcome = 'unknown'))
		+ (SELECT count(*) FROM copies c JOIN works w ON w.id = c.work_id WHERE NOT w.ended AND (c.source_id = @id
			OR EXISTS (SELECT 1 FROM copy_places p WHERE p.work_id = c.work_id AND p.registry_id = @id)))
		+ (SELECT count(*) FROM promotions p JOIN works w ON w.id = p.work_id WHERE NOT w.ended
			AND (starts_with(p.plan->>'source', @prefix) OR EXISTS (
				SELECT 1 FROM jsonb_array_elements(p.plan->'places') e WHERE starts_with(e->>'repository', @prefix))))`,
		map[string]any{"id": id, "prefix": name + "/"}).Scan(&n).Error
	return n, err
}

// ShareBudget leases the process a share of the registry's limits for a while: an even part, but never more than what
// others do not hold. A newcomer may so get nothing, until the others have renewed and left it its part. Who is dead holds nothing: what
// begins in its place need not wait for its lease to lapse.
func (s *Store) ShareBudget(ctx context.Context, registry, process uuid.UUID, life time.Duration) (float64, error) {
	var share float64
	err := s.Tx(ctx, func(tx Tx) error {
		if err := tx.Lock(ctx, "budget "+registry.String()); err != nil {
			return err
		}
		return tx.g.WithContext(ctx).Raw(`
			WITH gone AS (DELETE FROM budget_shares WHERE registry_id = @registry AND until < now() - interval '1 minute'),
			others AS (
				SELECT count(*) AS n, coalesce(sum(share), 0) AS held FROM budget_shares
				WHERE registry_id = @registry AND process_id <> @process AND until > now() AND EXISTS (`+living+` AND p.id = process_id))
			INSERT INTO budget_shares (registry_id, process_id, share, until)
			SELECT @registry, @process, greatest(0, least(1.0 / (n + 1), 1 - held)), now() + make_interval(secs => @life) FROM others
			ON CONFLICT (registry_id, process_id) DO UPDATE SET share = excluded.share, until = excluded.until
			RETURNING share`,
			map[string]any{"registry": registry, "process": process, "life": life.Seconds()}).Scan(&share).Error
	})
	return share, err
}
