package cli

import (
	"fmt"
	"strings"

	"dovrak/api/wire"
)

// progress shows how far a work is: in place on a terminal, else as plain lines, one for each change of state.
type progress struct {
	a     *App
	name  string
	last  string // state
	lines int    // drawn in place
}

func (a *App) progress(name string) *progress { return &progress{a: a, name: name} }

func (p *progress) show(w wire.Work) {
	if !p.a.liveErr {
		if w.State != p.last {
			fmt.Fprintf(p.a.Err, "%s: %s\n", p.name, w.State)
		}
		p.last = w.State
		return
	}
	p.erase()
	fmt.Fprintf(p.a.Err, "%s: %s\n", p.name, w.State)
	p.lines = 1
	for _, pl := range w.Progress {
		fmt.Fprintf(p.a.Err, "  %s %s %s of %s\n", pl.Repository, bar(pl.Moved+pl.Mounted, pl.Total), size(pl.Moved+pl.Mounted), size(pl.Total))
		p.lines++
	}
}

// erase takes back what was drawn in place.
func (p *progress) erase() {
	if p.lines > 0 {
		fmt.Fprintf(p.a.Err, "\x1b[%dA\x1b[J", p.lines)
		p.lines = 0
	}
}

// end takes the drawing away: the result is printed in its place.
func (p *progress) end() { p.erase() }

const barWidth = 24

func bar(moved, total int64) string {
	full := barWidth
	if total > 0 {
		full = int(min(moved, total) * barWidth / total)
	}
	return strings.Repeat("━", full) + strings.Repeat("┄", barWidth-full)
}
