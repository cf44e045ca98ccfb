package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dovrak/api/wire"
	"dovrak/client"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) show() *cobra.Command {
	var at client.LookAt
	var raw string
	cmd := &cobra.Command{
		Use:   "show IMAGE",
		Short: "Show what an image is: platforms side by side, labels, what is attached to it, age",
		Example: "  dovrak show forge/bench/snowpack-model:build-41\n" +
			"  dovrak show forge/bench/snowpack-model:build-41 --platform linux/arm64    # its layers, config and history\n" +
			"  dovrak show forge/bench/snowpack-model:build-41 --as linux/arm/v7         # what a client of that platform gets",
		Args: args(1, "show REGISTRY/REPOSITORY:TAG or show REGISTRY/REPOSITORY@DIGEST"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if raw != "" {
				text, err := a.client().Content(cmd.Context(), args[0], at.Platform, raw)
				if err != nil {
					return err
				}
				_, err = a.Out.Write(text)
				return err
			}
			img, err := a.client().Image(cmd.Context(), args[0], at)
			if err != nil {
				return err
			}
			return a.print(&img, func() { a.drawImage(args[0], at.Platform, img) })
		},
	}
	cmd.Flags().StringVar(&at.Platform, "platform", "", "only this platform's image, with its layers, config and history")
	cmd.Flags().StringVar(&at.As, "as", "", "which member a client of this platform gets, e.g. linux/arm/v7")
	cmd.Flags().StringVar(&raw, "raw", "", "the very bytes: manifest or config")
	return cmd
}

func (a *App) drawImage(asked, platform string, img wire.Image) {
	now := time.Now()
	fmt.Fprintf(a.Out, "%s  %s\n", a.bold(asked), img.Version)
	fmt.Fprintf(a.Out, "%s  %s\n", a.ridge(img.Digest), img.Digest)
	built := ""
	if img.Created != nil {
		built = fmt.Sprintf(", built %s ago (%s)", age(*img.Created, now), clock(*img.Created))
	}
	fmt.Fprintf(a.Out, "%s, %s%s, %s\n", whatIs(platform, img), size(img.Size), built, a.dim("seen "+img.Seen.Format("15:04:05")+" UTC"))
	others := slices.DeleteFunc(slices.Clone(img.Tags), func(t string) bool { return strings.HasSuffix(asked, ":"+t) })
	if len(others) > 0 {
		fmt.Fprintf(a.Out, "also %s\n", strings.Join(others, ", "))
	}
	for _, b := range img.Builds {
		fmt.Fprintf(a.Out, "made by build %s  %s\n", a.bold(fmt.Sprintf("%s/%d", b.Component, b.Number)), b.Link)
	}
	a.drawMark(img.Registry, now)
	if c := img.Client; c != nil {
		fmt.Fprintf(a.Out, "\na client of %s gets %s\n%s  %s\n", a.bold(c.As), a.bold(c.Platform), a.ridge(c.Digest), c.Digest)
	}
	a.drawPlatforms(img)
	a.drawBeside("beside", img.Beside)
	a.drawBeside("attached", img.Referrers)
	if img.ReferrersProblem != "" {
		fmt.Fprintf(a.Out, "\n%s\n", a.amber("what is attached could not be listed: "+img.ReferrersProblem))
	}
	a.drawEvidence(img, now)
	if len(img.Platforms) == 1 {
		a.drawMember(img.Platforms[0])
	}
	a.drawLabels(img)
	fmt.Fprintf(a.Out, "\n%s  %s\n", a.dim("exact"), img.Reference)
}

// drawMark tells of the registry what must not be overlooked, and when it was last checked.
func (a *App) drawMark(m wire.RegistryMark, now time.Time) {
	if e := m.Exception; e != nil {
		fmt.Fprintln(a.Out, a.ember("certificates of "+m.Name+" go unchecked, by "+e.Owner+" until "+clock(e.Until)+" UTC"))
	}
	switch {
	case m.Fails != "":
		fmt.Fprintln(a.Out, a.ember(m.Fails+" fails at "+m.Name)+a.dim(", checked "+age(*m.Checked, now)+" ago"))
	case m.Checked != nil:
		fmt.Fprintln(a.Out, a.dim(m.Name+" checked "+age(*m.Checked, now)+" ago, nothing fails"))
	default:
		fmt.Fprintln(a.Out, a.dim(m.Name+" was never checked: dovrak registry check "+m.Name))
	}
}

func whatIs(platform string, img wire.Image) string {
	switch {
	case img.Kind == "index" && platform != "":
		return platform + " of an index"
	case img.Kind == "index" && len(img.Platforms) == 1:
		return "index of 1 platform"
	case img.Kind == "index":
		return fmt.Sprintf("index of %d platforms", len(img.Platforms))
	case img.Kind == "image":
		return "one image"
	}
	return img.Kind + ", not an image to run"
}

func (a *App) drawPlatforms(img wire.Image) {
	if len(img.Platforms) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	t := a.ledger("platform", "digest", "layers", "size", "created", "made by")
	right(t, 3, 4)
	alike := !slices.ContainsFunc(img.Platforms, func(p wire.PlatformImage) bool { return madeBy(p) != madeBy(img.Platforms[0]) })
	if alike {
		t = a.ledger("platform", "digest", "layers", "size", "created")
		right(t, 3, 4)
	}
	for _, p := range img.Platforms {
		name := a.bold(p.Platform)
		if p.OSVersion != "" {
			name += " " + p.OSVersion
		}
		created := ""
		if p.Created != nil {
			created = clock(*p.Created)
		}
		row := table.Row{name, a.plate(p.Digest), len(p.Layers), size(p.Size), created}
		if !alike {
			row = append(row, madeBy(p))
		}
		t.AppendRow(row)
		if p.Contradiction != "" {
			t.AppendRow(table.Row{"", a.ember("✗ " + p.Contradiction)})
		}
	}
	t.Render()
	if by := madeBy(img.Platforms[0]); alike && by != "" && len(img.Builds) == 0 {
		fmt.Fprintln(a.Out, a.dim("made by ")+by)
	}
}

// madeBy is what says of an image how it came to be: its pipeline or source by label, its author, or its last step.
func madeBy(p wire.PlatformImage) string {
	for _, k := range slices.Sorted(maps.Keys(p.Labels)) {
		if strings.HasSuffix(k, ".pipeline") || strings.HasSuffix(k, ".image.source") || strings.HasSuffix(k, ".image.url") {
			return p.Labels[k]
		}
	}
	if p.Author != "" || len(p.History) == 0 {
		return p.Author
	}
	return p.History[len(p.History)-1].By
}

func (a *App) drawBeside(how string, all []wire.Beside) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	t := a.ledger(how, "digest", "of", "size", "type")
	right(t, 4)
	for _, b := range all {
		t.AppendRow(table.Row{b.Kind, a.plate(b.Digest), short(b.Of), size(b.Size), b.Type})
	}
	t.Render()
}

// drawMember prints one platform's image whole.
func (a *App) drawMember(p wire.PlatformImage) {
	fmt.Fprintln(a.Out)
	t := a.ledger("layer", "digest", "size", "type")
	right(t, 3)
	for i, l := range p.Layers {
		t.AppendRow(table.Row{fmt.Sprintf("layer %d", i+1), a.plate(l.Digest), size(l.Size), l.MediaType})
	}
	t.Render()
	fmt.Fprintln(a.Out)
	t = a.ledger("config", "")
	for _, r := range []struct{ name, value string }{
		{"entrypoint", strings.Join(p.Entrypoint, " ")}, {"command", strings.Join(p.Command, " ")}, {"user", p.User},
		{"working directory", p.WorkingDir}, {"ports", strings.Join(p.Ports, ", ")},
		{"environment", strings.Join(p.Env, "\n")}, {"author", p.Author},
	} {
		if r.value != "" {
			t.AppendRow(table.Row{r.name, r.value})
		}
	}
	for i, h := range p.History {
		t.AppendRow(table.Row{fmt.Sprintf("step %d", i+1), strings.TrimSpace(h.By + " " + a.dim(h.Comment))})
	}
	t.Render()
}

// drawLabels prints the labels that all platforms share once, and the others by platform.
func (a *App) drawLabels(img wire.Image) {
	shared := map[string]string{}
	if len(img.Platforms) > 0 {
		maps.Copy(shared, img.Platforms[0].Labels)
	}
	for _, p := range img.Platforms {
		maps.DeleteFunc(shared, func(k, v string) bool { return p.Labels[k] != v })
	}
	t := a.ledger("label", "value")
	for _, k := range slices.Sorted(maps.Keys(shared)) {
		t.AppendRow(table.Row{k, shared[k]})
	}
	for _, p := range img.Platforms {
		for _, k := range slices.Sorted(maps.Keys(p.Labels)) {
			if _, ok := shared[k]; !ok {
				t.AppendRow(table.Row{k + a.dim(" "+p.Platform), p.Labels[k]})
			}
		}
	}
	for _, k := range slices.Sorted(maps.Keys(img.Annotations)) {
		if img.Annotations[k] != shared[k] {
			t.AppendRow(table.Row{k + a.dim(" of the index"), img.Annotations[k]})
		}
	}
	if t.Length() > 0 {
		fmt.Fprintln(a.Out)
		t.Render()
	}
}
