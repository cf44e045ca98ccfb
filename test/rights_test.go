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
)

// free are the routes that need no sign-in.
var free = []string{"GET /healthz", "GET /readyz", "POST /api/v1/session", "POST /api/v1/pipeline-sessions", "GET /api/v1/sign-in",
	"GET /api/v1/sign-in/begin", "GET /api/v1/sign-in/return", "POST /api/v1/sign-in/terminal", "POST /api/v1/sign-in/password"}

// inPath fills in a route's parameters with what there is not: who may use the route changes nothing by it.
var inPath = strings.NewReplacer("{number}", "999", "{name}", "nothing")

var needs = regexp.MustCompile(`Needs the permission ([\w-]+(?: or [\w-]+)?)\.`)

// TestRights walks every route of the service's own document in every role: each permission alone, by a token or by the groups of the
// charter; and without a token, with one that was never issued, that expired, that was revoked, and of someone whose rights were
// withdrawn. Who has the permission that the document names gets past it, and nobody else.
func TestRights(t *testing.T) {
	w, id := peopled(t, "")
	ctx := t.Context()
	may := map[string]string{} // who → what they may
	roles := map[string]string{"nobody": "", "a made-up token": "dovrak_abcdefghijklmnopqrstuvwxyz"}
	for _, p := range []string{"copy", "keep", "point", "promote", "read", "report", "roll-back", "expired", "revoked"} {
		grant := strings.NewReplacer("expired", "keep", "revoked", "keep").Replace(p)
		tok, err := w.client().IssueToken(ctx, wire.NewToken{Name: "one who may " + p, Kind: "person", May: []string{grant}, For: "1h"})
		must(t, err)
		roles[p], may[p] = tok.Token, " "+grant+" "
		if p == "revoked" {
			must(t, w.client().RevokeToken(ctx, tok.Number))
		}
	}
	w.sql(
		"UPDATE tokens SET expires_at = now() - interval '1 second' WHERE actor_id = (SELECT id FROM actors WHERE name = 'one who may expired')",
	)
	roles["Ylva, who approves"], may["Ylva, who approves"] = w.as(id, "Ylva").token, " read approve "
	roles["Ragna, who promotes"], may["Ragna, who promotes"] = w.as(id, "Ragna").token, " read point copy promote "
	roles["Isak, who was let in once"] = w.as(id, "Isak").token
	w.ok("people", "withdraw", "Isak")
	unknown := []string{"nobody", "a made-up token", "expired", "revoked", "Isak, who was let in once"}

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
			for who, token := range roles {
				got, enough := w.ask(method, inPath.Replace(path), token), false
				for _, p := range strings.Split(m[1], " or ") {
					enough = enough || strings.Contains(may[who], " "+p+" ")
				}
				switch {
				case slices.Contains(unknown, who):
					if got != 401 {
						t.Errorf("%s by %s: %d, want 401", name, who, got)
					}
				case enough == (got == 403) || got == 401 || got >= 500:
					t.Errorf("%s needs %s; by %s, who may%s: %d", name, m[1], who, may[who], got)
				}
			}
		}
	}
	if walked < 60 {
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
	if resp.Header.Get("Content-Type") != "text/event-stream" { // which goes on
		_, err = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
		must(w.t, err)
	}
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
