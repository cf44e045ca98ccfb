package cli

import (
	"fmt"
	"strings"

	"dovrak/api/wire"
	"dovrak/client"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) registryTakeIn() *cobra.Command {
	var n wire.NewTakeIn
	var detach bool
	cmd := &cobra.Command{
		Use:   "take-in NAME",
		Short: "Read what a registry holds: each tag gets a first entry on the trail, found and not decided",
		Long: "Read what a registry holds, at its pace: every tag, what it means, and what that is. Each tag that the trail knows nothing of\n" +
			"gets a first entry there, found and not decided. Nothing is changed in the registry. It goes on where it was when it is broken off.",
		Example: "  dovrak registry take-in ridge --repository 'live/*'",
		Args:    args(1, "registry take-in NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c := a.client()
			no, err := c.TakeIn(cmd.Context(), args[0], n)
			if err != nil {
				return err
			}
			if detach {
				return a.print(map[string]int64{"number": no}, func() { fmt.Fprintf(a.Out, "take-in %d\n", no) })
			}
			w, err := client.Follow(cmd.Context(), c, "take-in", no, c.TakeInNumbered,
				func(t wire.TakeIn) wire.Work { return t.Work }, a.takeInProgress)
			if a.liveErr {
				fmt.Fprint(a.Err, "\r\x1b[K")
			}
			if err != nil {
				return err
			}
			if w.Problem != nil {
				return client.Problem(*w.Problem)
			}
			return a.print(&w, func() { a.drawTakeIn(w) })
		},
	}
	cmd.Flags().
		StringVar(&n.Repository, "repository", "", "only repositories of a pattern, with * and ? (default: all that the registry lists)")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end; dovrak registry take-ins shows it")
	return cmd
}

// takeInProgress says how far it is, in place on a terminal.
func (a *App) takeInProgress(t wire.TakeIn) {
	if !a.liveErr {
		return
	}
	done, tags := 0, int64(0)
	for _, r := range t.Repositories {
		if r.Done {
			done++
		}
		tags += r.Tags
	}
	fmt.Fprintf(a.Err, "\r\x1b[Ktake-in %d: %d of %d repositories, %d tags", t.Number, done, len(t.Repositories), tags)
}

func (a *App) drawTakeIn(w wire.TakeIn) {
	r := w.Report
	if r == nil {
		fmt.Fprintf(a.Out, "take-in %d of %s: %s\n", w.Number, w.Registry, w.State)
		return
	}
	var entries int64
	for _, x := range w.Repositories {
		entries += x.Entries
	}
	fmt.Fprintf(
		a.Out,
		"%s: %s, %s, %s, %s; nothing was changed\n\n",
		a.bold(w.Registry),
		many(r.Repositories, "repository", "repositories"),
		many(r.Tags, "tag", "tags"),
		many(r.Images, "image", "images"),
		size(r.Size),
	)
	t := a.ledger("", "found")
	right(t, 2)
	t.AppendRow(table.Row{"first entries on the trail: found, not decided", entries})
	t.AppendRow(table.Row{"tags that share an image with another", r.Sharing})
	t.AppendRow(table.Row{"images without a tag, there still", r.Untagged})
	t.AppendRow(table.Row{"images that cannot be read, or contradict themselves", r.Unreadable})
	for _, p := range r.Platforms {
		t.AppendRow(table.Row{"images for " + p.Platform, p.Images})
	}
	t.AppendRow(table.Row{"names that no rule of the charter could have made", r.Unruled})
	t.Render()
	if len(r.Examples) > 0 {
		fmt.Fprintln(a.Out, a.dim("such as "+strings.Join(r.Examples[:min(5, len(r.Examples))], ", ")))
	}
	for _, x := range w.Repositories {
		if x.Problem != "" {
			fmt.Fprintln(a.Out, a.ember(x.Repository+" could not be read: ")+x.Problem)
		}
	}
}

func (a *App) registryTakeIns() *cobra.Command {
	var page client.Page
	cmd := &cobra.Command{
		Use: "take-ins", Short: "List what was taken in, newest first", Args: args(0, "registry take-ins"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().TakeIns(cmd.Context(), page)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("take-in", "registry", "pattern", "state", "repositories", "tags", "by", "asked")
				right(t, 1, 5, 6)
				for _, w := range out.Items {
					var tags int64
					for _, r := range w.Repositories {
						tags += r.Tags
					}
					t.AppendRow(
						table.Row{w.Number, w.Registry, w.Pattern, a.state(w.State), len(w.Repositories), tags, w.By, clock(w.Asked)},
					)
				}
				a.list(t, "Nothing was taken in yet: dovrak registry take-in NAME", out.Next)
			})
		},
	}
	return paged(cmd, &page)
}
