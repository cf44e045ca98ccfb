package cli

import (
	"fmt"
	"strings"
	"time"

	"dovrak/client"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
)

// The roles of colour: spruce is what can be acted on, ember what is refused or has drifted, amber what waits.
func (a *App) ember(s string) string { return a.paint("31;1", s) }
func (a *App) amber(s string) string { return a.paint("33", s) }
func (a *App) bold(s string) string  { return a.paint("1", s) }
func (a *App) dim(s string) string   { return a.paint("2", s) }

func (a *App) paint(code, s string) string {
	if !a.colour || s == "" {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

// hues are 256-colour codes with a contrast of 3:1 or more on white and on black, one for each hue of a ridge.
var hues = [8]int{99, 32, 30, 64, 136, 130, 168, 127}

const posts = 12

// ridge draws a digest as twelve blocks, each as high as its digit, in the hue of the thirteenth; the same drawing as
// the console's.
func (a *App) ridge(digest string) string {
	_, hex, _ := strings.Cut(digest, ":")
	if len(hex) <= posts {
		return strings.Repeat(" ", posts)
	}
	bar := []rune(" ▁▂▃▄▅▆▇█")
	var b strings.Builder
	for _, c := range hex[:posts] {
		b.WriteRune(bar[(nibble(c)>>1)+1])
	}
	return a.paint(fmt.Sprintf("38;5;%d", hues[nibble(rune(hex[posts]))&7]), b.String())
}

func nibble(c rune) int {
	if c >= 'a' {
		return int(c-'a') + 10
	}
	return int(c - '0')
}

// short is the first twelve digits of a digest, as they stand beside a ridge.
func short(digest string) string {
	_, hex, ok := strings.Cut(digest, ":")
	if !ok || len(hex) < posts {
		return digest
	}
	return hex[:posts]
}

// plate is ridge and digits together; nothing where there is no digest.
func (a *App) plate(digest string) string {
	if digest == "" {
		return a.dim("nothing")
	}
	return a.ridge(digest) + " " + short(digest)
}

// many counts things in words.
func many(n int64, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// clock is a time as tables show it, in UTC.
func clock(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05") }

// age is how long ago something was.
func age(t, now time.Time) string {
	d := now.Sub(t)
	switch {
	case d < 0:
		return "just now"
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours()/24))
}

// ledger makes a table ruled like a timetable: one rule under its head, none elsewhere.
func (a *App) ledger(head ...any) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(a.Out)
	style := table.StyleDefault
	style.Box = table.BoxStyle{MiddleHorizontal: "─", MiddleSeparator: "─", MiddleVertical: " ", PaddingLeft: "", PaddingRight: " "}
	style.Options = table.Options{SeparateHeader: true, SeparateColumns: true}
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	t.SuppressTrailingSpaces()
	if len(head) > 0 {
		row := table.Row{}
		for _, h := range head {
			row = append(row, a.dim(fmt.Sprint(h)))
		}
		t.AppendHeader(row)
	}
	return t
}

// wrap breaks a sentence into lines that fit beside other columns, which take so many letters.
func (a *App) wrap(s string, beside int) string { return text.WrapSoft(s, max(24, a.width-beside-1)) }

// right aligns the numbered columns, from 1, as numbers are.
func right(t table.Writer, columns ...int) {
	var cfg []table.ColumnConfig
	for _, c := range columns {
		cfg = append(cfg, table.ColumnConfig{Number: c, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(cfg)
}

// list prints a table, or what would fill it, and how to see what is older.
func (a *App) list(t table.Writer, empty, next string) {
	if t.Length() == 0 {
		fmt.Fprintln(a.Out, empty)
		return
	}
	t.Render()
	a.more(next)
}

func (a *App) more(next string) {
	if next != "" {
		fmt.Fprintf(a.Out, "%s\n", a.dim("older ones: --before "+next))
	}
}

// paged gives a command the flags of a list.
func paged(cmd *cobra.Command, p *client.Page) *cobra.Command {
	cmd.Flags().StringVar(&p.Before, "before", "", "only what is older than this, as the end of a list names it")
	cmd.Flags().IntVar(&p.Limit, "limit", 0, "at most so many, up to 200 (default 50)")
	return cmd
}
