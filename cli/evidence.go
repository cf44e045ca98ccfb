package cli

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"dovrak/api/wire"
	"dovrak/core/evidence"
	"dovrak/core/problem"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) vouch() *cobra.Command {
	var n wire.NewVouch
	var file string
	cmd := &cobra.Command{
		Use:     "vouch IMAGE@DIGEST --claim CLAIM --verdict VERDICT",
		Short:   "Put evidence on record for an image: a test, a scan, a sign-off",
		Example: "  dovrak vouch forge/bench/snowpack-model@sha256:… --claim scan --verdict passed --link https://… --file report.json",
		Args:    args(1, "vouch IMAGE@DIGEST --claim CLAIM --verdict passed|failed|noted"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Image = args[0]
			if file != "" {
				raw, err := a.limitedFile(file, evidence.MaxReport)
				if err != nil {
					return err
				}
				if n.Report = raw; file != "-" {
					n.ReportName = filepath.Base(file)
				}
			}
			v, err := a.client().Vouch(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.print(&v, func() {
				fmt.Fprintf(a.Out, "evidence %d: %s %s for %s\n", v.Number, a.bold(v.Claim), a.judged(v.Verdict), a.plate(v.Digest))
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&n.Claim, "claim", "", "what it is about, e.g. scan or bench-run (required)")
	f.StringVar(&n.Verdict, "verdict", "", "passed, failed or noted (required)")
	f.StringVar(&n.Platform, "platform", "", "only of the image of this platform")
	f.StringVar(&n.Link, "link", "", "where more is to be read")
	f.StringVar(&n.Note, "note", "", "a few words")
	f.StringVar(&file, "file", "", "a report to keep, of at most 4 MiB; - is standard input")
	f.StringVar(&n.For, "for", "", "how long it counts, e.g. 720h; for ever if left out")
	return cmd
}

func (a *App) judged(v string) string {
	switch v {
	case "failed":
		return a.ember(v)
	case "noted":
		return a.amber(v)
	}
	return v
}

// readAtMost reads up to a limit, and says so when there is more.
func readAtMost(r io.Reader, limit int64) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(raw)) > limit {
		err = &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "This file is too large",
			Seen:   "more than " + humanize.IBytes(uint64(limit)),
			Remedy: "keep it elsewhere, and link to it",
		}
	}
	return raw, err
}

// drawEvidence prints what is on record for an image, and what its builders left beside it.
func (a *App) drawEvidence(img wire.Image, now time.Time) {
	if len(img.Evidence) > 0 {
		fmt.Fprintln(a.Out)
		t := a.ledger("evidence", "", "by", "")
		right(t, 1)
		for _, v := range img.Evidence {
			of := ""
			if v.Platform != "" {
				of = " for " + v.Platform
			}
			when := a.dim(age(v.At, now) + " ago")
			if v.Expired {
				when = a.amber("expired " + clock(*v.Expires))
			}
			t.AppendRow(table.Row{v.Number, a.bold(v.Claim) + " " + a.judged(v.Verdict) + of, v.By, when})
			for _, more := range []string{v.Note, strings.TrimSpace(v.Report + " " + v.Link)} {
				if more != "" {
					t.AppendRow(table.Row{"", "", more})
				}
			}
		}
		t.Render()
	}
	if len(img.Attestations) > 0 {
		fmt.Fprintln(a.Out)
		t := a.ledger("attested", "says", "builder", "")
		for _, s := range img.Attestations {
			t.AppendRow(table.Row{a.plate(s.Of), bareAddress(s.Predicate), bareAddress(s.Builder), a.trusted(s)})
		}
		t.Render()
	}
}

// bareAddress is an address without the scheme that all have.
func bareAddress(s string) string { return strings.TrimPrefix(s, "https://") }

// trusted says what an attestation is worth.
func (a *App) trusted(s wire.Attestation) string {
	switch {
	case s.Problem != "":
		return a.amber(s.Problem)
	case !s.Fits:
		return a.ember("names another image")
	case s.Key == "":
		return a.amber("unverified")
	}
	return "verified by " + s.Key
}
