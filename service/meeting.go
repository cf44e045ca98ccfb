package service

import (
	"context"
	"sync"
)

// meeting is where the places of a switch wait for each other between pointing the standing tag and asking what it means: so each
// is asked when all have been told, and its answer is the one that counts in the end.
type meeting struct {
	mu     sync.Mutex
	absent int
	all    chan struct{}
	missed bool // somebody did not wait for the others
}

// meetFor is how long a place waits for the others: its own lease on the tag must outlast the look behind it.
const meetFor = tagLease - putDeadline - lookDeadline

func newMeeting(places int) *meeting { return &meeting{absent: places, all: make(chan struct{})} }

// seat is one place's at a meeting. Nil is of no meeting.
type seat struct {
	at      *meeting
	arrived sync.Once
}

// arrive counts a place that has pointed its tag, or never will.
func (t *seat) arrive() {
	t.arrived.Do(func() {
		t.at.mu.Lock()
		defer t.at.mu.Unlock()
		if t.at.absent--; t.at.absent == 0 {
			close(t.at.all)
		}
	})
}

// meet waits for the others, a bounded time.
func (t *seat) meet(ctx context.Context) {
	if t == nil {
		return
	}
	t.arrive()
	ctx, cancel := context.WithTimeout(ctx, meetFor)
	defer cancel()
	select {
	case <-t.at.all:
	case <-ctx.Done():
		t.at.mu.Lock()
		t.at.missed = true
		t.at.mu.Unlock()
	}
}
