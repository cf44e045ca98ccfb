package service

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"dovrak/core/charter"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// browserLife is how long somebody may take at the issuer, between being sent there and coming back.
const browserLife = 10 * time.Minute

// signInScopes are what an issuer is asked for. Groups come in the token by the issuer's own settings, or are no standard's.
var signInScopes = []string{oidc.ScopeOpenID, "profile", "email"}

// Ways are how people may sign in. Issuer is empty where the charter names none.
type Ways struct {
	Issuer, Client string
	Scopes         []string
}

// Ways tells how people may sign in; whoever asks is not signed in yet.
func (s *Service) Ways(ctx context.Context) (Ways, error) {
	law, err := s.lawIfAny(ctx)
	if err != nil || law.People == nil {
		return Ways{}, err
	}
	return Ways{law.People.Issuer, law.People.Client, signInScopes}, nil
}

// people is the issuer of people, as the charter in force names it.
func (s *Service) people(ctx context.Context) (charter.SignIn, trusted, error) {
	law, err := s.lawIfAny(ctx)
	if err == nil && law.People == nil {
		err = &problem.Problem{Kind: problem.NotFound, Title: "People do not sign in at an issuer here", Seen: "the charter names none",
			Rule: "people", Remedy: "sign in by an account of Dovrak's own, or have the charter name the issuer under people:"}
	}
	if err != nil {
		return charter.SignIn{}, trusted{}, err
	}
	return *law.People, trusted{"people", law.People.Issuer, law.People.Client}, nil
}

// Sent is a browser that is to be sent to the issuer. Browser is the secret that it brings back with it.
type Sent struct {
	Address, Browser string
	Life             time.Duration
}

// BeginSignIn begins a sign-in in a browser (OpenID Connect 1.0, authorization code flow with PKCE, RFC 7636). callback is where the
// issuer sends the browser back to, returnTo the page of the console behind that.
func (s *Service) BeginSignIn(ctx context.Context, callback, returnTo string) (Sent, error) {
	if err := s.issuers.allow(); err != nil {
		return Sent{}, err
	}
	people, by, err := s.people(ctx)
	if err != nil {
		return Sent{}, err
	}
	provider, err := s.issuers.to(ctx, by)
	if err != nil {
		return Sent{}, err
	}
	state, browser := rand.Text(), rand.Text()
	begun := store.Begun{State: hashToken(state), Browser: hashToken(browser), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(),
		ReturnTo: ownPage(returnTo)}
	if err := s.db.Tx(ctx, func(tx store.Tx) error { return tx.BeginSignIn(ctx, begun, browserLife) }); err != nil {
		return Sent{}, err
	}
	address := clientOf(
		people,
		provider,
		callback,
	).AuthCodeURL(state, oidc.Nonce(begun.Nonce), oauth2.S256ChallengeOption(begun.Verifier))
	return Sent{address, browser, browserLife}, nil
}

func clientOf(people charter.SignIn, provider *oidc.Provider, callback string) *oauth2.Config {
	return &oauth2.Config{ClientID: people.Client, Endpoint: provider.Endpoint(), RedirectURL: callback, Scopes: signInScopes}
}

// ownPage is a page of the console; anything else is its first page: nobody is sent elsewhere from a sign-in.
func ownPage(path string) string {
	if !strings.HasPrefix(path, "/") || strings.HasPrefix(path, "//") || strings.ContainsAny(path, "\\\r\n\t") || len(path) > 2000 {
		return "/"
	}
	return path
}

// Returned is what a browser brings back from the issuer. Refusal is what the issuer says where it let nobody in.
type Returned struct{ State, Code, Refusal, Browser, Callback string }

// Session is somebody's sign-in: its secret and its end. ReturnTo is where the browser goes.
type Session struct {
	Issued
	Name, ReturnTo string
}

// EndSignIn lets somebody in who comes back from the issuer, once, in the browser in which it was begun.
func (s *Service) EndSignIn(ctx context.Context, r Returned) (Session, error) {
	people, by, err := s.people(ctx)
	if err != nil {
		return Session{}, err
	}
	var begun store.Begun
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		var ok bool
		if begun, ok, err = tx.TakeSignIn(ctx, hashToken(r.State), hashToken(r.Browser)); err == nil && !ok {
			err = notIn(
				"a sign-in that was not begun in this browser, is over, or took too long",
				"a sign-in counts once",
				"begin it again",
			)
		}
		return err
	})
	if err != nil {
		return Session{}, err
	}
	if r.Refusal != "" {
		return Session{}, notIn("the issuer says: "+image.Printable(r.Refusal), by.what+": issuer "+by.issuer, "begin it again there")
	}
	secret, err := s.clientSecret(ctx, people)
	if err != nil {
		return Session{}, err
	}
	raw, err := s.issuers.exchange(ctx, by, people, r, begun.Verifier, secret)
	if err != nil {
		return Session{}, err
	}
	return s.admitPerson(ctx, people, by, raw, asking{nonce: begun.Nonce, console: true, returnTo: begun.ReturnTo})
}

// clientSecret is what the issuer knows the client by, where it wants to: from a source that is bound to the issuer's host.
func (s *Service) clientSecret(ctx context.Context, people charter.SignIn) (string, error) {
	if people.Secret == "" {
		return "", nil
	}
	at, err := url.Parse(people.Issuer)
	if err != nil {
		return "", err
	}
	if err := s.conns.secrets.Allows(people.Secret, at.Host); err != nil {
		return "", err
	}
	c, err := s.conns.secrets.Read(ctx, people.Secret)
	return c.Secret, err
}

// exchange trades the code that a browser brought back for the identity token.
func (i *issuers) exchange(
	ctx context.Context, by trusted, people charter.SignIn, r Returned, verifier, secret string,
) (string, error) {
	provider, err := i.to(ctx, by)
	if err != nil {
		return "", err
	}
	ctx = oidc.ClientContext(ctx, &http.Client{Timeout: issuerTimeout})
	client := clientOf(people, provider, r.Callback)
	client.ClientSecret = secret
	token, err := client.Exchange(ctx, r.Code, oauth2.VerifierOption(verifier))
	if err != nil {
		return "", notIn(
			"the issuer does not take the code: "+image.Printable(err.Error()),
			by.what+": issuer "+by.issuer,
			"begin it again",
		)
	}
	raw, ok := token.Extra("id_token").(string)
	if !ok {
		return "", notIn(
			"no identity token from the issuer",
			by.what+": issuer "+by.issuer,
			"have the issuer give one to the client "+by.audience,
		)
	}
	return raw, nil
}

// SignInPerson trades an identity token, which a terminal had from the issuer (RFC 8628), for a token of Dovrak's. Each counts once.
func (s *Service) SignInPerson(ctx context.Context, raw string) (Session, error) {
	if err := s.issuers.allow(); err != nil {
		return Session{}, err
	}
	people, by, err := s.people(ctx)
	if err != nil {
		return Session{}, err
	}
	if _, err := issuerOf(raw); err != nil {
		return Session{}, err
	}
	return s.admitPerson(ctx, people, by, raw, asking{})
}

// asking is how a sign-in was begun.
type asking struct {
	nonce    string // that the token must carry
	console  bool
	returnTo string
}

// identity is who an issuer says that somebody is.
type identity struct {
	subject, name, email string // the address only where the issuer has verified it
	groups               []string
}

func (s *Service) admitPerson(ctx context.Context, people charter.SignIn, by trusted, raw string, how asking) (Session, error) {
	now, err := s.db.Now(ctx)
	if err != nil {
		return Session{}, err
	}
	token, claims, err := s.issuers.verify(ctx, by, raw, now)
	if err != nil {
		return Session{}, err
	}
	if token.Nonce != how.nonce {
		return Session{}, notIn("a token for another sign-in", "a sign-in counts once, in the browser that began it", "begin it again")
	}
	who, err := identityOf(people, token, claims)
	if err != nil {
		return Session{}, err
	}
	out := Session{ReturnTo: how.returnTo}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := spend(ctx, tx, raw, token.Expiry); err != nil {
			return err
		}
		actor, err := s.personAt(ctx, tx, by.issuer, who)
		if err != nil {
			return err
		}
		if err := tx.SeeAccount(ctx, by.issuer, who.subject, who.groups); err != nil {
			return err
		}
		out.Name = actor.Name
		out.Issued, err = s.letIn(ctx, tx, actor, how.console, by.issuer)
		return err
	})
	return out, err
}

// identityOf reads a verified token's claims.
func identityOf(people charter.SignIn, token *oidc.IDToken, claims map[string]any) (identity, error) {
	who := identity{subject: token.Subject, groups: []string{}}
	who.name, _ = claims[people.NameClaim()].(string)
	if verified, _ := claims["email_verified"].(bool); verified {
		email, _ := claims["email"].(string)
		who.email = strings.ToLower(email)
	}
	all, _ := claims[people.GroupsClaim()].([]any)
	for _, g := range all {
		if name, ok := g.(string); ok && len(who.groups) < 500 && len(name) <= maxWord {
			who.groups = append(who.groups, name)
		}
	}
	switch {
	case who.subject == "" || len(who.subject) > maxWord || image.Printable(who.subject) != who.subject:
		return who, notIn("a subject that is no name", "", "have the issuer name its subjects in at most 190 printable bytes")
	case !actorName.MatchString(who.name):
		return who, notIn("the name "+image.Printable(who.name)+" in the claim "+people.NameClaim(), "a person has a name",
			"have the issuer put a name of 2 to 64 letters there, or the charter name another claim: name-claim")
	case len(who.email) > 254 || image.Printable(who.email) != who.email:
		return who, notIn("an address that is none", "", "have the issuer correct it")
	}
	return who, nil
}

// personAt finds whose account it is. An account that is new belongs to who has its address already, or to a new person.
func (s *Service) personAt(ctx context.Context, tx store.Tx, issuer string, who identity) (store.Actor, error) {
	if err := tx.Lock(ctx, "person "+issuer+" "+who.subject); err != nil {
		return store.Actor{}, err
	}
	if acc, ok, err := tx.AccountOf(ctx, issuer, who.subject); err != nil || ok {
		actor, _, aerr := tx.ActorByID(ctx, acc.ActorID)
		return actor, firstOf(err, aerr)
	}
	actor, ok, err := tx.PersonByEmail(ctx, who.email)
	if err == nil && !ok {
		actor, err = newPerson(ctx, tx, who.name, who.email)
	}
	if err != nil {
		return actor, err
	}
	return actor, tx.AddAccount(ctx, store.Account{Issuer: issuer, Subject: who.subject, ActorID: actor.ID})
}

// newPerson makes a person, whose name must be free: nobody comes into another's by calling themselves so.
func newPerson(ctx context.Context, tx store.Tx, name, email string) (store.Actor, error) {
	if err := tx.Lock(ctx, "actor "+name); err != nil {
		return store.Actor{}, err
	}
	_, taken, err := tx.ActorNamed(ctx, name)
	if err != nil {
		return store.Actor{}, err
	}
	if taken {
		return store.Actor{}, &problem.Problem{Kind: problem.Refused, Title: "This name is another's", Asked: "a person called " + name,
			Seen: "there is " + name + " already, with another account", Rule: "a name means one",
			Remedy: "if it is the same person, give both accounts one address: dovrak people edit " + name + " --email ADDRESS"}
	}
	actor := store.Actor{ID: store.NewID(), Kind: "person", Name: name}
	if err := tx.AddActor(ctx, actor, nil); err != nil {
		return actor, err
	}
	return actor, tx.SetEmail(ctx, actor.ID, email)
}

// letIn gives somebody a token of their own, if they may do anything at all.
func (s *Service) letIn(ctx context.Context, tx store.Tx, actor store.Actor, console bool, issuer string) (Issued, error) {
	a, err := s.mayNow(ctx, tx.Queries, actor)
	if err != nil {
		return Issued{}, err
	}
	if len(a.May) == 0 {
		return Issued{}, &problem.Problem{Kind: problem.NotPermitted, Title: "You may do nothing here", Asked: "as " + actor.Name,
			Seen: "the groups " + orNone(a.Groups), Rule: "groups",
			Remedy: "have the charter put one of your groups, or you, under groups:"}
	}
	secret, hash := newToken()
	tok, err := tx.AddToken(ctx, store.Token{ID: store.NewID(), ActorID: actor.ID, Hash: hash, Session: console, Own: true}, SessionLife)
	if err != nil {
		return Issued{}, err
	}
	by := "an account of Dovrak's own"
	if issuer != "" {
		by = issuer
	}
	return Issued{tok.Number, secret, tok.ExpiresAt.UTC()}, s.record(ctx, tx, entry{act: trail.PersonIn, actor: actor.Name,
		facts: map[string]string{"token": fmt.Sprint(tok.Number), "by": by, "groups": strings.Join(a.Groups, ", ")}})
}

// mayNow gives somebody what they may at this moment, whatever token they come with. A person whose rights were withdrawn may nothing.
func (s *Service) mayNow(ctx context.Context, q store.Queries, who store.Actor) (Actor, error) {
	k := store.Known{Actor: who}
	withdrawn, err := q.Withdrawn(ctx, who.ID)
	if err == nil && withdrawn {
		err = &problem.Problem{Kind: problem.NotPermitted, Title: "All rights were withdrawn", Asked: "as " + who.Name,
			Rule: "rights", Remedy: "have someone with the permission keep give them back: dovrak people restore " + who.Name}
	}
	if err != nil {
		return Actor{ID: who.ID, Kind: who.Kind, Name: who.Name}, err
	}
	if k.Permissions, err = q.PermissionsOf(ctx, who.ID); err != nil {
		return Actor{}, err
	}
	if k.Accounts, err = q.AccountsOf(ctx, who.ID); err != nil {
		return Actor{}, err
	}
	k.Own = len(k.Accounts) > 0
	return s.entitled(ctx, k)
}
