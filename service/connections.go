package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/secrets"
	"dovrak/store"
	"dovrak/store/seal"

	"github.com/google/uuid"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"
)

// connections keeps one client for each registry, made anew when the registry was edited.
type connections struct {
	db      *store.Store
	key     *seal.Key
	secrets *secrets.Sources
	process uuid.UUID
	observe func(registry.Exchange)
	surveys *semaphore.Weighted // at once: each holds a connection to the database
	mu      sync.Mutex
	open    map[uuid.UUID]*connection
}

// connection is a registry with its client and this process's share of its limits.
type connection struct {
	store.Registry
	client *registry.Client
	budget *budget
}

// spot is a repository of a connected registry.
type spot struct {
	*registry.Repository
	conn *connection
	ref  image.Reference // registry and repository
}

func (s spot) at() store.Spot { return store.Spot{RegistryID: s.conn.ID, Repository: s.ref.Repository} }

func (c *connections) to(r store.Registry) (*connection, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if have, ok := c.open[r.ID]; ok && have.UpdatedAt.Equal(r.UpdatedAt) && have.Unverified == r.Unverified {
		return have, nil
	}
	cfg, err := c.config(r)
	if err != nil {
		return nil, err
	}
	b := newBudget(c.db, r, c.process)
	cfg.Pace = b
	client, err := registry.New(cfg)
	if err != nil {
		return nil, err
	}
	if old, ok := c.open[r.ID]; ok {
		old.client.Close()
	}
	conn := &connection{r, client, b}
	c.open[r.ID] = conn
	return conn, nil
}

func (c *connections) config(r store.Registry) (registry.Config, error) {
	cfg := registry.Config{Name: r.Name, Address: r.Address, Observe: c.observe, Unverified: r.Unverified, SignInHosts: r.SignInHosts}
	if r.CAPEM != "" {
		cfg.RootCAs = x509.NewCertPool()
		cfg.RootCAs.AppendCertsFromPEM([]byte(r.CAPEM))
	}
	if r.ClientCertPEM != "" {
		key, err := c.key.Open(r.ClientKeySealed, clientKeyOf(r))
		if err != nil {
			return cfg, err
		}
		pair, err := tls.X509KeyPair([]byte(r.ClientCertPEM), []byte(key))
		if err != nil {
			return cfg, err
		}
		cfg.Certificate = &pair
	}
	switch {
	case r.SecretSource != "":
		if err := c.secrets.Allows(r.SecretSource, hosts(r)...); err != nil {
			return cfg, err
		}
		cfg.Credentials = fromSource{c.secrets, r.SecretSource}
	case r.CredentialName != "":
		secret, err := c.key.Open(r.CredentialSealed, r.ID.String())
		if err != nil {
			return cfg, err
		}
		cfg.Credentials = registry.Credential{Name: r.CredentialName, Secret: secret}
	}
	return cfg, nil
}

// fromSource reads a declared secret source at each sign-in.
type fromSource struct {
	sources *secrets.Sources
	name    string
}

func (f fromSource) Credential(ctx context.Context) (registry.Credential, error) {
	c, err := f.sources.Read(ctx, f.name)
	return registry.Credential{Name: c.Account, Secret: c.Secret}, err
}

// spot finds the repository that a reference names, or explains which registries there are.
func (s *Service) spot(ctx context.Context, ref image.Reference) (spot, error) {
	r, ok, err := s.db.RegistryNamed(ctx, ref.Registry)
	if err != nil {
		return spot{}, err
	}
	if !ok {
		return spot{}, s.unknownRegistry(ctx, ref)
	}
	return s.spotIn(r, ref.Repository)
}

func (s *Service) spotIn(r store.Registry, repository string) (spot, error) {
	conn, err := s.conns.to(r)
	if err != nil {
		return spot{}, err
	}
	return spot{conn.client.Repository(repository), conn, image.Reference{Registry: r.Name, Repository: repository}}, nil
}

// unknownRegistry says which registries there are, and names the one that was probably meant.
func (s *Service) unknownRegistry(ctx context.Context, ref image.Reference) error {
	all, err := s.db.Registries(ctx)
	if err != nil {
		return err
	}
	names := make([]string, len(all))
	for i, r := range all {
		names[i] = r.Name
	}
	p := &problem.Problem{Kind: problem.NotFound, Title: "No registry is connected under this name", Asked: ref.String(),
		Seen:   "the registries " + strings.Join(names, ", "),
		Remedy: "name one of them, or connect it: dovrak registry add " + ref.Registry + " --address …"}
	if ref.Repository == "" {
		p.Asked = image.Printable(ref.Registry)
	}
	if len(names) == 0 {
		p.Seen = "no registry at all"
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	for _, d := range law.destinations() { // the repository may be right, and its registry was left out
		if tail := strings.TrimPrefix(ref.String(), ref.In()); d.Ref.Repository == strings.TrimSuffix(
			ref.Registry+"/"+ref.Repository,
			"/",
		) {
			p.Remedy = "did you mean " + d.Ref.In() + tail + "?"
			return p
		}
	}
	if near := image.Nearest(ref.Registry, names); near != "" {
		mended := ref
		mended.Registry = near
		p.Remedy = "did you mean " + strings.TrimSuffix(mended.String(), "/") + "?"
	}
	return p
}

// budget is this process's part of a registry's limits. The limits hold over all processes: each leases a share of them
// in the database, and sends nothing that its share does not cover. Of transfers, each process has at least one.
type budget struct {
	db       *store.Store
	registry store.Registry
	process  uuid.UUID
	requests *rate.Limiter
	moves    *semaphore.Weighted // this process's transfers at once
	bytes    *rate.Limiter       // of layers, a second

	mu    sync.Mutex
	fresh time.Time // until when the share counts, by the local clock
	held  int64     // of moves, what other processes have
}

func newBudget(db *store.Store, r store.Registry, process uuid.UUID) *budget {
	return &budget{db: db, registry: r, process: process,
		requests: rate.NewLimiter(rate.Limit(r.RequestsPerSecond), burst(r.RequestsPerSecond)),
		bytes:    rate.NewLimiter(bytesLimit(r, 1), atOnceBytes),
		moves:    semaphore.NewWeighted(int64(r.TransfersAtOnce))}
}

// Bounds of a limit on bytes: the least there is, since a stream on which nothing moves is given up, and what may go at once.
const (
	minBytes    = 64 << 10
	atOnceBytes = 64 << 10
)

// bytesLimit is a part of a registry's limit.
func bytesLimit(r store.Registry, part float64) rate.Limit {
	if r.BytesPerSecond == 0 {
		return rate.Inf
	}
	return rate.Limit(float64(r.BytesPerSecond) * part)
}

func burst(perSecond float64) int { return max(1, int(perSecond/4)) }

// Wait waits for the turn of one request.
func (b *budget) Wait(ctx context.Context) error {
	if err := b.share(ctx); err != nil {
		return err
	}
	return b.late(b.requests.Wait(ctx))
}

// late tells of a turn that would not come in the time that its asker has.
func (b *budget) late(err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	return (&problem.Problem{
		Kind:   problem.Busy,
		Title:  "The limit of the registry " + b.registry.Name + " leaves no turn in time",
		Seen:   fmt.Sprintf("%g requests a second are allowed, over all processes, and others wait before", b.registry.RequestsPerSecond),
		Where:  b.registry.Name,
		Rule:   "a registry's limits hold over all processes",
		Remedy: "ask again when less is under way; or allow more: dovrak registry edit " + b.registry.Name + " --requests-per-second …",
	}).Because(err)
}

// Bytes waits until so many more bytes of layers may flow from the registry, or to it.
func (b *budget) Bytes(ctx context.Context, n int) error {
	if b.registry.BytesPerSecond == 0 {
		return nil
	}
	if err := b.share(ctx); err != nil {
		return err
	}
	for n > 0 {
		some := min(n, atOnceBytes)
		if err := b.bytes.WaitN(ctx, some); err != nil {
			return err
		}
		n -= some
	}
	return nil
}

// Transfer waits for the turn of one blob; call what it gives when the blob is done.
func (b *budget) Transfer(ctx context.Context) (func(), error) {
	if err := b.share(ctx); err != nil {
		return nil, err
	}
	if err := b.moves.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	return func() { b.moves.Release(1) }, nil
}

// share sees to it that the lease counts. While others hold everything, it waits for them to leave a part.
func (b *budget) share(ctx context.Context) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for !time.Now().Before(b.fresh) {
		asked := time.Now()
		part, err := b.db.ShareBudget(ctx, b.registry.ID, b.process, budgetLease)
		if err != nil {
			return fmt.Errorf("service: the share of %s's limits: %w", b.registry.Name, err)
		}
		if part == 0 {
			if err := waitFor(ctx, budgetLease/20); err != nil {
				return b.late(err)
			}
			continue
		}
		b.fresh = asked.Add(budgetLease / 3)
		b.requests.SetLimit(rate.Limit(b.registry.RequestsPerSecond * part))
		b.requests.SetBurst(burst(b.registry.RequestsPerSecond * part))
		b.bytes.SetLimit(bytesLimit(b.registry, part))
		all := int64(b.registry.TransfersAtOnce)
		b.reserve(all - max(1, int64(float64(all)*part)))
	}
	return nil
}

// reserve keeps what belongs to other processes, as far as it is not in use here just now; the rest at the next share.
func (b *budget) reserve(others int64) {
	for b.held < others && b.moves.TryAcquire(1) {
		b.held++
	}
	if b.held > others {
		b.moves.Release(b.held - others)
		b.held = others
	}
}
