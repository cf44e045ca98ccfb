package cli

import (
	"fmt"

	"dovrak/api/wire"
	"dovrak/client"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) point() *cobra.Command {
	var because string
	cmd := &cobra.Command{
		Use:     "point REPOSITORY@DIGEST TAG…",
		Short:   "Make tags mean a digest",
		Example: `  dovrak point forge/bench/snowpack-model@sha256:… trial-ready --because "passed the bench run"`,
		Args:    atLeast(2, `point REGISTRY/REPOSITORY@sha256:DIGEST TAG… --because "why"`),
		RunE: func(cmd *cobra.Command, args []string) error {
			out, err := a.client().Point(cmd.Context(), wire.NewPoint{Image: args[0], Tags: args[1:], Because: because})
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("tag", "from", "", "to")
				for _, c := range out.Items {
					arrow := "→"
					if !c.Changed {
						arrow = "= already"
					}
					t.AppendRow(table.Row{a.bold(c.Tag), a.plate(c.From), arrow, a.plate(c.To)})
				}
				t.Render()
			})
		},
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason, for the trail (required)")
	return cmd
}

func (a *App) copy() *cobra.Command {
	var verify, detach bool
	cmd := &cobra.Command{
		Use:     "copy IMAGE REPOSITORY",
		Short:   "Copy an image to another repository, only what is missing, its digest unchanged",
		Example: "  dovrak copy forge/bench/snowpack-model@sha256:… hut/live/snowpack-model",
		Args:    args(2, "copy REGISTRY/REPOSITORY@DIGEST REGISTRY/REPOSITORY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c := a.client()
			n, err := c.Copy(cmd.Context(), wire.NewCopy{From: args[0], To: args[1], Verify: verify})
			if err != nil {
				return err
			}
			if detach {
				return a.print(map[string]int64{"number": n}, func() { fmt.Fprintf(a.Out, "copy %d\n", n) })
			}
			p := a.progress(fmt.Sprintf("copy %d", n))
			w, err := client.Follow(
				cmd.Context(),
				c,
				"copy",
				n,
				c.CopyNumbered,
				func(w wire.Copy) wire.Work { return w.Work },
				func(w wire.Copy) { p.show(w.Work) },
			)
			p.end()
			if err != nil {
				return err
			}
			if w.Problem != nil {
				return client.Problem(*w.Problem)
			}
			return a.print(&w, func() { a.drawCopy(w) })
		},
	}
	cmd.Flags().BoolVar(&verify, "verify", false, "ask the destination for every piece again, however lately it was verified")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end; dovrak copies shows it")
	return cmd
}

func (a *App) drawCopy(w wire.Copy) {
	fmt.Fprintf(a.Out, "%s  %s\n", a.ridge(w.Digest), w.Digest)
	fmt.Fprintf(a.Out, "%s → %s\n", w.From, a.bold(w.To))
	var moved, present int64
	for _, p := range w.Progress {
		moved, present = moved+p.Total, present+p.Present
	}
	fmt.Fprintf(
		a.Out,
		"%d blobs moved, %d present; %s moved, %s saved; verified, digest unchanged\n",
		w.BlobsMoved,
		w.BlobsPresent,
		size(moved),
		size(present),
	)
}

func (a *App) copies() *cobra.Command {
	var page client.Page
	cmd := &cobra.Command{
		Use: "copies", Short: "List copies, newest first", Args: args(0, "copies"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Copies(cmd.Context(), page)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("copy", "state", "image", "from", "to", "by", "asked")
				right(t, 1)
				for _, c := range out.Items {
					t.AppendRow(table.Row{c.Number, a.state(c.State), a.plate(c.Digest), c.From, c.To, c.By, clock(c.Asked)})
				}
				a.list(t, "Nothing was copied yet: dovrak copy IMAGE REPOSITORY", out.Next)
			})
		},
	}
	return paged(cmd, &page)
}

func (a *App) state(s string) string {
	switch s {
	case "failed":
		return a.ember(s)
	case "verified":
		return s
	}
	return a.amber(s)
}
