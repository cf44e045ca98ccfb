package cli

import (
	"fmt"
	"strconv"
	"strings"

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
	var n wire.NewCopy
	var planOnly, detach bool
	cmd := &cobra.Command{
		Use:   "copy IMAGE REPOSITORY[:TAG]…",
		Short: "Copy an image to other repositories, only what is missing, its digest unchanged",
		Long: "Copy an image, whole and with what refers to it, straight from registry to registry. Only what is missing moves, and what\n" +
			"several destinations miss is read once. A tag that is named with a destination is pointed when the image is whole in all\n" +
			"of them. With --platforms only some platforms are taken: their images, or a new index of them, whose digest is another.",
		Example: "  dovrak copy forge/bench/snowpack-model@sha256:… ridge/live/snowpack-model hut/live/snowpack-model --plan\n" +
			"  dovrak copy forge/bench/slope-sensor@sha256:… hut/live/slope-sensor --platforms linux/arm64,linux/arm/v7\n" +
			"  dovrak copy forge/bench/map-tiles:main hut/spare/map-tiles:try --because \"Ylva tries it in the mountains\"",
		Args: atLeast(2, "copy REGISTRY/REPOSITORY@DIGEST REGISTRY/REPOSITORY…"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c := a.client()
			n.From, n.To = args[0], args[1:]
			if planOnly {
				p, err := c.PlanCopy(cmd.Context(), n)
				if err != nil {
					return err
				}
				return a.print(&p, func() { a.drawCopyPlan(p) })
			}
			no, err := c.Copy(cmd.Context(), n)
			if err != nil {
				return err
			}
			if detach {
				return a.print(map[string]int64{"number": no}, func() { fmt.Fprintf(a.Out, "copy %d\n", no) })
			}
			return a.followCopy(cmd, no)
		},
	}
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would move, and move nothing")
	cmd.Flags().StringSliceVar(&n.Platforms, "platforms", nil, "only these, e.g. linux/arm64,linux/arm/v7")
	cmd.Flags().
		StringVar(&n.Referrers, "referrers", "", "what goes along of all that refers to it: all, none, or an artifact type (default all)")
	cmd.Flags().StringVar(&n.Because, "because", "", "the reason, for the trail (required where a tag is pointed)")
	cmd.Flags().BoolVar(&n.Verify, "verify", false, "ask the destination for every piece again, however lately it was verified")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end; dovrak copies shows it")
	return cmd
}

// followCopy shows a copy until it has ended, and ends as it did.
func (a *App) followCopy(cmd *cobra.Command, n int64) error {
	c := a.client()
	p := a.progress(fmt.Sprintf("copy %d", n))
	w, err := client.Follow(
		cmd.Context(),
		c,
		"copy",
		n,
		c.CopyNumbered,
		func(w wire.Copy) wire.Work { return w.Work },
		func(w wire.Copy) { p.show(w.Work, w.Places...) },
	)
	p.end()
	if err != nil {
		return err
	}
	if w.Problem != nil {
		return client.Problem(*w.Problem)
	}
	if err := a.print(&w, func() { a.drawCopy(w) }); err != nil || w.State == "verified" {
		return err
	}
	return ended{Failed}
}

// onCopy makes a command that does one thing to a copy.
func (a *App) onCopy(use, short string, do func(*cobra.Command, int64) error) *cobra.Command {
	return &cobra.Command{
		Use: use + " NUMBER", Short: short, Args: args(1, "copies "+use+" NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := numberOf(args[0], "copy")
			if err != nil {
				return err
			}
			return do(cmd, n)
		},
	}
}

// numberOf reads the number of a copy or a promotion.
func numberOf(text, of string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usage{fmt.Errorf("%q is not the number of a %s", text, of)}
	}
	return n, nil
}

func (a *App) drawCopy(w wire.Copy) {
	fmt.Fprintf(a.Out, "%s  %s\n", a.ridge(w.Digest), w.Digest)
	for i, p := range w.Places {
		from := w.From
		if i > 0 {
			from = strings.Repeat(" ", len(w.From))
		}
		fmt.Fprintf(a.Out, "%s → %s\n", from, a.bold(p.To))
	}
	if w.State != "verified" {
		fmt.Fprintf(a.Out, "%s; dovrak copies resume %d goes on from what has arrived\n", w.State, w.Number)
		return
	}
	for _, p := range w.Progress {
		at := ""
		if len(w.Progress) > 1 {
			at = p.Repository + ": "
		}
		fmt.Fprintf(a.Out, "%s%s moved, %s\n", at, size(p.Moved), saved(p))
	}
	fmt.Fprintf(
		a.Out,
		"%s, verified%s, %s%s\n",
		requests(w.Requests),
		tookSeconds(w.Work),
		unchanged(w.Of, w.Digest),
		alongside(w.Attached),
	)
}

func requests(n int64) string {
	if n == 1 {
		return "1 request"
	}
	return fmt.Sprintf("%d requests", n)
}

// saved says what did not have to move, and why.
func saved(p wire.Progress) string {
	out := size(p.Present+p.Mounted) + " saved"
	if p.Mounted > 0 {
		out += fmt.Sprintf(" (%s present, %s mounted)", size(p.Present), size(p.Mounted))
	}
	return out
}

// alongside says how much went along because it refers to the image.
func alongside(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("; %d attached went along", n)
}

// tookSeconds is how long a work took.
func tookSeconds(w wire.Work) string {
	if w.Began == nil || w.EndedAt == nil {
		return ""
	}
	return fmt.Sprintf(" in %.1f s", w.EndedAt.Sub(*w.Began).Seconds())
}

// unchanged says whether the digest is the one that was asked for.
func unchanged(asked, digest string) string {
	if asked == "" || asked == digest {
		return "digest unchanged"
	}
	return "some platforms of " + short(asked)
}

// drawCopyPlan prints what a copy would move, place by place and piece by piece in the order in which it goes, with totals.
func (a *App) drawCopyPlan(p wire.CopyPlan) {
	fmt.Fprintf(a.Out, "%s  %s\nfrom %s\n", a.ridge(p.Digest), p.Digest, p.From)
	switch {
	case p.Made:
		fmt.Fprintln(a.Out, a.amber("a new index of some platforms; the digest is another than "+short(p.Asked)))
	case p.Asked != p.Digest:
		fmt.Fprintln(a.Out, a.amber("the image of one platform, out of "+short(p.Asked)))
	}
	about := map[string]string{}
	for _, r := range p.Referrers {
		about[r.Digest] = "refers to " + short(r.Subject) + "  " + r.Type
	}
	for _, place := range p.Places {
		fmt.Fprintf(a.Out, "\nto %s\n", a.bold(place.To))
		a.drawPlacePlan(place, about)
	}
}

func (a *App) drawPlacePlan(p wire.CopyPlacePlan, about map[string]string) {
	t := a.ledger("piece", "digest", "size", "", "")
	right(t, 3)
	for _, list := range []struct {
		name   string
		pieces []wire.CopyPiece
	}{{"blob", p.Blobs}, {"manifest", p.Manifests}} {
		for _, x := range list.pieces {
			what, note := x.What, about[x.Digest]
			switch x.What {
			case "present":
				what = a.dim(what)
			case "mount":
				note = "from " + x.From
			case "foreign":
				note = "left where it is"
			}
			t.AppendRow(table.Row{list.name, a.plate(x.Digest), size(x.Size), what, note})
		}
	}
	t.Render()
	fmt.Fprintf(a.Out, "%s to move, %s", pieces(p.Move), size(p.MoveBytes))
	if p.Mount > 0 {
		fmt.Fprintf(a.Out, ", of which %s by mounting", size(p.MountBytes))
	}
	fmt.Fprintf(a.Out, "; %s present, %s\n", pieces(p.Present), size(p.PresentBytes))
	if p.Means != "" {
		fmt.Fprintf(a.Out, "the tag means %s there now, and is pointed last\n", a.plate(p.Means))
	}
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
					for i, p := range c.Places {
						if i == 0 {
							t.AppendRow(table.Row{c.Number, a.state(c.State), a.plate(c.Digest), c.From, p.To, c.By, clock(c.Asked)})
						} else {
							t.AppendRow(table.Row{"", "", "", "", p.To, "", ""})
						}
					}
				}
				a.list(t, "Nothing was copied yet: dovrak copy IMAGE REPOSITORY", out.Next)
			})
		},
	}
	cmd.AddCommand(
		a.onCopy("watch", "Show a copy until it has ended, and end as it did", a.followCopy),
		a.onCopy("stop", "End a copy that is under way; what has arrived is kept", func(cmd *cobra.Command, n int64) error {
			w, err := a.client().StopCopy(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.print(&w, func() { fmt.Fprintf(a.Out, "copy %d is stopped: dovrak copies resume %d goes on\n", n, n) })
		}),
		a.onCopy("resume", "Go on with a copy that was stopped or has failed", func(cmd *cobra.Command, n int64) error {
			if _, err := a.client().ResumeCopy(cmd.Context(), n); err != nil {
				return err
			}
			return a.followCopy(cmd, n)
		}),
	)
	return paged(cmd, &page)
}

func (a *App) state(s string) string {
	switch s {
	case "failed", "refused", "declined", "expired", "split", "taken back":
		return a.ember(s)
	case "verified", "adopted", "overtaken":
		return s
	}
	return a.amber(s)
}
