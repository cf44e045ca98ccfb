package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/service"

	"github.com/labstack/echo/v5"
)

// route is one path and method, with the permission that it needs. in and out are values of the types it takes and
// gives, for the OpenAPI document.
type route struct {
	method, path string
	open         bool // needs no sign-in; else needs says what it needs
	needs        service.Permission
	orNeeds      service.Permission // that will do as well; empty: none
	id, summary  string
	in, out      any
	status       int    // of a good answer; 0 is 200
	media        string // of a good answer; "" is application/json
	handle       func(*API, *echo.Context, service.Actor) error
}

// call makes a route of a function with its input and output.
func call[In, Out any](method, path string, needs service.Permission, id, summary string,
	fn func(context.Context, *API, service.Actor, In) (Out, error)) route {
	r := route{method: method, path: path, needs: needs, id: id, summary: summary, in: *new(In), out: *new(Out)}
	r.handle = func(a *API, c *echo.Context, by service.Actor) error {
		var in In
		if err := take(c, &in); err != nil {
			return err
		}
		out, err := fn(c.Request().Context(), a, by, in)
		if err != nil {
			return err
		}
		status := http.StatusOK
		if w, ok := any(out).(accepted); ok {
			c.Response().Header().Set("Location", w.Location)
			status = http.StatusAccepted
		}
		return c.JSON(status, out)
	}
	return r
}

// open makes a route that anyone may use.
func open[In, Out any](method, path, id, summary string, fn func(context.Context, *API, In) (Out, error)) route {
	r := call(
		method,
		path,
		"",
		id,
		summary,
		func(ctx context.Context, a *API, _ service.Actor, in In) (Out, error) { return fn(ctx, a, in) },
	)
	r.open = true
	return r
}

// starts says that a good answer is 202, with the address of the work.
func (r route) starts() route {
	r.status = http.StatusAccepted
	return r
}

// or says that another permission will do as well: what it is for, the service tells.
func (r route) or(p service.Permission) route {
	r.orNeeds = p
	return r
}

// permits is nil if the actor may use the route.
func (r route) permits(by service.Actor) error {
	if r.orNeeds != "" && by.Require(r.orNeeds) == nil {
		return nil
	}
	return by.Require(r.needs)
}

// maxBody bounds what a request may carry, in bytes: the largest is a charter, but for inputs with a MaxBody of
// their own.
const maxBody = 2 << 20

// take fills a route's input from path, query, headers and body. An unknown field is a mistake: a misspelt option
// that is silently not read is worse than a refusal.
func take(c *echo.Context, in any) error {
	bind := []func(*echo.Context, any) error{echo.BindPathValues, echo.BindQueryParams, echo.BindHeaders}
	for _, b := range bind {
		if err := b(c, in); err != nil {
			return misread(c, err.Error())
		}
	}
	r := c.Request()
	if _, bare := in.(interface{ NoBody() }); bare || r.Method == http.MethodGet || r.Method == http.MethodDelete {
		return nil
	}
	limit := int64(maxBody)
	if l, ok := in.(interface{ MaxBody() int64 }); ok {
		limit = l.MaxBody()
	}
	dec := json.NewDecoder(http.MaxBytesReader(c.Response(), r.Body, limit))
	dec.DisallowUnknownFields()
	if err := dec.Decode(in); err != nil {
		if tooLong, ok := errors.AsType[*http.MaxBytesError](err); ok {
			return misread(c, "more than "+itoa(tooLong.Limit)+" bytes")
		}
		return misread(c, err.Error())
	}
	if _, err := dec.Token(); err != io.EOF {
		return misread(c, "something behind the JSON")
	}
	return nil
}

func misread(c *echo.Context, seen string) error {
	return &problem.Problem{
		Kind:   problem.Malformed,
		Title:  "This request cannot be read",
		Asked:  c.Request().Method + " " + c.Request().URL.Path,
		Seen:   image.Printable(seen),
		Remedy: "see /api/v1/openapi.json for what it takes",
	}
}
