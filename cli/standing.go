package cli

import (
	"fmt"

	"dovrak/api/wire"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) standing() *cobra.Command {
	return &cobra.Command{
		Use: "standing", Short: "Show what stands where, as last seen, and what waits between", Args: args(0, "standing"),
		RunE: func(cmd *cobra.Command, _ []string) error {
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
						t.AppendRow(table.Row{a.bold(r.Component), c.Environment, c.Registry, c.Tag, a.plate(c.Digest), c.Version, since, seen,
							a.remark(r, i)})
					}
				}
				a.list(t, "The charter names no component yet: dovrak charter adopt FILE", "")
			})
		},
	}
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

func plural(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}
