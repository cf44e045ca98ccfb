package api

import (
	"context"
	"net/http"

	"dovrak/api/wire"
	"dovrak/core/image"
	"dovrak/service"
	"dovrak/store"
)

type (
	personPath struct {
		Name string `path:"name" param:"name" json:"-" required:"true"`
	}
	personEdit struct {
		Name string `path:"name" param:"name" json:"-" required:"true"`
		wire.PersonEdit
	}
	word struct {
		Number int64 `path:"number" param:"number" json:"-" required:"true"`
		wire.Word
	}
)

// NoBody says that all is in the path.
func (personPath) NoBody() {}

// peopleRoutes are those of people: how they sign in, who they are, what they say of promotions.
func peopleRoutes() []route {
	const person, promotion = "/api/v1/people/:name", "/api/v1/promotions/:number"
	return []route{
		open(http.MethodGet, "/api/v1/sign-in", "ways", "How people may sign in", ways),
		{
			method:  http.MethodGet,
			path:    "/api/v1/sign-in/begin",
			open:    true,
			id:      "beginSignIn",
			in:      beginQuery{},
			out:     "",
			media:   "text/html",
			status:  http.StatusFound,
			summary: "Send a browser to the issuer",
			handle:  (*API).beginSignIn,
		},
		{
			method:  http.MethodGet,
			path:    "/api/v1/sign-in/return",
			open:    true,
			id:      "endSignIn",
			in:      returnQuery{},
			out:     "",
			media:   "text/html",
			status:  http.StatusFound,
			summary: "Where the issuer sends it back to",
			handle:  (*API).endSignIn,
		},
		open(http.MethodPost, "/api/v1/sign-in/terminal", "signInTerminal", "Sign in from a terminal", signInTerminal),
		open(http.MethodPost, "/api/v1/sign-in/password", "setPassword", "Set a password by an invitation", setPassword),
		{method: http.MethodPost, path: "/api/v1/session", open: true, id: "signIn", in: wire.SignIn{}, out: wire.Actor{},
			summary: "Open a session of the console, by a token or an account", handle: (*API).signIn},
		{method: http.MethodDelete, path: "/api/v1/session", needs: service.Read, id: "signOut", summary: "End the console's session",
			in: none{}, out: wire.Health{}, handle: (*API).signOut},

		call(http.MethodGet, "/api/v1/people", service.Read, "people", "Who signs in, and what they may", people),
		call(http.MethodPost, "/api/v1/people", service.Keep, "addPerson", "Give someone an account of Dovrak's own", addPerson),
		call(http.MethodPatch, person, service.Keep, "editPerson", "Change a person's address", editPerson),
		call(http.MethodPost, person+"/invite", service.Keep, "invite", "Let someone set their password anew", invite),
		call(http.MethodPost, person+"/withdraw", service.Keep, "withdraw", "Take all rights of someone, at once", withdraw),
		call(http.MethodPost, person+"/restore", service.Keep, "restore", "Give them back", restore),

		call(http.MethodGet, promotion+"/prospect", service.Read, "prospect", "What a promotion would change, side by side", prospect),
		call(http.MethodPost, promotion+"/approve", service.Approve, "approve", "Agree to a promotion that waits", approve),
		call(http.MethodPost, promotion+"/decline", service.Approve, "decline", "Decline it, which ends it", decline),
	}
}

func ways(ctx context.Context, a *API, _ none) (wire.Ways, error) {
	w, err := a.service.Ways(ctx)
	return wire.Ways{Issuer: w.Issuer, Client: w.Client, Scopes: own(w.Scopes)}, err
}

func signInTerminal(ctx context.Context, a *API, in wire.TerminalSignIn) (wire.TerminalSession, error) {
	var s service.Session
	var err error
	if in.Identity != "" {
		s, err = a.service.SignInPerson(ctx, in.Identity)
	} else {
		s, err = a.service.SignInByPassword(ctx, in.Name, in.Password, false)
	}
	return wire.TerminalSession{Name: s.Name, Token: s.Secret, Expires: s.Expires}, err
}

func setPassword(ctx context.Context, a *API, in wire.NewPassword) (wire.Health, error) {
	return wire.Health{Status: "set"}, a.service.SetPassword(ctx, in.Name, in.Invitation, in.Password)
}

func people(ctx context.Context, a *API, by service.Actor, _ none) (wire.People, error) {
	all, err := a.service.People(ctx, by)
	return wire.People{Items: each(all, viewPerson)}, err
}

func viewPerson(p service.Person) wire.Person {
	return wire.Person{
		Name:        p.Actor.Name,
		Email:       p.Email,
		Withdrawn:   utc(p.Withdraw),
		Groups:      own(p.May.Groups),
		PromotesIn:  own(p.May.PromotesIn),
		RollsBackIn: own(p.May.RollsBackIn),
		ApprovesIn:  own(p.May.ApprovesIn),
		May:         each(p.May.May, func(m service.Permission) string { return string(m) }),
		Accounts: each(p.Accounts, func(acc store.Account) wire.Account {
			return wire.Account{
				Issuer:  acc.Issuer,
				Subject: acc.Subject,
				Claims:  each(acc.Claims, image.Printable),
				Seen:    utc(acc.SeenAt),
				Invited: utc(acc.InvitedUntil),
			}
		}),
	}
}

func viewInvitation(i service.Invitation) wire.Invitation {
	return wire.Invitation{Name: i.Name, Invitation: i.Secret, Expires: i.Expires}
}

func addPerson(ctx context.Context, a *API, by service.Actor, in wire.NewPerson) (wire.Invitation, error) {
	i, err := a.service.AddPerson(ctx, by, in.Name, in.Email)
	return viewInvitation(i), err
}

func editPerson(ctx context.Context, a *API, by service.Actor, in personEdit) (wire.Health, error) {
	return wire.Health{Status: "changed"}, a.service.EditPerson(ctx, by, in.Name, in.Email)
}

func invite(ctx context.Context, a *API, by service.Actor, in personPath) (wire.Invitation, error) {
	i, err := a.service.Invite(ctx, by, in.Name)
	return viewInvitation(i), err
}

func withdraw(ctx context.Context, a *API, by service.Actor, in personPath) (wire.Health, error) {
	return wire.Health{Status: "withdrawn"}, a.service.WithdrawRights(ctx, by, in.Name, false)
}

func restore(ctx context.Context, a *API, by service.Actor, in personPath) (wire.Health, error) {
	return wire.Health{Status: "restored"}, a.service.WithdrawRights(ctx, by, in.Name, true)
}

func approve(ctx context.Context, a *API, by service.Actor, in word) (wire.Promotion, error) {
	return a.say(ctx, by, in, true)
}

func decline(ctx context.Context, a *API, by service.Actor, in word) (wire.Promotion, error) {
	return a.say(ctx, by, in, false)
}

func (a *API) say(ctx context.Context, by service.Actor, in word, agreed bool) (wire.Promotion, error) {
	p, err := a.service.SayOf(ctx, by, in.Number, service.Word{Agreed: agreed, Remark: in.Remark, Seen: in.Binding})
	return viewPromotion(p), err
}

func prospect(ctx context.Context, a *API, by service.Actor, in numbered) (wire.Prospect, error) {
	p, err := a.service.PromotionNumbered(ctx, by, in.Number)
	if err != nil {
		return wire.Prospect{}, err
	}
	v, err := a.service.Prospect(ctx, by, in.Number)
	if err != nil {
		return wire.Prospect{}, err
	}
	binding := p.Promotion.Plan.Binding()
	out := wire.Prospect{Next: viewInView(v.Next), Between: viewBetween(v.Between), MaySay: v.MaySay == nil}
	if v.MaySay != nil {
		out.WhyNot = whyNot(v.MaySay)
	}
	if v.Now.Digest != "" {
		now := viewInView(v.Now)
		out.Now = &now
	}
	out.Said = each(v.Said, func(s store.Approval) wire.Said {
		return wire.Said{
			By:     s.Name,
			Agreed: s.Agreed,
			Remark: s.Remark,
			At:     s.At.UTC(),
			Counts: s.Bound == binding && s.WithdrawnAt == nil,
		}
	})
	out.Elsewhere = each(v.Elsewhere, func(c service.StandingCell) wire.Stand {
		return wire.Stand{Environment: c.Environment, Repository: c.Registry + "/" + c.Repository, Tag: c.Tag, Since: utc(c.Since)}
	})
	return out, nil
}

func viewInView(i service.ImageInView) wire.ImageInView {
	img := viewImage(i.Image)
	out := wire.ImageInView{
		Reference: img.Reference,
		Digest:    img.Digest,
		Version:   img.Version,
		Revision:  img.Revision,
		Created:   img.Created,
		Size:      img.Size,
		Base:      image.Printable(i.Base),
		Builds:    img.Builds,
		Evidence:  img.Evidence,
	}
	out.Platforms = each(img.Platforms, func(p wire.PlatformImage) wire.PlatformInView {
		return wire.PlatformInView{Platform: p.Platform, Size: p.Size}
	})
	for _, t := range i.Image.Evidence.Attestations {
		if t.Fits && t.Key != "" {
			out.Attested++
		}
	}
	return out
}
