package cli

import (
	"fmt"
	"strings"
	"time"

	"dovrak/api/wire"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
)

func (a *App) where() *cobra.Command {
	return &cobra.Command{
		Use:   "where DIGEST|COMMIT|BUILD|TAG|COMPONENT|IMAGE",
		Short: "Tell everything that is known of an image: repositories, tags, environments",
		Long: "Tell where an image is known: by its digest or the beginning of it, a commit, a build's number, a tag, a version, its\n" +
			"component, a repository or a reference. No registry is asked; what was seen carries its time.",
		Example: "  dovrak where 4f1c9d2\n  dovrak where snowpack-model\n  dovrak where hut/live/snowpack-model:live",
		Args:    args(1, "where DIGEST, COMMIT, BUILD, TAG, COMPONENT or IMAGE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out, err := a.client().Where(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(&out, func() { a.drawWhere(out) })
		},
	}
}

func (a *App) drawWhere(out wire.Where) {
	now := time.Now()
	fmt.Fprintf(a.Out, "%s, taken for a %s\n\n", a.bold(out.Asked), strings.Join(out.As, ", a "))
	if len(out.Builds) > 0 {
		t := a.ledger("build", "state", "version", "image", "branch", "commit", "run")
		for _, b := range out.Builds {
			t.AppendRow(
				table.Row{a.bold(fmt.Sprintf("%s/%d", b.Component, b.Number)), a.state(b.State), b.Version, a.plate(b.Digest), b.Branch,
					b.Commit[:min(12, len(b.Commit))], b.Link},
			)
		}
		t.Render()
		if len(out.Items) == 0 {
			return
		}
		fmt.Fprintln(a.Out)
	}
	t := a.ledger("image", "version", "commit", "where", "tag", "", "seen")
	last := ""
	for _, i := range out.Items {
		image, version, commit := "", "", ""
		if i.Digest != last {
			image, version, commit = a.plate(i.Digest), i.Version, i.Revision
			if len(commit) > 12 {
				commit = commit[:12]
			}
		}
		last = i.Digest
		notes := []string{}
		if i.Stands {
			notes = append(notes, a.bold("stands in "+i.Environment))
		}
		if i.Origin != "" {
			notes = append(notes, a.dim("from "+i.Origin))
		}
		tag := i.Tag
		if tag == "" {
			tag = a.dim("no tag")
		}
		t.AppendRow(table.Row{image, version, commit, i.Repository, tag, strings.Join(notes, ", "), a.dim(age(i.Seen, now) + " ago")})
	}
	t.Render()
	if out.More {
		fmt.Fprintln(a.Out, a.dim("there is more; name it more closely"))
	}
}

func (a *App) compare() *cobra.Command {
	return &cobra.Command{
		Use:     "compare A B",
		Short:   "Set two images side by side: platforms, layers, config, labels, what is attached",
		Long:    "Set two images side by side; B is seen as what came after A. Ends with 5 if they are not the same.",
		Example: "  dovrak compare hut/live/snowpack-model:live forge/bench/snowpack-model:main",
		Args:    args(2, "compare IMAGE IMAGE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out, err := a.client().Compare(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			if err := a.print(&out, func() { a.drawComparison(args, out) }); err != nil {
				return err
			}
			if !out.Same {
				return ended{Differs}
			}
			return nil
		},
	}
}

func (a *App) drawComparison(asked []string, c wire.Comparison) {
	t := a.ledger("", "image", "digest", "version", "size")
	right(t, 5)
	t.AppendRow(table.Row{"A", a.bold(asked[0]), a.plate(c.A.Digest), c.A.Version, size(c.A.Size)})
	t.AppendRow(table.Row{"B", a.bold(asked[1]), a.plate(c.B.Digest), c.B.Version, size(c.B.Size)})
	t.Render()
	if c.Same {
		fmt.Fprintln(a.Out, "\nthe very same image")
		return
	}
	a.drawBetween(c.Between)
	fmt.Fprintln(a.Out)
	t = a.ledger("platform", "A", "B", "layers kept", "gone", "new", "to pull")
	right(t, 4, 5, 6, 7)
	for _, p := range c.Platforms {
		t.AppendRow(table.Row{a.bold(p.Platform), a.side(p.A), a.side(p.B), fmt.Sprintf("%d, %s", len(p.Shared), size(p.SharedBytes)),
			len(p.Removed), len(p.Added), size(p.AddedBytes)})
	}
	t.Render()
	t = a.ledger("differs in", "", "A", "B")
	for _, p := range c.Platforms {
		if p.A == "" || p.B == "" {
			continue
		}
		for _, v := range append(p.Config, p.Labels...) {
			t.AppendRow(table.Row{p.Platform, v.Name, text.WrapSoft(v.A, 40), text.WrapSoft(v.B, 40)})
		}
	}
	for _, v := range c.Labels {
		t.AppendRow(table.Row{"index", v.Name, text.WrapSoft(v.A, 40), text.WrapSoft(v.B, 40)})
	}
	for _, x := range c.Attached {
		if x.A != x.B {
			t.AppendRow(table.Row{"attached", x.Kind + " " + x.Type, x.A, x.B})
		}
	}
	if t.Length() > 0 {
		fmt.Fprintln(a.Out)
		t.Render()
	}
}

// drawBetween lists the commits that lie between the builds of two images.
func (a *App) drawBetween(b *wire.Between) {
	if b == nil {
		return
	}
	fmt.Fprintf(
		a.Out,
		"\n%s %d to %d, %s\n",
		b.From.Component,
		b.From.Number,
		b.To.Number,
		many(int64(len(b.Changes)), "change", "changes"),
	)
	for _, c := range b.Changes {
		fmt.Fprintf(a.Out, "  %s  %s  %s\n", a.dim(fmt.Sprint(c.Build)), c.ID[:min(10, len(c.ID))], c.Title)
	}
}

func (a *App) side(digest string) string {
	if digest == "" {
		return a.amber("not there")
	}
	return a.plate(digest)
}
