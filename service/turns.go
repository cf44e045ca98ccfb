package service

import (
	"context"
	"sync"

	"golang.org/x/sync/semaphore"
)

// turns has those of one process who want the same thing wait for one another, first come first served. Between processes
// a lease in the database decides; without turns all who wait here would ask for it each time that it is free.
type turns struct {
	mu sync.Mutex
	by map[string]*turn
}

type turn struct {
	one     *semaphore.Weighted
	waiting int
}

// take waits for the turn; call what it gives to end it.
func (t *turns) take(ctx context.Context, what string) (func(), error) {
	t.mu.Lock()
	mine, ok := t.by[what]
	if !ok {
		mine = &turn{one: semaphore.NewWeighted(1)}
		t.by[what] = mine
	}
	mine.waiting++
	t.mu.Unlock()
	leave := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if mine.waiting--; mine.waiting == 0 {
			delete(t.by, what)
		}
	}
	if err := mine.one.Acquire(ctx, 1); err != nil {
		leave()
		return nil, err
	}
	return func() { mine.one.Release(1); leave() }, nil
}
