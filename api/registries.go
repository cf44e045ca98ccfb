package api

import (
	"context"

	"dovrak/api/wire"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/service"
)

type (
	NameParam struct {
		Name string `path:"name" param:"name" json:"-" required:"true"`
	}
	registryEdit struct {
		NameParam
		wire.RegistrySettings
	}
	registryCheck struct {
		NameParam
		wire.NewCheck
	}
	RepositoryQuery struct {
		Repository string `query:"repository" json:"-" required:"true" description:"REGISTRY/REPOSITORY"`
	}
)

func registries(ctx context.Context, a *API, by service.Actor, _ none) (wire.Registries, error) {
	rows, err := a.service.Registries(ctx, by)
	return wire.Registries{Items: each(rows, viewRegistry)}, err
}

func registryNamed(ctx context.Context, a *API, by service.Actor, in NameParam) (wire.Registry, error) {
	r, err := a.service.Registry(ctx, by, in.Name)
	return viewRegistry(r), err
}

func addRegistry(ctx context.Context, a *API, by service.Actor, in wire.NewRegistry) (wire.Registry, error) {
	r, err := a.service.AddRegistry(ctx, by, in.Name, settingsOf(in.RegistrySettings))
	return viewRegistry(service.RegistryView{Registry: r}), err
}

func editRegistry(ctx context.Context, a *API, by service.Actor, in registryEdit) (wire.Registry, error) {
	if _, err := a.service.EditRegistry(ctx, by, in.Name, settingsOf(in.RegistrySettings)); err != nil {
		return wire.Registry{}, err
	}
	r, err := a.service.Registry(ctx, by, in.Name)
	return viewRegistry(r), err
}

func dropRegistry(ctx context.Context, a *API, by service.Actor, in NameParam) (wire.Health, error) {
	return wire.Health{Status: "dropped"}, a.service.DropRegistry(ctx, by, in.Name)
}

func checkRegistry(ctx context.Context, a *API, by service.Actor, in registryCheck) (wire.RegistryCheck, error) {
	c, err := a.service.CheckRegistry(ctx, by, in.Name, service.NewCheck{Repository: in.Repository, For: in.For})
	return viewCheck(c), err
}

func destinations(ctx context.Context, a *API, by service.Actor, _ none) (wire.Destinations, error) {
	rows, err := a.service.Destinations(ctx, by)
	return wire.Destinations{Items: each(rows, viewDestination)}, err
}

func declare(ctx context.Context, a *API, by service.Actor, in wire.NewDestination) (wire.Health, error) {
	ref, err := image.ParseRepository(in.Repository)
	if err != nil {
		return wire.Health{}, err
	}
	var fixed *bool
	switch in.Tags {
	case "fixed", "moving":
		is := in.Tags == "fixed"
		fixed = &is
	case "":
	default:
		return wire.Health{}, &problem.Problem{Kind: problem.Malformed, Title: "Tags are moving or fixed", Asked: image.Printable(in.Tags),
			Remedy: "say whether the registry lets a tag be overwritten: moving, or fixed"}
	}
	return wire.Health{Status: "declared"}, a.service.Declare(ctx, by, ref, in.Owner, fixed)
}

func undeclare(ctx context.Context, a *API, by service.Actor, in RepositoryQuery) (wire.Health, error) {
	ref, err := image.ParseRepository(in.Repository)
	if err != nil {
		return wire.Health{}, err
	}
	return wire.Health{Status: "undeclared"}, a.service.Undeclare(ctx, by, ref)
}

func settingsOf(s wire.RegistrySettings) service.RegistrySettings {
	return service.RegistrySettings{
		Address: s.Address, CAPEM: s.CA, ClientCert: s.ClientCert, ClientKey: s.ClientKey, Plain: s.Plain, Account: s.Account, Secret: s.Secret,
		Source: s.SecretSource, Anonymous: s.Anonymous, SignInHosts: s.SignInHosts, Labels: s.Labels,
		RequestsPerSecond: s.RequestsPerSecond, TransfersAtOnce: s.TransfersAtOnce,
		UnverifiedOwner: s.UnverifiedOwner, UnverifiedUntil: s.UnverifiedUntil,
	}
}

func viewRegistry(r service.RegistryView) wire.Registry {
	out := wire.Registry{
		Name: r.Name, Address: r.Address, OwnCA: r.CAPEM != "", ClientCert: r.ClientCertPEM != "", Plain: r.Plain, Account: r.CredentialName,
		SecretSource: r.SecretSource, SignInHosts: r.SignInHosts, Labels: r.Labels,
		RequestsPerSecond: r.RequestsPerSecond, TransfersAtOnce: r.TransfersAtOnce,
		Connected: r.CreatedAt.UTC(), Edited: r.UpdatedAt.UTC(), Checks: each(r.Checks, viewCheck),
	}
	if out.SignInHosts == nil {
		out.SignInHosts = []string{}
	}
	if out.Labels == nil {
		out.Labels = map[string]string{}
	}
	if r.UnverifiedUntil != nil {
		out.Exception = &wire.Exception{Owner: r.UnverifiedOwner, Until: r.UnverifiedUntil.UTC(), Counts: r.Unverified}
	}
	return out
}

func viewCheck(c service.Check) wire.RegistryCheck {
	return wire.RegistryCheck{Registry: c.Registry, Repository: c.Repository, At: c.At, Steps: each(c.Steps, func(s service.CheckStep) wire.CheckStep {
		return wire.CheckStep{Name: s.Name, Result: string(s.Result), Seen: s.Seen, Remedy: s.Remedy, Micros: s.Took.Microseconds()}
	})}
}

func viewDestination(d service.Destination) wire.Destination {
	out := wire.Destination{Repository: d.Ref.In(), Component: d.Component, Environment: d.Environment, Owner: d.Owner, By: d.By,
		At: utc(d.At), Public: d.Public, There: d.There, Seen: utc(d.SeenAt)}
	if d.TagsFixed != nil {
		out.Tags = "moving"
		if *d.TagsFixed {
			out.Tags = "fixed"
		}
	}
	return out
}
