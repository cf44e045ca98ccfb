package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"dovrak/core/charter"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/store"

	"github.com/google/uuid"
)

// Permission is a right that an actor may have.
type Permission string

// The permissions there are.
const (
	Read     Permission = "read"      // look at everything but secrets
	Report   Permission = "report"    // report builds and evidence, for all components or for some
	Point    Permission = "point"     // point tags
	Copy     Permission = "copy"      // copy images
	Promote  Permission = "promote"   // ask for promotions; where an environment names groups, theirs alone
	RollBack Permission = "roll-back" // roll environments back; where an environment names groups, theirs alone
	Keep     Permission = "keep"      // registries, charter, people, tokens
	Approve  Permission = "approve"   // agree to promotions: people of the groups that an environment names, and no token
)

// Permissions lists those that a token may be given.
var Permissions = []Permission{Read, Report, Point, Copy, Promote, RollBack, Keep}

// Actor is who acts, with what they may at this moment.
type Actor struct {
	ID      uuid.UUID
	Kind    string
	Name    string
	May     []Permission
	For     []string // the components that Report is for; none is all
	Groups  []string // by the charter in force
	Own     bool     // they signed in by an account of their own
	TokenID uuid.UUID
	Expires time.Time

	PromotesIn, RollsBackIn, ApprovesIn []string // environments that name one of the groups
}

// reportsFor is nil if the actor may report for a component.
func (a Actor) reportsFor(component string) error {
	if err := a.Require(Report); err != nil {
		return err
	}
	if len(a.For) == 0 || slices.Contains(a.For, component) {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.NotPermitted,
		Title:  "You do not report for this component",
		Asked:  image.Printable(component) + " as " + a.Name,
		Seen:   "a permission to report for " + strings.Join(a.For, ", "),
		Rule:   "permission report",
		Remedy: "use the token of the component's own pipeline, or have one issued: --for-pipeline " + image.Printable(component),
	}
}

// looksAt is nil if the actor may look at a component's builds: everyone who may read, and whoever reports them.
func (a Actor) looksAt(component string) error {
	if slices.Contains(a.May, Read) || slices.Contains(a.May, Report) && (len(a.For) == 0 || slices.Contains(a.For, component)) {
		return nil
	}
	return a.Require(Read)
}

// Require is nil if the actor has the permission, else the problem that says so.
func (a Actor) Require(p Permission) error {
	if slices.Contains(a.May, p) {
		return nil
	}
	remedy := "have someone with the permission keep issue a token with --may " + string(p)
	if p == Approve {
		remedy = "sign in by an account of your own; the charter says whose groups approve, under approvals of each environment"
	}
	return &problem.Problem{Kind: problem.NotPermitted, Title: "You do not have the permission for this", Asked: "as " + a.Name,
		Seen: "the permissions " + list(a.May), Rule: "permission " + string(p), Remedy: remedy}
}

// promotesTo is nil if the actor may promote to an environment: where it names groups, theirs alone.
func (a Actor) promotesTo(name string, env charter.Environment) error {
	if err := a.Require(Promote); err != nil {
		return err
	}
	if len(env.Promote) == 0 || slices.Contains(a.PromotesIn, name) {
		return nil
	}
	return &problem.Problem{Kind: problem.NotPermitted, Title: "You may not promote to this environment", Asked: name + " as " + a.Name,
		Seen: "the groups " + orNone(a.Groups), Rule: "promote of " + name + ": " + strings.Join(env.Promote, ", "),
		Remedy: "have someone of these groups ask"}
}

// rollsBackTo is nil if the actor may roll an environment back: where it names groups, theirs alone.
func (a Actor) rollsBackTo(name string, env charter.Environment) error {
	if err := a.Require(RollBack); err != nil {
		return err
	}
	if len(env.RollBack) == 0 || slices.Contains(a.RollsBackIn, name) {
		return nil
	}
	return &problem.Problem{Kind: problem.NotPermitted, Title: "You may not roll this environment back", Asked: name + " as " + a.Name,
		Seen: "the groups " + orNone(a.Groups), Rule: "roll-back of " + name + ": " + strings.Join(env.RollBack, ", "),
		Remedy: "have someone of these groups ask"}
}

// approvesFor is nil if the actor may say something of a promotion that must be agreed to by some of these groups.
func (a Actor) approvesFor(environment string, groups []string) error {
	if err := a.Require(Approve); err != nil {
		return err
	}
	if slices.ContainsFunc(a.Groups, func(g string) bool { return slices.Contains(groups, g) }) {
		return nil
	}
	return &problem.Problem{Kind: problem.NotPermitted, Title: "You may not approve this", Asked: environment + " as " + a.Name,
		Seen: "the groups " + orNone(a.Groups), Rule: "approvals of " + environment + ": " + orNone(groups),
		Remedy: "have someone of these groups look at it"}
}

func orNone(words []string) string {
	if len(words) == 0 {
		return "(none)"
	}
	return strings.Join(words, ", ")
}

func list(ps []Permission) string {
	if len(ps) == 0 {
		return "(none)"
	}
	out := make([]string, len(ps))
	for i, p := range ps {
		out[i] = string(p)
	}
	return strings.Join(out, ", ")
}

// SignedIn finds who bears a token, with what the charter of this moment lets them do. The problem is the same for a token that never
// was and for one that ended, but for its text.
func (s *Service) SignedIn(ctx context.Context, secret string) (Actor, error) {
	p := &problem.Problem{
		Kind:   problem.NotSignedIn,
		Title:  "You are not signed in",
		Remedy: "sign in: dovrak signin, or on the console’s sign-in page; or use a token that counts, in DOVRAK_TOKEN",
	}
	if secret == "" {
		p.Seen = "no token"
		return Actor{}, p
	}
	k, ok, err := s.db.Known(ctx, hashToken(secret))
	if err != nil {
		return Actor{}, err
	}
	switch {
	case !ok:
		p.Seen = "a token that this service did not issue"
		return Actor{}, p
	case !k.Live:
		p.Seen = "a token that expired or was revoked"
		return Actor{}, p
	case k.Withdrawn:
		p.Seen, p.Remedy = "all rights of "+k.Actor.Name+" were withdrawn", "have someone with the permission keep give them back"
		return Actor{}, p
	}
	return s.entitled(ctx, k)
}

// entitled gives an actor what they may: by themselves, and by the groups that the charter in force puts them in. Somebody else's token
// in a person's name puts nobody in a group.
func (s *Service) entitled(ctx context.Context, k store.Known) (Actor, error) {
	a := Actor{ID: k.Actor.ID, Kind: k.Actor.Kind, Name: k.Actor.Name, Own: k.Own, TokenID: k.TokenID, Expires: k.ExpiresAt}
	a.May, a.For = held(k.Permissions)
	if !k.Own && k.Actor.Kind == "person" {
		return a, nil
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return a, err
	}
	a.join(law.Charter, groupsIn(law.Charter, k.Actor, k.Accounts))
	return a, nil
}

// groupsIn are the groups of someone with these accounts. Accounts of an issuer that the charter does not name say nothing.
func groupsIn(c *charter.Charter, who store.Actor, accounts []store.Account) []string {
	m := charter.Member{}
	if who.Kind != "person" {
		m.Name = who.Name
	}
	for _, acc := range accounts {
		if acc.Issuer == "" {
			m.Name = acc.Subject // which Dovrak itself has given, and no issuer
		}
		if c.People != nil && acc.Issuer == c.People.Issuer {
			m.Claims = append(m.Claims, acc.Claims...)
		}
	}
	return c.GroupsOf(m)
}

// join gives an actor what groups may.
func (a *Actor) join(c *charter.Charter, groups []string) {
	a.Groups = groups
	a.PromotesIn, a.RollsBackIn, a.ApprovesIn = c.PromotesIn(groups), c.RollsBackIn(groups), c.ApprovesIn(groups)
	may := func(p Permission) {
		if !slices.Contains(a.May, p) {
			a.May = append(a.May, p)
		}
	}
	for _, g := range groups {
		for _, p := range c.Groups[g].May {
			may(Permission(p))
		}
	}
	if len(a.PromotesIn) > 0 {
		may(Read)
		may(Promote)
	}
	if len(a.RollsBackIn) > 0 {
		may(Read)
		may(RollBack)
	}
	if a.Own && (len(a.ApprovesIn) > 0 || c.Adopts(groups)) {
		may(Read)
		may(Approve)
	}
}

// held sorts an actor's grants.
func held(grants []store.Grant) (may []Permission, components []string) {
	for _, g := range grants {
		if !slices.Contains(may, Permission(g.Permission)) {
			may = append(may, Permission(g.Permission))
		}
		if g.Scope != "" {
			components = append(components, g.Scope)
		}
	}
	return may, components
}
