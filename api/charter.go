package api

import (
	"context"
	"maps"
	"net/http"
	"slices"

	"dovrak/api/wire"
	"dovrak/core/charter"
	"dovrak/core/gate"
	"dovrak/core/image"
	"dovrak/service"
	"dovrak/store"
)

type remark struct {
	Number int64 `path:"number" param:"number" json:"-" required:"true"`
	wire.Remark
}

// charterRoutes are those of the charter: its versions, in words, and those that are proposed.
func charterRoutes() []route {
	const proposal = "/api/v1/charter/proposals/:number"
	return []route{
		call(http.MethodGet, "/api/v1/charter", service.Read, "charter", "The charter in force, or an earlier version", charterNow),
		call(http.MethodPost, "/api/v1/charter", service.Keep, "adoptCharter", "Adopt a charter, or propose it", adoptCharter),
		call(http.MethodPost, "/api/v1/charter/rehearsals", service.Read, "rehearse", "What a charter would change", rehearse),
		call(http.MethodPost, "/api/v1/charter/checks", service.Keep, "checkPlaces", "Whether its places can be written to", checkPlaces),
		call(http.MethodGet, "/api/v1/charter/words", service.Read, "charterInWords", "A version of it in words", charterInWords),
		call(http.MethodGet, "/api/v1/charter/versions", service.Read, "charterVersions", "Its versions, newest first", charterVersions),
		call(http.MethodGet, "/api/v1/charter/proposals", service.Read, "proposals", "Proposed charters, newest first", proposals),
		call(http.MethodGet, proposal, service.Read, "proposal", "One proposed charter", proposalNumbered),
		call(http.MethodPost, proposal+"/approve", service.Approve, "approveCharter", "Agree to a proposed charter", approveCharter),
		call(http.MethodPost, proposal+"/decline", service.Approve, "declineCharter", "Decline it, which ends it", declineCharter),
	}
}

func charterNow(ctx context.Context, a *API, by service.Actor, in charterQuery) (wire.Charter, error) {
	c, err := a.service.Charter(ctx, by, in.Version)
	return wire.Charter{Version: c.Version, Document: c.Document, Adopted: c.AdoptedAt.UTC()}, err
}

func adoptCharter(ctx context.Context, a *API, by service.Actor, in wire.CharterDocument) (wire.CharterVersion, error) {
	out, err := a.service.Adopt(ctx, by, in.Document, in.Because)
	return wire.CharterVersion{Version: out.Version, Proposal: out.Proposal, Changes: each(out.Changes, image.Printable)}, err
}

func charterInWords(ctx context.Context, a *API, by service.Actor, in charterQuery) (wire.CharterInWords, error) {
	c, err := a.service.CharterInWords(ctx, by, in.Version)
	if err != nil {
		return wire.CharterInWords{}, err
	}
	out := wire.CharterInWords{Version: c.Stored.Version, InForce: c.InForce, Adopted: c.Stored.AdoptedAt.UTC(), By: c.By,
		Organisation: c.Organisation, Changes: each(c.Changes, image.Printable), Environments: each(c.Rules, viewRules),
		Adoption: c.Adoption.Words(), Now: c.Now, From: c.From, To: c.To, People: "by accounts of Dovrak's own"}
	if c.People != nil {
		out.People = "at " + c.People.Issuer + ", or by accounts of Dovrak's own"
	}
	out.Routes = each(slices.Sorted(maps.Keys(c.Charter.Routes)), func(n string) wire.RouteInWords {
		return wire.RouteInWords{Name: n, Environments: c.Charter.Routes[n]}
	})
	out.Components = each(slices.Sorted(maps.Keys(c.Charter.Components)), func(n string) wire.ComponentRules {
		comp := c.Charter.Components[n]
		return wire.ComponentRules{Name: n, Route: comp.Route, Platforms: own(comp.Platforms), Optional: own(comp.Optional)}
	})
	out.Groups = each(slices.Sorted(maps.Keys(c.Groups)), func(n string) wire.GroupRules {
		g := c.Groups[n]
		return wire.GroupRules{Name: n, Claims: own(g.Claims), Members: own(g.Members),
			May: each(g.May, func(r charter.Role) string { return string(r) })}
	})
	return out, nil
}

func viewRules(r charter.Rules) wire.EnvironRules {
	return wire.EnvironRules{Name: r.Environment, Comes: r.From, Tags: own(r.Tags), Places: own(r.Places), Promote: r.Promote,
		Approvals: r.Approvals, Emergency: r.Emergency, Skipping: r.Skipping, RollBack: r.RollBack, Switch: r.Switch, Waits: r.Waits,
		Gates: each(r.Gates, func(g charter.GateInWords) wire.GateRule {
			return wire.GateRule{Name: image.Printable(g.Name), Asks: image.Printable(g.Asks)}
		}),
		Freezes: each(r.Freezes, func(f charter.FreezeInWords) wire.FreezeTimes {
			return wire.FreezeTimes{Name: image.Printable(f.Name), When: f.When, Spans: each(f.Spans, func(s gate.Span) wire.Span {
				return wire.Span{From: s.From.UTC(), To: s.To.UTC()}
			})}
		}),
	}
}

func charterVersions(ctx context.Context, a *API, by service.Actor, in PageQuery) (wire.CharterVersions, error) {
	page, err := in.page()
	if err != nil {
		return wire.CharterVersions{}, err
	}
	rows, err := a.service.CharterVersions(ctx, by, page)
	rows, next := cut(rows, in.limit(), func(c store.AdoptedCharter) int64 { return c.Version })
	return wire.CharterVersions{Next: next, Items: each(rows, func(c store.AdoptedCharter) wire.AdoptedCharter {
		return wire.AdoptedCharter{Version: c.Version, Adopted: c.AdoptedAt.UTC(), By: c.Name}
	})}, err
}

func proposals(ctx context.Context, a *API, by service.Actor, in PageQuery) (wire.Proposals, error) {
	page, err := in.page()
	if err != nil {
		return wire.Proposals{}, err
	}
	rows, err := a.service.Proposals(ctx, by, page)
	rows, next := cut(rows, in.limit(), func(p store.Proposal) int64 { return p.Number })
	return wire.Proposals{Items: each(rows, viewProposal), Next: next}, err
}

func viewProposal(p store.Proposal) wire.Proposal {
	out := wire.Proposal{
		Number:  p.Number,
		State:   p.State,
		Base:    p.Base,
		By:      p.Name,
		Because: p.Because,
		Asked:   p.AskedAt.UTC(),
		Ended:   utc(p.EndedAt),
	}
	if p.Version != nil {
		out.Version = *p.Version
	}
	return out
}

func proposalNumbered(ctx context.Context, a *API, by service.Actor, in numbered) (wire.ProposalInWords, error) {
	p, err := a.service.Proposal(ctx, by, in.Number)
	return viewProposalInWords(p), err
}

func viewProposalInWords(p service.ProposalView) wire.ProposalInWords {
	out := wire.ProposalInWords{Proposal: viewProposal(p.Proposal), Document: p.Document, Changes: each(p.Changes, image.Printable),
		Agreed: p.Verdict.Seen, Wants: p.Verdict.Wants, MaySay: p.MaySay == nil}
	out.Said = each(p.Said, func(s store.Approval) wire.Said {
		return wire.Said{By: s.Name, Agreed: s.Agreed, Remark: s.Remark, At: s.At.UTC(), Counts: s.WithdrawnAt == nil}
	})
	if p.MaySay != nil {
		out.WhyNot = whyNot(p.MaySay)
	}
	return out
}

func approveCharter(ctx context.Context, a *API, by service.Actor, in remark) (wire.ProposalInWords, error) {
	p, err := a.service.SayOfCharter(ctx, by, in.Number, true, in.Remark.Remark)
	return viewProposalInWords(p), err
}

func declineCharter(ctx context.Context, a *API, by service.Actor, in remark) (wire.ProposalInWords, error) {
	p, err := a.service.SayOfCharter(ctx, by, in.Number, false, in.Remark.Remark)
	return viewProposalInWords(p), err
}

func rehearse(ctx context.Context, a *API, by service.Actor, in wire.CharterDocument) (wire.Rehearsal, error) {
	out, err := a.service.Rehearse(ctx, by, in.Document)
	return wire.Rehearsal{Items: each(out, func(r service.Rehearsed) wire.Rehearsed {
		return wire.Rehearsed{
			Component:   r.Component,
			Environment: r.Environment,
			Now:         image.Printable(r.Now),
			Then:        image.Printable(r.Then),
		}
	})}, err
}

func checkPlaces(ctx context.Context, a *API, by service.Actor, in wire.CharterDocument) (wire.PlaceChecks, error) {
	out, err := a.service.CheckPlaces(ctx, by, in.Document)
	return wire.PlaceChecks{Items: each(out, func(p service.PlaceCheck) wire.PlaceCheck {
		v := wire.PlaceCheck{Component: p.Component, Environment: p.Environment, Repository: p.Repository}
		if p.Fails != nil {
			w := viewProblem(p.Fails)
			v.Fails = &w
		}
		return v
	})}, err
}
