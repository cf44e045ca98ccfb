package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/registry"
	"dovrak/store"
)

// RegistrySettings are what is asked of a connection; what is nil stays as it is, or takes its default. A credential is
// given in one of three ways: Account with Secret, Source, or Anonymous. Secrets are sealed and never shown again.
type RegistrySettings struct {
	Address           *string
	CAPEM             *string // "" is the system's trust
	ClientCert        *string // PEM; "" takes it away
	ClientKey         *string // PEM, with ClientCert
	Plain             *bool   // plain HTTP also where the registry is not on this machine
	Account, Secret   *string
	Source            *string // a secret source, by the name that the server's settings give it
	Anonymous         bool
	SignInHosts       *[]string
	Labels            map[string]string // each is set, or taken away where it is empty
	RequestsPerSecond *float64          // default 50
	TransfersAtOnce   *int              // default 4
	BytesPerSecond    *int64            // of layers; 0, the default, is no limit
	UnverifiedOwner   *string           // certificates are not checked: who answers for it; "" ends that
	UnverifiedUntil   *time.Time
}

// Limits of a connection.
const (
	defaultRequests  = 50
	defaultTransfers = 4
	maxUnverified    = 31 * 24 * time.Hour
	maxLabels        = 16
)

// AddRegistry connects a registry under a short name. It asks the registry first: one that does not answer is not kept.
func (s *Service) AddRegistry(ctx context.Context, by Actor, name string, n RegistrySettings) (store.Registry, error) {
	if err := by.Require(Keep); err != nil {
		return store.Registry{}, err
	}
	if n.Address == nil {
		n.Address = new(string)
	}
	blank := store.Registry{ID: store.NewID(), Name: name, RequestsPerSecond: defaultRequests, TransfersAtOnce: defaultTransfers}
	r, err := s.settings(ctx, blank, n)
	if err != nil {
		return r, err
	}
	if err := s.greet(ctx, r); err != nil {
		return r, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.AddRegistry(ctx, r); err != nil {
			return err
		}
		return s.tellRegistry(ctx, tx, by, trail.RegistryAdded, r, "")
	})
	if store.IsDuplicate(err) {
		return r, &problem.Problem{Kind: problem.Refused, Title: "This registry cannot be connected", Asked: name,
			Seen: "a registry of that name", Rule: "a short name means one registry",
			Remedy: "take another name, or change that one: dovrak registry edit " + name}
	}
	if err != nil {
		return r, err
	}
	return s.registryNamed(ctx, name)
}

// EditRegistry changes a connection. A new secret counts from the next sign-in on, in every process, and the old one is
// overwritten.
func (s *Service) EditRegistry(ctx context.Context, by Actor, name string, n RegistrySettings) (store.Registry, error) {
	if err := by.Require(Keep); err != nil {
		return store.Registry{}, err
	}
	was, err := s.registryNamed(ctx, name)
	if err != nil {
		return was, err
	}
	r, err := s.settings(ctx, was, n)
	if err != nil {
		return r, err
	}
	if err := s.greet(ctx, r); err != nil {
		return r, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		now, ok, err := tx.LockRegistry(ctx, name)
		if err != nil {
			return err
		}
		if !ok || !now.UpdatedAt.Equal(was.UpdatedAt) {
			return &problem.Problem{
				Kind:   problem.Busy,
				Title:  "This registry was changed by someone else at the same moment",
				Asked:  name,
				Rule:   "one writer at a time",
				Remedy: "look at it (dovrak registry list) and ask again",
			}
		}
		if err := tx.EditRegistry(ctx, r); err != nil {
			return err
		}
		return s.tellRegistry(ctx, tx, by, trail.RegistryEdited, r, strings.Join(differences(was, r), ", "))
	})
	if err != nil {
		return r, err
	}
	return s.registryNamed(ctx, name)
}

// DropRegistry ends a connection and wipes its secrets; what happened there stays known. It is refused while the charter
// keeps images there or something is under way.
func (s *Service) DropRegistry(ctx context.Context, by Actor, name string) error {
	if err := by.Require(Keep); err != nil {
		return err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	refusal := &problem.Problem{Kind: problem.Refused, Title: "This registry cannot be dropped", Asked: name}
	for _, env := range law.Order() {
		for _, p := range law.Environments[env].Places {
			if p.Registry == name {
				refusal.Seen = "a place of the environment " + env + ": " + p.Registry + "/" + p.Repository
				refusal.Rule = "the charter's registries stay connected"
				refusal.Remedy = "adopt a charter without that place first"
				return refusal
			}
		}
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		r, ok, err := tx.LockRegistry(ctx, name)
		if err == nil && !ok {
			err = s.unknownRegistry(ctx, image.Reference{Registry: name})
		}
		if err != nil {
			return err
		}
		open, err := tx.OpenIn(ctx, r.ID, name)
		if err != nil {
			return err
		}
		if open > 0 {
			refusal.Seen = fmt.Sprintf("%d copies, promotions or tag changes under way there", open)
			refusal.Rule, refusal.Remedy = "what was begun is ended first", "wait for them: dovrak copies, dovrak promotions"
			return refusal
		}
		if err := tx.DropRegistry(ctx, r.ID); err != nil {
			return err
		}
		return s.tellRegistry(ctx, tx, by, trail.RegistryDropped, r, "")
	})
}

func (s *Service) tellRegistry(ctx context.Context, tx store.Tx, by Actor, act trail.Act, r store.Registry, changed string) error {
	if err := tx.Tell(ctx, store.TopicRegistry, map[string]string{"name": r.Name}); err != nil {
		return err
	}
	facts := map[string]string{"registry": r.Name, "address": r.Address, "changed": changed, "secret source": r.SecretSource}
	sealed := map[string]string{"account": r.CredentialName}
	if r.UnverifiedUntil != nil {
		facts["certificates unchecked until"] = stamp(*r.UnverifiedUntil)
		sealed["certificates unchecked by"] = r.UnverifiedOwner
	}
	return s.record(ctx, tx, entry{act: act, actor: by.Name, sealed: sealed, facts: facts})
}

// settings makes new settings of the old ones and what is asked, and checks them.
func (s *Service) settings(ctx context.Context, was store.Registry, n RegistrySettings) (store.Registry, error) {
	r := was
	now, err := s.db.Now(ctx)
	if err != nil {
		return r, err
	}
	take(&r.Address, n.Address)
	take(&r.CAPEM, n.CAPEM)
	take(&r.Plain, n.Plain)
	take(&r.SignInHosts, n.SignInHosts)
	take(&r.RequestsPerSecond, n.RequestsPerSecond)
	take(&r.TransfersAtOnce, n.TransfersAtOnce)
	take(&r.BytesPerSecond, n.BytesPerSecond)
	take(&r.UnverifiedOwner, n.UnverifiedOwner)
	if n.UnverifiedOwner != nil || n.UnverifiedUntil != nil {
		r.UnverifiedUntil = n.UnverifiedUntil
	}
	r.Unverified = r.UnverifiedUntil != nil && now.Before(*r.UnverifiedUntil)
	r.Labels = maps.Clone(was.Labels)
	for k, v := range n.Labels {
		if r.Labels == nil {
			r.Labels = map[string]string{}
		}
		r.Labels[k] = v
	}
	maps.DeleteFunc(r.Labels, func(_, v string) bool { return v == "" })
	if err := s.settleClientCert(&r, n); err != nil {
		return r, err
	}
	if err := s.settleCredential(was, &r, n); err != nil {
		return r, err
	}
	return r, checkSettings(r, now)
}

func take[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

func cannotConnect(r store.Registry) *problem.Problem {
	return &problem.Problem{
		Kind:  problem.Malformed,
		Title: "This registry cannot be connected",
		Asked: image.Printable(r.Name) + " at " + image.Printable(r.Address),
	}
}

func (s *Service) settleClientCert(r *store.Registry, n RegistrySettings) error {
	if n.ClientCert == nil && n.ClientKey == nil {
		return nil
	}
	cert, key := "", ""
	take(&cert, n.ClientCert)
	take(&key, n.ClientKey)
	if cert == "" && key == "" {
		r.ClientCertPEM, r.ClientKeySealed = "", nil
		return nil
	}
	if _, err := tls.X509KeyPair([]byte(cert), []byte(key)); err != nil {
		p := cannotConnect(*r)
		p.Seen = "a client certificate and a key that do not belong together, or are not PEM"
		p.Remedy = "give both: --client-cert FILE --client-key FILE"
		return p
	}
	r.ClientCertPEM, r.ClientKeySealed = cert, s.key.Seal(key, clientKeyOf(*r))
	return nil
}

func clientKeyOf(r store.Registry) string { return r.ID.String() + " client key" }

// settleCredential takes the credential that is asked for. One that is kept goes on to the same hosts only: who may edit
// a registry could else have its secret sent to an address of their own.
func (s *Service) settleCredential(was store.Registry, r *store.Registry, n RegistrySettings) error {
	p := cannotConnect(*r)
	ways := 0
	for _, given := range []bool{n.Account != nil || n.Secret != nil, n.Source != nil, n.Anonymous} {
		if given {
			ways++
		}
	}
	if ways > 1 {
		p.Seen, p.Remedy = "more than one credential", "give an account with its secret, or a secret source, or none"
		return p
	}
	switch {
	case n.Anonymous:
		r.CredentialName, r.CredentialSealed, r.SecretSource = "", nil, ""
	case n.Source != nil:
		r.CredentialName, r.CredentialSealed, r.SecretSource = "", nil, *n.Source
	case n.Secret != nil && *n.Secret != "":
		take(&r.CredentialName, n.Account)
		if r.CredentialName == "" {
			p.Seen, p.Remedy = "a secret without its account", "give both or neither"
			return p
		}
		r.CredentialSealed, r.SecretSource = s.key.Seal(*n.Secret, r.ID.String()), ""
	case n.Account != nil && *n.Account != "":
		p.Seen, p.Remedy = "an account without its secret", "give both or neither"
		return p
	case was.CredentialSealed != nil && goesElsewhere(was, *r):
		p.Kind, p.Rule = problem.Refused, "a secret goes to the host it was given for"
		p.Seen = "another host, way or sign-in for a secret that is kept"
		p.Remedy = "give the secret again with the change: --account NAME --secret-file FILE"
		return p
	}
	if r.SecretSource != "" {
		return s.conns.secrets.Allows(r.SecretSource, hosts(*r)...)
	}
	return nil
}

// goesElsewhere reports whether a credential would go where it did not go before.
func goesElsewhere(was, now store.Registry) bool {
	for _, h := range now.SignInHosts {
		if !slices.Contains(was.SignInHosts, h) {
			return true
		}
	}
	return was.Address != now.Address
}

// hosts are all to which a registry's credential may go.
func hosts(r store.Registry) []string {
	out := slices.Clone(r.SignInHosts)
	if u, err := url.Parse(r.Address); err == nil {
		out = append(out, u.Host)
	}
	return out
}

var (
	labelName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,31}$`)
	hostName  = regexp.MustCompile(`^[A-Za-z0-9.-]+(:[0-9]{1,5})?$|^\[[0-9a-f:]+\](:[0-9]{1,5})?$`)
)

func checkSettings(r store.Registry, now time.Time) error {
	p := cannotConnect(r)
	u, err := url.Parse(r.Address)
	switch {
	case !image.IsRegistryName(r.Name):
		p.Seen, p.Remedy = "the short name "+image.Printable(r.Name), "use lower case letters, digits and hyphens, e.g. forge"
	case err != nil || u.Host == "" || u.User != nil || (u.Scheme != "https" && u.Scheme != "http") || u.Path+u.RawQuery != "":
		p.Seen = "an address that is not scheme, host and port"
		p.Remedy = "write e.g. https://registry.example:5000, and the secret apart from it"
	case u.Scheme == "http" && !registry.IsLoopback(u.Hostname()) && !r.Plain:
		p.Rule, p.Seen = "plain HTTP for loopback only, unless it is said", "http to "+u.Hostname()
		p.Remedy = "use https, with --ca FILE for a CA of your own; --plain says that everything may be read on the way"
	case r.CAPEM != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(r.CAPEM)):
		p.Seen, p.Remedy = "a CA file without a certificate", "give a file in PEM"
	case r.RequestsPerSecond <= 0 || r.TransfersAtOnce <= 0 || r.RequestsPerSecond > 10_000 || r.TransfersAtOnce > 64:
		p.Seen, p.Remedy = "limits that are none", "up to 10000 requests a second and 64 transfers at once"
	case r.BytesPerSecond != 0 && r.BytesPerSecond < minBytes:
		p.Seen, p.Remedy = fmt.Sprintf("%d bytes a second", r.BytesPerSecond), "at least 64 KiB a second, or 0 for no limit"
	default:
		return firstOf(checkException(r, now), checkNames(r))
	}
	return p
}

func checkException(r store.Registry, now time.Time) error {
	p := cannotConnect(r)
	p.Rule = "certificates go unchecked by an exception, which has an owner and an end"
	switch {
	case r.UnverifiedOwner == "" && r.UnverifiedUntil == nil:
		return nil
	case r.UnverifiedOwner == "" || r.UnverifiedUntil == nil:
		p.Seen = "one of owner and end without the other"
	case r.UnverifiedUntil.After(now.Add(maxUnverified)):
		p.Seen = "an end more than 31 days away"
	default:
		return nil
	}
	p.Remedy = "--unverified-owner NAME --unverified-until DATE; better, give the CA that issued the certificate: --ca FILE"
	return p
}

func checkNames(r store.Registry) error {
	p := cannotConnect(r)
	if len(r.Labels) > maxLabels || len(r.SignInHosts) > maxLabels {
		p.Seen, p.Remedy = "more than 16 labels or hosts", "keep to those that tell registries apart"
		return p
	}
	for k, v := range r.Labels {
		if !labelName.MatchString(k) || len(v) > 64 || image.Printable(v) != v {
			p.Seen = "the label " + image.Printable(k+"="+v)
			p.Remedy = "write name=value, e.g. region=valley; the name in lower case letters, digits and hyphens"
			return p
		}
	}
	for _, h := range r.SignInHosts {
		if !hostName.MatchString(h) {
			p.Seen, p.Remedy = "the sign-in host "+image.Printable(h), "write host or host:port, e.g. sign-in.example"
			return p
		}
	}
	return nil
}

// differences names what an edit changed. Secrets are always replaced as a whole, and never compared.
func differences(was, now store.Registry) []string {
	var out []string
	for name, changed := range map[string]bool{
		"address": was.Address != now.Address, "CA": was.CAPEM != now.CAPEM, "client certificate": was.ClientCertPEM != now.ClientCertPEM,
		"plain HTTP": was.Plain != now.Plain, "account": was.CredentialName != now.CredentialName,
		"secret":        !slices.Equal(was.CredentialSealed, now.CredentialSealed),
		"secret source": was.SecretSource != now.SecretSource, "sign-in hosts": !slices.Equal(was.SignInHosts, now.SignInHosts),
		"labels": !maps.Equal(was.Labels, now.Labels),
		"limits": was.RequestsPerSecond != now.RequestsPerSecond || was.TransfersAtOnce != now.TransfersAtOnce || was.BytesPerSecond != now.BytesPerSecond,
		"certificate exception": was.UnverifiedOwner != now.UnverifiedOwner || (was.UnverifiedUntil == nil) != (now.UnverifiedUntil == nil) ||
			was.UnverifiedUntil != nil && !was.UnverifiedUntil.Equal(*now.UnverifiedUntil),
	} {
		if changed {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// greet asks a registry that is not kept yet whether it answers and lets the account in.
func (s *Service) greet(ctx context.Context, r store.Registry) error {
	ctx, cancel := context.WithTimeout(ctx, greetDeadline)
	defer cancel()
	cfg, err := s.conns.config(r)
	if err != nil {
		return err
	}
	client, err := registry.New(cfg)
	if err != nil {
		return err
	}
	defer client.Close()
	return client.Ping(ctx)
}

// registryNamed finds a connected registry, or explains which there are.
func (s *Service) registryNamed(ctx context.Context, name string) (store.Registry, error) {
	r, ok, err := s.db.RegistryNamed(ctx, name)
	if err == nil && !ok {
		err = s.unknownRegistry(ctx, image.Reference{Registry: name})
	}
	return r, err
}

// RegistryView is a registry as it is looked at, with its newest checks and without its secrets.
type RegistryView struct {
	store.Registry
	Checks []Check
}

// Registries lists the connected registries.
func (s *Service) Registries(ctx context.Context, by Actor) ([]RegistryView, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	all, err := s.db.Registries(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]RegistryView, len(all))
	for i, r := range all {
		if out[i], err = s.viewRegistry(ctx, r); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Registry gives one connected registry.
func (s *Service) Registry(ctx context.Context, by Actor, name string) (RegistryView, error) {
	if err := by.Require(Read); err != nil {
		return RegistryView{}, err
	}
	r, err := s.registryNamed(ctx, name)
	if err != nil {
		return RegistryView{}, err
	}
	return s.viewRegistry(ctx, r)
}

func (s *Service) viewRegistry(ctx context.Context, r store.Registry) (RegistryView, error) {
	r.CredentialSealed, r.ClientKeySealed = nil, nil
	rows, err := s.db.LastChecks(ctx, r.ID)
	v := RegistryView{Registry: r}
	for _, row := range rows {
		c, rerr := readCheck(r.Name, row)
		err = errors.Join(err, rerr)
		v.Checks = append(v.Checks, c)
	}
	return v, err
}
