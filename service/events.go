package service

import (
	"context"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/store"
)

// eventBatch is how many events are given at once.
const eventBatch = 200

// EventsFrom is the id behind which a stream begins: that of the last event its reader saw, or now.
func (s *Service) EventsFrom(ctx context.Context, by Actor, last string) (store.EventID, error) {
	if err := by.Require(Read); err != nil {
		return store.EventID{}, err
	}
	if last == "" {
		return s.db.LastEvent(ctx)
	}
	id, err := store.ParseEventID(last)
	if err != nil {
		return id, &problem.Problem{Kind: problem.Malformed, Title: "This stream cannot be resumed", Asked: image.Printable(last),
			Remedy: "begin anew without Last-Event-ID"}
	}
	return id, nil
}

// Events gives what happened behind an id, all there is. waits tells that something more is written which cannot be
// given out yet, for a moment.
func (s *Service) Events(ctx context.Context, by Actor, after store.EventID) (events []store.Event, waits bool, err error) {
	if err := by.Require(Read); err != nil {
		return nil, false, err
	}
	for {
		some, waits, err := s.db.EventsAfter(ctx, after, eventBatch)
		events = append(events, some...)
		if err != nil || len(some) < eventBatch || len(events) >= 10*eventBatch {
			return events, waits || len(some) == eventBatch, err
		}
		after = some[len(some)-1].ID
	}
}

// WhenEvents gives a channel that is ready whenever there may be something new; call the second to end it.
func (s *Service) WhenEvents() (<-chan struct{}, func()) { return s.link.Subscribe(store.NoticeEvent) }
