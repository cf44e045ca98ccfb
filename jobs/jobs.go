// Package jobs runs the uses of service/ as durable jobs on River, which lives in the same PostgreSQL. A job only
// wakes a worker: what is to be done stands in the records, and who does it is decided by the lease there. So a job
// that runs twice, or is lost, does no harm.
package jobs

import (
	"context"
	"log/slog"
	"time"

	"dovrak/service"
	"dovrak/store"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
)

// Times of the queue.
const (
	workersAtOnce = 32
	watchEvery    = 20 * time.Second
	pruneEvery    = time.Hour
	rescueAfter   = 24 * time.Hour // by the queue itself; our leases are much quicker, and a copy may take hours
)

// Queue takes jobs in and runs them. Make it with [New], then [Queue.Start] it with the service.
type Queue struct {
	store  *store.Store
	log    *slog.Logger
	client *river.Client[pgx.Tx]
}

// New makes a queue that takes jobs but does not run them yet.
func New(st *store.Store, log *slog.Logger) (*Queue, error) {
	c, err := river.NewClient(riverpgxv5.New(st.Pool), &river.Config{Logger: log})
	return &Queue{st, log, c}, err
}

// Insert queues a job in a transaction.
func (q *Queue) Insert(ctx context.Context, tx pgx.Tx, job service.Job) error {
	_, err := q.client.InsertTx(ctx, tx, job, &river.InsertOpts{MaxAttempts: 3})
	return err
}

// InsertAt queues a job that is to be done at a time.
func (q *Queue) InsertAt(ctx context.Context, tx pgx.Tx, job service.Job, at time.Time) error {
	_, err := q.client.InsertTx(ctx, tx, job, &river.InsertOpts{MaxAttempts: 3, ScheduledAt: at})
	return err
}

// Start runs jobs until ctx ends; then those in hand come to a safe point. It returns when none is left.
func (q *Queue) Start(ctx context.Context, s *service.Service) error {
	workers := river.NewWorkers()
	river.AddWorker(
		workers,
		river.WorkFunc(func(ctx context.Context, j *river.Job[service.CopyJob]) error { return s.RunCopy(ctx, j.Args.Work) }),
	)
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[service.PromotionJob]) error {
		return s.RunPromotion(ctx, j.Args.Work)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[service.TakeInJob]) error {
		return s.RunTakeIn(ctx, j.Args.Work)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[service.BuildJob]) error {
		return s.RunBuild(ctx, j.Args.Work)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[service.DueJob]) error {
		return s.MarkDue(ctx, j.Args.Work)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[service.JoinJob]) error {
		return s.RunJoin(ctx, j.Args.Work)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[service.WatchJob]) error { return s.Watch(ctx) }))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[service.PruneJob]) error { return s.Prune(ctx) }))
	client, err := river.NewClient(riverpgxv5.New(q.store.Pool), &river.Config{
		Logger:               q.log,
		Workers:              workers,
		Queues:               map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: workersAtOnce}},
		FetchPollInterval:    time.Second,
		JobTimeout:           -1, // a work ends by its lease, not by a clock
		RescueStuckJobsAfter: rescueAfter,
		PeriodicJobs: []*river.PeriodicJob{
			river.NewPeriodicJob(
				river.PeriodicInterval(watchEvery),
				periodic(service.WatchJob{}),
				&river.PeriodicJobOpts{RunOnStart: true},
			),
			river.NewPeriodicJob(river.PeriodicInterval(pruneEvery), periodic(service.PruneJob{}), nil),
		},
	})
	if err != nil {
		return err
	}
	// River's own context outlives ctx, so that stopping is ours to do in order.
	if err := client.Start(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	<-ctx.Done()
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer cancel()
	return client.StopAndCancel(stop)
}

// periodic makes a job anew each time. One whose predecessor is still at it ends at once, by a lock that dies with its
// process: uniqueness in the queue would wait for a job whose process was killed.
func periodic(job service.Job) func() (river.JobArgs, *river.InsertOpts) {
	return func() (river.JobArgs, *river.InsertOpts) { return job, &river.InsertOpts{MaxAttempts: 1} }
}
