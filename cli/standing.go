package cli

import (
	"fmt"
	"time"

	"dovrak/api/wire"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) standing() *cobra.Command {
	return &cobra.Command{
		Use: "standing [COMPONENT]", Short: "Show what stands where, as last seen, and what waits between; or one component's way",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				return a.life(cmd, args[0])
			}
			out, err := a.client().Standing(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("component", "environment", "place", "tag", "image", "version", "since", "seen (UTC)", "")
				for _, r := range out.Rows {
					for i, c := range r.Cells {
						seen, since := a.dim("not yet"), ""
						if c.Seen != nil {
							seen = c.Seen.Format("15:04:05")
						}
						if c.Since != nil {
							since = age(*c.Since, out.At)
						}
						t.AppendRow(
							table.Row{a.bold(r.Component), c.Environment, c.Registry, c.Tag, a.plate(c.Digest), c.Version, since, seen,
								a.remark(r, i)},
						)
					}
				}
				a.list(t, "The charter names no component yet: dovrak charter adopt FILE", "")
			})
		},
	}
}

// life shows how the images of one component got along its route, and how long that takes as a rule.
func (a *App) life(cmd *cobra.Command, component string) error {
	l, err := a.client().Component(cmd.Context(), component)
	if err != nil {
		return err
	}
	return a.print(&l, func() {
		head := []any{"image", "version", "build"}
		for _, env := range l.Route {
			head = append(head, env)
		}
		t := a.ledger(head...)
		for _, img := range l.Images {
			row := table.Row{a.plate(img.Digest), img.Version, img.Build}
			for _, s := range img.Steps {
				row = append(row, a.step(s))
			}
			t.AppendRow(row)
		}
		a.list(t, "No image of it is known yet", "")
		fmt.Fprintln(a.Out)
		t = a.ledger("to", "images", "from its build", "until all agreed", "from there")
		right(t, 2, 3, 4, 5)
		for _, lead := range l.Leads {
			t.AppendRow(
				table.Row{
					a.bold(lead.Environment),
					lead.Images,
					lasting(lead.BuiltSeconds),
					lasting(lead.AgreedSeconds),
					lasting(lead.MovedSeconds),
				},
			)
		}
		t.Render()
	})
}

// step says how an image came to stand in an environment, and how that ended.
func (a *App) step(s wire.LifeStep) string {
	switch {
	case s.Since == nil:
		return a.dim("–")
	case s.RolledBack > 0:
		return fmt.Sprintf("%s, %s", lasting(s.LeadSeconds), a.ember(fmt.Sprintf("rolled back by %d", s.RolledBack)))
	case s.Until == nil:
		return fmt.Sprintf("%s, %s", lasting(s.LeadSeconds), a.bold("stands"))
	}
	return lasting(s.LeadSeconds)
}

// lasting writes seconds as people say them.
func lasting(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d == 0:
		return "–"
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.1f h", d.Hours())
	}
	return fmt.Sprintf("%.1f d", d.Hours()/24)
}

// remark says what is to be known of a cell: what is wrong there first, then what is under way, then what waits before it.
func (a *App) remark(r wire.StandingRow, cell int) string {
	c := r.Cells[cell]
	first := cell == 0 || r.Cells[cell-1].Environment != c.Environment
	var open *wire.OpenPromotion
	for i, o := range r.Open {
		if o.Environment == c.Environment {
			open = &r.Open[i]
		}
	}
	switch {
	case open != nil && open.State == "split":
		return a.ember(fmt.Sprintf("split, promotion %d", open.Number))
	case c.Drift:
		return a.ember("drift; decided " + short(c.Decided))
	case !first && c.Digest != r.Cells[cell-1].Digest:
		return a.ember("differs from " + r.Cells[cell-1].Registry)
	case open != nil && first:
		return a.amber(fmt.Sprintf("%s %d %s", named(open.RollBack), open.Number, open.State))
	case c.Unreviewed:
		return a.amber("not reviewed")
	case first:
		return a.waitsBefore(r, c.Environment)
	}
	return ""
}

// waitsBefore says what stands in the environment before and not here.
func (a *App) waitsBefore(r wire.StandingRow, environment string) string {
	for _, g := range r.Gaps {
		switch {
		case g.To != environment || g.Same || g.Since == nil:
		case g.RolledBack != nil:
			return a.amber(fmt.Sprintf("rolled back by %d", *g.RolledBack))
		case g.Builds > 0:
			return fmt.Sprintf("%s behind %s", plural(g.Builds, "build"), g.From)
		case g.Builds < 0:
			return fmt.Sprintf("%s ahead of %s", plural(-g.Builds, "build"), g.From)
		default:
			return "another than in " + g.From
		}
	}
	return ""
}

func named(rollBack bool) string {
	if rollBack {
		return "roll back"
	}
	return "promotion"
}

// titled is what people call a promotion or a roll back.
func titled(p wire.Promotion) string { return fmt.Sprintf("%s %d", named(p.RollBack), p.Number) }

func plural(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}
