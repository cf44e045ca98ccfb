package registry

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Result is what came of one step of a check.
type Result string

// The results there are.
const (
	Holds      Result = "holds"
	Fails      Result = "fails"
	Absent     Result = "absent"      // the registry does not offer it, and Dovrak does without
	CannotTell Result = "cannot tell" // it was asked, and the answer proves nothing
	NotTried   Result = "not tried"
)

// The steps, in their order.
const (
	StepName        = "name"
	StepConnection  = "connection"
	StepCertificate = "certificate"
	StepAPI         = "API"
	StepSignIn      = "sign-in"
	StepClock       = "clock"
	StepPull        = "pull"
	StepPublic      = "public"
	StepPaging      = "tag paging"
	StepReferrers   = "referrers"
	StepPush        = "push"
	StepMount       = "mount"
	StepDelete      = "delete"
)

// Step is one thing that was checked. Took is how long it was waited for.
type Step struct {
	Name   string        `json:"name"`
	Result Result        `json:"result"`
	Seen   string        `json:"seen"`
	Remedy string        `json:"remedy,omitempty"`
	Took   time.Duration `json:"took"`
}

// CheckOptions say what to check. A reason in place of a permission to try is shown with the step that was not tried.
type CheckOptions struct {
	Repository string // in which permissions are looked at; empty: none is
	NoPush     string // why no upload session may be opened; empty: one may
	NoDelete   string // why deletion is not asked for; empty: it is
	MountFrom  string // a sibling repository that holds MountBlob, as Repository does: mounting it changes nothing
	MountBlob  ocispec.Descriptor
	Now        func() time.Time // the clock by which the registry's is judged
}

const (
	stepDeadline = 15 * time.Second
	maxSkew      = time.Minute // tokens and certificates begin to fail at about this
)

// Report is what a check found. There and Public are of the repository; nil is not known.
type Report struct {
	Steps         []Step
	There, Public *bool
}

// Check finds out step by step what a registry permits, by doing as little as shows it: an upload session that is opened
// is cancelled again, and nothing is stored, pointed or deleted. Where a step fails on which the others stand, those are
// not tried.
func (c *Client) Check(ctx context.Context, o CheckOptions) Report {
	k := &check{c: c, o: o, ctx: ctx, repository: c.Repository(o.Repository)}
	k.step(StepName, k.name)
	k.step(StepConnection, k.connection)
	k.step(StepCertificate, k.certificate)
	k.step(StepAPI, k.api)
	k.step(StepSignIn, k.signIn)
	k.step(StepClock, k.clock)
	k.within(StepPull, k.pull)
	k.within(StepPublic, k.public)
	k.within(StepPaging, k.paging)
	k.within(StepReferrers, k.referrers)
	k.within(StepPush, k.push)
	k.within(StepMount, k.mount)
	k.within(StepDelete, k.remove)
	return k.Report
}

// check is one check under way, with what its steps learned for those behind them.
type check struct {
	Report
	c          *Client
	o          CheckOptions
	ctx        context.Context
	repository *Repository
	broken     string // the step on which all others stand, if one failed
	chain      *tls.ConnectionState
	skew       time.Duration // of the registry's clock
	dated      bool          // skew is known
	tags       int           // how many the registry gave when it was asked for one
	listed     bool          // tags is known
}

// finding is what a step found.
type finding struct {
	result       Result
	seen, remedy string
}

func holds(format string, a ...any) finding {
	return finding{result: Holds, seen: fmt.Sprintf(format, a...)}
}

func (k *check) step(name string, do func(context.Context) finding) {
	if k.broken != "" {
		k.Steps = append(k.Steps, Step{Name: name, Result: NotTried, Seen: "it stands on the step " + k.broken + ", which fails"})
		return
	}
	ctx, cancel := context.WithTimeout(k.ctx, stepDeadline)
	defer cancel()
	began := time.Now()
	f := do(ctx)
	if f.result == Fails && ctx.Err() != nil {
		f.seen = fmt.Sprintf("no answer within %s", stepDeadline)
		f.remedy = "see whether the registry is overloaded, and what lies between it and the service"
	}
	k.Steps = append(k.Steps, Step{name, f.result, f.seen, f.remedy, time.Since(began)})
	if f.result == Fails && len(k.Steps) <= 5 {
		k.broken = name
	}
}

// within is a step that is about a repository.
func (k *check) within(name string, do func(context.Context) finding) {
	k.step(name, func(ctx context.Context) finding {
		if k.o.Repository == "" {
			return finding{NotTried, "no repository was named, and permissions are of repositories", "name one: --repository"}
		}
		return do(ctx)
	})
}

// failed turns an error into a finding, in the words of its problem.
func failed(err error) finding {
	p := problem.From(err)
	seen := p.Seen
	if seen == "" {
		seen = p.Title
	}
	return finding{Fails, seen, p.Remedy}
}

// target is what is connected to: the registry, or the proxy through which it is asked.
func (k *check) target() (at, through string) {
	if p := k.c.proxy(); p != "" {
		return p, " (the proxy through which the registry is asked)"
	}
	return hostPort(k.c.base), ""
}

func (k *check) name(ctx context.Context) finding {
	at, through := k.target()
	host, _, err := net.SplitHostPort(at)
	if err != nil {
		return failed(err)
	}
	if net.ParseIP(host) != nil {
		return holds("%s is an address, with no name to resolve%s", host, through)
	}
	ips, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return finding{
			Fails,
			image.Printable(err.Error()),
			"see whether the address is spelt right, and whether the service's DNS knows it",
		}
	}
	var all []string
	for _, ip := range ips {
		all = append(all, ip.Unmap().String())
	}
	return holds("%s is %s%s", host, strings.Join(all, ", "), through)
}

func (k *check) connection(ctx context.Context) finding {
	at, through := k.target()
	conn, err := k.c.dial(ctx, "tcp", at)
	if err != nil {
		if p, ok := errors.AsType[*problem.Problem](err); ok {
			return failed(p)
		}
		return finding{
			Fails,
			image.Printable(err.Error()),
			"see that the registry is up, and that no firewall lies between it and the service",
		}
	}
	defer conn.Close()
	f := holds("connected to %s%s", conn.RemoteAddr(), through)
	if k.c.base.Scheme == "https" && through == "" {
		// The handshake is made without a verdict, so that what the registry shows can be told also where it is not trusted.
		t := k.c.tls()
		t.InsecureSkipVerify, t.ServerName = true, k.c.base.Hostname()
		secure := tls.Client(conn, t)
		if err := secure.HandshakeContext(ctx); err == nil {
			state := secure.ConnectionState()
			k.chain = &state
		}
	}
	return f
}

func (k *check) certificate(context.Context) finding {
	switch {
	case k.c.base.Scheme == "http":
		return finding{Absent, "plain HTTP: what is sent can be read and changed on the way", ""}
	case k.c.proxy() != "":
		return finding{CannotTell, "asked through a proxy; the next step fails if it is not trusted", ""}
	case k.chain == nil || len(k.chain.PeerCertificates) == 0:
		return finding{Fails, "no TLS on this port, or a handshake that fails",
			"see whether the port is right, and whether the registry wants a client certificate: --client-cert FILE --client-key FILE"}
	}
	leaf := k.chain.PeerCertificates[0]
	shown := fmt.Sprintf("issued by %s, until %s", issuer(leaf), leaf.NotAfter.UTC().Format("2006-01-02 15:04 UTC"))
	if err := k.verify(leaf); err != nil {
		if k.c.cfg.Unverified {
			return finding{CannotTell, shown + "; not trusted, and not checked by an exception", ""}
		}
		return finding{Fails, shown + "; " + image.Printable(err.Error()), mendCertificate(err)}
	}
	if k.c.cfg.Unverified {
		return holds("%s; trusted, so that the exception is not needed", shown)
	}
	return holds("%s", shown)
}

func (k *check) verify(leaf *x509.Certificate) error {
	between := x509.NewCertPool()
	for _, c := range k.chain.PeerCertificates[1:] {
		between.AddCert(c)
	}
	_, err := leaf.Verify(
		x509.VerifyOptions{Roots: k.c.cfg.RootCAs, Intermediates: between, DNSName: k.c.base.Hostname(), CurrentTime: k.o.Now()},
	)
	return err
}

func issuer(c *x509.Certificate) string {
	name := c.Issuer.CommonName
	if name == "" {
		name = c.Issuer.String()
	}
	if c.Issuer.String() == c.Subject.String() {
		return image.Printable(name) + " (itself)"
	}
	return image.Printable(name)
}

func mendCertificate(err error) string {
	if _, ok := errors.AsType[x509.HostnameError](err); ok {
		return "connect the registry by a name that its certificate holds, or have a certificate issued for this one"
	}
	if e, ok := errors.AsType[x509.CertificateInvalidError](err); ok && e.Reason == x509.Expired {
		return "have the registry's certificate renewed; if it looks current, see to the clock of the service's machine"
	}
	return "give the certificate of the CA that issued it: dovrak registry edit NAME --ca FILE"
}

func (k *check) api(ctx context.Context) finding {
	resp, err := k.c.exchange(ctx, request{op: "ping", method: http.MethodGet, path: "/v2/"})
	if err != nil {
		return failed(k.c.explain(ctx, err))
	}
	if at, err := http.ParseTime(resp.Header.Get("Date")); err == nil {
		k.skew, k.dated = at.Sub(k.o.Now()), true
	}
	if err := drain(resp); err != nil {
		return failed(k.c.explain(ctx, k.c.broken(request{op: "ping"}, err)))
	}
	wants := resp.Header.Values("WWW-Authenticate")
	switch {
	case resp.StatusCode == http.StatusOK:
		return holds("GET /v2/ answers 200")
	case resp.StatusCode == http.StatusUnauthorized && len(wants) > 0:
		scheme, params := challenge(wants[0])
		if params["realm"] != "" && scheme == "bearer" {
			return holds("GET /v2/ answers 401 and signs in by token at %s", image.Printable(params["realm"]))
		}
		return holds("GET /v2/ answers 401 and signs in by %s", image.Printable(scheme))
	}
	return finding{Fails, fmt.Sprintf("GET /v2/ answers %d, which no registry does", resp.StatusCode),
		"see whether this is the registry's own address, and not that of its web page"}
}

func (k *check) signIn(ctx context.Context) finding {
	cred, err := k.c.cfg.Credentials.Credential(ctx)
	if err != nil {
		return failed(err)
	}
	err = k.c.Ping(ctx)
	switch {
	case err == nil && cred == Credential{}:
		return holds("none is needed to ask; there is no credential")
	case err == nil:
		return holds("as %s; this says nothing yet of what the account may do", image.Printable(cred.Name))
	case cred == Credential{}:
		return finding{Fails, "no credential, and the registry wants one", "dovrak registry edit NAME --account NAME --secret-file FILE"}
	case Status(err) == http.StatusUnauthorized:
		return finding{
			Fails,
			"the registry does not take the credential of " + image.Printable(cred.Name) + ": " + problem.From(err).Seen,
			"see whether it has expired or was replaced: dovrak registry edit NAME --secret-file FILE",
		}
	}
	return failed(err)
}

func (k *check) clock(context.Context) finding {
	switch {
	case !k.dated:
		return finding{CannotTell, "the registry's answers carry no date", ""}
	case k.skew.Abs() > maxSkew:
		way := "ahead of"
		if k.skew < 0 {
			way = "behind"
		}
		return finding{Fails, fmt.Sprintf("the registry's clock is %s %s Dovrak's", k.skew.Abs().Round(time.Second), way),
			"have the registry's machine keep time by a time server: tokens begin and end too early or late by so much"}
	}
	return holds("within %s of Dovrak's, as far as a date in whole seconds tells", max(k.skew.Abs().Round(time.Second), time.Second))
}
