// Package client speaks to a Dovrak service. Errors are problems (core/problem), as the service gave them.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"dovrak/api/wire"
	"dovrak/core/problem"

	"github.com/google/uuid"
)

// Client of one service. HTTP nil is http.DefaultClient.
type Client struct {
	Server string // scheme://host:port
	Token  string
	HTTP   *http.Client
}

// maxAnswer bounds an answer, in bytes.
const maxAnswer = 64 << 20

func (c *Client) request(ctx context.Context, method, path string, query url.Values, in any) (*http.Request, error) {
	u, err := url.Parse(c.Server)
	if err != nil || u.Host == "" {
		return nil, &problem.Problem{Kind: problem.Malformed, Title: "This is not the address of a service", Asked: c.Server,
			Remedy: "set DOVRAK_SERVER to scheme, host and port, e.g. http://127.0.0.1:8620"}
	}
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
	}
	u.Path, u.RawQuery = path, query.Encode()
	req, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		return nil, err
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	return req, nil
}

func (c *Client) send(req *http.Request) (*http.Response, error) {
	h := c.HTTP
	if h == nil {
		h = http.DefaultClient
	}
	resp, err := h.Do(req)
	if err != nil {
		if cause := context.Cause(req.Context()); cause != nil {
			return nil, cause
		}
		return nil, (&problem.Problem{
			Kind:   problem.Unreachable,
			Title:  "The service cannot be reached",
			Asked:  req.Method + " " + req.URL.Path,
			Seen:   reason(err),
			Where:  c.Server,
			Remedy: "see that dovrak serve is up, and that DOVRAK_SERVER names it",
		}).Because(err)
	}
	if resp.StatusCode >= 300 {
		return nil, refusal(resp)
	}
	return resp, nil
}

func reason(err error) string {
	if u, ok := errors.AsType[*url.Error](err); ok {
		return u.Err.Error()
	}
	return err.Error()
}

// refusal reads the problem out of an answer and closes it.
func refusal(resp *http.Response) error {
	defer resp.Body.Close()
	var w wire.Problem
	if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&w); err != nil || w.Title == "" {
		return &problem.Problem{
			Kind:   problem.Unreachable,
			Title:  "Something else than the service answered",
			Where:  resp.Request.URL.Host,
			Seen:   resp.Status,
			Remedy: "see what DOVRAK_SERVER names, and what lies between",
		}
	}
	return Problem(w)
}

// Problem gives a problem its form in this program.
func Problem(w wire.Problem) *problem.Problem {
	p := &problem.Problem{
		Kind:   problem.Kind(w.Kind),
		Title:  w.Title,
		Asked:  w.Asked,
		Seen:   w.Seen,
		Where:  w.Where,
		Rule:   w.Rule,
		Remedy: w.Remedy,
	}
	if w.Kind == "internal" {
		p.Kind, p.Where = problem.Internal, "request "+w.RequestID
	}
	return p
}

// call asks once and reads the answer into out.
func call[Out any](ctx context.Context, c *Client, method, path string, query url.Values, in any) (Out, error) {
	return keyed[Out](ctx, c, "", method, path, query, in)
}

func keyed[Out any](ctx context.Context, c *Client, key, method, path string, query url.Values, in any) (Out, error) {
	var out Out
	req, err := c.request(ctx, method, path, query, in)
	if err != nil {
		return out, err
	}
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	resp, err := c.send(req)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(io.LimitReader(resp.Body, maxAnswer)).Decode(&out); err != nil {
		return out, fmt.Errorf("client: the service's answer cannot be read: %w", err)
	}
	return out, nil
}

func get[Out any](ctx context.Context, c *Client, path string, query url.Values) (Out, error) {
	return call[Out](ctx, c, http.MethodGet, path, query, nil)
}

func post[Out any](ctx context.Context, c *Client, path string, in any) (Out, error) {
	return call[Out](ctx, c, http.MethodPost, path, nil, in)
}

// start asks for work and gives its number.
func start(ctx context.Context, c *Client, path string, in any) (int64, error) {
	type started struct {
		Number int64 `json:"number"`
	}
	out, err := safely[started](ctx, c, path, in)
	return out.Number, err
}

// safely asks under one key, and again where the answer was lost on the way.
func safely[Out any](ctx context.Context, c *Client, path string, in any) (Out, error) {
	key := uuid.NewString()
	var out Out
	var err error
	for range 3 {
		if out, err = keyed[Out](ctx, c, key, http.MethodPost, path, nil, in); err == nil || !lostOnTheWay(err) {
			break
		}
	}
	return out, err
}

// lostOnTheWay reports a connection that broke after it stood; a service that is not there is not asked again.
func lostOnTheWay(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

// Whoami tells who bears the token.
func (c *Client) Whoami(ctx context.Context) (wire.Actor, error) {
	return get[wire.Actor](ctx, c, "/api/v1/whoami", nil)
}

// Page asks for the part of a list behind Before, an earlier page's next.
type Page struct {
	Before string
	Limit  int
}

func (p Page) query() url.Values {
	q := url.Values{}
	set(q, "before", p.Before)
	if p.Limit > 0 {
		q.Set("limit", strconv.Itoa(p.Limit))
	}
	return q
}

func set(q url.Values, key, value string) {
	if value != "" {
		q.Set(key, value)
	}
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context, p Page) (wire.Tokens, error) {
	return get[wire.Tokens](ctx, c, "/api/v1/tokens", p.query())
}

// IssueToken issues a token.
func (c *Client) IssueToken(ctx context.Context, n wire.NewToken) (wire.IssuedToken, error) {
	return post[wire.IssuedToken](ctx, c, "/api/v1/tokens", n)
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, number int64) error {
	_, err := call[wire.Health](ctx, c, http.MethodDelete, "/api/v1/tokens/"+itoa(number), nil, nil)
	return err
}

// Point points tags.
func (c *Client) Point(ctx context.Context, n wire.NewPoint) (wire.TagChanges, error) {
	return post[wire.TagChanges](ctx, c, "/api/v1/tag-changes", n)
}

// PlanCopy asks what a copy would move.
func (c *Client) PlanCopy(ctx context.Context, n wire.NewCopy) (wire.CopyPlan, error) {
	return post[wire.CopyPlan](ctx, c, "/api/v1/copy-plans", n)
}

// Copy asks for a copy and gives its number.
func (c *Client) Copy(ctx context.Context, n wire.NewCopy) (int64, error) {
	return start(ctx, c, "/api/v1/copies", n)
}

// StopCopy ends a copy that is under way.
func (c *Client) StopCopy(ctx context.Context, n int64) (wire.Copy, error) {
	return post[wire.Copy](ctx, c, "/api/v1/copies/"+itoa(n)+"/stop", nil)
}

// ResumeCopy goes on with one that ended early.
func (c *Client) ResumeCopy(ctx context.Context, n int64) (wire.Copy, error) {
	return post[wire.Copy](ctx, c, "/api/v1/copies/"+itoa(n)+"/resume", nil)
}

// Copies lists copies.
func (c *Client) Copies(ctx context.Context, p Page) (wire.Copies, error) {
	return get[wire.Copies](ctx, c, "/api/v1/copies", p.query())
}

// CopyNumbered gives one copy.
func (c *Client) CopyNumbered(ctx context.Context, n int64) (wire.Copy, error) {
	return get[wire.Copy](ctx, c, "/api/v1/copies/"+itoa(n), nil)
}

// TrailOf says what happened to whom: to a tag in full or a repository, to a component, in a promotion. Zero fields select nothing away.
type TrailOf struct {
	Subject, Component string
	Promotion          int64
}

// Trail lists what happened, the newest first.
func (c *Client) Trail(ctx context.Context, of TrailOf, p Page) (wire.Trail, error) {
	q := p.query()
	set(q, "subject", of.Subject)
	set(q, "component", of.Component)
	if of.Promotion != 0 {
		q.Set("promotion", itoa(of.Promotion))
	}
	return get[wire.Trail](ctx, c, "/api/v1/trail", q)
}

// Meaning tells what a tag meant at a time.
func (c *Client) Meaning(ctx context.Context, tag, at string) (wire.Meaning, error) {
	return get[wire.Meaning](ctx, c, "/api/v1/meaning", url.Values{"tag": {tag}, "at": {at}})
}

// Standing tells what stands where.
func (c *Client) Standing(ctx context.Context) (wire.Standing, error) {
	return get[wire.Standing](ctx, c, "/api/v1/standing", nil)
}

// History tells what a component's tags meant since a time.
func (c *Client) History(ctx context.Context, component string, since time.Time) (wire.History, error) {
	return get[wire.History](
		ctx,
		c,
		"/api/v1/history",
		url.Values{"component": {component}, "since": {since.UTC().Format(time.RFC3339Nano)}},
	)
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
