package api

import (
	"encoding/json"
	"errors"
	"net/http"

	"dovrak/api/wire"
	"dovrak/core/problem"

	"github.com/labstack/echo/v5"
)

// statusOf gives each kind of problem its HTTP status.
var statusOf = map[problem.Kind]int{
	problem.Internal:      http.StatusInternalServerError,
	problem.Malformed:     http.StatusBadRequest,
	problem.NotSignedIn:   http.StatusUnauthorized,
	problem.NotPermitted:  http.StatusForbidden,
	problem.NotFound:      http.StatusNotFound,
	problem.Removed:       http.StatusGone,
	problem.Denied:        http.StatusBadGateway,
	problem.Refused:       http.StatusConflict,
	problem.Busy:          http.StatusConflict,
	problem.RegistryError: http.StatusBadGateway,
	problem.Altered:       http.StatusBadGateway,
	problem.Unreachable:   http.StatusServiceUnavailable,
}

// viewProblem gives a problem its wire form (RFC 9457).
func viewProblem(p *problem.Problem) wire.Problem {
	kind := string(p.Kind)
	if p.Kind == problem.Internal {
		kind = "internal"
	}
	return wire.Problem{Type: "urn:dovrak:problem:" + kind, Title: p.Title, Status: statusOf[p.Kind], Kind: kind,
		Asked: p.Asked, Seen: p.Seen, Where: p.Where, Rule: p.Rule, Remedy: p.Remedy}
}

// problem answers with an error, unless the answer has begun.
func (a *API) problem(c *echo.Context, err error) {
	if r, ok := c.Response().(*echo.Response); ok && r.Committed {
		return
	}
	var s echo.HTTPStatusCoder
	if errors.As(err, &s) {
		if s.StatusCode() == http.StatusNotFound || s.StatusCode() == http.StatusMethodNotAllowed {
			err = noRoute(c)
		}
	}
	p := problem.From(err)
	if p.Kind == problem.Internal {
		a.log.ErrorContext(
			c.Request().Context(),
			"a request failed",
			"request",
			c.Request().Header.Get(requestIDHeader),
			"route",
			c.Path(),
			"error",
			err,
		)
	}
	write(c.Response(), c.Request(), p)
}

func write(w http.ResponseWriter, r *http.Request, p *problem.Problem) {
	out := viewProblem(p)
	out.RequestID = r.Header.Get(requestIDHeader)
	w.Header().Set("Content-Type", "application/problem+json")
	if p.Kind == problem.NotSignedIn {
		w.Header().Set("WWW-Authenticate", "Bearer")
	}
	w.WriteHeader(out.Status)
	_ = json.NewEncoder(w).Encode(out) // a reader that went away is its own problem
}
