package service

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/store"

	"github.com/google/uuid"
)

// shift is a process's time at one work: its lease, and how far the work is.
type shift struct {
	s        *Service
	lease    store.Lease
	what     subject
	before   store.Work    // how far it was when the shift began
	requests *atomic.Int64 // to registries, since
	mu       sync.Mutex
	tides    []*tide
}

// subject is what a work is to those who watch: its topic, and what names it there.
type subject struct {
	topic string
	named map[string]string
	wakes string // those who wait for this work alone; empty: nobody does
}

// numbered is the subject of a work that is known by its number.
func numbered(topic string, no int64) subject {
	return subject{topic: topic, named: map[string]string{"number": number(no)}}
}

// news is what is told of it; the state is left out where it stays.
func (w subject) news(state string) map[string]string {
	n := maps.Clone(w.named)
	if state != "" {
		n["state"] = state
	}
	return n
}

// tell tells of it in the transaction of what happened.
func (w subject) tell(ctx context.Context, tx store.Tx, state string) error {
	if w.wakes != "" {
		if err := tx.Wake(ctx, w.wakes); err != nil {
			return err
		}
	}
	return tx.Tell(ctx, w.topic, w.news(state))
}

// flushEvery is how often progress is written down and told.
const flushEvery = 500 * time.Millisecond

// underLease does a work as its owner. Another owner, or none to be had, is no error. When fn fails the work ends as
// failed, by end; when ctx ends first, the lease is given back so that the next process goes on at once.
func (s *Service) underLease(ctx context.Context, work uuid.UUID, what subject, fn func(context.Context, *shift) error,
	failed func(context.Context, store.Tx, *problem.Problem) error) error {
	lease, ok, err := s.db.Claim(ctx, work, s.link.Process, workLease)
	if err != nil || !ok {
		return err
	}
	before, err := s.db.Progress(ctx, work)
	if err != nil {
		return errors.Join(err, s.db.GiveBack(context.WithoutCancel(ctx), lease))
	}
	sh := &shift{s: s, lease: lease, what: what, before: before}
	counting, requests := registry.Counting(ctx)
	sh.requests = requests
	inner, cancel := context.WithCancelCause(counting)
	var kept sync.WaitGroup
	kept.Go(func() { sh.keep(inner, cancel) })
	err = fn(inner, sh)
	lost := errors.Is(context.Cause(inner), store.ErrLost) || errors.Is(err, store.ErrLost)
	cancel(nil)
	kept.Wait()
	switch {
	case lost:
		s.log.WarnContext(ctx, "a work went to another process", "work", work, "kind", what.topic, "named", what.named)
		return nil
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return s.db.GiveBack(context.WithoutCancel(ctx), lease)
	case midway(err):
		s.log.ErrorContext(ctx, "a work is left midway, to be taken up again", "work", work, "named", what.named, "error", err)
		return s.db.GiveBack(context.WithoutCancel(ctx), lease)
	}
	s.log.ErrorContext(ctx, "a work failed", "work", work, "kind", what.topic, "named", what.named, "error", err)
	return s.endFailed(ctx, sh, err, failed)
}

// midway reports a work that cannot be ended where it is: whoever takes it up next goes on with it.
func midway(err error) bool {
	_, is := errors.AsType[goesOn](err)
	return is
}

func (s *Service) endFailed(
	ctx context.Context,
	sh *shift,
	err error,
	failed func(context.Context, store.Tx, *problem.Problem) error,
) error {
	p := problem.From(err)
	raw, merr := json.Marshal(p)
	if merr != nil {
		return merr
	}
	moved, _ := sh.progress()
	state := store.StateFailed
	if e, ok := errors.AsType[endedAs](err); ok {
		state = e.state
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.SetProgress(ctx, sh.lease, moved, sh.before.Requests+sh.requests.Load()); err != nil {
			return err
		}
		if err := tx.End(ctx, sh.lease, state, raw); err != nil {
			return err
		}
		if err := failed(ctx, tx, p); err != nil {
			return err
		}
		return sh.what.tell(ctx, tx, state)
	})
}

// keep renews the lease and writes progress down until ctx ends; a lost lease ends the work.
func (sh *shift) keep(ctx context.Context, cancel context.CancelCauseFunc) {
	stopped, leave := sh.s.link.Subscribe(store.WorkNotice(sh.lease.Work))
	defer leave()
	renew, flush := time.NewTicker(renewEvery), time.NewTicker(flushEvery)
	defer renew.Stop()
	defer flush.Stop()
	last := time.Now()
	for {
		var err error
		select {
		case <-ctx.Done():
			return
		case <-renew.C:
			if err = sh.s.db.Renew(ctx, sh.lease, workLease); err == nil {
				last = time.Now()
			}
		case <-stopped:
			err = sh.s.db.Renew(ctx, sh.lease, workLease)
		case <-flush.C:
			err = sh.flush(ctx)
		}
		if errors.Is(err, store.ErrLost) || err != nil && time.Since(last) > workLease {
			cancel(store.ErrLost)
			return
		}
		if err != nil && ctx.Err() == nil {
			sh.s.log.WarnContext(ctx, "a work's progress could not be written", "work", sh.lease.Work, "error", err)
		}
	}
}

// flush writes progress down if there was any.
func (sh *shift) flush(ctx context.Context) error {
	p, changed := sh.progress()
	if !changed {
		return nil
	}
	return sh.s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.SetProgress(ctx, sh.lease, p, sh.before.Requests+sh.requests.Load()); err != nil {
			return err
		}
		return sh.what.tell(ctx, tx, "")
	})
}

// state moves the work on, and tells.
func (sh *shift) state(ctx context.Context, state string) error {
	return sh.s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.SetState(ctx, sh.lease, state); err != nil {
			return err
		}
		return sh.what.tell(ctx, tx, state)
	})
}

// end ends the work well, with what else belongs to that.
func (sh *shift) end(ctx context.Context, also func(store.Tx) error) error {
	p, _ := sh.progress()
	return sh.s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.SetProgress(ctx, sh.lease, p, sh.before.Requests+sh.requests.Load()); err != nil {
			return err
		}
		if err := tx.End(ctx, sh.lease, store.StateVerified, nil); err != nil {
			return err
		}
		if err := also(tx); err != nil {
			return err
		}
		return sh.what.tell(ctx, tx, store.StateVerified)
	})
}

// ask is a request for work, made safe to repeat.
type ask struct {
	key  string // Idempotency-Key; empty is none
	hash []byte // of the request
}

// Asked is a work that was asked for, now or before under the same key.
type Asked struct{ Number int64 }

// hashOf makes requests comparable.
func hashOf(parts ...any) []byte {
	h := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(h, "%q\n", fmt.Sprint(p))
	}
	return h.Sum(nil)
}

// before finds the work that the same key asked for earlier. The same key with another request is refused.
func (s *Service) before(ctx context.Context, by Actor, a ask) (store.Answered, bool, error) {
	if a.key == "" {
		return store.Answered{}, false, nil
	}
	had, ok, err := s.db.Answer(ctx, by.ID, a.key)
	if err != nil || !ok {
		return had, false, err
	}
	if !slices.Equal(had.RequestHash, a.hash) {
		return had, false, &problem.Problem{
			Kind:   problem.Refused,
			Title:  "This Idempotency-Key was used for another request",
			Asked:  a.key,
			Seen:   "a request that differs from the one it led to " + had.Location,
			Rule:   "one key, one request",
			Remedy: "take a new key for a new request",
		}
	}
	return had, true, nil
}
