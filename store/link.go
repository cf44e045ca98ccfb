package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/opencontainers/go-digest"
)

// What a notice is about.
const (
	NoticeTrail = "trail" // entries wait for their number
	NoticeEvent = "event" // the outbox has something new
	channel     = "dovrak"
)

// TagNotice is about one tag: its lease was given back.
func TagNotice(at Spot, tag string) string {
	return "tag " + at.RegistryID.String() + "/" + at.Repository + ":" + tag
}

// BuildNotice is about one build: its state changed, or a part of it arrived.
func BuildNotice(component string, run int64) string {
	return fmt.Sprintf("build %s/%d", component, run)
}

// BlobNotice is about a blob on its way into a repository: whoever sent it is done.
func BlobNotice(at Spot, d digest.Digest) string {
	return "blob " + at.RegistryID.String() + "/" + at.Repository + "@" + d.String()
}

// WorkNotice is about one work: who works on it should look whether they still may.
func WorkNotice(work uuid.UUID) string { return "work " + work.String() }

// Wake wakes those who wait for what, when the transaction commits.
func (t Tx) Wake(ctx context.Context, what string) error { return t.notify(ctx, what) }

func (t Tx) notify(ctx context.Context, what string) error {
	_, err := t.PGX.Exec(ctx, "SELECT pg_notify($1, $2)", channel, what)
	return err
}

// Link is a process's standing connection to the database. While it lives, the process holds its lock, by which others
// know that it lives, and hears notices. NOTIFY only wakes: who is woken reads what is there.
type Link struct {
	Process uuid.UUID
	store   *Store
	log     *slog.Logger
	mu      sync.Mutex
	wake    map[string]map[chan struct{}]struct{}
}

// NewLink makes the link of a new process. [Link.Run] keeps it.
func NewLink(s *Store, log *slog.Logger) *Link {
	return &Link{Process: NewID(), store: s, log: log, wake: map[string]map[chan struct{}]struct{}{}}
}

// Subscribe gives a channel that is ready whenever something of the kind may be new. Call the second to end it.
func (l *Link) Subscribe(what string) (<-chan struct{}, func()) {
	ch := make(chan struct{}, 1)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.wake[what] == nil {
		l.wake[what] = map[chan struct{}]struct{}{}
	}
	l.wake[what][ch] = struct{}{}
	return ch, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.wake[what], ch)
		if len(l.wake[what]) == 0 {
			delete(l.wake, what)
		}
	}
}

// tell wakes those who wait for what; all of them if it is empty.
func (l *Link) tell(what string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for kind, chans := range l.wake {
		if what != "" && kind != what {
			continue
		}
		for ch := range chans {
			select {
			case ch <- struct{}{}:
			default: // woken already
			}
		}
	}
}

// Run keeps the link until ctx ends, connecting again when it breaks. ready is closed when it first stands.
func (l *Link) Run(ctx context.Context, ready chan<- struct{}) error {
	wait := backoff.NewExponentialBackOff()
	wait.MaxInterval = 5 * time.Second
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		stood, err := l.once(ctx, ready)
		if stood {
			ready = nil
			wait.Reset()
		}
		if ctx.Err() == nil {
			l.log.Warn("the link to the database broke", "error", err)
		}
		return struct{}{}, err
	}, backoff.WithBackOff(wait), backoff.WithMaxElapsedTime(0))
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func (l *Link) once(ctx context.Context, ready chan<- struct{}) (stood bool, err error) {
	c, err := pgx.ConnectConfig(ctx, l.store.Pool.Config().ConnConfig)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, c.Close(context.WithoutCancel(ctx))) }()
	var key int32
	err = c.QueryRow(ctx, `INSERT INTO processes (id) VALUES ($1)
		ON CONFLICT (id) DO UPDATE SET id = excluded.id RETURNING lock_key`, l.Process).Scan(&key)
	if err != nil {
		return false, err
	}
	if _, err := c.Exec(ctx, "SELECT pg_advisory_lock($1, $2)", lockClass, key); err != nil {
		return false, err
	}
	if _, err := c.Exec(ctx, "LISTEN "+channel); err != nil {
		return false, err
	}
	if ready != nil {
		close(ready)
	}
	l.tell("") // what came while nobody listened
	for {
		n, err := c.WaitForNotification(ctx)
		if err != nil {
			return true, err
		}
		l.tell(n.Payload)
	}
}

// InTurn runs fn when nobody else is at the same thing, in any process. The wait ends with ctx; the lock is held by a
// connection, outside any transaction, and ends with the process.
func (s *Store) InTurn(ctx context.Context, what string, fn func() error) error {
	c, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer c.Release()
	if _, err := c.Exec(ctx, "SELECT pg_advisory_lock(hashtextextended($1, 8621))", what); err != nil {
		return err
	}
	err = fn()
	_, uerr := c.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock(hashtextextended($1, 8621))", what)
	return errors.Join(err, uerr)
}

// Alone runs fn unless another process is at the same thing, and reports whether it did. The lock is held by a
// connection, outside any transaction, and ends with the process.
func (s *Store) Alone(ctx context.Context, what string, fn func() error) (bool, error) {
	c, err := s.Pool.Acquire(ctx)
	if err != nil {
		return false, err
	}
	defer c.Release()
	var mine bool
	if err := c.QueryRow(ctx, "SELECT pg_try_advisory_lock(hashtextextended($1, 8621))", what).Scan(&mine); err != nil || !mine {
		return false, err
	}
	err = fn()
	_, uerr := c.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock(hashtextextended($1, 8621))", what)
	return true, errors.Join(err, uerr)
}
