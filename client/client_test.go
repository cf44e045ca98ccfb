package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"

	"dovrak/api/wire"
	"dovrak/core/problem"
)

// TestAStreamIsTakenUpAgain behind the last event, when it breaks; other refusals end it.
func TestAStreamIsTakenUpAgain(t *testing.T) {
	var mu sync.Mutex
	var asked []string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		asked = append(asked, r.Header.Get("Last-Event-ID"))
		if len(asked) == 4 {
			w.WriteHeader(http.StatusUnauthorized)
			fmt.Fprint(w, `{"title":"You are not signed in","kind":"not-signed-in","status":401}`)
			return
		}
		fmt.Fprintf(w, ": hello\n\nid: 7-%d\ndata: {\"topic\":\"tag\",\"about\":{\"n\":\"%d\"}}\n\n", len(asked), len(asked))
	}))
	defer srv.Close()
	began, seen := 0, []string{}
	err := (&Client{Server: srv.URL}).Events(t.Context(), func() error { began++; return nil }, func(e wire.Event) error {
		seen = append(seen, e.About["n"].(string))
		return nil
	})
	if !problem.Is(err, problem.NotSignedIn) {
		t.Errorf("it ended with %v", err)
	}
	if !slices.Equal(asked, []string{"", "7-1", "7-2", "7-3"}) || !slices.Equal(seen, []string{"1", "2", "3"}) || began != 3 {
		t.Errorf("asked behind %q, saw %q, began %d times", asked, seen, began)
	}
}

func TestAStreamEndsWithItsReader(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(http.StatusOK)
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	}))
	defer srv.Close()
	ctx, cancel := context.WithCancel(t.Context())
	err := (&Client{Server: srv.URL}).Events(ctx, func() error { cancel(); return nil }, func(wire.Event) error { return nil })
	if !errors.Is(err, context.Canceled) {
		t.Errorf("it ended with %v", err)
	}
	own := errors.New("enough")
	if err := (&Client{Server: srv.URL}).Events(t.Context(), func() error { return own }, nil); !errors.Is(err, own) {
		t.Errorf("the reader's own error became %v", err)
	}
}

// TestWorkIsAskedForOnce: an answer that was lost on the way is asked for again under the same key.
func TestWorkIsAskedForOnce(t *testing.T) {
	var mu sync.Mutex // the second request may come in while the first, aborted, is still being served
	var keys []string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		keys = append(keys, r.Header.Get("Idempotency-Key"))
		if len(keys) == 1 {
			panic(http.ErrAbortHandler)
		}
		w.WriteHeader(http.StatusAccepted)
		fmt.Fprint(w, `{"number":77}`)
	}))
	defer srv.Close()
	n, err := (&Client{Server: srv.URL}).Copy(t.Context(), wire.NewCopy{From: "a", To: []string{"b"}})
	mu.Lock()
	defer mu.Unlock()
	if err != nil || n != 77 || len(keys) != 2 || keys[0] != keys[1] || keys[0] == "" {
		t.Errorf("copy %d, %v, under the keys %q", n, err, keys)
	}
}

func TestAddresses(t *testing.T) {
	for server, want := range map[string]string{"": "not the address of a service", "forge": "not the address of a service",
		"http://127.0.0.1:1": "cannot be reached"} {
		if _, err := (&Client{Server: server}).Whoami(t.Context()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", server, err)
		}
	}
}
