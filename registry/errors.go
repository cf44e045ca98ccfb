package registry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
)

// Error is what went wrong in one exchange. Status is 0 when no answer came; Code and Message are the registry's own
// (distribution specification, "Error Codes"), made safe to print.
type Error struct {
	Registry, Repository, Operation string
	Status                          int
	Code, Message                   string
	After                           time.Duration // how long the registry asked to wait
	Err                             error         // the broken connection, where there is no status
}

// Error gives it in one line.
func (e *Error) Error() string {
	s := e.Operation + " at " + e.where() + ": "
	if e.Status == 0 {
		return s + e.Err.Error()
	}
	return s + e.answer()
}

// Unwrap gives the connection's error.
func (e *Error) Unwrap() error { return e.Err }

// Passing reports whether the same request may succeed soon: too many requests, a registry's own failure, a broken
// connection. Any other 4xx will not change, nor will a disk that is full.
func (e *Error) Passing() bool {
	if e.Status == http.StatusInsufficientStorage {
		return false
	}
	return e.Status == 0 || e.Status == http.StatusTooManyRequests || e.Status == http.StatusRequestTimeout || e.Status >= 500
}

func (e *Error) where() string {
	if e.Repository == "" {
		return e.Registry
	}
	return e.Registry + "/" + e.Repository
}

func (e *Error) answer() string {
	s := strconv.Itoa(e.Status) + " " + http.StatusText(e.Status)
	if e.Code != "" {
		s += ", " + e.Code
	}
	if e.Message != "" {
		s += ": " + e.Message
	}
	return s
}

// broken makes the error of an exchange that ended without a whole answer. Where the stream that was being sent broke,
// the fault is of the registry it came from, and keeps its own words.
func (c *Client) broken(rq request, err error) error {
	if err == nil {
		return nil
	}
	if p, ok := errors.AsType[*problem.Problem](err); ok {
		return p
	}
	if e, ok := errors.AsType[*Error](err); ok {
		return e
	}
	return &Error{Registry: c.cfg.Name, Repository: rq.repository, Operation: rq.op, Err: err}
}

// refused reads the error out of an answer and closes it.
func (c *Client) refused(rq request, resp *http.Response) error {
	e := &Error{Registry: c.cfg.Name, Repository: rq.repository, Operation: rq.op, Status: resp.StatusCode}
	raw, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	if cerr := resp.Body.Close(); err != nil || cerr != nil {
		return e // the status is what counts; its text was cut off
	}
	var body struct {
		Errors []struct{ Code, Message string }
	}
	if json.Unmarshal(raw, &body) == nil && len(body.Errors) > 0 {
		e.Code, e.Message = image.Printable(body.Errors[0].Code), image.Printable(body.Errors[0].Message)
	}
	if s := resp.Header.Get("Retry-After"); s != "" {
		if n, err := strconv.Atoi(s); err == nil && n > 0 {
			e.After = time.Duration(min(n, 86400)) * time.Second
		} else if t, err := http.ParseTime(s); err == nil {
			e.After = max(time.Until(t), 0)
		}
	}
	return e
}

// late is the problem of a registry that has not answered when the asker's time was over.
func (c *Client) late(e *Error, cause error) error {
	return (&problem.Problem{
		Kind:   problem.Unreachable,
		Title:  fmt.Sprintf("The registry %s does not answer in time", e.Registry),
		Asked:  e.Operation,
		Seen:   "no answer when the time for it was over",
		Where:  e.where(),
		Remedy: "see that it is up and its line is well, then ask again",
	}).Because(cause)
}

// explain makes a problem of what went wrong: what was asked of whom, what it answered, what to do.
func (c *Client) explain(ctx context.Context, err error) error {
	cause := context.Cause(ctx)
	if cause != nil && !errors.Is(cause, context.DeadlineExceeded) {
		return cause // who asked has gone
	}
	if p, ok := errors.AsType[*problem.Problem](err); ok {
		return p // such as bytes that do not match their digest
	}
	e, ok := errors.AsType[*Error](err)
	if !ok {
		return err
	}
	if cause != nil && e.Status == 0 {
		return c.late(e, cause)
	}
	p := &problem.Problem{Kind: problem.RegistryError, Title: fmt.Sprintf("The registry %s did not do this", e.Registry),
		Asked: e.Operation, Where: e.where(), Seen: e.answer()}
	switch {
	case e.Status == 0:
		p.Kind = problem.Unreachable
		p.Title = fmt.Sprintf("The registry %s cannot be reached", e.Registry)
		p.Seen = image.Printable(e.Err.Error())
		p.Remedy = "see that it is up and can be reached from the service, then ask again"
	case e.Status == http.StatusNotFound:
		p.Kind = problem.NotFound
		p.Title = "There is nothing under this name"
		p.Remedy = "look at what is there, or push it first"
	case e.Status == http.StatusUnauthorized && c.cfg.Credentials == Credential{}:
		p.Kind = problem.Denied
		p.Remedy = "give the registry a credential: it does not let anyone do this without one"
	case e.Status == http.StatusUnauthorized:
		p.Kind = problem.Denied
		p.Remedy = "see whether the credential of " + e.Registry + " is still right; " +
			"some registries answer so too when the account lacks the permission"
	case e.Status == http.StatusForbidden:
		p.Kind = problem.Denied
		p.Remedy = "give the account the permission to " + e.Operation + " in " + e.where()
	case e.Status == http.StatusTooManyRequests:
		p.Kind = problem.Unreachable
		p.Title = fmt.Sprintf("The registry %s wants fewer requests", e.Registry)
		p.Remedy = "ask again later, or give the registry a lower limit of requests a second"
		if e.After > 0 {
			p.Remedy = fmt.Sprintf("ask again in %s, or give the registry a lower limit of requests a second", e.After)
		}
	case e.Status == http.StatusInsufficientStorage:
		p.Title = fmt.Sprintf("The registry %s has no room left", e.Registry)
		p.Remedy = "have room made there, then ask again: what has arrived is kept"
	case e.Status >= 500:
		p.Kind = problem.Unreachable
		p.Title = fmt.Sprintf("The registry %s failed", e.Registry)
		p.Remedy = "ask again later; if it stays, its own log says why"
	default:
		p.Remedy = "the registry's text says what it wants"
	}
	return p.Because(err)
}

// Status gives the registry's HTTP status in err's chain, or 0.
func Status(err error) int {
	var e *Error
	if errors.As(err, &e) {
		return e.Status
	}
	return 0
}

// After is how long the registry asked to wait, where err is its answer.
func After(err error) time.Duration {
	var e *Error
	if errors.As(err, &e) {
		return e.After
	}
	return 0
}

// Passing reports whether err is of a kind that may pass by itself.
func Passing(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Passing()
}
