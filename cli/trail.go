package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"dovrak/api/wire"
	"dovrak/client"

	"github.com/spf13/cobra"
)

func (a *App) trail() *cobra.Command {
	var at string
	var of client.TrailOf
	var page client.Page
	cmd := &cobra.Command{
		Use:   "trail [TAG]",
		Short: "Tell what happened: to a tag, in a promotion, or altogether",
		Example: "  dovrak trail hut/live/snowpack-model:live\n" +
			"  dovrak trail --promotion 11\n" +
			"  dovrak trail hut/live/snowpack-model:live --at 2026-03-03T09:15:00Z",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				of.Subject = args[0]
			}
			if at != "" {
				return a.meantAt(cmd, of.Subject, at)
			}
			out, err := a.client().Trail(cmd.Context(), of, page)
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				if len(out.Items) == 0 {
					fmt.Fprintln(a.Out, "Nothing is on the trail for this; write a tag in full: REGISTRY/REPOSITORY:TAG")
				}
				for _, e := range out.Items {
					a.drawEntry(e)
				}
				a.more(out.Next)
			})
		},
	}
	cmd.Flags().StringVar(&of.Component, "component", "", "of this component")
	cmd.Flags().Int64Var(&of.Promotion, "promotion", 0, "of the promotion or roll back of this number, and of its tags")
	cmd.Flags().StringVar(&at, "at", "", "what the tag meant at that time (UTC), e.g. 2026-03-03T09:15:00Z")
	return paged(cmd, &page)
}

func (a *App) meantAt(cmd *cobra.Command, tag, at string) error {
	if tag == "" {
		return usage{errors.New("--at needs a tag: trail REGISTRY/REPOSITORY:TAG --at TIME")}
	}
	m, err := a.client().Meaning(cmd.Context(), tag, at)
	if err != nil {
		return err
	}
	return a.print(&m, func() {
		until := "and still does"
		if m.Until != nil {
			until = "until " + clock(*m.Until) + " UTC"
		}
		fmt.Fprintf(
			a.Out,
			"%s meant %s then\n%s  %s\nfrom %s UTC %s\n",
			a.bold(m.Tag),
			a.bold(m.Version),
			a.ridge(m.Digest),
			m.Digest,
			clock(m.From),
			until,
		)
		fmt.Fprintf(a.Out, "pointed by %s%s: %s\n", a.bold(m.By), promotionNamed(m.Promotion), m.Because)
	})
}

func promotionNamed(n *int64) string {
	if n == nil {
		return ""
	}
	return fmt.Sprintf(", promotion %d", *n)
}

// drawEntry prints an entry: when, what, whom it concerns; then from what to what; then who and why.
func (a *App) drawEntry(e wire.TrailEntry) {
	seq := "    –"
	if e.Seq != nil {
		seq = fmt.Sprintf("%5d", *e.Seq)
	}
	fmt.Fprintf(a.Out, "%s  %s  %s  %s\n", a.dim(seq), clock(e.At), a.bold(fmt.Sprintf("%-18s", e.Act)), about(e))
	to := e.Facts["to"]
	switch {
	case e.Act == "tag found":
		fmt.Fprintf(a.Out, "       %s %s\n", a.plate(to), a.amber("found, not decided"))
	case e.Act == "tag removed":
		fmt.Fprintf(a.Out, "       %s → %s\n", a.plate(e.Facts["from"]), a.dim("nothing"))
	}
	if to != "" && short(to) != to && e.Act != "tag found" {
		fmt.Fprintf(a.Out, "       %s → %s\n", a.plate(e.Facts["from"]), a.plate(to))
	} else if d := e.Facts["digest"]; d != "" {
		fmt.Fprintf(a.Out, "       %s\n", a.plate(d))
	}
	line := "by " + a.bold(e.By)
	if b := e.Facts["build"]; b != "" && e.Facts["subject"] != "" {
		line += ", build " + b
	}
	if w := e.Facts["why"]; w != "" {
		line += ": " + w
	}
	if p := e.Facts["promotion"]; p != "" {
		line += ", " + named(e.Facts["roll back"] != "") + " " + p
	}
	if e.Facts["emergency"] != "" {
		line += ", " + a.ember("emergency")
	}
	if c := cmp.Or(e.Facts["changed"], e.Facts["changes"]); c != "" {
		line += ": " + c
	}
	if e.Because != "" {
		line += ": " + e.Because
	}
	if p := e.Facts["problem"]; p != "" {
		line += "; " + a.ember(p)
	}
	if m := e.Facts["means"]; m != "" && strings.HasPrefix(e.Act, "switch") {
		line += "; " + m
	}
	fmt.Fprintf(a.Out, "       %s\n", line)
}

func orEmpty(before, s string) string {
	if s == "" {
		return ""
	}
	return before + s
}

// about names what an entry concerns, in few words.
func about(e wire.TrailEntry) string {
	f := e.Facts
	switch {
	case e.Act == "person signed in":
		return strings.TrimSpace("at " + f["by"] + orEmpty(", as ", f["groups"]))
	case e.Person != "":
		return e.Person
	case f["subject"] != "":
		return f["subject"]
	case f["environment"] != "" && strings.HasPrefix(e.Act, "roll back"):
		return strings.TrimSpace(
			fmt.Sprintf("%s to %s", f["component"], cmp.Or(f["version"], f["wanted"], "what stood before")),
		) + " in " + f["environment"]
	case f["environment"] != "":
		return fmt.Sprintf("%s %s to %s", f["component"], f["version"], f["environment"])
	case f["build"] != "":
		return strings.TrimSpace(f["build"] + " " + f["version"])
	case f["registry"] != "":
		return f["registry"] + " at " + f["address"]
	case f["token"] != "":
		return "token " + f["token"]
	case f["exception"] != "":
		return strings.TrimSpace("exception " + f["exception"] + orEmpty(": "+f["component"]+" ", f["tags"]) + orEmpty(" in ", f["place"]))
	}
	return f["organisation"] + " version " + f["version"]
}
