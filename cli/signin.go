package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dovrak/api/wire"
	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"golang.org/x/oauth2"
	"golang.org/x/term"
)

// keptSignIn is what signin keeps, in a file of the user's own.
type keptSignIn struct {
	Server string `yaml:"server"`
	Token  string `yaml:"token"`
}

func (a *App) signInFile() (string, error) {
	dir := a.Env("XDG_CONFIG_HOME")
	if dir == "" {
		home := a.Env("HOME")
		if home == "" {
			return "", nil
		}
		dir = filepath.Join(home, ".config")
	}
	return filepath.Join(dir, "dovrak", "signin.yaml"), nil
}

func (a *App) kept() (keptSignIn, error) {
	var k keptSignIn
	name, err := a.signInFile()
	if err != nil || name == "" {
		return k, err
	}
	raw, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return k, nil
	}
	if err != nil {
		return k, err
	}
	return k, yaml.UnmarshalWithOptions(raw, &k, yaml.Strict())
}

func (a *App) signin() *cobra.Command {
	var pipeline, device, invited bool
	var account string
	cmd := &cobra.Command{
		Use: "signin", Short: "Sign in, and keep that for this user, so that DOVRAK_TOKEN need not be set", Args: args(0, "signin"),
		Long: "Sign in, and keep that for this user, so that DOVRAK_TOKEN need not be set.\n\n" +
			"On a terminal: at the issuer that the charter names for people, in a browser on any machine; with --account by a name and\n" +
			"password. A token on standard input is kept as it is.",
		Example: "  dovrak signin\n  dovrak signin --account Ylva\n  dovrak signin --account Ylva --invited   # the first time: sets the password\n" +
			"  export DOVRAK_TOKEN=$(dovrak signin --pipeline < id.token)   # in a pipeline: by its own system's token",
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			switch {
			case pipeline:
				return a.signInPipeline(cmd)
			case account != "":
				return a.signInByAccount(ctx, account, invited)
			case device:
				return a.signInByDevice(ctx)
			}
			if a.asksOnTerminal() {
				if w, err := a.client().Ways(ctx); err != nil || w.Issuer != "" {
					return cmp.Or(err, a.signInByDevice(ctx))
				}
			}
			return a.keepToken(ctx, a.ask("token"))
		},
	}
	f := cmd.Flags()
	f.BoolVar(
		&pipeline,
		"pipeline",
		false,
		"trade the OpenID Connect token on standard input for one that counts for an hour, and print it",
	)
	f.BoolVar(&device, "device", false, "at the issuer, by a code that is entered there in a browser")
	f.StringVar(&account, "account", "", "by this account of Dovrak's own, and its password")
	f.BoolVar(&invited, "invited", false, "with --account: set the password first, by an invitation")
	return cmd
}

// maxIDToken bounds a pipeline's token, in bytes.
const maxIDToken = 16 << 10

// signInPipeline prints the token alone, to be taken into a variable; what else is to be said goes beside it.
func (a *App) signInPipeline(cmd *cobra.Command) error {
	raw, err := readAtMost(a.In, maxIDToken)
	if err != nil {
		return err
	}
	s, err := a.client().SignInPipeline(cmd.Context(), strings.TrimSpace(string(raw)))
	if err != nil {
		return err
	}
	return a.print(&s, func() {
		fmt.Fprintf(a.Err, "signed in as %s, for %s, until %s UTC\n", s.Name, strings.Join(s.Components, ", "), clock(s.Expires))
		fmt.Fprintln(a.Out, s.Token)
	})
}

// asksOnTerminal reports whether somebody can be asked.
func (a *App) asksOnTerminal() bool {
	f, ok := a.In.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// ask gives a question for a secret: unseen on a terminal, else the next line of standard input.
func (a *App) ask(what string) func() (string, error) {
	return func() (string, error) {
		if f, ok := a.In.(*os.File); ok && a.asksOnTerminal() {
			fmt.Fprint(a.Err, what+": ")
			raw, err := term.ReadPassword(int(f.Fd()))
			fmt.Fprintln(a.Err)
			return strings.TrimSpace(string(raw)), err
		}
		if a.lines == nil {
			a.lines = bufio.NewReader(io.LimitReader(a.In, 16<<10))
		}
		line, err := a.lines.ReadString('\n')
		if err == io.EOF {
			err = nil
		}
		return strings.TrimSpace(line), err
	}
}

// keepToken finds out who bears a token, and keeps it for this user.
func (a *App) keepToken(ctx context.Context, ask func() (string, error)) error {
	token, err := ask()
	if err != nil {
		return err
	}
	a.token = token
	who, err := a.client().Whoami(ctx)
	if err != nil {
		return err
	}
	name, err := a.signInFile()
	if err != nil {
		return err
	}
	raw, err := yaml.Marshal(keptSignIn{a.server, a.token})
	if err == nil {
		err = os.MkdirAll(filepath.Dir(name), 0o700)
	}
	if err == nil {
		err = os.WriteFile(name, raw, 0o600)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "signed in to %s as %s, until %s UTC\n", a.server, a.bold(who.Name), clock(who.Expires))
	return nil
}

func given(s string) func() (string, error) { return func() (string, error) { return s, nil } }

// signInByAccount signs in by an account of Dovrak's own; invited, its password is set first.
func (a *App) signInByAccount(ctx context.Context, name string, invited bool) error {
	in := wire.TerminalSignIn{Name: name}
	var err error
	if invited {
		n := wire.NewPassword{Name: name}
		if n.Invitation, err = a.ask("invitation")(); err != nil {
			return err
		}
		if n.Password, err = a.ask("new password, at least 12 letters")(); err != nil {
			return err
		}
		if err := a.client().SetPassword(ctx, n); err != nil {
			return err
		}
		in.Password = n.Password
	} else if in.Password, err = a.ask("password")(); err != nil {
		return err
	}
	s, err := a.client().SignInTerminal(ctx, in)
	if err != nil {
		return err
	}
	return a.keepToken(ctx, given(s.Token))
}

// signInByDevice signs in at the issuer (OAuth 2.0 device authorization grant, RFC 8628): the code is entered in a browser, on this
// machine or another, while this waits as the standard says.
func (a *App) signInByDevice(ctx context.Context) error {
	w, err := a.client().Ways(ctx)
	if err != nil {
		return err
	}
	if w.Issuer == "" {
		return usage{errors.New("people have no issuer here: sign in by --account NAME, or hand in a token on standard input")}
	}
	ctx = oidc.ClientContext(ctx, &http.Client{Timeout: 30 * time.Second})
	provider, err := oidc.NewProvider(ctx, w.Issuer)
	if err != nil {
		return &problem.Problem{Kind: problem.Unreachable, Title: "The issuer cannot be asked", Where: w.Issuer,
			Seen: image.Printable(err.Error()), Remedy: "see that this machine reaches it"}
	}
	conf := &oauth2.Config{ClientID: w.Client, Endpoint: provider.Endpoint(), Scopes: w.Scopes}
	if conf.Endpoint.DeviceAuthURL == "" {
		return &problem.Problem{Kind: problem.Refused, Title: "The issuer signs in no terminals", Where: w.Issuer,
			Seen: "no device authorization endpoint (RFC 8628)", Remedy: "have it let the client " + w.Client + " sign in so, or use --account"}
	}
	code, err := conf.DeviceAuth(ctx)
	if err != nil {
		return notByDevice(w, err)
	}
	fmt.Fprintf(a.Err, "Open %s\nand enter the code %s\n", a.bold(code.VerificationURI), a.bold(code.UserCode))
	token, err := conf.DeviceAccessToken(ctx, code)
	if err != nil {
		return notByDevice(w, err)
	}
	identity, _ := token.Extra("id_token").(string)
	s, err := a.client().SignInTerminal(ctx, wire.TerminalSignIn{Identity: identity})
	if err != nil {
		return err
	}
	return a.keepToken(ctx, given(s.Token))
}

func notByDevice(w wire.Ways, err error) error {
	return &problem.Problem{
		Kind:   problem.NotSignedIn,
		Title:  "The issuer let nobody in",
		Where:  w.Issuer,
		Seen:   image.Printable(err.Error()),
		Remedy: "sign in again, and enter the code within its time",
	}
}
