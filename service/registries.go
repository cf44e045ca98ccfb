package service

import (
	"context"
	"crypto/x509"
	"net"
	"net/url"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/registry"
	"dovrak/store"
)

// NewRegistry asks for a registry to be connected. Secret is sealed and never shown again.
type NewRegistry struct {
	Name, Address, CAPEM string
	Account, Secret      string
	RequestsPerSecond    float64 // 0: 50
	TransfersAtOnce      int     // 0: 4
}

func (n *NewRegistry) check() error {
	p := &problem.Problem{
		Kind:  problem.Malformed,
		Title: "This registry cannot be connected",
		Asked: image.Printable(n.Name) + " at " + image.Printable(n.Address),
	}
	u, err := url.Parse(n.Address)
	switch {
	case !image.IsRegistryName(n.Name):
		p.Seen, p.Remedy = "the short name "+image.Printable(n.Name), "use lower case letters, digits and hyphens, e.g. forge"
	case err != nil || u.Host == "" || u.User != nil || (u.Scheme != "https" && u.Scheme != "http") || u.Path+u.RawQuery != "":
		p.Seen = "an address that is not scheme, host and port"
		p.Remedy = "write e.g. https://registry.example:5000, and the secret apart from it"
	case u.Scheme == "http" && !loopback(u.Hostname()):
		p.Rule, p.Seen, p.Remedy = "plain HTTP for loopback only", "http to "+u.Hostname(), "use https, with --ca FILE for a CA of your own"
	case (n.Account == "") != (n.Secret == ""):
		p.Seen, p.Remedy = "one of account and secret without the other", "give both or neither"
	case n.CAPEM != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(n.CAPEM)):
		p.Seen, p.Remedy = "a CA file without a certificate", "give a file in PEM"
	case n.RequestsPerSecond < 0 || n.TransfersAtOnce < 0 || n.RequestsPerSecond > 10_000 || n.TransfersAtOnce > 64:
		p.Seen, p.Remedy = "limits that are none", "up to 10000 requests a second and 64 transfers at once"
	default:
		if n.RequestsPerSecond == 0 {
			n.RequestsPerSecond = 50
		}
		if n.TransfersAtOnce == 0 {
			n.TransfersAtOnce = 4
		}
		return nil
	}
	return p
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// AddRegistry connects a registry. It asks the registry first: one that does not answer is not kept.
func (s *Service) AddRegistry(ctx context.Context, by Actor, n NewRegistry) (store.Registry, error) {
	if err := by.Require(Keep); err != nil {
		return store.Registry{}, err
	}
	if err := n.check(); err != nil {
		return store.Registry{}, err
	}
	r := store.Registry{ID: store.NewID(), Name: n.Name, Address: n.Address, CAPEM: n.CAPEM, CredentialName: n.Account,
		RequestsPerSecond: n.RequestsPerSecond, TransfersAtOnce: n.TransfersAtOnce}
	if n.Secret != "" {
		r.CredentialSealed = s.key.Seal(n.Secret, r.ID.String())
	}
	if err := s.greet(ctx, r); err != nil {
		return r, err
	}
	err := s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.AddRegistry(ctx, r); err != nil {
			return err
		}
		if err := tx.Tell(ctx, store.TopicRegistry, map[string]string{"name": r.Name}); err != nil {
			return err
		}
		return s.record(ctx, tx, entry{act: trail.RegistryAdded, actor: by.Name, sealed: map[string]string{"account": n.Account},
			facts: map[string]string{"registry": r.Name, "address": r.Address}})
	})
	if store.IsDuplicate(err) {
		return r, &problem.Problem{Kind: problem.Refused, Title: "This registry cannot be connected", Asked: n.Name,
			Seen: "a registry of that name", Rule: "a short name means one registry", Remedy: "take another name"}
	}
	return r, err
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

// Registries lists the connected registries, without their secrets.
func (s *Service) Registries(ctx context.Context, by Actor) ([]store.Registry, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	all, err := s.db.Registries(ctx)
	for i := range all {
		all[i].CredentialSealed = nil
	}
	return all, err
}
