package cli

import (
	"errors"
	"fmt"
	"strings"

	"dovrak/api/wire"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) rollback() *cobra.Command {
	var n wire.NewRollBack
	var how releasing
	cmd := &cobra.Command{
		Use:   "rollback COMPONENT --in ENVIRONMENT",
		Short: "Point an environment's tags back to what stood there: no copy where it is kept, verified",
		Example: `  dovrak rollback snowpack-model --in live --because "wrong layer at the west face"
  dovrak rollback snowpack-model --in live --to 2.13.2 --plan
  dovrak rollback snowpack-model --in live --to 2026-03-03T09:15:00Z --because "as it was before the storm"`,
		Args: args(1, `rollback COMPONENT --in ENVIRONMENT --because "why"`),
		RunE: func(cmd *cobra.Command, args []string) error {
			if n.Component = args[0]; n.In == "" {
				return usage{errors.New("where? say --in ENVIRONMENT")}
			}
			if n.Because == "" && !how.planOnly {
				return usage{errors.New(`why? say --because "…": it goes on the trail`)}
			}
			c := a.client()
			plan, err := c.PlanRollBack(cmd.Context(), wire.NewRollBackPlan{Component: n.Component, In: n.In, To: n.To})
			if err != nil {
				return err
			}
			return a.release(cmd, c, plan, how, func() (int64, error) {
				n.To = plan.Digest // what the plan was shown of
				return c.RollBack(cmd.Context(), n)
			})
		},
	}
	cmd.Flags().StringVar(&n.In, "in", "", "the environment (required)")
	cmd.Flags().StringVar(&n.To, "to", "", "a version, a digest or a time (UTC) of what stood there (default: what stood before)")
	cmd.Flags().StringVar(&n.Because, "because", "", "the reason, for the trail (required)")
	return how.flags(cmd)
}

func (a *App) resume() *cobra.Command {
	var detach bool
	cmd := &cobra.Command{
		Use:   "resume PROMOTION",
		Short: "Go on with a promotion that is split, or begin one again that was taken back, stopped or has failed",
		Args:  args(1, "resume NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberOf(args[0], "promotion")
			if err != nil {
				return err
			}
			c := a.client()
			w, err := c.ResumePromotion(cmd.Context(), n)
			if err != nil {
				return err
			}
			if detach {
				return a.print(map[string]int64{"number": n}, func() { fmt.Fprintf(a.Out, "%s goes on\n", titled(w)) })
			}
			return a.followPromotion(cmd, c, n, false)
		},
	}
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end; dovrak promotions shows it")
	return cmd
}

func (a *App) review() *cobra.Command {
	var because string
	cmd := &cobra.Command{
		Use:     "review NUMBER",
		Short:   "Say that you have looked at an emergency, or at a promotion that skipped an environment",
		Example: `  dovrak promotions review 14 --because "talked through with the valley, the siren was worth it"`,
		Args:    args(1, `promotions review NUMBER --because "what you found"`),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberOf(args[0], "promotion")
			if err != nil {
				return err
			}
			if because == "" {
				return usage{errors.New(`what did you find? say --because "…": it goes on the trail`)}
			}
			w, err := a.client().ReviewPromotion(cmd.Context(), n, because)
			if err != nil {
				return err
			}
			return a.print(&w, func() { fmt.Fprintf(a.Out, "promotion %d is reviewed\n", n) })
		},
	}
	cmd.Flags().StringVar(&because, "because", "", "what you found, for the trail (required)")
	return cmd
}

// drawStands prints what the tags were seen to mean when a switch was over, and when that was.
func (a *App) drawStands(p wire.Promotion) {
	if len(p.Stands) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	t := a.ledger("", "tag", "means", "is given to", "seen (UTC)")
	for _, s := range p.Stands {
		mark, means, behind, seen := a.stood(s, p.State == "verified")
		t.AppendRow(table.Row{mark, s.Repository + ":" + a.bold(s.Tag), means, behind, a.dim(seen)})
	}
	t.Render()
}

// stood tells of a tag: a mark, what it means, who is given what or why it could not be so, and when it was seen. The mark says
// that it is as it was to be, has gone back, has not, or is someone else's.
func (a *App) stood(s wire.TagStand, verified bool) (mark, means, behind, seen string) {
	if s.Seen == nil {
		return "?", a.ember("could not be asked"), s.Why, ""
	}
	switch {
	case verified:
		mark = "✓"
	case s.Means == s.Before:
		mark = "↩"
	case s.Means == s.Wanted:
		mark = "→"
	default:
		mark = "≠"
	}
	means, behind = "nothing", a.ember(s.Why)
	if s.Means != "" {
		means = a.plate(s.Means)
	}
	if len(s.Platforms) > 0 {
		names := make([]string, len(s.Platforms))
		for i, r := range s.Platforms {
			names[i] = strings.TrimPrefix(r.Platform, "linux/")
		}
		behind = strings.Join(names, ", ")
	}
	return mark, means, behind, s.Seen.UTC().Format("15:04:05")
}
