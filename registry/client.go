// Package registry speaks the OCI distribution protocol (distribution specification 1.1) to other people's
// registries. A registry is somebody else's machine: it may be slow, gone, kinder or stricter than the
// specification, or hostile. So every body is verified against its digest while it streams, every wait has a bound,
// nothing is read without a limit, and a credential goes to the registry's own host and to nobody it points to.
//
// A [Client] is one registry; safe for concurrent use. Errors are problems (core/problem) that carry the
// registry, the repository, the operation and the registry's own code and text; the [*Error] lies below them.
package registry

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"sync/atomic"
	"time"

	"dovrak/core/problem"

	"github.com/cenkalti/backoff/v5"
)

// Config says how a registry is spoken to. Name and Address are required; other zero values mean the defaults.
type Config struct {
	Name        string           // the short name, for errors
	Address     string           // scheme://host[:port]
	RootCAs     *x509.CertPool   // nil is the system's
	Certificate *tls.Certificate // the client's own; nil is none
	Unverified  bool             // certificates are not checked
	Credentials Credentials      // nil is anonymous
	SignInHosts []string         // host[:port] besides the registry's own to which its sign-in may send the credential
	Pace        Pace             // waits until one more request may be sent; nil is no limit

	Attempts  int           // tries of one request; default 4
	FirstWait time.Duration // before the second try, doubling; default 250 ms
	MaxWait   time.Duration // the longest Retry-After that is waited for; default 60 s
	Stall     time.Duration // a connection on which nothing moves for so long is given up; default 60 s
	Chunk     int64         // bytes in one PATCH; a blob up to this size goes in a single PUT; default 64 MiB
	Page      int           // tags asked for at once; default 1000

	Observe func(Exchange) // told of every exchange, for metrics; may be nil
}

// Credential is a name and a secret. The zero Credential is anonymous.
type Credential struct{ Name, Secret string }

// Credentials gives the credential at each new sign-in, so that one that was replaced or has run out is not used again.
type Credentials interface {
	Credential(context.Context) (Credential, error)
}

// Credential makes a fixed credential one of [Credentials].
func (c Credential) Credential(context.Context) (Credential, error) { return c, nil }

// Pace is a limit on requests. *rate.Limiter is one.
type Pace interface{ Wait(context.Context) error }

// Exchange is one request and what came of it. Status is 0 if no answer came.
type Exchange struct {
	Registry, Operation, Method string
	Status                      int
	Took                        time.Duration
}

// Client speaks to one registry.
type Client struct {
	cfg  Config
	base *url.URL
	http *http.Client
	auth tokens

	noReferrers atomic.Bool // it was seen to have no list of referrers
}

// New makes a client; it asks nobody.
func New(cfg Config) (*Client, error) {
	base, err := url.Parse(cfg.Address)
	if err != nil || base.Host == "" || (base.Scheme != "http" && base.Scheme != "https") || base.RawQuery != "" || base.User != nil {
		return nil, &problem.Problem{Kind: problem.Malformed, Title: "This is not a registry's address", Asked: cfg.Address,
			Remedy: "write scheme, host and port, e.g. https://registry.example:5000"}
	}
	base.Path = ""
	setDefault(&cfg.Attempts, 4)
	setDefault(&cfg.FirstWait, 250*time.Millisecond)
	setDefault(&cfg.MaxWait, time.Minute)
	setDefault(&cfg.Stall, time.Minute)
	setDefault(&cfg.Chunk, 64<<20)
	setDefault(&cfg.Page, 1000)
	if cfg.Credentials == nil {
		cfg.Credentials = Credential{}
	}
	c := &Client{cfg: cfg, base: base}
	c.http = &http.Client{
		Transport: &http.Transport{
			Proxy:               http.ProxyFromEnvironment,
			DialContext:         c.dial,
			TLSHandshakeTimeout: 10 * time.Second,
			TLSClientConfig:     c.tls(),
			MaxIdleConnsPerHost: 16,
			IdleConnTimeout:     90 * time.Second,
			// What Go adds by itself would change the bytes that are hashed.
			DisableCompression: true,
			WriteBufferSize:    64 << 10,
			ReadBufferSize:     64 << 10,
		},
		CheckRedirect: c.checkRedirect,
	}
	c.auth.init(c)
	return c, nil
}

func (c *Client) tls() *tls.Config {
	t := &tls.Config{RootCAs: c.cfg.RootCAs, MinVersion: tls.VersionTLS12, InsecureSkipVerify: c.cfg.Unverified}
	if c.cfg.Certificate != nil {
		t.Certificates = []tls.Certificate{*c.cfg.Certificate}
	}
	return t
}

func setDefault[T comparable](v *T, to T) {
	var zero T
	if *v == zero {
		*v = to
	}
}

// Close gives the idle connections back.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Ping asks whether the registry answers as one, and signs in if it is asked to.
func (c *Client) Ping(ctx context.Context) error {
	resp, err := c.send(ctx, request{op: "ping", method: http.MethodGet, path: "/v2/"})
	if err != nil {
		return err
	}
	return drain(resp)
}

// Repository gives one repository of the registry.
func (c *Client) Repository(name string) *Repository { return &Repository{c, name} }

// Repository is one repository of a registry. The zero value is of no use; see [Client.Repository].
type Repository struct {
	c    *Client
	name string
}

// String is registry and repository, as people write it.
func (r *Repository) String() string { return r.c.cfg.Name + "/" + r.name }

// Name is the repository's name in its registry.
func (r *Repository) Name() string { return r.name }

// Registry is the registry's short name.
func (r *Repository) Registry() string { return r.c.cfg.Name }

// Sibling is another repository of the same registry.
func (r *Repository) Sibling(name string) *Repository { return r.c.Repository(name) }

// checkRedirect follows at most five redirects, never from TLS to plain HTTP, and takes the credential off as soon
// as another host or port is asked.
func (c *Client) checkRedirect(req *http.Request, via []*http.Request) error {
	if len(via) > 5 {
		return errors.New("more than five redirects")
	}
	if via[0].URL.Scheme == "https" && req.URL.Scheme != "https" {
		return fmt.Errorf("a redirect from TLS to %s", req.URL.Scheme)
	}
	if !c.own(req.URL) {
		req.Header.Del("Authorization")
	}
	return nil
}

// own reports whether a URL is of the registry itself.
func (c *Client) own(u *url.URL) bool { return u.Scheme == c.base.Scheme && u.Host == c.base.Host }

// request is one thing to ask. body is nil, or makes the body anew for every try; a stream can be read only once,
// so a request with one is tried once. read, if set, takes the whole answer in as part of the try.
type request struct {
	op, method string
	repository string
	path       string   // below the registry's address
	to         *url.URL // in place of path: where the registry said
	scopes     []string // what the token must permit
	header     http.Header
	body       []byte
	stream     io.Reader
	length     int64
	read       func(*http.Response) error
	okay       []int // the statuses that count as an answer; none is 200 alone
}

// send asks until there is an answer that counts, within the bounds of the configuration. Unless rq.read took it,
// the caller closes the body of the answer.
func (c *Client) send(ctx context.Context, rq request) (*http.Response, error) {
	tries := uint(c.cfg.Attempts)
	if rq.stream != nil {
		tries = 1
	}
	wait := backoff.NewExponentialBackOff()
	wait.InitialInterval, wait.MaxInterval = c.cfg.FirstWait, 10*time.Second
	var last error
	resp, err := backoff.Retry(ctx, func() (*http.Response, error) {
		var resp *http.Response
		if resp, last = c.once(ctx, rq); last == nil {
			return resp, nil
		}
		var e *Error
		if !errors.As(last, &e) || !e.Passing() || e.After > c.cfg.MaxWait || ctx.Err() != nil {
			return nil, backoff.Permanent(last)
		}
		if e.After > 0 {
			return nil, &backoff.RetryAfterError{Duration: e.After}
		}
		return nil, last
	}, backoff.WithBackOff(wait), backoff.WithMaxTries(tries), backoff.WithMaxElapsedTime(5*time.Minute))
	if err != nil {
		return nil, c.explain(ctx, last)
	}
	return resp, nil
}

// once asks one time, or two where the registry wants a sign-in that was not given.
func (c *Client) once(ctx context.Context, rq request) (*http.Response, error) {
	resp, err := c.exchange(ctx, rq)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode == http.StatusUnauthorized && rq.stream == nil && c.own(resp.Request.URL) {
		renewed, err := c.auth.answer(ctx, resp, rq.scopes)
		if err != nil {
			return nil, errors.Join(err, drain(resp))
		}
		if renewed {
			if err := drain(resp); err != nil {
				return nil, c.broken(rq, err)
			}
			if resp, err = c.exchange(ctx, rq); err != nil {
				return nil, err
			}
		}
	}
	if !counts(rq.okay, resp.StatusCode) {
		return nil, c.refused(rq, resp)
	}
	if rq.read == nil {
		return resp, nil
	}
	err = rq.read(resp)
	if cerr := resp.Body.Close(); err == nil && cerr != nil {
		err = c.broken(rq, cerr)
	}
	return resp, err
}

func counts(okay []int, status int) bool {
	if len(okay) == 0 {
		return status == http.StatusOK
	}
	return slices.Contains(okay, status)
}

// exchange sends one request and gives its answer, whatever its status. A watchdog ends it when nothing moves.
func (c *Client) exchange(ctx context.Context, rq request) (*http.Response, error) {
	if c.cfg.Pace != nil {
		if err := c.cfg.Pace.Wait(ctx); err != nil {
			return nil, err
		}
	}
	if rq.stream != nil && (rq.to == nil || c.own(rq.to)) {
		if err := c.auth.forStream(ctx, rq.scopes); err != nil {
			return nil, err
		}
	}
	ctx, dog := watch(ctx, c.cfg.Stall)
	req, err := c.build(ctx, rq, dog)
	if err != nil {
		dog.release()
		return nil, err
	}
	began := time.Now()
	if n, ok := ctx.Value(counting{}).(*atomic.Int64); ok {
		n.Add(1)
	}
	resp, err := c.http.Do(req)
	if c.cfg.Observe != nil {
		x := Exchange{Registry: c.cfg.Name, Operation: rq.op, Method: rq.method, Took: time.Since(began)}
		if err == nil {
			x.Status = resp.StatusCode
		}
		c.cfg.Observe(x)
	}
	if err != nil {
		defer dog.release()
		return nil, c.broken(rq, dog.cause(err))
	}
	resp.Body = dog.body(resp.Body)
	return resp, nil
}

// counting is the key under which a context carries a count of requests.
type counting struct{}

// Counting gives a context whose requests are counted, whatever registry they go to.
func Counting(ctx context.Context) (context.Context, *atomic.Int64) {
	n := new(atomic.Int64)
	return context.WithValue(ctx, counting{}, n), n
}

func (c *Client) build(ctx context.Context, rq request, dog *watchdog) (*http.Request, error) {
	to := rq.to
	if to == nil {
		ref, err := url.Parse(rq.path)
		if err != nil {
			return nil, err
		}
		to = c.base.ResolveReference(ref)
	}
	var body io.Reader
	switch {
	case rq.stream != nil && rq.length > 0:
		body = dog.reader(rq.stream)
	case len(rq.body) > 0:
		body = bytes.NewReader(rq.body)
	}
	req, err := http.NewRequestWithContext(ctx, rq.method, to.String(), body)
	if err != nil {
		return nil, err
	}
	if rq.stream != nil && rq.length > 0 {
		req.ContentLength = rq.length
	}
	for k, v := range rq.header {
		req.Header[k] = v
	}
	req.Header.Set("User-Agent", "dovrak")
	if c.own(to) {
		c.auth.sign(req, rq.scopes)
	}
	return req, nil
}

// drain reads what little is left of an answer, so that its connection can be used again.
func drain(resp *http.Response) error {
	_, err := io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10))
	return errors.Join(err, resp.Body.Close())
}
