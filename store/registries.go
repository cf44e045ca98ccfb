package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// Registry is a connected registry. Its credential is sealed.
type Registry struct {
	ID                uuid.UUID
	Name              string
	Address           string
	CAPEM             string `gorm:"column:ca_pem"`
	CredentialName    string
	CredentialSealed  []byte
	RequestsPerSecond float64
	TransfersAtOnce   int
	CreatedAt         time.Time `gorm:"->"`
	UpdatedAt         time.Time `gorm:"->"`
}

// AddRegistry keeps a registry. A name that is taken gives gorm.ErrDuplicatedKey.
func (t Tx) AddRegistry(ctx context.Context, r Registry) error {
	return t.g.WithContext(ctx).Table("registries").Create(&r).Error
}

// Registries lists all, by name. There are a handful.
func (q Queries) Registries(ctx context.Context) ([]Registry, error) {
	var rows []Registry
	return rows, q.g.WithContext(ctx).Table("registries").Order("name").Find(&rows).Error
}

// RegistryNamed finds a registry.
func (q Queries) RegistryNamed(ctx context.Context, name string) (Registry, bool, error) {
	return first[Registry](q.g.WithContext(ctx).Table("registries").Where("name = ?", name))
}

// RegistryByID finds a registry.
func (q Queries) RegistryByID(ctx context.Context, id uuid.UUID) (Registry, bool, error) {
	return first[Registry](q.g.WithContext(ctx).Table("registries").Where("id = ?", id))
}

// ShareBudget leases the process a share of the registry's limits for a while: an even part, but never more than what
// others do not hold. A newcomer may so get nothing, until the others have renewed and left it its part.
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
				WHERE registry_id = @registry AND process_id <> @process AND until > now())
			INSERT INTO budget_shares (registry_id, process_id, share, until)
			SELECT @registry, @process, greatest(0, least(1.0 / (n + 1), 1 - held)), now() + make_interval(secs => @life) FROM others
			ON CONFLICT (registry_id, process_id) DO UPDATE SET share = excluded.share, until = excluded.until
			RETURNING share`,
			map[string]any{"registry": registry, "process": process, "life": life.Seconds()}).Scan(&share).Error
	})
	return share, err
}

// Charter is one adopted version of the governance document.
type Charter struct {
	Version   int64 `gorm:"->"`
	Document  string
	AdoptedBy uuid.UUID
	AdoptedAt time.Time `gorm:"->"`
}

// CurrentCharter is the newest version; false if none was adopted yet.
func (q Queries) CurrentCharter(ctx context.Context) (Charter, bool, error) {
	return first[Charter](q.g.WithContext(ctx).Table("charters").Order("version DESC"))
}

// AddCharter keeps a new version and gives its number.
func (t Tx) AddCharter(ctx context.Context, c Charter) (Charter, error) {
	err := t.g.WithContext(ctx).
		Raw("INSERT INTO charters (document, adopted_by) VALUES (?, ?) RETURNING *", c.Document, c.AdoptedBy).
		Scan(&c).
		Error
	return c, err
}
