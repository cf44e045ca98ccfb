package test

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/client"
)

// wait bounds what a test waits for.
const wait = 20 * time.Second

// listen reads the stream of events from behind an id, and gives each event with its id, until ctx ends.
func (w *world) events(ctx context.Context, last string) <-chan [2]string {
	w.t.Helper()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, w.front.URL+"/api/v1/events", nil)
	must(w.t, err)
	req.Header.Set("Authorization", "Bearer "+w.token)
	if last != "" {
		req.Header.Set("Last-Event-ID", last)
	}
	resp, err := http.DefaultClient.Do(req)
	must(w.t, err)
	if resp.StatusCode != http.StatusOK || resp.Header.Get("Content-Type") != "text/event-stream" {
		w.t.Fatalf("the stream answers %s, %s", resp.Status, resp.Header.Get("Content-Type"))
	}
	out := make(chan [2]string, 1000)
	go func() {
		defer close(out)
		defer resp.Body.Close()
		id := ""
		for lines := bufio.NewScanner(resp.Body); lines.Scan(); {
			if v, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
				id = v
			}
			if v, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				out <- [2]string{id, v}
			}
		}
	}()
	return out
}

// next gives the next event.
func next(t *testing.T, from <-chan [2]string) (string, wire.Event) {
	t.Helper()
	select {
	case e, open := <-from:
		if !open {
			t.Fatal("the stream ended")
		}
		var v wire.Event
		must(t, json.Unmarshal([]byte(e[1]), &v))
		return e[0], v
	case <-time.After(wait):
		t.Fatal("no event came")
	}
	return "", wire.Event{}
}

// nextPointed gives the next event that tells of a tag that was pointed; the watch tells of others at any moment.
func nextPointed(t *testing.T, from <-chan [2]string) (id, tag string) {
	t.Helper()
	for {
		if id, e := next(t, from); e.Topic == "tag" && e.About["outcome"] == "done" {
			return id, e.About["tag"].(string)
		}
	}
}

// TestAStreamIsResumed: a reader that comes back with the id of the last event it saw gets what it missed, in order and
// once, also from another process after a restart.
func TestAStreamIsResumed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ref := w.push(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	first, hangUp := context.WithCancel(t.Context())
	stream := w.events(first, "")
	w.ok("point", ref, "one", "--because", "x")
	id, tag := nextPointed(t, stream)
	if tag != "forge/bench/snowpack-model:one" {
		t.Fatalf("the event tells of %s", tag)
	}
	hangUp()
	w.ok("point", ref, "two", "--because", "x")
	w.kill()
	w.start()
	w.ok("point", ref, "three", "--because", "x")
	stream = w.events(t.Context(), id)
	var got []string
	for len(got) < 2 {
		_, tag := nextPointed(t, stream)
		got = append(got, tag)
	}
	if strings.Join(got, " ") != "forge/bench/snowpack-model:two forge/bench/snowpack-model:three" {
		t.Errorf("what was missed came as %v", got)
	}
	for _, bad := range []string{"x", "1", "1-", "-1", "1-x"} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, w.front.URL+"/api/v1/events", nil)
		must(t, err)
		req.Header.Set("Authorization", "Bearer "+w.token)
		req.Header.Set("Last-Event-ID", bad)
		resp, err := http.DefaultClient.Do(req)
		must(t, err)
		must(t, resp.Body.Close())
		if resp.StatusCode != http.StatusBadRequest {
			t.Errorf("behind %q: %s", bad, resp.Status)
		}
	}
}

// TestPages: a list is read to its end by its cursors, each record once.
func TestPages(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ref := w.push(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	for _, to := range []string{"a", "b", "c", "d", "e"} {
		w.declare("hut/live/" + to)
		w.ok("copy", ref, "hut/live/"+to)
	}
	seen := map[int64]bool{}
	page := clientPage(2)
	for {
		copies, err := w.client().Copies(t.Context(), page)
		must(t, err)
		if len(copies.Items) > 2 {
			t.Fatalf("%d on a page of 2", len(copies.Items))
		}
		for _, c := range copies.Items {
			if seen[c.Number] {
				t.Errorf("copy %d comes twice", c.Number)
			}
			seen[c.Number] = true
		}
		if page.Before = copies.Next; page.Before == "" {
			break
		}
	}
	entries := map[string]bool{}
	for page = clientPage(3); ; {
		trail, err := w.client().Trail(t.Context(), client.TrailOf{}, page)
		must(t, err)
		for _, e := range trail.Items {
			entries[e.ID] = true
		}
		if page.Before = trail.Next; page.Before == "" {
			break
		}
	}
	if len(seen) != 5 || len(entries) != 4+2*5 { // administrator's token, two registries, the charter; five declarations and copies
		t.Errorf("%d copies, %d entries", len(seen), len(entries))
	}
	first := w.ok("trail", "--limit", "4")
	_, cursor, _ := strings.Cut(strings.TrimSpace(first), "--before ")
	if second := w.ok("trail", "--limit", "4", "--before", cursor); strings.Count(first, "  by ") != 4 ||
		strings.Count(second, "  by ") != 4 ||
		second == first {
		t.Errorf("the command line's pages:\n%s\n%s", first, second)
	}
	if none := w.ok("promotions"); !strings.Contains(none, "Nothing was promoted yet: dovrak promote") {
		t.Errorf("an empty list says %s", none)
	}
	page.Before = "glacier"
	for name, err := range map[string]error{
		"copies": func() error { _, err := w.client().Copies(t.Context(), page); return err }(),
		"trail":  func() error { _, err := w.client().Trail(t.Context(), client.TrailOf{}, page); return err }(),
	} {
		if err == nil || !strings.Contains(err.Error(), "begin the list anew") {
			t.Errorf("%s behind a cursor that is none: %v", name, err)
		}
	}
}
