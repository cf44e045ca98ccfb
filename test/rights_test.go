package test

import (
	"bytes"
	"io"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"

	"dovrak/api/wire"

	"github.com/jackc/pgx/v5"
)

// free are the routes that need no sign-in.
var free = []string{"GET /healthz", "GET /readyz", "POST /api/v1/session", "POST /api/v1/pipeline-sessions"}

// inPath fills in a route's parameters.
var inPath = strings.NewReplacer("{number}", "1", "{name}", "hut")

var needs = regexp.MustCompile(`Needs the permission (\w+(?: or \w+)?)\.`)

// TestRights walks every route of the service's own document: without a token, with one that was never issued, with one
// that expired, with one that was revoked, and with every permission but the one it needs.
func TestRights(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	issue := func(name string, may ...string) string {
		tok, err := w.client().IssueToken(ctx, wire.NewToken{Name: name, Kind: "person", May: may, For: "1h"})
		must(t, err)
		return tok.Token
	}
	all := []string{"copy", "keep", "point", "promote", "read", "report"}
	expired, revoked := issue("expired one", all...), issue("revoked one", all...)
	must(t, w.client().RevokeToken(ctx, 3))
	c, err := pgx.Connect(ctx, w.db)
	must(t, err)
	defer c.Close(ctx)
	if _, err := c.Exec(ctx, "UPDATE tokens SET expires_at = now() - interval '1 second' WHERE number = 2"); err != nil {
		t.Fatal(err)
	}
	lacking := map[string]string{} // permission → a token with all others
	for _, p := range append(slices.Clone(all), "read or report") {
		lacking[p] = issue(
			"without "+p,
			slices.DeleteFunc(slices.Clone(all), func(q string) bool { return slices.Contains(strings.Split(p, " or "), q) })...)
	}
	walked := 0
	for path, item := range document(t).Paths.Map() {
		for method, op := range item.Operations() {
			name := method + " " + path
			if slices.Contains(free, name) {
				continue
			}
			walked++
			m := needs.FindStringSubmatch(op.Description)
			if m == nil {
				t.Errorf("%s states no permission", name)
				continue
			}
			for who, want := range map[string]struct {
				token  string
				status int
			}{
				"nobody": {"", 401}, "a made-up token": {"dovrak_abcdefghijklmnopqrstuvwxyz", 401}, "an expired token": {expired, 401},
				"a revoked token": {revoked, 401}, "a token without " + m[1]: {lacking[m[1]], 403},
			} {
				if got := w.ask(method, inPath.Replace(path), want.token); got != want.status {
					t.Errorf("%s by %s: %d, want %d", name, who, got, want.status)
				}
			}
		}
	}
	if walked < 20 {
		t.Errorf("only %d routes were walked", walked)
	}
}

func (w *world) ask(method, path, token string) int {
	w.t.Helper()
	req, err := http.NewRequestWithContext(w.t.Context(), method, w.front.URL+path, bytes.NewReader([]byte("{}")))
	must(w.t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(req)
	must(w.t, err)
	_, err = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
	must(w.t, err)
	must(w.t, resp.Body.Close())
	return resp.StatusCode
}

// TestSessions: a session's cookie is closed to scripts and to other sites, ends with signing out, and does nothing that
// another site asks for.
func TestSessions(t *testing.T) {
	w := newWorld(t)
	post := func(path, body, origin string, cookie *http.Cookie, method string) *http.Response {
		req, err := http.NewRequestWithContext(t.Context(), method, w.front.URL+path, strings.NewReader(body))
		must(t, err)
		if origin != "" {
			req.Header.Set("Origin", origin)
			req.Header.Set("Sec-Fetch-Site", "cross-site")
		}
		if cookie != nil {
			req.AddCookie(cookie)
		}
		resp, err := http.DefaultClient.Do(req)
		must(t, err)
		must(t, resp.Body.Close())
		return resp
	}
	if r := post("/api/v1/session", `{"token":"dovrak_wrong"}`, "", nil, "POST"); r.StatusCode != 401 || len(r.Cookies()) != 0 {
		t.Errorf("a wrong token: %d", r.StatusCode)
	}
	r := post("/api/v1/session", `{"token":"`+w.token+`"}`, "", nil, "POST")
	if r.StatusCode != 200 || len(r.Cookies()) != 1 {
		t.Fatalf("signing in: %d", r.StatusCode)
	}
	c := r.Cookies()[0]
	if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || c.Value == w.token {
		t.Errorf("the cookie is %+v", c)
	}
	if r := post("/api/v1/whoami", "", "", c, "GET"); r.StatusCode != 200 {
		t.Errorf("with the session: %d", r.StatusCode)
	}
	if r := post("/api/v1/charter", `{"document":""}`, "https://evil.example", c, "POST"); r.StatusCode != 403 {
		t.Errorf("from another site: %d", r.StatusCode)
	}
	if r := post("/api/v1/session", "", "", c, "DELETE"); r.StatusCode != 200 {
		t.Errorf("signing out: %d", r.StatusCode)
	}
	if r := post("/api/v1/whoami", "", "", c, "GET"); r.StatusCode != 401 {
		t.Errorf("after signing out: %d", r.StatusCode)
	}
}

// TestIdempotency: the same key and request lead to the same work, at once or later; the same key with another request
// is refused.
func TestIdempotency(t *testing.T) {
	w := newWorld(t)
	ref := w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	w.declare("hut/live/a", "hut/live/b")
	ask := func(key, to string) (int, string) {
		req, err := http.NewRequestWithContext(
			t.Context(),
			http.MethodPost,
			w.front.URL+"/api/v1/copies",
			strings.NewReader(`{"from":"`+ref+`","to":["hut/live/`+to+`"]}`),
		)
		must(t, err)
		req.Header.Set("Authorization", "Bearer "+w.token)
		req.Header.Set("Idempotency-Key", key)
		resp, err := http.DefaultClient.Do(req)
		must(t, err)
		must(t, resp.Body.Close())
		return resp.StatusCode, resp.Header.Get("Location")
	}
	if status, at := ask("k1", "a"); status != 202 || at != "/api/v1/copies/1" {
		t.Fatalf("first: %d %s", status, at)
	}
	if status, at := ask("k1", "a"); status != 202 || at != "/api/v1/copies/1" {
		t.Errorf("again: %d %s", status, at)
	}
	if status, _ := ask("k1", "b"); status != 409 {
		t.Errorf("another request under the key: %d", status)
	}
	if status, at := ask("k2", "a"); status != 202 || at != "/api/v1/copies/2" {
		t.Errorf("another key: %d %s", status, at)
	}
}

// TestABuildIsReportedOnce: the same key gives the same build, and refuses another request.
func TestABuildIsReportedOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ask := func(key, number string) int {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, w.front.URL+"/api/v1/builds",
			strings.NewReader(`{"component":"snowpack-model","number":`+number+`,"commit":"4f1c9d2","branch":"main"}`))
		must(t, err)
		req.Header.Set("Authorization", "Bearer "+w.token)
		req.Header.Set("Idempotency-Key", key)
		resp, err := http.DefaultClient.Do(req)
		must(t, err)
		must(t, resp.Body.Close())
		return resp.StatusCode
	}
	for _, tt := range []struct {
		key, number string
		status      int
	}{{"k1", "41", 200}, {"k1", "41", 200}, {"k2", "41", 200}, {"k1", "42", 409}, {"k3", "42", 200}} {
		if got := ask(tt.key, tt.number); got != tt.status {
			t.Errorf("%s for build %s: %d, want %d", tt.key, tt.number, got, tt.status)
		}
	}
	if n := w.count("SELECT count(*) FROM builds"); n != 2 {
		t.Errorf("%d builds", n)
	}
}
