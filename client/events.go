package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"dovrak/api/wire"
	"dovrak/core/problem"
)

// Events calls each with what changes, until ctx ends or each gives an error, which is given back. began is called when
// the stream stands. A stream that breaks is taken up again behind the last event; a service that stays away for ten
// tries is an error.
func (c *Client) Events(ctx context.Context, began func() error, each func(wire.Event) error) error {
	last := ""
	wait := 100 * time.Millisecond
	var err error
	for tries := 0; tries < 10; tries++ {
		var stood bool
		stood, err = c.stream(ctx, &last, began, each)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if !errors.Is(err, errBroken) && !problem.Is(err, problem.Unreachable) {
			return err
		}
		if stood {
			wait, tries = 100*time.Millisecond, 0
		}
		t := time.NewTimer(wait)
		select {
		case <-t.C:
			wait = min(2*wait, 5*time.Second)
		case <-ctx.Done():
			t.Stop()
			return context.Cause(ctx)
		}
	}
	return err
}

var errBroken = errors.New("client: the stream of events broke")

func (c *Client) stream(ctx context.Context, last *string, began func() error, each func(wire.Event) error) (bool, error) {
	req, err := c.request(ctx, http.MethodGet, "/api/v1/events", nil, nil)
	if err != nil {
		return false, err
	}
	if *last != "" {
		req.Header.Set("Last-Event-ID", *last)
	}
	resp, err := c.send(req)
	if err != nil {
		return false, err
	}
	defer resp.Body.Close()
	if err := began(); err != nil {
		return true, err
	}
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	id := ""
	for lines.Scan() {
		if v, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
			id = v
		}
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var e wire.Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return true, fmt.Errorf("client: an event cannot be read: %w", err)
		}
		*last = id
		if err := each(e); err != nil {
			return true, err
		}
	}
	return true, errBroken
}

var errEnded = errors.New("client: ended")

// Follow looks at a work, and again whenever it changes, until it has ended. show is called with each look.
func Follow[W any](
	ctx context.Context,
	c *Client,
	topic string,
	number int64,
	look func(context.Context, int64) (W, error),
	work func(W) wire.Work,
	show func(W),
) (W, error) {
	var w W
	refresh := func() error {
		var err error
		if w, err = look(ctx, number); err != nil {
			return err
		}
		show(w)
		if work(w).Ended {
			return errEnded
		}
		return nil
	}
	err := c.Events(ctx, refresh, func(e wire.Event) error {
		if e.Topic != topic || e.About["number"] != itoa(number) {
			return nil
		}
		return refresh()
	})
	if errors.Is(err, errEnded) {
		err = nil
	}
	return w, err
}
