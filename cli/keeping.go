package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/core/charter"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/term"
)

func helped(cmd *cobra.Command, _ []string) error { return cmd.Help() }

// file reads a file, or standard input for -.
func (a *App) file(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(a.In, charter.MaxBytes+1))
	}
	return os.ReadFile(name)
}

func (a *App) charter() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "charter",
		Short: "Check, adopt and show the charter",
		Args:  args(0, "charter check, charter adopt or charter show"),
		RunE:  helped,
	}
	cmd.AddCommand(
		&cobra.Command{
			Use: "check FILE", Short: "Check a charter, without the service", Args: args(1, "charter check FILE"),
			RunE: func(_ *cobra.Command, args []string) error {
				c, _, err := a.readCharter(args[0])
				if err != nil {
					return err
				}
				return a.print(&c, func() {
					fmt.Fprintf(
						a.Out,
						"%s: %d components, environments %s\n",
						c.Organisation,
						len(c.Components),
						strings.Join(c.Order(), " → "),
					)
				})
			},
		},
		&cobra.Command{
			Use: "adopt FILE", Short: "Make a charter the one in force", Args: args(1, "charter adopt FILE"),
			RunE: func(cmd *cobra.Command, args []string) error {
				_, raw, err := a.readCharter(args[0]) // its mistakes are found before anything is sent
				if err != nil {
					return err
				}
				out, err := a.client().Adopt(cmd.Context(), string(raw))
				if err != nil {
					return err
				}
				return a.print(&out, func() {
					for _, c := range out.Changes {
						fmt.Fprintln(a.Out, c)
					}
					fmt.Fprintf(a.Out, "charter %d is in force\n", out.Version)
				})
			},
		},
		a.charterShow())
	return cmd
}

func (a *App) charterShow() *cobra.Command {
	var version int64
	cmd := &cobra.Command{
		Use: "show", Short: "Show the charter in force, or an earlier version", Args: args(0, "charter show"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Charter(cmd.Context(), version)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				fmt.Fprintf(a.Out, "# charter %d, adopted %s UTC\n%s", out.Version, clock(out.Adopted), out.Document)
			})
		},
	}
	cmd.Flags().Int64Var(&version, "version", 0, "this version; 0 is the one in force")
	return cmd
}

// readCharter reads a charter's file and finds its mistakes, the same as the service would.
func (a *App) readCharter(name string) (*charter.Charter, []byte, error) {
	raw, err := a.file(name)
	if err != nil {
		return nil, nil, err
	}
	c, err := charter.ParseNew(raw)
	return c, raw, err
}

func (a *App) tokens() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "token",
		Short: "Issue, list and revoke tokens",
		Args:  args(0, "token issue, token list or token revoke"),
		RunE:  helped,
	}
	var n wire.NewToken
	issue := &cobra.Command{
		Use:   "issue NAME --may PERMISSION,…",
		Short: "Issue a token; its secret is shown this once",
		Args:  args(1, "token issue NAME --may PERMISSION,…"),
		Example: "  dovrak token issue Ragna --may read,point,copy,promote --for 720h\n" +
			"  dovrak token issue valley --for-pipeline snowpack-model,map-tiles --for 720h",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			if len(n.Components) > 0 {
				n.Kind, n.May = "pipeline", append(n.May, "report")
			}
			out, err := a.client().IssueToken(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				fmt.Fprintf(a.Err, "token %d for %s, until %s UTC; it is shown this once:\n", out.Number, n.Name, clock(out.Expires))
				fmt.Fprintln(a.Out, out.Token)
			})
		},
	}
	issue.Flags().StringVar(&n.Kind, "kind", "person", "person or pipeline")
	issue.Flags().StringSliceVar(&n.May, "may", nil, "permissions: read, report, point, copy, promote, keep")
	issue.Flags().StringSliceVar(&n.Components, "for-pipeline", nil, "components whose pipeline may report builds and evidence with it")
	issue.Flags().StringVar(&n.For, "for", "720h", "how long it counts")
	cmd.AddCommand(issue, a.tokenList(),
		&cobra.Command{
			Use: "revoke NUMBER", Short: "End a token at once", Args: args(1, "token revoke NUMBER"),
			RunE: func(cmd *cobra.Command, args []string) error {
				n, err := strconv.ParseInt(args[0], 10, 64)
				if err != nil {
					return usage{fmt.Errorf("%q is not the number of a token", args[0])}
				}
				return a.client().RevokeToken(cmd.Context(), n)
			},
		})
	return cmd
}

func (a *App) tokenList() *cobra.Command {
	var page client.Page
	cmd := &cobra.Command{
		Use: "list", Short: "List tokens, newest first", Args: args(0, "token list"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Tokens(cmd.Context(), page)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("token", "bearer", "kind", "issued", "until", "")
				right(t, 1)
				for _, k := range out.Items {
					ended := ""
					if k.Revoked != nil {
						ended = a.ember("revoked " + clock(*k.Revoked))
					}
					t.AppendRow(table.Row{k.Number, a.bold(k.Name), k.Kind, clock(k.Created), clock(k.Expires), ended})
				}
				a.list(t, "No token was issued yet: dovrak token issue NAME --may PERMISSION,…", out.Next)
			})
		},
	}
	return paged(cmd, &page)
}

func (a *App) whoami() *cobra.Command {
	return &cobra.Command{
		Use: "whoami", Short: "Tell who you are to the service, and what you may", Args: args(0, "whoami"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Whoami(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				fmt.Fprintf(
					a.Out,
					"%s (%s) at %s, until %s UTC\nmay %s\n",
					a.bold(out.Name),
					out.Kind,
					a.server,
					clock(out.Expires),
					strings.Join(out.May, ", ")+forComponents(out.For),
				)
			})
		},
	}
}

func forComponents(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return " for " + strings.Join(names, ", ")
}

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
	var pipeline bool
	cmd := &cobra.Command{
		Use: "signin", Short: "Keep a token for this user, so that DOVRAK_TOKEN need not be set", Args: args(0, "signin"),
		Example: "  dovrak signin\n  export DOVRAK_TOKEN=$(dovrak signin --pipeline < id.token)   # in a pipeline: by its own system's token",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if pipeline {
				return a.signInPipeline(cmd)
			}
			token, err := a.askToken()
			if err != nil {
				return err
			}
			a.token = token
			who, err := a.client().Whoami(cmd.Context())
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
			fmt.Fprintf(a.Out, "signed in to %s as %s\n", a.server, a.bold(who.Name))
			return nil
		},
	}
	cmd.Flags().
		BoolVar(&pipeline, "pipeline", false, "trade the OpenID Connect token on standard input for one that counts for an hour, and print it")
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

// askToken reads a token, unseen on a terminal.
func (a *App) askToken() (string, error) {
	if f, ok := a.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.Err, "token: ")
		raw, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Err)
		return strings.TrimSpace(string(raw)), err
	}
	line, err := bufio.NewReader(io.LimitReader(a.In, 4096)).ReadString('\n')
	if err == io.EOF {
		err = nil
	}
	return strings.TrimSpace(line), err
}
