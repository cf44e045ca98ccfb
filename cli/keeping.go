package cli

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/core/charter"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func helped(cmd *cobra.Command, _ []string) error { return cmd.Help() }

// file reads a file, or standard input for -.
func (a *App) file(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(a.In, charter.MaxBytes+1))
	}
	return os.ReadFile(name)
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
				for _, l := range []struct {
					what  string
					words []string
				}{{"in the groups", out.Groups}, {"promotes in", out.PromotesIn}, {"rolls back in", out.RollsBackIn}, {"approves in", out.ApprovesIn}} {
					if len(l.words) > 0 {
						fmt.Fprintf(a.Out, "%s %s\n", l.what, strings.Join(l.words, ", "))
					}
				}
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
