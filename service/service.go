// Package service is what Dovrak does: each use is one function, with its permission, its transaction and its entry
// on the trail. It decides by core/, asks registries by registry/ and transfer/, and remembers by store/. No registry is
// asked while a transaction is open.
package service

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/secrets"
	"dovrak/store"
	"dovrak/store/seal"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/semaphore"
)

// Times by which processes agree. A tag's PUT and the look behind it end well before the tag's lease does.
const (
	workLease     = 15 * time.Second
	renewEvery    = 4 * time.Second
	tagLease      = 15 * time.Second
	putDeadline   = 8 * time.Second
	lookDeadline  = 5 * time.Second
	leaseWait     = 2 * tagLease    // how long a writer waits for its turn
	budgetLease   = 6 * time.Second // a share of a registry's limits; renewed after a third of it
	wholeFor      = 24 * time.Hour  // how long a verified image counts as whole
	greetDeadline = 15 * time.Second
	planDeadline  = 2 * time.Minute // of everything that a plan asks
	maxBecause    = 2000            // bytes of a reason
)

// Service does the work. Make it with [New]; it is safe for concurrent use.
type Service struct {
	db    *store.Store
	link  *store.Link
	key   *seal.Key
	queue Queue
	log   *slog.Logger
	conns *connections

	issuers *issuers
	turns   *turns
	hashes  *semaphore.Weighted // of passwords
	blobs   *semaphore.Weighted // that this process moves
	laws    sync.Map            // version → *charter.Charter, as they were read
}

// Job is work for the queue. Its fields are its arguments, as JSON.
type Job interface{ Kind() string }

// Queue takes jobs in the transaction that decides them.
type Queue interface {
	Insert(ctx context.Context, tx pgx.Tx, job Job) error
	// InsertAt takes a job that is to be done at a time.
	InsertAt(ctx context.Context, tx pgx.Tx, job Job, at time.Time) error
}

// The jobs there are. A job only wakes: what is to be done stands in the records.
type (
	// CopyJob runs a copy.
	CopyJob struct {
		Work uuid.UUID `json:"work"`
	}
	// PromotionJob runs a promotion.
	PromotionJob struct {
		Work uuid.UUID `json:"work"`
	}
	// TakeInJob takes in what a registry holds.
	TakeInJob struct {
		Work uuid.UUID `json:"work"`
	}
	// BuildJob closes a build.
	BuildJob struct {
		Work uuid.UUID `json:"work"`
	}
	// DueJob looks at a build when its time is over.
	DueJob struct {
		Work uuid.UUID `json:"work"`
	}
	// JoinJob does a join by hand.
	JoinJob struct {
		Work uuid.UUID `json:"work"`
	}
	// WatchJob asks registries what stands.
	WatchJob struct{}
	// PruneJob drops what only had to be kept for a while.
	PruneJob struct{}
)

// Kind names the job in the queue.
func (CopyJob) Kind() string      { return "copy" }
func (PromotionJob) Kind() string { return "promotion" }
func (TakeInJob) Kind() string    { return "take-in" }
func (BuildJob) Kind() string     { return "build" }
func (DueJob) Kind() string       { return "build-due" }
func (JoinJob) Kind() string      { return "join" }
func (WatchJob) Kind() string     { return "watch" }
func (PruneJob) Kind() string     { return "prune" }

// Options of a service. All but Observe and Secrets are required.
type Options struct {
	Secrets *secrets.Sources // declared in the server's settings; nil is none
	Store   *store.Store
	Link    *store.Link
	Key     *seal.Key
	Queue   Queue
	Log     *slog.Logger
	Observe func(registry.Exchange)

	BlobsAtOnce int // that this process moves at most, over all registries
}

// New makes a service.
func New(o Options) *Service {
	if o.Secrets == nil {
		o.Secrets = &secrets.Sources{}
	}
	return &Service{
		db:      o.Store,
		link:    o.Link,
		key:     o.Key,
		queue:   o.Queue,
		log:     o.Log,
		issuers: newIssuers(),
		hashes:  semaphore.NewWeighted(hashesAtOnce),
		turns:   &turns{by: map[string]*turn{}},
		blobs:   semaphore.NewWeighted(int64(o.BlobsAtOnce)),
		conns: &connections{db: o.Store, key: o.Key,
			secrets: o.Secrets, process: o.Link.Process, observe: o.Observe, surveys: semaphore.NewWeighted(4), open: map[uuid.UUID]*connection{}},
	}
}

// Ready reports whether the service can do its work: whether the database answers.
func (s *Service) Ready(ctx context.Context) error {
	_, err := s.db.Now(ctx)
	return err
}

// reason checks the words that someone gives for a change.
func reason(because string) error {
	p := &problem.Problem{
		Kind:   problem.Malformed,
		Title:  "A change needs its reason",
		Remedy: `say why, e.g. --because "passed the bench run"`,
	}
	switch {
	case because == "":
		p.Seen = "no reason"
	case len(because) > maxBecause:
		p.Seen = "a reason of more than 2000 bytes"
		p.Remedy = "say it shorter, and link to the rest"
	default:
		return nil
	}
	return p
}
