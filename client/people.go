package client

import (
	"context"
	"net/http"
	"net/url"

	"dovrak/api/wire"
)

// Ways tells how people may sign in.
func (c *Client) Ways(ctx context.Context) (wire.Ways, error) {
	return get[wire.Ways](ctx, c, "/api/v1/sign-in", nil)
}

// SignInTerminal gives a person a token.
func (c *Client) SignInTerminal(ctx context.Context, in wire.TerminalSignIn) (wire.TerminalSession, error) {
	return post[wire.TerminalSession](ctx, c, "/api/v1/sign-in/terminal", in)
}

// SetPassword uses an invitation up.
func (c *Client) SetPassword(ctx context.Context, in wire.NewPassword) error {
	_, err := post[wire.Health](ctx, c, "/api/v1/sign-in/password", in)
	return err
}

// People lists who signs in.
func (c *Client) People(ctx context.Context) (wire.People, error) {
	return get[wire.People](ctx, c, "/api/v1/people", nil)
}

// AddPerson gives someone an account.
func (c *Client) AddPerson(ctx context.Context, n wire.NewPerson) (wire.Invitation, error) {
	return post[wire.Invitation](ctx, c, "/api/v1/people", n)
}

// EditPerson changes someone's address.
func (c *Client) EditPerson(ctx context.Context, name string, e wire.PersonEdit) error {
	_, err := call[wire.Health](ctx, c, http.MethodPatch, person(name), nil, e)
	return err
}

// Invite lets someone set their password anew.
func (c *Client) Invite(ctx context.Context, name string) (wire.Invitation, error) {
	return post[wire.Invitation](ctx, c, person(name)+"/invite", nil)
}

// Withdraw takes all rights of someone, or with restore gives them back.
func (c *Client) Withdraw(ctx context.Context, name string, restore bool) error {
	what := "/withdraw"
	if restore {
		what = "/restore"
	}
	_, err := post[wire.Health](ctx, c, person(name)+what, nil)
	return err
}

func person(name string) string { return "/api/v1/people/" + url.PathEscape(name) }

// Prospect shows what a promotion would change.
func (c *Client) Prospect(ctx context.Context, n int64) (wire.Prospect, error) {
	return get[wire.Prospect](ctx, c, "/api/v1/promotions/"+itoa(n)+"/prospect", nil)
}

// Say agrees to a promotion, or declines it.
func (c *Client) Say(ctx context.Context, n int64, agreed bool, w wire.Word) (wire.Promotion, error) {
	what := "/decline"
	if agreed {
		what = "/approve"
	}
	return post[wire.Promotion](ctx, c, "/api/v1/promotions/"+itoa(n)+what, w)
}
