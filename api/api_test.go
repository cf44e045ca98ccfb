package api

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"dovrak/api/wire"
	"dovrak/core/problem"
	"dovrak/service"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
)

func quiet() *API { return &API{log: slog.New(slog.DiscardHandler)} }

// TestARouteWithoutAPermission stops the program at start.
func TestARouteWithoutAPermission(t *testing.T) {
	for name, tt := range map[string]struct {
		r    route
		fine bool
	}{
		"none":      {route{method: http.MethodGet, path: "/x"}, false},
		"one":       {route{method: http.MethodGet, path: "/x", needs: service.Read}, true},
		"said open": {route{method: http.MethodGet, path: "/x", open: true}, true},
	} {
		if err := quiet().add(echo.New(), tt.r); (err == nil) != tt.fine {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestTheDocumentHasEveryRoute, with its permission, and each under a name of its own.
func TestTheDocumentHasEveryRoute(t *testing.T) {
	raw, err := Document()
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Paths map[string]map[string]struct{ OperationID, Description string }
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, r := range routes() {
		op := doc.Paths[pathParam.ReplaceAllString(r.path, "{$1}")][strings.ToLower(r.method)]
		if op.OperationID != r.id || seen[r.id] || !r.open && !strings.Contains(op.Description, string(r.needs)) {
			t.Errorf("%s %s: %+v", r.method, r.path, op)
		}
		seen[r.id] = true
	}
}

// serve gives what a handler answers.
func serve(t *testing.T, method, path, body string, h echo.HandlerFunc) *httptest.ResponseRecorder {
	t.Helper()
	a := quiet()
	e := echo.New()
	e.HTTPErrorHandler = a.problem
	e.Pre(a.requestID)
	e.Any("/*", h)
	req := httptest.NewRequestWithContext(t.Context(), method, path, strings.NewReader(body))
	rec := httptest.NewRecorder()
	e.ServeHTTP(rec, req)
	return rec
}

func TestProblems(t *testing.T) {
	for name, tt := range map[string]struct {
		err    error
		status int
		kind   string
	}{
		"malformed":           {&problem.Problem{Kind: problem.Malformed, Title: "x"}, 400, "malformed"},
		"refused":             {&problem.Problem{Kind: problem.Refused, Title: "x", Rule: "r"}, 409, "refused"},
		"registry":            {&problem.Problem{Kind: problem.RegistryError, Title: "x"}, 502, "registry"},
		"unreachable":         {&problem.Problem{Kind: problem.Unreachable, Title: "x"}, 503, "unreachable"},
		"one below others":    {errors.Join(errors.New("outer"), &problem.Problem{Kind: problem.NotFound, Title: "x"}), 404, "not-found"},
		"a fault of its own":  {errors.New("pq: password 'hidden-word' wrong"), 500, "internal"},
		"no such method here": {echo.ErrMethodNotAllowed, 404, "not-found"},
	} {
		rec := serve(t, http.MethodGet, "/api/v1/x", "", func(*echo.Context) error { return tt.err })
		var p wire.Problem
		if err := json.Unmarshal(rec.Body.Bytes(), &p); err != nil {
			t.Fatal(err)
		}
		if rec.Code != tt.status || p.Status != tt.status || p.Kind != tt.kind || p.Type != "urn:dovrak:problem:"+tt.kind ||
			p.RequestID == "" ||
			rec.Header().Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %+v", name, rec.Code, p)
		}
		if strings.Contains(rec.Body.String(), "hidden-word") {
			t.Error("a fault's own text was shown")
		}
	}
}

func TestRequestsAreReadStrictly(t *testing.T) {
	type in struct {
		numbered
		Name string `json:"name"`
	}
	h := func(c *echo.Context) error {
		var v in
		if err := take(c, &v); err != nil {
			return err
		}
		return c.JSON(http.StatusOK, v)
	}
	for name, tt := range map[string]struct {
		body   string
		status int
	}{
		"right":               {`{"name":"a"}`, 200},
		"an unknown field":    {`{"nmae":"a"}`, 400},
		"another type":        {`{"name":1}`, 400},
		"something behind it": {`{"name":"a"} {}`, 400},
		"cut off":             {`{"name":`, 400},
		"nothing":             {``, 400},
		"too much":            {`{"name":"` + strings.Repeat("a", maxBody) + `"}`, 400},
	} {
		if rec := serve(t, http.MethodPost, "/x", tt.body, h); rec.Code != tt.status {
			t.Errorf("%s: %d %s", name, rec.Code, rec.Body)
		}
	}
}

func TestConsoleFiles(t *testing.T) {
	h := consoleFiles(fstest.MapFS{"index.html": {Data: []byte("the page")}, "assets/a-1.js": {Data: []byte("script")},
		"ridge.svg": {Data: []byte("<svg/>")}})
	for path, want := range map[string]struct {
		status      int
		body, cache string
	}{
		"/":                        {200, "the page", "no-cache"},
		"/history/snowpack-model":  {200, "the page", "no-cache"},
		"/assets/a-1.js":           {200, "script", "public, max-age=31536000, immutable"},
		"/assets/a-2.js":           {404, "There is nothing at this address", ""},
		"/assets/":                 {200, "the page", "no-cache"},
		"/ridge.svg":               {200, "<svg/>", ""},
		"/../../../etc/passwd":     {200, "the page", "no-cache"},
		"/assets/..%2f..%2fsecret": {200, "the page", "no-cache"},
	} {
		rec := serve(t, http.MethodGet, path, "", h)
		if rec.Code != want.status || !strings.Contains(rec.Body.String(), want.body) || rec.Header().Get("Cache-Control") != want.cache {
			t.Errorf("%s: %d %q %q", path, rec.Code, rec.Body, rec.Header().Get("Cache-Control"))
		}
	}
	empty := serve(t, http.MethodGet, "/", "", consoleFiles(fstest.MapFS{}))
	if empty.Code != 404 || !strings.Contains(empty.Body.String(), "make build") {
		t.Errorf("a program without its console: %d %s", empty.Code, empty.Body)
	}
}

func TestLogsCarryNoQuery(t *testing.T) {
	var log strings.Builder
	a := &API{log: slog.New(slog.NewTextHandler(&log, nil)),
		answered: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "x"}, []string{"route", "status"})}
	e := echo.New()
	e.HTTPErrorHandler = a.problem
	e.Pre(a.requestID)
	e.Use(a.logged)
	e.GET("/api/v1/image", func(c *echo.Context) error { return c.NoContent(http.StatusOK) })
	req := httptest.NewRequestWithContext(context.Background(), http.MethodGet, "/api/v1/image?reference=dovrak_pasted", nil)
	req.Header.Set(requestIDHeader, "desk-7\nforged=line")
	rec := httptest.NewRecorder()
	e.ServeHTTP(rec, req)
	if got := log.String(); !strings.Contains(got, "/api/v1/image") || strings.Contains(got, "pasted") ||
		strings.Contains(got, "forged") {
		t.Errorf("the log says %s", got)
	}
	if id := rec.Header().Get(requestIDHeader); !plainID.MatchString(id) {
		t.Errorf("the request's id is %q", id)
	}
}
