package api

import (
	"net/http"
	"strings"

	"dovrak/api/wire"
	"dovrak/service"

	"github.com/labstack/echo/v5"
)

// sessionCookie carries the console's session. It is HttpOnly: no script reads it.
const sessionCookie = "dovrak_session"

// signedIn finds who asks: by a token in the Authorization header, else by the console's session.
func (a *API) signedIn(c *echo.Context) (service.Actor, error) {
	secret := strings.TrimPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
	if secret == "" {
		if cookie, err := c.Cookie(sessionCookie); err == nil {
			secret = cookie.Value
		}
	}
	return a.service.SignedIn(c.Request().Context(), secret)
}

func (a *API) signIn(c *echo.Context, _ service.Actor) error {
	var in wire.SignIn
	if err := take(c, &in); err != nil {
		return err
	}
	session, expires, by, err := a.service.OpenSession(c.Request().Context(), strings.TrimSpace(in.Token))
	if err != nil {
		return err
	}
	c.SetCookie(
		&http.Cookie{
			Name:     sessionCookie,
			Value:    session,
			Path:     "/",
			Expires:  expires,
			HttpOnly: true,
			Secure:   a.secure,
			SameSite: http.SameSiteStrictMode,
		},
	)
	return c.JSON(http.StatusOK, viewActor(by))
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
