package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"dovrak/api/wire"
	"dovrak/service"
	"dovrak/store"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// Times of a stream of events.
const (
	heartbeat = 15 * time.Second       // a comment, so that both ends learn of a dead connection
	again     = 100 * time.Millisecond // an event may wait for a slower transaction to end
)

// events streams what changes. A reader that comes back with Last-Event-ID gets what it missed, for a day.
func (a *API) events(c *echo.Context, by service.Actor) error {
	last, err := a.service.EventsFrom(c.Request().Context(), by, c.Request().Header.Get("Last-Event-ID"))
	if err != nil {
		return err
	}
	wake, stop := a.service.WhenEvents()
	defer stop()
	h := c.Response().Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("X-Accel-Buffering", "no")
	c.Response().WriteHeader(http.StatusOK)
	out := stream{w: c.Response(), flush: http.NewResponseController(c.Response()).Flush}
	if err := out.say(": stream from " + last.String() + "\n\n"); err != nil {
		return nil // the reader went away
	}
	ctx, cancel := context.WithDeadline(c.Request().Context(), by.Expires)
	defer cancel()
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	for {
		var waits bool
		if last, waits, err = a.sendEvents(ctx, c, out, last, &by); err != nil {
			return nil // the stream ends here, and is resumed by its last id
		}
		var soon <-chan time.Time
		if waits {
			soon = time.After(again)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-a.closing:
			return nil
		case <-wake:
		case <-soon:
		case <-beat.C:
			if _, err := a.signedIn(c); err != nil {
				return nil // the right to listen was withdrawn
			}
			if err := out.say(": still here\n\n"); err != nil {
				return nil
			}
		}
	}
}

// changesRights reports an event behind which somebody may have other rights than before.
func changesRights(e store.Event) bool {
	return e.Topic == store.TopicPeople || e.Topic == store.TopicCharter
}

// sendEvents sends what is there, and reports whether more is written but cannot be sent yet. Where rights may have changed it looks first
// whether the reader still has theirs.
func (a *API) sendEvents(
	ctx context.Context, c *echo.Context, out stream, last store.EventID, by *service.Actor,
) (store.EventID, bool, error) {
	events, waits, err := a.service.Events(ctx, *by, last)
	if err == nil && slices.ContainsFunc(events, changesRights) {
		if *by, err = a.signedIn(c); err == nil {
			err = by.Require(service.Read)
		}
	}
	if err != nil {
		return last, false, err
	}
	for _, e := range events {
		about := map[string]any{}
		if err := json.Unmarshal(e.Payload, &about); err != nil {
			return last, false, err
		}
		raw, err := json.Marshal(wire.Event{Topic: e.Topic, At: e.At, About: about})
		if err != nil {
			return last, false, err
		}
		if err := out.say(fmt.Sprintf("id: %s\ndata: %s\n\n", e.ID, raw)); err != nil {
			return last, false, err
		}
		last = e.ID
	}
	return last, waits, nil
}

type stream struct {
	w     http.ResponseWriter
	flush func() error
}

func (s stream) say(text string) error {
	if _, err := s.w.Write([]byte(text)); err != nil {
		return err
	}
	return s.flush()
}

func (a *API) metrics(c *echo.Context, _ service.Actor) error {
	promhttp.HandlerFor(a.gather, promhttp.HandlerOpts{EnableOpenMetrics: true}).ServeHTTP(c.Response(), c.Request())
	return nil
}
