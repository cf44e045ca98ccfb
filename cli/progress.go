package cli

import (
	"fmt"
	"strings"
	"time"

	"dovrak/api/wire"
)

// progress shows how far a work is: in place on a terminal, with the blobs that are on their way; else as plain lines, one for
// each change of state and one from time to time.
type progress struct {
	a     *App
	name  string
	last  string // state
	lines int    // drawn in place
	said  time.Time
	skips map[string]bool // places of which it was said what they have
}

func (a *App) progress(name string) *progress {
	return &progress{a: a, name: name, skips: map[string]bool{}}
}

// sayEvery is how often a plain line says how far a work is.
const sayEvery = 10 * time.Second

// show shows a work, and the pieces of its places where they are known.
func (p *progress) show(w wire.Work, places ...wire.CopyPlace) {
	if !p.a.liveErr {
		p.say(w)
		return
	}
	p.erase()
	p.line("%s: %s", p.name, w.State)
	widest := 0
	for _, pl := range w.Progress {
		widest = max(widest, len(pl.Repository))
	}
	for _, pl := range w.Progress {
		p.line(
			"  %-*s %s %s of %s%s",
			widest,
			pl.Repository,
			bar(pl.Moved+pl.Mounted, pl.Total),
			size(pl.Moved+pl.Mounted),
			size(pl.Total),
			pace(pl, w.Ended),
		)
		for _, at := range places {
			if at.To == pl.Repository || strings.HasPrefix(at.To, pl.Repository+":") {
				p.blobs(at.Pieces)
			}
		}
	}
}

// maxBlobs bounds the blobs that are drawn for one place.
const maxBlobs = 8

// blobs draws those that are on their way, and says what was skipped.
func (p *progress) blobs(pieces []wire.CopyPiece) {
	drawn := 0
	skipped := map[string]int64{}
	for _, x := range pieces {
		switch x.What {
		case "moving":
			if drawn++; drawn <= maxBlobs {
				p.line("    %s  %s %s of %s", short(x.Digest), bar(x.Moved, x.Size), size(x.Moved), size(x.Size))
			}
		case "present", "mounted", "sent", "foreign":
			skipped[x.What] += x.Size
		}
	}
	if drawn > maxBlobs {
		p.line("    and %d more", drawn-maxBlobs)
	}
	var why []string
	for _, s := range []struct{ what, why string }{{"present", "there already"}, {"mounted", "mounted from a sibling"},
		{"sent", "sent by another copy"}, {"foreign", "left where it is"}} {
		if n := skipped[s.what]; n > 0 {
			why = append(why, size(n)+" "+s.why)
		}
	}
	if len(why) > 0 {
		p.line("    %s", strings.Join(why, ", "))
	}
}

func (p *progress) line(format string, args ...any) {
	fmt.Fprintf(p.a.Err, format+"\n", args...)
	p.lines++
}

// say tells it in lines for a log.
func (p *progress) say(w wire.Work) {
	news := w.State != p.last
	if news {
		fmt.Fprintf(p.a.Err, "%s: %s\n", p.name, w.State)
		p.last = w.State
	}
	for _, pl := range w.Progress {
		if !p.skips[pl.Repository] && pl.Present > 0 {
			fmt.Fprintf(p.a.Err, "%s: %s has %s already, %s to move\n", p.name, pl.Repository, size(pl.Present), size(pl.Total))
		}
		p.skips[pl.Repository] = true
	}
	if news || w.Ended || len(w.Progress) == 0 || time.Since(p.said) < sayEvery {
		if news {
			p.said = time.Now()
		}
		return
	}
	p.said = time.Now()
	for _, pl := range w.Progress {
		fmt.Fprintf(p.a.Err, "%s: %s %s of %s%s\n", p.name, pl.Repository, size(pl.Moved+pl.Mounted), size(pl.Total), pace(pl, w.Ended))
	}
}

// pace is how fast a place receives, and how long it will take at that; or why it does not.
func pace(p wire.Progress, ended bool) string {
	left := p.Total - p.Moved - p.Mounted
	switch {
	case p.Problem != "":
		return ", given up: " + p.Problem
	case ended || left <= 0:
		return ""
	case p.Rate <= 0:
		return ", waiting"
	}
	return fmt.Sprintf(", %s a second, %s left", size(p.Rate), roughly(1+(left-1)/p.Rate))
}

// roughly is a time to wait, as people say it.
func roughly(seconds int64) string {
	switch {
	case seconds < 60:
		return fmt.Sprintf("%d s", seconds)
	case seconds < 3600:
		return fmt.Sprintf("%d min %d s", seconds/60, seconds%60)
	}
	return fmt.Sprintf("%d h %d min", seconds/3600, seconds/60%60)
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
