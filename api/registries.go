package api

import (
	"context"
	"strconv"

	"dovrak/api/wire"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/service"
	"dovrak/store"
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
	keyedTakeIn struct {
		NameParam
		KeyQuery
		wire.NewTakeIn
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
		return wire.Health{}, &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "Tags are moving or fixed",
			Asked:  image.Printable(in.Tags),
			Remedy: "say whether the registry lets a tag be overwritten: moving, or fixed",
		}
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
		RequestsPerSecond: s.RequestsPerSecond, TransfersAtOnce: s.TransfersAtOnce, BytesPerSecond: s.BytesPerSecond,
		UnverifiedOwner: s.UnverifiedOwner, UnverifiedUntil: s.UnverifiedUntil,
	}
}

func viewRegistry(r service.RegistryView) wire.Registry {
	out := wire.Registry{
		Name: r.Name, Address: r.Address, OwnCA: r.CAPEM != "", ClientCert: r.ClientCertPEM != "", Plain: r.Plain, Account: r.CredentialName,
		SecretSource: r.SecretSource, SignInHosts: r.SignInHosts, Labels: r.Labels,
		RequestsPerSecond: r.RequestsPerSecond, TransfersAtOnce: r.TransfersAtOnce, BytesPerSecond: r.BytesPerSecond,
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
	return wire.RegistryCheck{
		Registry:   c.Registry,
		Repository: c.Repository,
		At:         c.At,
		Steps: each(c.Steps, func(s service.CheckStep) wire.CheckStep {
			return wire.CheckStep{Name: s.Name, Result: string(s.Result), Seen: s.Seen, Remedy: s.Remedy, Micros: s.Took.Microseconds()}
		}),
	}
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

func askTakeIn(ctx context.Context, a *API, by service.Actor, in keyedTakeIn) (accepted, error) {
	w, err := a.service.AskTakeIn(ctx, by, in.Name, in.Repository, in.Key)
	return accepted{"/api/v1/take-ins/" + strconv.FormatInt(w.Number, 10), w.Number}, err
}

func takeIns(ctx context.Context, a *API, by service.Actor, in PageQuery) (wire.TakeIns, error) {
	page, err := in.page()
	if err != nil {
		return wire.TakeIns{}, err
	}
	rows, err := a.service.TakeIns(ctx, by, page)
	rows, next := cut(rows, in.limit(), func(t service.TakeInView) int64 { return t.TakeIn.Number })
	return wire.TakeIns{Items: each(rows, viewTakeIn), Next: next}, err
}

func takeInNumbered(ctx context.Context, a *API, by service.Actor, in numbered) (wire.TakeIn, error) {
	t, err := a.service.TakeInNumbered(ctx, by, in.Number)
	return viewTakeIn(t), err
}

func viewTakeIn(t service.TakeInView) wire.TakeIn {
	out := wire.TakeIn{Work: viewWork(t.Work, t.TakeIn.Number, t.RequesterName), Registry: t.Registry, Pattern: t.TakeIn.Pattern,
		Repositories: each(t.Repositories, func(r store.TakenRepository) wire.TakenRepository {
			return wire.TakenRepository{Repository: r.Repository, Tags: r.Tags, Entries: r.Entries, Done: r.Done, Problem: r.Problem}
		})}
	if r := t.Report; r != nil {
		out.Report = &wire.TakenIn{Repositories: r.Repositories, Tags: r.Tags, Images: r.Images, Size: r.Size, Sharing: r.Sharing,
			Untagged: r.Untagged, Unruled: r.Unruled, Unreadable: r.Unreadable, Examples: listed(r.Examples),
			Platforms: each(r.Platforms, func(p store.PlatformCount) wire.TakenPlatform { return wire.TakenPlatform(p) })}
	}
	return out
}
