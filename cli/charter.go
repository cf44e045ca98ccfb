package cli

import (
	"errors"
	"fmt"
	"strings"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/core/charter"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) charter() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "charter",
		Short: "Check, adopt and show the charter",
		Args:  args(0, "charter check, charter adopt or charter show"),
		RunE:  helped,
	}
	cmd.AddCommand(
		a.charterCheck(),
		a.charterRehearse(),
		a.charterSchema(),
		a.charterAdopt(),
		a.charterShow(),
		a.charterVersions(),
		a.charterProposals(),
		a.charterSay(
			"approve",
			"Agree to a proposed charter",
			true,
		),
		a.charterSay("decline", "Decline a proposed charter, which ends it", false),
	)
	return cmd
}

func (a *App) charterCheck() *cobra.Command {
	live := false
	cmd := &cobra.Command{
		Use: "check FILE", Short: "Check a charter, without the service; with --live its places, too", Args: args(1, "charter check FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, raw, err := a.readCharter(args[0])
			if err != nil {
				return err
			}
			if live {
				return a.checkPlaces(cmd, string(raw))
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
	}
	cmd.Flags().BoolVar(&live, "live", false, "ask the registries whether every place can be written to")
	return cmd
}

// checkPlaces asks the registries of a charter's places, and ends with Differs where one cannot be written to.
func (a *App) checkPlaces(cmd *cobra.Command, document string) error {
	out, err := a.client().CheckPlaces(cmd.Context(), document)
	if err != nil {
		return err
	}
	bad := 0
	for _, p := range out.Items {
		if p.Fails != nil {
			bad++
		}
	}
	err = a.print(&out, func() {
		t := a.ledger("environment", "place", "", "seen", "remedy")
		for _, p := range out.Items {
			if p.Fails == nil {
				t.AppendRow(table.Row{p.Environment, a.bold(p.Repository), "✓", "takes a push", ""})
			} else {
				t.AppendRow(table.Row{p.Environment, a.bold(p.Repository), a.ember("✗"), p.Fails.Title + ": " + p.Fails.Seen, p.Fails.Remedy})
			}
		}
		a.list(t, "The charter names no place yet", "")
		if bad > 0 {
			fmt.Fprintf(a.Out, "%d of %d places cannot be written to\n", bad, len(out.Items))
		}
	})
	if err == nil && bad > 0 {
		err = ended{Differs}
	}
	return err
}

func (a *App) charterRehearse() *cobra.Command {
	all := false
	cmd := &cobra.Command{
		Use: "rehearse FILE", Short: "Tell what a charter would change for the next promotions, and change nothing",
		Args: args(1, "charter rehearse FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, raw, err := a.readCharter(args[0])
			if err != nil {
				return err
			}
			out, err := a.client().Rehearse(cmd.Context(), string(raw))
			if err != nil {
				return err
			}
			changed := 0
			for _, r := range out.Items {
				if r.Now != r.Then {
					changed++
				}
			}
			err = a.print(&out, func() {
				t := a.ledger("promotion", "by the charter in force", "by this one")
				for _, r := range out.Items {
					if all || r.Now != r.Then {
						t.AppendRow(table.Row{a.bold(r.Component) + " to " + r.Environment, r.Now, r.Then})
					}
				}
				if all || changed > 0 {
					t.Render()
				}
				fmt.Fprintf(a.Out, "%d of %d next promotions would go another way\n", changed, len(out.Items))
			})
			if err == nil && changed > 0 {
				err = ended{Differs}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "also those that would go the same way")
	return cmd
}

func (a *App) charterSchema() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of a charter, for editors", Args: args(0, "charter schema"),
		RunE: func(*cobra.Command, []string) error {
			raw, err := charter.Schema()
			if err == nil {
				_, err = fmt.Fprintf(a.Out, "%s\n", raw)
			}
			return err
		},
	}
}

func (a *App) charterAdopt() *cobra.Command {
	var because string
	cmd := &cobra.Command{
		Use: "adopt FILE", Short: "Make a charter the one in force, or propose it to those who must agree", Args: args(1, "charter adopt FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, raw, err := a.readCharter(args[0]) // its mistakes are found before anything is sent
			if err != nil {
				return err
			}
			out, err := a.client().Adopt(cmd.Context(), wire.CharterDocument{Document: string(raw), Because: because})
			if err != nil {
				return err
			}
			err = a.print(&out, func() {
				for _, c := range out.Changes {
					fmt.Fprintln(a.Out, c)
				}
				if out.Proposal > 0 {
					fmt.Fprintf(
						a.Out,
						"it waits as proposal %d until enough agree: dovrak charter approve %d\n",
						out.Proposal,
						out.Proposal,
					)
				} else {
					fmt.Fprintf(a.Out, "charter %d is in force\n", out.Version)
				}
			})
			if err == nil && out.Proposal > 0 {
				err = ended{Waits}
			}
			return err
		},
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason, for those who must agree and for the trail")
	return cmd
}

func (a *App) charterShow() *cobra.Command {
	var version int64
	var words bool
	cmd := &cobra.Command{
		Use: "show", Short: "Show the charter in force, or an earlier version", Args: args(0, "charter show"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if words {
				out, err := a.client().CharterInWords(cmd.Context(), version)
				if err != nil {
					return err
				}
				return a.print(&out, func() { a.drawCharter(out) })
			}
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
	cmd.Flags().BoolVar(&words, "words", false, "in words, in place of the file")
	return cmd
}

// drawCharter prints a charter's rules as sentences.
func (a *App) drawCharter(c wire.CharterInWords) {
	fmt.Fprintf(a.Out, "%s  charter %d, adopted by %s at %s UTC\n", a.bold(c.Organisation), c.Version, c.By, clock(c.Adopted))
	fmt.Fprintf(a.Out, "people sign in %s; of the next charter, %s\n", c.People, c.Adoption)
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintf(a.Out, "  %s %s\n", a.dim(fmt.Sprintf("%-10s", name)), text)
		}
	}
	for _, e := range c.Environments {
		fmt.Fprintf(a.Out, "\n%s  %s, in %s\n", a.bold(e.Name), e.Comes, strings.Join(e.Places, " and "))
		line("tags", strings.Join(e.Tags, "; "))
		line("promotes", e.Promote)
		line("approvals", e.Approvals)
		line("emergency", e.Emergency)
		line("skipping", e.Skipping)
		line("roll back", e.RollBack)
		line("switch", e.Switch)
		for i, g := range e.Gates {
			line([]string{"gates", ""}[min(i, 1)], g.Asks)
		}
		for i, f := range e.Freezes {
			line([]string{"freezes", ""}[min(i, 1)], f.Name+": "+f.When)
		}
		if len(e.Gates) > 0 || e.Approvals != "" {
			line("waits", "at most "+e.Waits)
		}
	}
	fmt.Fprintln(a.Out)
	t := a.ledger("group", "called by the issuer", "members", "may")
	for _, g := range c.Groups {
		t.AppendRow(table.Row{a.bold(g.Name), strings.Join(g.Claims, ", "), strings.Join(g.Members, ", "), strings.Join(g.May, ", ")})
	}
	if len(c.Groups) > 0 {
		t.Render()
	}
}

func (a *App) charterVersions() *cobra.Command {
	var page client.Page
	cmd := &cobra.Command{
		Use: "versions", Short: "List the versions of the charter, newest first", Args: args(0, "charter versions"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().CharterVersions(cmd.Context(), page)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("charter", "adopted (UTC)", "by")
				right(t, 1)
				for _, v := range out.Items {
					t.AppendRow(table.Row{v.Version, clock(v.Adopted), a.bold(v.By)})
				}
				a.list(t, "No charter was adopted yet: dovrak charter adopt FILE", out.Next)
			})
		},
	}
	return paged(cmd, &page)
}

func (a *App) charterProposals() *cobra.Command {
	var page client.Page
	cmd := &cobra.Command{
		Use: "proposals", Short: "List proposed charters, newest first", Args: args(0, "charter proposals"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Proposals(cmd.Context(), page)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("proposal", "state", "by", "asked (UTC)", "on charter", "because")
				right(t, 1, 5)
				for _, p := range out.Items {
					t.AppendRow(table.Row{p.Number, a.state(p.State), a.bold(p.By), clock(p.Asked), p.Base, p.Because})
				}
				a.list(
					t,
					"No charter was proposed: it is where the charter in force says that others must agree, under adoption",
					out.Next,
				)
			})
		},
	}
	cmd.AddCommand(&cobra.Command{
		Use: "show NUMBER", Short: "Show what a proposed charter changes, and what was said of it", Args: args(1, "charter proposals show NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberOf(args[0], "proposal")
			if err != nil {
				return err
			}
			p, err := a.client().Proposal(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.print(&p, func() { a.drawProposal(p) })
		},
	})
	return paged(cmd, &page)
}

// drawProposal prints what a proposed charter changes, and what was said of it.
func (a *App) drawProposal(p wire.ProposalInWords) {
	fmt.Fprintf(
		a.Out,
		"%s  %s, on charter %d, by %s at %s UTC: %s\n\n",
		a.bold(fmt.Sprintf("proposal %d", p.Number)),
		a.state(p.State),
		p.Base,
		a.bold(p.By),
		clock(p.Asked),
		p.Because,
	)
	for _, c := range p.Changes {
		fmt.Fprintln(a.Out, "  "+c)
	}
	fmt.Fprintln(a.Out)
	for _, s := range p.Said {
		word := "agreed"
		if !s.Agreed {
			word = a.ember("declined")
		}
		fmt.Fprintf(a.Out, "%s %s at %s UTC: %s\n", a.bold(s.By), word, clock(s.At), s.Remark)
	}
	if p.State == "waiting" {
		fmt.Fprintf(a.Out, "it wants %s\n", p.Wants)
	}
}

func (a *App) charterSay(name, short string, agreed bool) *cobra.Command {
	var because string
	cmd := &cobra.Command{
		Use: name + " PROPOSAL", Short: short, Args: args(1, "charter "+name+` NUMBER --because "why"`),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberOf(args[0], "proposal")
			if err != nil {
				return err
			}
			if because == "" {
				return usage{errors.New(`why? say --because "…": it goes on the trail`)}
			}
			p, err := a.client().SayOfCharter(cmd.Context(), n, agreed, because)
			if err != nil {
				return err
			}
			return a.print(&p, func() {
				for _, c := range p.Changes {
					fmt.Fprintln(a.Out, c)
				}
				switch p.State {
				case "adopted":
					fmt.Fprintf(a.Out, "charter %d is in force\n", p.Version)
				case "declined":
					fmt.Fprintf(a.Out, "proposal %d is declined: the charter stays as it is\n", n)
				default:
					fmt.Fprintf(a.Out, "you agree to proposal %d; it wants %s\n", n, p.Wants)
				}
			})
		},
	}
	cmd.Flags().StringVar(&because, "because", "", "the remark, for the trail (required)")
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
