package charter

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"dovrak/core/gate"
	"dovrak/core/image"
)

// SignIn is the issuer at which people sign in by OpenID Connect. Without one they have accounts of Dovrak's own.
type SignIn struct {
	Issuer string `yaml:"issuer"       required:"true" description:"https, or http on this machine"`
	Client string `yaml:"client"       required:"true" description:"by which the issuer knows Dovrak"`
	Secret string `yaml:"secret"                       description:"where the issuer wants one of the client: the name of a secret source in the server's settings"`
	Groups string `yaml:"groups-claim"                 description:"the claim that lists groups; groups where nothing is said"`
	Name   string `yaml:"name-claim"                   description:"the claim that names the person; name where nothing is said"`
}

// GroupsClaim and NameClaim are the claims that are read.
func (s SignIn) GroupsClaim() string { return orElse(s.Groups, "groups") }

// NameClaim is the claim that names a person.
func (s SignIn) NameClaim() string { return orElse(s.Name, "name") }

func orElse(s, or string) string {
	if s == "" {
		return or
	}
	return s
}

// Group is some people, or machines, with what they may.
type Group struct {
	Claims  []string `yaml:"claims"  description:"what the issuer calls those who are in it"`
	Members []string `yaml:"members" description:"accounts and machines that are in it by name"`
	May     []Role   `yaml:"may"     description:"besides what environments let the group do"`
}

// Role is what a group may be given by its may; environments give the rest: to promote there, to approve there.
type Role string

// Roles lists them all.
var Roles = []Role{"read", "report", "point", "copy", "promote", "roll-back", "keep"}

// Enum lists the roles for the schema.
func (Role) Enum() []any {
	var out []any
	for _, r := range Roles {
		out = append(out, r)
	}
	return out
}

// Emergency is a promotion that cannot wait: freezes do not hold for it, nor the gates that it waives, but others must agree.
type Emergency struct {
	Approvals gate.Approvals `yaml:"approvals" required:"true" description:"who must agree to it"`
	Waives    []string       `yaml:"waives"                    description:"gates that do not count then, by name"`
}

// Member is who asks: by the name of an account of Dovrak's own or of a machine, in letters of any case, and by what the issuer says.
type Member struct {
	Name   string
	Claims []string
}

// GroupsOf gives the groups that somebody is in, in order.
func (c *Charter) GroupsOf(m Member) []string {
	var out []string
	for _, name := range sorted(c.Groups) {
		g := c.Groups[name]
		has := func(v string) bool { return slices.Contains(g.Claims, v) }
		named := func(v string) bool { return m.Name != "" && strings.EqualFold(v, m.Name) }
		if slices.ContainsFunc(g.Members, named) || slices.ContainsFunc(m.Claims, has) {
			out = append(out, name)
		}
	}
	return out
}

// PromotesIn gives the environments whose rules let these groups promote there by name; those that name nobody are left out.
func (c *Charter) PromotesIn(groups []string) []string {
	return c.environmentsWhere(func(e Environment) bool { return meet(e.Promote, groups) })
}

// RollsBackIn gives the environments whose rules let these groups roll back there by name.
func (c *Charter) RollsBackIn(groups []string) []string {
	return c.environmentsWhere(func(e Environment) bool { return meet(e.RollBack, groups) })
}

// ApprovesIn gives the environments where these groups may agree to promotions of any kind.
func (c *Charter) ApprovesIn(groups []string) []string {
	return c.environmentsWhere(func(e Environment) bool { return meet(e.Approvers(), groups) })
}

// Approvers are the groups that may agree to promotions of some kind. Any of them may review one that went another way than usual.
func (e Environment) Approvers() []string {
	out := slices.Concat(e.Approvals.From, e.Skipping.From)
	if e.Emergency != nil {
		out = append(out, e.Emergency.Approvals.From...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (c *Charter) environmentsWhere(fits func(Environment) bool) []string {
	return slices.DeleteFunc(c.Order(), func(name string) bool { return !fits(c.Environments[name]) })
}

func meet(a, b []string) bool {
	return slices.ContainsFunc(a, func(s string) bool { return slices.Contains(b, s) })
}

// AgreementTo is who must agree to a promotion to an environment: to an emergency, to one that skips an environment, or to any other.
func (e Environment) AgreementTo(emergency, skips bool) gate.Approvals {
	switch {
	case emergency && e.Emergency != nil:
		return e.Emergency.Approvals
	case skips && e.Skipping.Count > 0:
		return e.Skipping
	}
	return e.Approvals
}

func (c *Charter) checkPeople(at locator) error {
	if s := c.People; s != nil {
		where := at.find("people")
		u, err := url.Parse(s.Issuer)
		switch {
		case err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !onThisMachine(u.Hostname())):
			return mistake(where, "the issuer "+image.Printable(s.Issuer), "name it by its https address, as its tokens do in iss")
		case s.Client == "":
			return mistake(where, "no client", "say by which name the issuer knows Dovrak, e.g. client: dovrak")
		}
		for _, p := range c.Pipelines {
			if p.Issuer == s.Issuer && p.Audience == s.Client {
				return mistake(where, "a pipeline's tokens are meant for the client "+s.Client+" of the same issuer",
					"give people a client of their own: a pipeline is no person")
			}
		}
	}
	for _, name := range sorted(c.Groups) {
		if err := c.checkGroup(name, at); err != nil {
			return err
		}
	}
	return c.checkApprovals(c.Adoption, maxProposal, at.find("adoption"))
}

// maxProposal bounds how long an approval of a charter may count.
const maxProposal = 30 * 24 * time.Hour

// Adopts reports whether these groups may agree to the next charter.
func (c *Charter) Adopts(groups []string) bool { return meet(c.Adoption.From, groups) }

func (c *Charter) checkGroup(name string, at locator) error {
	g, where := c.Groups[name], at.find("groups", name)
	switch {
	case !plainName.MatchString(name):
		return mistake(where, "the group "+image.Printable(name), "use lower case letters, digits and single hyphens")
	case len(g.Claims) == 0 && len(g.Members) == 0:
		return mistake(where, "nobody can be in "+name, "name members, or what the issuer calls them under claims")
	case len(g.Claims) > 0 && c.People == nil:
		return mistake(where, name+" has claims, and people have no issuer", "name the issuer under people:, or members by name")
	}
	for _, role := range g.May {
		if !slices.Contains(Roles, role) {
			return mistake(where, name+" may "+image.Printable(string(role)),
				fmt.Sprintf("name some of %v; environments say who may promote and approve there", Roles))
		}
	}
	return nil
}

// checkAgreement holds who may promote and approve in an environment against the groups there are.
func (c *Charter) checkAgreement(name string, at locator) error {
	env := c.Environments[name]
	for _, rule := range []struct {
		key    string
		groups []string
	}{{"promote", env.Promote}, {"roll-back", env.RollBack}} {
		for _, g := range rule.groups {
			if _, ok := c.Groups[g]; !ok {
				return mistake(at.find("environments", name, rule.key), "the group "+image.Printable(g)+", which there is not",
					"name some of "+names(c.Groups))
			}
		}
	}
	if err := c.checkApprovals(env.Skipping, env.Waits(), at.find("environments", name, "skipping")); err != nil {
		return err
	}
	if err := c.checkApprovals(env.Approvals, env.Waits(), at.find("environments", name, "approvals")); err != nil {
		return err
	}
	if env.Emergency == nil {
		return nil
	}
	where := at.find("environments", name, "emergency")
	if env.Emergency.Approvals.Count == 0 {
		return mistake(where, "an emergency that nobody need agree to", "say who must: approvals: {count: 1, from: [GROUP]}")
	}
	for _, w := range env.Emergency.Waives {
		if !slices.ContainsFunc(env.conditions.Gates, func(g gate.Compiled) bool { return g.Name() == w }) {
			return mistake(where, "an emergency waives "+image.Printable(w)+", which is no gate of "+name, "name one of its gates")
		}
	}
	return c.checkApprovals(env.Emergency.Approvals, env.Waits(), where)
}

func (c *Charter) checkApprovals(a gate.Approvals, waits time.Duration, where string) error {
	if err := a.Check(); err != nil {
		return mistake(where, image.Printable(err.Error()), "see docs/charter.md, approvals")
	}
	byName, open := map[string]bool{}, false
	for _, g := range a.From {
		group, ok := c.Groups[g]
		if !ok {
			return mistake(where, "approvals from "+image.Printable(g)+", which is no group", "name some of "+names(c.Groups))
		}
		open = open || len(group.Claims) > 0
		for _, m := range group.Members {
			byName[m] = true
		}
	}
	if !open && a.Count > len(byName) {
		return mistake(where, fmt.Sprintf("%d must agree, and no more than %d could", a.Count, len(byName)), "ask fewer, or name more")
	}
	if lasts := a.Lasts(); lasts > waits {
		return mistake(where, fmt.Sprintf("an approval counts for %s, and the promotion waits for %s only", a.GoodFor, waits),
			"let it wait longer, or leave good-for out")
	}
	return nil
}
