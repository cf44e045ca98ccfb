package cli

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dovrak/api/wire"
	"dovrak/client"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) tags() *cobra.Command {
	var q client.TagQuery
	var across string
	var attached, kept, gaps bool
	cmd := &cobra.Command{
		Use:   "tags REPOSITORY",
		Short: "List a repository's tags, or one component's tags side by side in all its places",
		Long: "List a repository's tags, in the order of versions: what each means, since when, and which share an image.\n" +
			"The registry is asked, unless that was done within a minute. With --across COMPONENT, the tags of all its places are set\n" +
			"side by side; it ends with 5 if a tag differs or is lacking somewhere and no exception says that this is meant.",
		Example: "  dovrak tags forge/bench/snowpack-model --match 'build-*' --order age\n" +
			"  dovrak tags --across snowpack-model",
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case across != "" && len(args) == 0:
				return a.tagsAcross(cmd, across, q.Match, attached, gaps)
			case across == "" && len(args) == 1:
				return a.tagList(cmd, args[0], q, kept)
			}
			return usage{errors.New("wanted: tags REGISTRY/REPOSITORY, or tags --across COMPONENT")}
		},
	}
	f := cmd.Flags()
	f.StringVar(&q.Match, "match", "", "only tags of a pattern, with * and ?")
	f.StringVar(&q.Order, "order", "version", "version, name, age or size")
	f.BoolVar(&q.Ascending, "ascending", false, "the lowest, oldest or smallest first")
	f.IntVar(&q.Limit, "limit", 0, "at most so many (default all)")
	f.BoolVar(&kept, "as-last-seen", false, "ask no registry; show what was seen, with its time")
	f.StringVar(&across, "across", "", "one component's tags, in all its places")
	f.BoolVar(&attached, "attached", false, "with --across: compare what is attached, too")
	f.BoolVar(&gaps, "gaps", false, "with --across: only tags that are not the same everywhere and are not meant so")
	cmd.AddCommand(a.tagsExcept(), a.tagsUnexcept())
	return cmd
}

// maxListed bounds what is listed at once, where nobody says less.
const maxListed = 50_000

func (a *App) tagList(cmd *cobra.Command, repository string, q client.TagQuery, kept bool) error {
	limit := q.Limit
	if limit <= 0 {
		limit = maxListed
	}
	if !kept {
		if err := a.lookAtTags(cmd, repository); err != nil {
			return err
		}
	}
	var out wire.Tags
	for {
		q.Limit = min(limit-len(out.Items), 1000)
		page, err := a.client().Tags(cmd.Context(), repository, q)
		if err != nil {
			return err
		}
		page.Items = append(out.Items, page.Items...)
		out, q.After = page, page.Next
		if out.Next == "" || len(out.Items) >= limit {
			break
		}
	}
	return a.print(&out, func() { a.drawTags(out) })
}

// lookAtTags has the registry asked, and shows how far that is.
func (a *App) lookAtTags(cmd *cobra.Command, repository string) error {
	last := time.Now()
	err := a.client().LookAtTags(cmd.Context(), repository, func(l wire.TagsLook) {
		if !a.liveErr || l.Kept || time.Since(last) < 100*time.Millisecond {
			return
		}
		last = time.Now()
		fmt.Fprintf(a.Err, "\r\x1b[K%s: %d tags asked, %d images read", repository, l.Tags, l.Images)
	})
	if a.liveErr {
		fmt.Fprint(a.Err, "\r\x1b[K")
	}
	return err
}

func (a *App) drawTags(out wire.Tags) {
	now := time.Now()
	seen := a.amber("never looked at as a whole")
	if out.Surveyed != nil {
		seen = a.dim("seen " + age(*out.Surveyed, now) + " ago")
	}
	fmt.Fprintf(
		a.Out,
		"%s  %s of %s, %s\n",
		a.bold(out.Repository),
		many(out.Tags, "tag", "tags"),
		many(out.Images, "image", "images"),
		seen,
	)
	a.drawMark(out.Registry, now)
	fmt.Fprintln(a.Out)
	t := a.ledger("tag", "", "digest", "for", "size", "platforms", "also")
	right(t, 4, 5)
	for _, x := range out.Items {
		means := age(x.Since, now)
		if !x.Decided {
			means = a.dim("≥ ") + means
			if x.Created != nil {
				means = a.dim("built ") + age(*x.Created, now)
			}
		}
		what := strings.Join(x.Platforms, " ")
		if x.Problem != "" {
			what = a.ember(x.Problem)
		} else if x.Kind != "index" && x.Kind != "image" {
			what = a.dim(x.Kind)
		}
		t.AppendRow(table.Row{a.bold(x.Tag), a.rule(x.Rule), a.plate(x.Digest), means, size(x.Size), what, a.dim(also(x))})
	}
	a.list(t, "There is no such tag", "")
	if out.Next != "" {
		fmt.Fprintln(a.Out, a.dim("there are more: --limit shows how many are listed"))
	}
}

func (a *App) rule(r string) string {
	if r == "moving" || r == "other" {
		return a.dim(r)
	}
	return r
}

func also(x wire.Tag) string {
	s := strings.Join(x.With, ", ")
	if more := x.Shares - int64(len(x.With)); more > 0 {
		s += fmt.Sprintf(" and %d more", more)
	}
	return s
}

func (a *App) tagsAcross(cmd *cobra.Command, component, match string, attached, gaps bool) error {
	out, err := a.client().Across(cmd.Context(), component, match, attached)
	if err != nil {
		return err
	}
	gap := func(r wire.AcrossRow) bool { return r.Verdict != "same" && r.Exception == 0 }
	found := slices.ContainsFunc(out.Rows, gap)
	if gaps {
		out.Rows = slices.DeleteFunc(out.Rows, func(r wire.AcrossRow) bool { return !gap(r) })
	}
	if err := a.print(&out, func() { a.drawAcross(out) }); err != nil {
		return err
	}
	if found {
		return ended{Differs}
	}
	return nil
}

func (a *App) drawAcross(out wire.Across) {
	now := time.Now()
	var digests []string
	head := []any{"tag"}
	for _, p := range out.Places {
		registry, _, _ := strings.Cut(p.Repository, "/")
		head = append(head, p.Environment+"\n"+registry)
	}
	t := a.ledger(append(head, "")...)
	versions := map[string]bool{}
	for _, r := range out.Rows {
		row := table.Row{a.bold(r.Tag)}
		for _, c := range r.Cells {
			row = append(row, a.cell(c))
			if c.Digest != "" && !versions[c.Digest] {
				versions[c.Digest] = true
				digests = append(digests, c.Digest)
			}
		}
		t.AppendRow(append(row, a.acrossVerdict(r, now)))
	}
	a.list(t, "No tag in any place", "")
	fmt.Fprintln(a.Out)
	for _, d := range digests { // what each ridge stands for
		fmt.Fprintf(a.Out, "%s  %s\n", a.ridge(d), d)
	}
	fmt.Fprintln(a.Out)
	for _, p := range out.Places {
		if p.Registry.Fails != "" || p.Registry.Exception != nil {
			a.drawMark(p.Registry, now)
		}
		switch {
		case p.Problem != "":
			fmt.Fprintln(a.Out, a.ember(p.Repository+" could not be looked at: ")+p.Problem)
		case p.Seen != nil:
			fmt.Fprintln(a.Out, a.dim(p.Repository+" ("+p.Environment+") seen "+age(*p.Seen, now)+" ago"))
		default:
			fmt.Fprintln(a.Out, a.dim(p.Repository+" ("+p.Environment+"): nothing is there yet"))
		}
	}
	for _, e := range out.Exceptions {
		at := "every place"
		if e.Place != "" {
			at = e.Place
		}
		fmt.Fprintln(
			a.Out,
			a.dim(fmt.Sprintf("exception %d: %s need not be the same in %s, %s: %s", e.Number, e.Pattern, at, e.By, e.Because)),
		)
	}
}

func (a *App) cell(c wire.AcrossCell) string {
	if c.Digest == "" {
		return a.dim("·")
	}
	s := a.ridge(c.Digest)
	if c.Attached != nil {
		s += a.dim(fmt.Sprintf(" +%d", *c.Attached))
	}
	return s
}

func (a *App) acrossVerdict(r wire.AcrossRow, now time.Time) string {
	if r.Verdict == "same" {
		return a.dim("same")
	}
	if r.Exception != 0 {
		return a.dim(fmt.Sprintf("%s, meant so (exception %d)", r.Verdict, r.Exception))
	}
	s := r.Verdict
	if len(r.Platforms) > 0 {
		s += ", " + strings.Join(r.Platforms, " ") + " not everywhere"
	}
	if r.Since != nil {
		s += ", for " + age(*r.Since, now)
	}
	if r.Verdict == "differs" {
		return a.ember(s)
	}
	return a.amber(s)
}

func (a *App) tagsExcept() *cobra.Command {
	var n wire.NewTagException
	cmd := &cobra.Command{
		Use:     "except COMPONENT PATTERN --because WHY",
		Short:   "Say that tags of a pattern need not be the same in every place",
		Example: `  dovrak tags except snowpack-model 'build-*' --because "builds stay on the bench"`,
		Args:    args(2, `tags except COMPONENT PATTERN --because "why"`),
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Component, n.Pattern = args[0], args[1]
			no, err := a.client().ExceptTags(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.print(map[string]int64{"number": no}, func() { fmt.Fprintf(a.Out, "exception %d\n", no) })
		},
	}
	cmd.Flags().StringVar(&n.Place, "place", "", "REGISTRY/REPOSITORY alone (default: every place)")
	cmd.Flags().StringVar(&n.Because, "because", "", "the reason, for the trail (required)")
	return cmd
}

func (a *App) tagsUnexcept() *cobra.Command {
	return &cobra.Command{
		Use: "unexcept NUMBER", Short: "End such an exception", Args: args(1, "tags unexcept NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			no, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage{fmt.Errorf("%q is not the number of an exception", args[0])}
			}
			if err := a.client().EndTagException(cmd.Context(), no); err != nil {
				return err
			}
			return a.print(map[string]int64{"ended": no}, func() { fmt.Fprintf(a.Out, "exception %d counts no more\n", no) })
		},
	}
}

func (a *App) unpoint() *cobra.Command {
	var u wire.Unpoint
	cmd := &cobra.Command{
		Use:     "unpoint IMAGE:TAG --because WHY",
		Short:   "Take one tag away, and nothing else",
		Example: `  dovrak unpoint forge/bench/snowpack-model:trial-ready --because "the trial is over"`,
		Args:    args(1, `unpoint REGISTRY/REPOSITORY:TAG --because "why"`),
		RunE: func(cmd *cobra.Command, args []string) error {
			u.Tag = args[0]
			out, err := a.client().Unpoint(cmd.Context(), u)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				t := a.ledger("tag", "meant", "")
				t.AppendRow(table.Row{a.bold(out.Tag), a.plate(out.From), "means nothing now; the image stays"})
				t.Render()
			})
		},
	}
	cmd.Flags().StringVar(&u.Because, "because", "", "the reason, for the trail (required)")
	return cmd
}
