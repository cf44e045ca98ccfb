package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"dovrak/api/wire"
	"dovrak/client"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) build() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "build",
		Short: "Report builds part by part, and look at them",
		Long: "Report builds from a pipeline: start one, report the image of each platform from its own runner, and it closes itself\n" +
			"when all are in. A build is named COMPONENT/NUMBER, by the pipeline's own number: no id need be carried between jobs.",
		Args: args(0, "build start, part, close, watch, show, list or rules"),
		RunE: helped,
	}
	cmd.AddCommand(a.buildStart(), a.buildPart(), a.buildClose(), a.buildWatch(), a.buildShow(), a.buildList(), a.buildRules())
	return cmd
}

var buildNamed = regexp.MustCompile(`^([a-z][a-z0-9-]*)/([0-9]+)$`)

// buildName reads COMPONENT/NUMBER.
func buildName(s string) (string, int64, error) {
	m := buildNamed.FindStringSubmatch(s)
	if m == nil {
		return "", 0, usage{fmt.Errorf("%q names no build: write COMPONENT/NUMBER, e.g. snowpack-model/41", s)}
	}
	n, err := strconv.ParseInt(m[2], 10, 64)
	if err != nil {
		return "", 0, usage{fmt.Errorf("%q names no build: %s is too large", s, m[2])}
	}
	return m[1], n, nil
}

// maxChangesFile bounds the file of changes, in bytes.
const maxChangesFile = 1 << 20

func (a *App) buildStart() *cobra.Command {
	var n wire.NewBuild
	var changes string
	cmd := &cobra.Command{
		Use:   "start --component COMPONENT --number N --commit COMMIT --branch BRANCH",
		Short: "Report a build; its parts follow, unless the whole image is pushed already",
		Example: "  dovrak build start --component snowpack-model --number 41 --commit 4f1c9d2… --branch main --version 2.14.0\n" +
			"  dovrak build start --component map-tiles --number 63 --commit … --branch main --image forge/bench/map-tiles@sha256:…",
		Args: args(0, "build start --component … --number … --commit … --branch …"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if changes != "" {
				raw, err := a.limitedFile(changes, maxChangesFile)
				if err == nil {
					err = json.Unmarshal(raw, &n.Changes)
				}
				if err != nil {
					return usage{fmt.Errorf(`--changes %s: %w; write [{"id": "4f1c9d2", "title": "…"}], newest first`, changes, err)}
				}
			}
			b, err := a.client().StartBuild(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.print(&b, func() { a.drawBuildLine(b) })
		},
	}
	f := cmd.Flags()
	f.StringVar(&n.Component, "component", "", "what is built (required)")
	f.Int64Var(&n.Number, "number", 0, "the pipeline's own number of this run (required)")
	f.StringVar(&n.Commit, "commit", "", "the source revision (required)")
	f.StringVar(&n.Branch, "branch", "", "the branch (required)")
	f.StringVar(&n.Version, "version", "", "the version that the build is to be, e.g. 2.14.0")
	f.StringVar(&n.Link, "link", "", "the address of the pipeline's run")
	f.StringVar(&n.CommitLink, "commit-link", "", "the address of the commit")
	f.StringVar(&n.Source, "source", "", "the address of the source repository")
	f.StringVar(&n.Trigger, "trigger", "", "what started the run, e.g. push")
	f.StringVar(&n.Base, "base", "", "the base image, NAME@DIGEST")
	f.StringVar(
		&changes,
		"changes",
		"",
		`a file of the commits since the build before, as JSON: [{"id": …, "title": …}]; - is standard input`,
	)
	f.StringVar(&n.Image, "image", "", "the whole image, where the pipeline has pushed it already: REGISTRY/REPOSITORY@DIGEST")
	return cmd
}

func (a *App) buildPart() *cobra.Command {
	var p wire.NewPart
	var emulated, native bool
	var seconds float64
	cmd := &cobra.Command{
		Use:     "part COMPONENT/NUMBER --platform PLATFORM --image IMAGE@DIGEST",
		Short:   "Report the image of one platform, from its own runner",
		Example: "  dovrak build part snowpack-model/41 --platform linux/arm64 --image forge/bench/snowpack-model@sha256:… --seconds 212",
		Args:    args(1, "build part COMPONENT/NUMBER --platform … --image …"),
		RunE: func(cmd *cobra.Command, args []string) error {
			component, number, err := buildName(args[0])
			if err != nil {
				return err
			}
			if emulated || native {
				p.Emulated = &emulated
			}
			if cmd.Flags().Changed("seconds") {
				p.Seconds = &seconds
			}
			b, err := a.client().ReportPart(cmd.Context(), component, number, p)
			if err != nil {
				return err
			}
			return a.print(&b, func() { a.drawBuildLine(b) })
		},
	}
	f := cmd.Flags()
	f.StringVar(&p.Platform, "platform", "", "os/architecture or os/architecture/variant (required)")
	f.StringVar(&p.Image, "image", "", "where it was pushed, by digest (required)")
	f.BoolVar(&emulated, "emulated", false, "it was built on a machine of another architecture")
	f.BoolVar(&native, "native", false, "it was built on a machine of its own")
	f.Float64Var(&seconds, "seconds", 0, "how long the build of this platform took")
	cmd.MarkFlagsMutuallyExclusive("emulated", "native")
	return cmd
}

// onBuild makes a command that asks one thing of a build and shows it.
func (a *App) onBuild(
	use, short string,
	ask func(*cobra.Command, *client.Client, string, int64) (wire.Build, error),
	draw func(wire.Build),
) *cobra.Command {
	return &cobra.Command{
		Use: use + " COMPONENT/NUMBER", Short: short, Args: args(1, "build "+use+" COMPONENT/NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			component, number, err := buildName(args[0])
			if err != nil {
				return err
			}
			b, err := ask(cmd, a.client(), component, number)
			if err != nil {
				return err
			}
			return a.print(&b, func() { draw(b) })
		},
	}
}

func (a *App) buildClose() *cobra.Command {
	return a.onBuild("close", "Join what is there, once every required platform is in; also tries a failed build again",
		func(cmd *cobra.Command, c *client.Client, component string, n int64) (wire.Build, error) {
			return c.CloseBuild(cmd.Context(), component, n)
		}, a.drawBuildLine)
}

func (a *App) buildShow() *cobra.Command {
	return a.onBuild("show", "Show a build: its parts, the tags it got, what it was made from",
		func(cmd *cobra.Command, c *client.Client, component string, n int64) (wire.Build, error) {
			return c.Build(cmd.Context(), component, n, "")
		}, a.drawBuild)
}

func (a *App) buildWatch() *cobra.Command {
	cmd := a.onBuild("watch", "Wait until a build is closed, and end as it did", nil, nil)
	cmd.Long = "Wait until a build is closed. Ends with 0 when its image is tagged, 1 when that failed, 3 when a rule refused it,\n" +
		"and 4 when its time is over and parts are missing."
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		component, number, err := buildName(args[0])
		if err != nil {
			return err
		}
		b, err := a.followBuild(cmd, component, number)
		if err != nil {
			return err
		}
		if b.Problem != nil {
			return client.Problem(*b.Problem)
		}
		if err := a.print(&b, func() { a.drawBuild(b) }); err != nil {
			return err
		}
		switch b.State {
		case "verified":
			return nil
		case "incomplete":
			return ended{Waits}
		}
		return ended{Failed}
	}
	return cmd
}

// followBuild looks at a build, each answer waiting for the next state, until nothing more happens by itself.
func (a *App) followBuild(cmd *cobra.Command, component string, number int64) (wire.Build, error) {
	c := a.client()
	p := a.progress(fmt.Sprintf("%s/%d", component, number))
	defer p.end()
	state := ""
	for {
		b, err := c.Build(cmd.Context(), component, number, state)
		if err != nil {
			return b, err
		}
		state = b.State
		p.show(wire.Work{State: state, Progress: b.Progress})
		if b.Ended || state == "incomplete" {
			return b, nil
		}
	}
}

func (a *App) buildList() *cobra.Command {
	var page client.Page
	var component string
	var promised bool
	cmd := &cobra.Command{
		Use: "list", Short: "List builds, newest first", Args: args(0, "build list"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Builds(cmd.Context(), page, component, promised)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				now := time.Now()
				t := a.ledger("build", "state", "version", "image", "parts", "tags", "age")
				right(t, 7)
				for _, b := range out.Items {
					t.AppendRow(table.Row{a.bold(fmt.Sprintf("%s/%d", b.Component, b.Number)), a.buildState(b), b.Version + a.tries(b),
						a.plate(b.Digest), a.partsIn(b), a.wrap(pointedTags(b), 90), a.dim(age(b.Reported, now))})
				}
				a.list(t, "No build was reported yet: dovrak build start --component COMPONENT …", out.Next)
			})
		},
	}
	cmd.Flags().StringVar(&component, "component", "", "only this component's")
	cmd.Flags().BoolVar(&promised, "promised", false, "only those whose promised version has no image yet")
	return paged(cmd, &page)
}

func (a *App) buildState(b wire.Build) string {
	switch b.State {
	case "open", "incomplete":
		return a.amber(b.State)
	}
	return a.state(b.State)
}

// tries tells of a promise that is still open after failed tries.
func (a *App) tries(b wire.Build) string {
	if b.Promise == nil || b.Promise.KeptBy != "" || b.Promise.Tries == 0 {
		return ""
	}
	return a.ember(" open, " + many(b.Promise.Tries, "try failed", "tries failed"))
}

func (a *App) partsIn(b wire.Build) string {
	text := fmt.Sprintf("%d of %d", len(b.Parts), len(b.Required))
	if len(b.Missing) > 0 {
		return a.amber(text)
	}
	return text
}

func pointedTags(b wire.Build) string {
	var tags []string
	for _, t := range b.Tags {
		if t.Outcome == "points" && !slices.Contains(tags, t.Tag) {
			tags = append(tags, t.Tag)
		}
	}
	return strings.Join(tags, " ")
}

// drawBuildLine says in a line how a build stands.
func (a *App) drawBuildLine(b wire.Build) {
	line := fmt.Sprintf("%s  %s", a.bold(fmt.Sprintf("%s/%d", b.Component, b.Number)), a.buildState(b))
	if len(b.Missing) > 0 {
		line += fmt.Sprintf("; %s, awaited: %s", many(int64(len(b.Parts)), "part is in", "parts are in"), strings.Join(b.Missing, ", "))
	}
	fmt.Fprintln(a.Out, line)
}

func (a *App) drawBuild(b wire.Build) {
	now := time.Now()
	fmt.Fprintf(a.Out, "%s  %s  %s\n", a.bold(fmt.Sprintf("%s/%d", b.Component, b.Number)), b.Version, a.buildState(b)+a.tries(b))
	if b.Digest != "" {
		fmt.Fprintf(a.Out, "%s  %s\n", a.ridge(b.Digest), b.Digest)
	}
	fmt.Fprintf(a.Out, "%s on %s%s, reported %s ago by %s\n", b.Commit, b.Branch, triggered(b.Trigger), age(b.Reported, now), b.By)
	for _, l := range []struct{ name, text string }{{"run", b.Link}, {"commit", b.CommitLink}, {"source", b.Source}, {"base", based(b.Base, b.BaseDigest)}} {
		if l.text != "" {
			fmt.Fprintf(a.Out, "%s %s\n", a.dim(fmt.Sprintf("%-6s", l.name)), l.text)
		}
	}
	a.drawParts(b)
	a.drawBuildTags(b)
	for _, w := range b.Warnings {
		fmt.Fprintln(a.Out, a.amber("warned: "+w))
	}
	if len(b.Changes) > 0 {
		since := "changes"
		if b.Before > 0 {
			since = fmt.Sprintf("changes since build %d", b.Before)
		}
		fmt.Fprintf(a.Out, "\n%s\n", a.dim(since))
		for _, c := range b.Changes {
			fmt.Fprintf(a.Out, "  %s  %s\n", c.ID[:min(10, len(c.ID))], c.Title)
		}
	}
	if b.Problem != nil {
		fmt.Fprintln(a.Out)
		a.tell(client.Problem(*b.Problem))
	}
}

func triggered(by string) string {
	if by == "" {
		return ""
	}
	return " by " + by
}

func based(name, digest string) string {
	if digest == "" {
		return name
	}
	return name + "@" + digest
}

func (a *App) drawParts(b wire.Build) {
	now := time.Now()
	fmt.Fprintln(a.Out)
	t := a.ledger("platform", "part", "size", "built", "arrived", "")
	right(t, 3, 4, 5)
	for _, p := range b.Parts {
		var notes []string
		if !slices.Contains(b.Places, p.Repository) {
			notes = append(notes, "from "+p.Repository)
		}
		if p.By != b.By {
			notes = append(notes, "by "+p.By)
		}
		for _, w := range p.Warnings {
			notes = append(notes, a.amber(w))
		}
		t.AppendRow(table.Row{a.bold(p.Platform), a.plate(p.Digest), size(p.Size), built(p), a.dim(age(p.Reported, now) + " ago"),
			strings.Join(notes, "\n")})
	}
	for _, m := range b.Missing {
		t.AppendRow(table.Row{a.bold(m), a.amber("awaited until " + b.Due.Format("15:04:05"))})
	}
	t.Render()
}

func built(p wire.BuildPart) string {
	out := ""
	if p.Seconds != nil {
		out = fmt.Sprintf("%.0f s", *p.Seconds)
	}
	if p.Emulated != nil && *p.Emulated {
		out = strings.TrimSpace(out + " emulated")
	}
	return out
}

func (a *App) drawBuildTags(b wire.Build) {
	if len(b.Tags) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	t := a.ledger("tag in "+strings.Join(b.Places, ", "), "rule", "")
	for _, g := range b.Tags {
		tag := a.bold(g.Tag)
		if len(b.Places) > 1 {
			tag = g.Repository + ":" + tag
		}
		came := a.dim("not yet")
		switch g.Outcome {
		case "points":
			came = "points to this build"
			if g.Change > 0 {
				came += a.dim(fmt.Sprintf(", change %d", g.Change))
			}
		case "stays":
			came = a.amber("stays: ") + a.wrap(g.Why, 70)
		}
		t.AppendRow(table.Row{tag, g.Kind + " " + g.Rule, came})
	}
	t.Render()
}

func (a *App) buildRules() *cobra.Command {
	return &cobra.Command{
		Use: "rules COMPONENT", Short: "Show the rules for a component's tags, and what each makes for the newest build",
		Args: args(1, "build rules COMPONENT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out, err := a.client().TagRules(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				newest := "newest build"
				if out.Newest > 0 {
					newest = fmt.Sprintf("for build %d", out.Newest)
				}
				t := a.ledger("environment", "rule", "", newest, "")
				last := ""
				for _, r := range out.Items {
					env := a.bold(r.Environment)
					if r.Environment == last {
						env = ""
					}
					last = r.Environment
					tag := r.Tag
					if tag == "" && r.Why != "" {
						tag = a.dim(a.wrap(r.Why, 80))
					}
					t.AppendRow(table.Row{env, r.Kind, r.Template, tag, a.wrap(r.Words, 62)})
				}
				t.Render()
			})
		},
	}
}

// join joins by hand.
func (a *App) join() *cobra.Command {
	var because string
	cmd := &cobra.Command{
		Use:     "join REPOSITORY:TAG PART PART…",
		Short:   "Join images of single platforms into one, by hand, under a tag",
		Long:    "Join images of single platforms into one index. Each part is what its own config says; parts from elsewhere are copied in first.",
		Example: `  dovrak join forge/bench/map-tiles:26.3.0 forge/bench/map-tiles@sha256:… forge/bench/map-tiles@sha256:… --because "…"`,
		Args:    atLeast(2, "join REGISTRY/REPOSITORY:TAG PART…"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if because == "" {
				return usage{errors.New(`why? say --because "…": it goes on the trail`)}
			}
			c := a.client()
			n, err := c.Join(cmd.Context(), wire.NewJoin{To: args[0], Parts: args[1:], Because: because})
			if err != nil {
				return err
			}
			p := a.progress(fmt.Sprintf("join %d", n))
			w, err := client.Follow(cmd.Context(), c, "join", n, c.JoinNumbered, func(w wire.Join) wire.Work { return w.Work },
				func(w wire.Join) { p.show(w.Work) })
			p.end()
			if err != nil {
				return err
			}
			if w.Problem != nil {
				return client.Problem(*w.Problem)
			}
			return a.print(&w, func() {
				fmt.Fprintf(
					a.Out,
					"%s means %s\n%s  %s\n",
					a.bold(w.To),
					many(int64(len(w.Parts)), "part", "parts, joined"),
					a.ridge(w.Digest),
					w.Digest,
				)
				for _, x := range w.Parts {
					fmt.Fprintf(a.Out, "  %-14s %s  %s\n", x.Platform, a.plate(x.Digest), x.Repository)
				}
				for _, m := range w.Warnings {
					fmt.Fprintln(a.Out, a.amber("warned: "+m))
				}
			})
		},
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason, for the trail (required)")
	return cmd
}

// limitedFile reads a file of a bounded size, or standard input for -.
func (a *App) limitedFile(name string, limit int64) ([]byte, error) {
	if name == "-" {
		return readAtMost(a.In, limit)
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return readAtMost(f, limit)
}
