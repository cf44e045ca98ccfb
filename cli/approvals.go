package cli

import (
	"errors"
	"fmt"
	"strings"

	"dovrak/api/wire"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) approve() *cobra.Command {
	return a.say("approve", "Agree to a promotion that waits", true)
}

func (a *App) decline() *cobra.Command {
	return a.say("decline", "Decline a promotion that waits, which ends it", false)
}

// say makes the commands that say something of a promotion. What is said is said of the plan that is printed first.
func (a *App) say(name, short string, agreed bool) *cobra.Command {
	var because string
	cmd := &cobra.Command{
		Use: name + " PROMOTION", Short: short, Args: args(1, name+` NUMBER --because "why"`),
		Example: "  dovrak " + name + ` 12 --because "replayed the last storm on it"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberOf(args[0], "promotion")
			if err != nil {
				return err
			}
			if because == "" {
				return usage{errors.New(`why? say --because "…": it goes on the trail`)}
			}
			c := a.client()
			p, err := c.PromotionNumbered(cmd.Context(), n)
			if err != nil {
				return err
			}
			seen, err := c.Prospect(cmd.Context(), n)
			if err != nil {
				return err
			}
			if a.output == "table" {
				a.drawProspect(p, seen)
			}
			w, err := c.Say(cmd.Context(), n, agreed, wire.Word{Remark: because, Binding: p.Plan.Binding})
			if err != nil {
				return err
			}
			return a.print(&w, func() {
				if agreed {
					fmt.Fprintf(a.Out, "\nyou agree to promotion %d; dovrak promotions watch %d shows how it goes on\n", n, n)
				} else {
					fmt.Fprintf(a.Out, "\nyou have declined promotion %d: nothing was moved\n", n)
				}
			})
		},
	}
	cmd.Flags().StringVar(&because, "because", "", "the remark, for the trail (required)")
	return cmd
}

func (a *App) promotionsShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NUMBER", Short: "Show a promotion, and what it changes", Args: args(1, "promotions show NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberOf(args[0], "promotion")
			if err != nil {
				return err
			}
			type shown struct {
				Promotion wire.Promotion `json:"promotion"`
				Prospect  wire.Prospect  `json:"prospect"`
			}
			var out shown
			if out.Promotion, err = a.client().PromotionNumbered(cmd.Context(), n); err != nil {
				return err
			}
			if out.Prospect, err = a.client().Prospect(cmd.Context(), n); err != nil {
				return err
			}
			return a.print(&out, func() {
				a.drawProspect(out.Promotion, out.Prospect)
				a.drawGates(out.Promotion.Plan.Gates, true)
				a.drawStands(out.Promotion)
				if r := out.Promotion.Review; r != nil {
					fmt.Fprintf(a.Out, "%s reviewed it at %s UTC: %s\n", a.bold(r.By), clock(r.At), r.Remark)
				}
			})
		},
	}
}

// marks tell of a promotion that goes another way than usual.
func (a *App) marks(p wire.Plan) string {
	out := ""
	for _, m := range []struct {
		is   bool
		text string
	}{{p.RollBack, a.amber("roll back")}, {p.Emergency, a.ember("emergency")}, {p.Skips, a.ember("skips an environment")},
		{p.Again, a.amber("again")}} {
		if m.is {
			out += "  " + m.text
		}
	}
	return out
}

// unreviewed marks one that nobody has looked at afterwards.
func (a *App) unreviewed(p wire.Promotion) string {
	if !p.Unreviewed || p.State != "verified" {
		return ""
	}
	return "  " + a.amber("not reviewed")
}

// drawProspect prints what a promotion is, what stands there beside what would, and what was said of it.
func (a *App) drawProspect(p wire.Promotion, v wire.Prospect) {
	way := "to"
	if p.RollBack {
		way = "in"
	}
	p.Plan.RollBack = false // its title says it
	fmt.Fprintf(a.Out, "%s  %s  %s %s %s %s%s\n", a.bold(titled(p)), a.state(p.State), a.bold(p.Component), p.Version, way,
		a.bold(p.Environment), a.marks(p.Plan))
	fmt.Fprintf(a.Out, "asked by %s at %s UTC: %s\n\n", a.bold(p.By), clock(p.Asked), p.Because)
	t := a.ledger("", "stands there", "would stand there")
	now := wire.ImageInView{}
	if v.Now != nil {
		now = *v.Now
	}
	row := func(what, is, next string) {
		if is != "" || next != "" {
			t.AppendRow(table.Row{what, is, next})
		}
	}
	row("image", a.plate(now.Digest), a.plate(v.Next.Digest))
	row("version", now.Version, v.Next.Version)
	row("build", builds(now), builds(v.Next))
	row("base", now.Base, v.Next.Base)
	row("size", sizeOf(now), sizeOf(v.Next))
	row("platforms", platforms(now), platforms(v.Next))
	row("evidence", a.evidenceIn(now), a.evidenceIn(v.Next))
	t.Render()
	a.drawBetween(v.Between)
	for _, e := range v.Elsewhere {
		fmt.Fprintf(a.Out, "stands in %s: %s:%s\n", e.Environment, e.Repository, e.Tag)
	}
	for _, s := range v.Said {
		word := "agreed"
		if !s.Agreed {
			word = a.ember("declined")
		}
		if !s.Counts {
			word += a.dim(" (to the plan before)")
		}
		fmt.Fprintf(a.Out, "%s %s at %s UTC: %s\n", a.bold(s.By), word, clock(s.At), s.Remark)
	}
}

func builds(i wire.ImageInView) string {
	var out []string
	for _, b := range i.Builds {
		out = append(out, fmt.Sprintf("%d from %s at %.10s", b.Number, b.Branch, b.Commit))
	}
	return strings.Join(out, ", ")
}

func sizeOf(i wire.ImageInView) string {
	if i.Digest == "" {
		return ""
	}
	return size(i.Size)
}

func platforms(i wire.ImageInView) string {
	var out []string
	for _, p := range i.Platforms {
		out = append(out, p.Platform)
	}
	return strings.Join(out, ", ")
}

func (a *App) evidenceIn(i wire.ImageInView) string {
	var out []string
	for _, e := range i.Evidence {
		word := e.Claim + " " + e.Verdict
		if e.Verdict == "failed" {
			word = a.ember(word)
		}
		out = append(out, word)
	}
	return strings.Join(out, ", ")
}

func (a *App) people() *cobra.Command {
	cmd := &cobra.Command{
		Use: "people", Short: "List who signs in, and what the charter lets them do", Args: args(0, "people"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().People(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("person", "groups", "may", "promotes in", "rolls back in", "approves in", "signs in by", "last seen (UTC)")
				for _, p := range out.Items {
					by, seen := accounts(p)
					may := strings.Join(p.May, ", ")
					if p.Withdrawn != nil {
						may = a.ember("nothing, since " + clock(*p.Withdrawn))
					}
					t.AppendRow(table.Row{a.bold(p.Name), strings.Join(p.Groups, ", "), may, strings.Join(p.PromotesIn, ", "),
						strings.Join(p.RollsBackIn, ", "), strings.Join(p.ApprovesIn, ", "), by, seen})
				}
				a.list(t, "Nobody has an account yet: dovrak people add NAME; or the charter names an issuer, under people", "")
			})
		},
	}
	cmd.AddCommand(a.peopleAdd(), a.peopleEdit(), a.peopleInvite(), a.peopleWithdraw(false), a.peopleWithdraw(true))
	return cmd
}

// accounts tells by what someone signs in, and when they did last.
func accounts(p wire.Person) (by, seen string) {
	var names []string
	for _, acc := range p.Accounts {
		name := "a password"
		if acc.Issuer != "" {
			name = acc.Issuer
		}
		if acc.Invited != nil {
			name += ", invited until " + clock(*acc.Invited)
		}
		names = append(names, name)
		if acc.Seen != nil {
			seen = max(seen, clock(*acc.Seen))
		}
	}
	return strings.Join(names, "; "), seen
}

func (a *App) showInvitation(i wire.Invitation) error {
	return a.print(&i, func() {
		fmt.Fprintf(
			a.Err,
			"for %s, until %s UTC, shown this once: dovrak signin --account '%s' --invited\n",
			i.Name,
			clock(i.Expires),
			i.Name,
		)
		fmt.Fprintln(a.Out, i.Invitation)
	})
}

func (a *App) peopleAdd() *cobra.Command {
	n := wire.NewPerson{}
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Give someone an account; prints an invitation to set its password", Args: args(1, "people add NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			i, err := a.client().AddPerson(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.showInvitation(i)
		},
	}
	cmd.Flags().StringVar(&n.Email, "email", "", "their address: whoever comes by an issuer with it is the same person")
	return cmd
}

func (a *App) peopleEdit() *cobra.Command {
	e := wire.PersonEdit{}
	cmd := &cobra.Command{
		Use: "edit NAME --email ADDRESS", Short: "Change someone's address", Args: args(1, "people edit NAME --email ADDRESS"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !cmd.Flags().Changed("email") {
				return usage{errors.New("what is to change? say --email ADDRESS")}
			}
			return a.client().EditPerson(cmd.Context(), args[0], e)
		},
	}
	cmd.Flags().StringVar(&e.Email, "email", "", "their address; empty: none")
	return cmd
}

func (a *App) peopleInvite() *cobra.Command {
	return &cobra.Command{
		Use: "invite NAME", Short: "Let someone set their password anew", Args: args(1, "people invite NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			i, err := a.client().Invite(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.showInvitation(i)
		},
	}
}

func (a *App) peopleWithdraw(restore bool) *cobra.Command {
	name, short, done := "withdraw", "Take all rights of someone, at once", "may do nothing any more; what they agreed to counts no more"
	if restore {
		name, short, done = "restore", "Give someone their rights back", "may again what the charter says; they sign in anew"
	}
	return &cobra.Command{
		Use: name + " NAME", Short: short, Args: args(1, "people "+name+" NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().Withdraw(cmd.Context(), args[0], restore); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s %s\n", a.bold(args[0]), done)
			return nil
		},
	}
}
