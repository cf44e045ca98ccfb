package cli

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"dovrak/api/wire"
	"dovrak/client"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) promote() *cobra.Command {
	var n wire.NewPromotion
	var how releasing
	cmd := &cobra.Command{
		Use:   "promote COMPONENT --to ENVIRONMENT",
		Short: "Move what stands in the environment before to the next: content first, tags last, verified",
		Example: `  dovrak promote snowpack-model --to live --because "avalanche danger 3, new snow layer"
  dovrak promote snowpack-model --to trial --version 2.14.0 --plan
  dovrak promote alert-relay --to live --emergency --because "sirens are silent in the lower valley"`,
		Args: args(1, `promote COMPONENT --to ENVIRONMENT --because "why"`),
		RunE: func(cmd *cobra.Command, args []string) error {
			if n.Component = args[0]; n.To == "" {
				return usage{errors.New("where to? say --to ENVIRONMENT")}
			}
			if n.Because == "" && !how.planOnly {
				return usage{errors.New(`why? say --because "…": it goes on the trail`)}
			}
			c := a.client()
			plan, err := c.Plan(cmd.Context(), wire.NewPlan{Component: n.Component, To: n.To, Referrers: n.Referrers,
				Emergency: n.Emergency, Again: n.Again, Chosen: n.Chosen})
			if err != nil {
				return err
			}
			return a.release(cmd, c, plan, how, func() (int64, error) {
				n.Chosen = wire.Chosen{From: plan.From, Image: plan.Digest} // the image that the plan was shown of
				return c.Promote(cmd.Context(), n)
			})
		},
	}
	cmd.Flags().StringVar(&n.To, "to", "", "the environment (required)")
	cmd.Flags().StringVar(&n.Because, "because", "", "the reason, for the trail (required)")
	cmd.Flags().
		StringVar(&n.From, "from", "", "the environment that it comes from, where the charter lets one be skipped (default: the one before)")
	cmd.Flags().StringVar(&n.Version, "version", "", "this version in place of what stands there")
	cmd.Flags().Int64Var(&n.Build, "build", 0, "this build, by its pipeline's number")
	cmd.Flags().StringVar(&n.Image, "image", "", "this digest")
	cmd.Flags().BoolVar(&n.Emergency, "emergency", false, "freezes do not hold, and others must agree; the trail is marked")
	cmd.Flags().BoolVar(&n.Again, "again", false, "although this image was rolled back there")
	cmd.Flags().
		StringVar(&n.Referrers, "referrers", "", "what goes along of all that refers to the image: all, none, or an artifact type (default all)")
	return how.flags(cmd)
}

// releasing is how far a promotion or a roll back is taken from its plan.
type releasing struct{ planOnly, detach bool }

func (r *releasing) flags(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&r.planOnly, "plan", false, "show the plan and do nothing")
	cmd.Flags().BoolVar(&r.detach, "detach", false, "do not wait for the end; dovrak promotions shows it")
	return cmd
}

// release shows a plan, asks for what was planned, and follows it.
func (a *App) release(cmd *cobra.Command, c *client.Client, plan wire.Plan, how releasing, ask func() (int64, error)) error {
	if how.planOnly {
		return a.print(plan, func() { a.drawPlan(plan, true) })
	}
	if a.output == "table" {
		a.drawPlan(plan, false)
	}
	n, err := ask()
	if err != nil {
		return err
	}
	if how.detach {
		return a.print(map[string]int64{"number": n}, func() { fmt.Fprintf(a.Out, "\n%s %d\n", named(plan.RollBack), n) })
	}
	return a.followPromotion(cmd, c, n, false)
}

// followPromotion shows a promotion until it has ended or, unless through, waits for what may take long.
func (a *App) followPromotion(cmd *cobra.Command, c *client.Client, n int64, through bool) error {
	p := a.progress("")
	w, err := client.Follow(
		cmd.Context(),
		c,
		"promotion",
		n,
		c.PromotionNumbered,
		func(w wire.Promotion) wire.Work {
			w.Ended = w.Ended || w.State == "split" || w.State == "waiting" && !through
			return w.Work
		},
		func(w wire.Promotion) {
			p.name = titled(w)
			p.show(w.Work)
		},
	)
	p.end()
	if err != nil {
		return err
	}
	if w.Problem != nil {
		if a.output == "table" {
			fmt.Fprintf(a.Out, "\n%s  %s\n", a.bold(titled(w)), a.state(w.State))
			a.drawStands(w)
		}
		return client.Problem(*w.Problem)
	}
	if w.State == "waiting" {
		if err := a.print(&w, func() { a.drawWaiting(w) }); err != nil {
			return err
		}
		return ended{Waits}
	}
	if w.State != "verified" {
		if err := a.print(&w, func() { fmt.Fprintf(a.Out, "%s is %s\n", titled(w), w.State) }); err != nil {
			return err
		}
		return ended{Failed}
	}
	return a.print(&w, func() {
		fmt.Fprintf(
			a.Out,
			"\n%s  %s\n",
			a.bold(titled(w)),
			a.dim("asked by "+w.By+" at "+clock(w.Asked)+" UTC"),
		)
		a.drawStands(w)
		fmt.Fprintf(a.Out, "\n%s%s: every place was asked again\n", w.State, tookSeconds(w.Work))
	})
}

func (a *App) drawPlan(p wire.Plan, whole bool) {
	words := fmt.Sprintf("%s %s to %s", a.bold(p.Component), p.Version, a.bold(p.Environment))
	if p.RollBack {
		words = fmt.Sprintf("%s back to %s in %s", a.bold(p.Component), p.Version, a.bold(p.Environment))
	}
	p.RollBack = false // it is said already
	fmt.Fprintf(a.Out, "%s%s\n", words, a.marks(p))
	fmt.Fprintf(a.Out, "%s  %s\n%s\n\n", a.ridge(p.Digest), p.Digest, a.dim(fmt.Sprintf("from %s, by charter %d", p.Source, p.Charter)))
	t := a.ledger("place", "moves", "", "present", "", "took a push")
	right(t, 2, 3, 4, 5, 6)
	now := time.Now()
	for _, pl := range p.Places {
		t.AppendRow(table.Row{a.bold(pl.Repository), pieces(pl.Move), size(pl.MoveBytes), pieces(pl.Present), size(pl.PresentBytes),
			a.dim(age(pl.Checked, now) + " ago")})
	}
	t.Render()
	fmt.Fprintln(a.Out)
	t = a.ledger("tag", "from", "", "to")
	for _, pl := range p.Places {
		for _, tag := range pl.Tags {
			arrow := "→"
			if tag.From == tag.To {
				arrow = "="
			}
			t.AppendRow(table.Row{pl.Repository + ":" + a.bold(tag.Tag), a.plate(tag.From), arrow, a.plate(tag.To)})
		}
	}
	t.Render()
	for _, pl := range p.Places {
		for _, s := range pl.Stays {
			fmt.Fprintf(a.Out, "%s:%s stays at %s: %s\n", pl.Repository, a.bold(s.Tag), a.plate(s.From), s.Why)
		}
	}
	a.drawGates(p.Gates, whole)
}

// drawGates prints what the gates say: all of them, or in one line where all hold.
func (a *App) drawGates(gates []wire.Gate, all bool) {
	open := slices.ContainsFunc(gates, func(g wire.Gate) bool { return g.Verdict != "holds" })
	if len(gates) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	if !open && !all {
		fmt.Fprintf(a.Out, "✓ %d gates hold\n", len(gates))
		return
	}
	t := a.ledger("gate", "verdict", "seen, and what it wants")
	beside := 0 // what the other columns take
	for _, g := range gates {
		beside = max(beside, len(g.Gate)+len("does not hold")+4)
	}
	for _, g := range gates {
		verdict := g.Verdict
		switch {
		case g.Verdict == "holds":
		case g.Waived:
			verdict = a.ember("waived")
		case g.Comes != "":
			verdict = a.amber("waits")
		default:
			verdict = a.ember(g.Verdict)
		}
		fits := func(s string) string {
			if a.terminal {
				return a.wrap(s, beside)
			}
			return s
		}
		seen := fits(g.Seen)
		if g.Verdict != "holds" && g.Wants != "" {
			seen += "\n" + fits("→ "+g.Wants)
		}
		t.AppendRow(table.Row{a.bold(g.Gate), verdict, seen})
	}
	t.Render()
}

// drawWaiting says what a promotion waits for.
func (a *App) drawWaiting(w wire.Promotion) {
	fmt.Fprintf(a.Out, "\n%s waits", a.bold(fmt.Sprintf("promotion %d", w.Number)))
	if w.Plan.Expires != nil {
		fmt.Fprintf(a.Out, ", until %s UTC at the most", clock(*w.Plan.Expires))
	}
	fmt.Fprintln(a.Out)
	for _, g := range w.Plan.Gates {
		if g.Verdict != "holds" && !g.Waived {
			fmt.Fprintf(a.Out, "  %s: %s\n", a.bold(g.Gate), g.Wants)
		}
	}
	fmt.Fprintf(a.Out, "dovrak promotions watch %d shows it again; dovrak stop %d ends it\n", w.Number, w.Number)
}

func (a *App) stop() *cobra.Command {
	return &cobra.Command{
		Use: "stop PROMOTION", Short: "End a promotion before its tags are pointed, or take back one that is split", Args: args(1, "stop NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberOf(args[0], "promotion")
			if err != nil {
				return err
			}
			c := a.client()
			w, err := c.StopPromotion(cmd.Context(), n)
			if err != nil {
				return err
			}
			if w.State == "going back" {
				return a.followPromotion(cmd, c, n, false)
			}
			return a.print(&w, func() { fmt.Fprintf(a.Out, "%s is stopped: no tag was pointed\n", titled(w)) })
		},
	}
}

func pieces(n int) string {
	if n == 1 {
		return "1 piece"
	}
	return fmt.Sprintf("%d pieces", n)
}

// nonePromoted says of a list that is empty what is not there, and what would fill it.
func nonePromoted(of client.PromotionFilter) string {
	switch {
	case of.Mine:
		return "Nothing waits for you"
	case of.ToReview:
		return "Nothing waits to be reviewed"
	}
	return "Nothing was promoted yet: dovrak promote COMPONENT --to ENVIRONMENT"
}

func (a *App) promotions() *cobra.Command {
	var page client.Page
	var filter client.PromotionFilter
	cmd := &cobra.Command{
		Use: "promotions", Short: "List promotions, newest first", Args: args(0, "promotions"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Promotions(cmd.Context(), page, filter)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("promotion", "state", "component", "version", "image", "to", "by", "asked", "because")
				right(t, 1)
				for _, p := range out.Items {
					t.AppendRow(
						table.Row{
							p.Number,
							a.state(p.State) + a.marks(p.Plan) + a.unreviewed(p),
							a.bold(p.Component),
							p.Version,
							a.plate(p.Digest),
							p.Environment,
							p.By,
							clock(p.Asked),
							p.Because,
						},
					)
				}
				a.list(t, nonePromoted(filter), out.Next)
			})
		},
	}
	cmd.Flags().StringVar(&filter.Component, "component", "", "of this component")
	cmd.Flags().StringVar(&filter.Environment, "to", "", "to this environment")
	cmd.Flags().BoolVar(&filter.ToReview, "to-review", false, "those alone that went another way than usual, and nobody has reviewed")
	cmd.Flags().BoolVar(&filter.Mine, "waits-for-me", false, "those alone that you are to agree to")
	cmd.AddCommand(a.promotionsShow(), a.review(), &cobra.Command{
		Use: "watch NUMBER", Short: "Show a promotion until it has ended, and end as it did", Args: args(1, "promotions watch NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberOf(args[0], "promotion")
			if err != nil {
				return err
			}
			return a.followPromotion(cmd, a.client(), n, true)
		},
	})
	return paged(cmd, &page)
}
