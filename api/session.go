package api

import (
	"net/http"
	"net/url"
	"strings"
	"time"

	"dovrak/api/wire"
	"dovrak/core/problem"
	"dovrak/service"

	"github.com/labstack/echo/v5"
)

// The cookies. No script reads those that let anybody in. That of the session is sent by the console's own pages alone; the
// one that binds a sign-in to its browser must come back from the issuer's site, and goes nowhere but to the sign-in.
const (
	sessionCookie = "dovrak_session"
	signInCookie  = "dovrak_signin"
	failedCookie  = "dovrak_signin_failed" // why, for the page to show: a cookie, since a link with words in it could be anyone's
	signInPath    = "/api/v1/sign-in"
)

type (
	beginQuery struct {
		To string `query:"to" json:"-" description:"the page of the console behind it"`
	}
	returnQuery struct {
		State string `query:"state"             json:"-"`
		Code  string `query:"code"              json:"-"`
		Error string `query:"error"             json:"-" description:"of the issuer, where it let nobody in"`
		Why   string `query:"error_description" json:"-"`
	}
)

// bearer is what a request comes with: a token in the Authorization header, else the console's session.
func bearer(c *echo.Context) string {
	if secret := strings.TrimPrefix(c.Request().Header.Get("Authorization"), "Bearer "); secret != "" {
		return secret
	}
	return cookie(c, sessionCookie)
}

func cookie(c *echo.Context, name string) string {
	if k, err := c.Cookie(name); err == nil {
		return k.Value
	}
	return ""
}

// signedIn finds who asks.
func (a *API) signedIn(c *echo.Context) (service.Actor, error) {
	return a.service.SignedIn(c.Request().Context(), bearer(c))
}

func (a *API) signIn(c *echo.Context, _ service.Actor) error {
	var in wire.SignIn
	if err := take(c, &in); err != nil {
		return err
	}
	ctx := c.Request().Context()
	var session string
	var expires time.Time
	var err error
	if in.Token != "" || in.Name == "" {
		session, expires, _, err = a.service.OpenSession(ctx, strings.TrimSpace(in.Token))
	} else {
		var s service.Session
		s, err = a.service.SignInByPassword(ctx, in.Name, in.Password, true)
		session, expires = s.Secret, s.Expires
	}
	if err != nil {
		return err
	}
	if err := a.settle(c, session, expires); err != nil {
		return err
	}
	by, err := a.service.SignedIn(ctx, session)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, viewActor(by))
}

// settle gives the browser its session. One that it came with ends: nobody stays in by a session that was there before.
func (a *API) settle(c *echo.Context, session string, expires time.Time) error {
	if old := cookie(c, sessionCookie); old != "" {
		if by, err := a.service.SignedIn(c.Request().Context(), old); err == nil {
			if err := a.service.CloseSession(c.Request().Context(), by); err != nil {
				return err
			}
		}
	}
	c.SetCookie(&http.Cookie{Name: sessionCookie, Value: session, Path: "/", Expires: expires, HttpOnly: true, Secure: a.secure,
		SameSite: http.SameSiteStrictMode})
	return nil
}

func (a *API) signOut(c *echo.Context, by service.Actor) error {
	if err := a.service.CloseSession(c.Request().Context(), by); err != nil {
		return err
	}
	c.SetCookie(
		&http.Cookie{Name: sessionCookie, Path: "/", MaxAge: -1, HttpOnly: true, Secure: a.secure, SameSite: http.SameSiteStrictMode},
	)
	return c.JSON(http.StatusOK, wire.Health{Status: "signed out"})
}

// callback is where the issuer sends browsers back to: it must be known there.
func (a *API) callback() string { return a.public + signInPath + "/return" }

// beginSignIn and endSignIn are pages for a browser: what goes wrong is shown on the sign-in page.
func (a *API) beginSignIn(c *echo.Context, _ service.Actor) error {
	var in beginQuery
	if err := take(c, &in); err != nil {
		return err
	}
	sent, err := a.service.BeginSignIn(c.Request().Context(), a.callback(), in.To)
	if err != nil {
		return a.notIn(c, err)
	}
	c.SetCookie(&http.Cookie{Name: signInCookie, Value: sent.Browser, Path: signInPath, MaxAge: int(sent.Life.Seconds()), HttpOnly: true,
		Secure: a.secure, SameSite: http.SameSiteLaxMode})
	return c.Redirect(http.StatusFound, sent.Address)
}

func (a *API) endSignIn(c *echo.Context, _ service.Actor) error {
	var in returnQuery
	if err := take(c, &in); err != nil {
		return err
	}
	r := service.Returned{State: in.State, Code: in.Code, Browser: cookie(c, signInCookie), Callback: a.callback()}
	if in.Error != "" {
		r.Refusal = strings.TrimSpace(in.Error + " " + in.Why)
	}
	s, err := a.service.EndSignIn(c.Request().Context(), r)
	if err != nil {
		return a.notIn(c, err)
	}
	c.SetCookie(
		&http.Cookie{Name: signInCookie, Path: signInPath, MaxAge: -1, HttpOnly: true, Secure: a.secure, SameSite: http.SameSiteLaxMode},
	)
	if err := a.settle(c, s.Secret, s.Expires); err != nil {
		return err
	}
	return c.Redirect(http.StatusFound, s.ReturnTo)
}

// notIn shows on the sign-in page why nobody was let in.
func (a *API) notIn(c *echo.Context, err error) error {
	a.log.InfoContext(
		c.Request().Context(),
		"a sign-in came to nothing",
		"request",
		c.Request().Header.Get(requestIDHeader),
		"error",
		err,
	)
	c.SetCookie(&http.Cookie{Name: failedCookie, Value: url.QueryEscape(whyNot(err)), Path: "/signin", MaxAge: 60, Secure: a.secure,
		SameSite: http.SameSiteLaxMode})
	return c.Redirect(http.StatusFound, "/signin")
}

// whyNot is a problem in one line.
func whyNot(err error) string {
	p := problem.From(err)
	if p.Seen == "" {
		return p.Title
	}
	return p.Title + ": " + p.Seen
}
