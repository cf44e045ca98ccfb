package gate

import (
	"fmt"
	"strings"
	"time"
	_ "time/tzdata" // a freeze must not hang on what the machine has installed
)

// Freeze is a time in which an environment takes no promotion: from a day to another, or every week. Times are those of a
// clock on the wall in the zone; where summer time ends or begins, the wall's clock counts, not the hours. Where an hour comes
// twice, a weekly freeze takes in both.
type Freeze struct {
	Name   string `yaml:"name"   required:"true" description:"people read it when they are refused"`
	From   string `yaml:"from"                   description:"2026-12-20 or 2026-12-20T15:00"`
	To     string `yaml:"to"                     description:"exclusive"`
	Weekly string `yaml:"weekly"                 description:"in place of both: fri 15:00 to mon 07:00"`
	Zone   string `yaml:"zone"                   description:"e.g. Europe/Oslo; UTC where nothing is said"`
}

// Calendar is a freeze that was checked.
type Calendar struct {
	Freeze
	zone       *time.Location
	from, to   time.Time
	begin, end moment // weekly
}

// moment is a time of the week.
type moment struct {
	day          time.Weekday
	hour, minute int
}

// ReadFreeze checks a freeze.
func ReadFreeze(f Freeze) (Calendar, error) {
	c := Calendar{Freeze: f}
	var err error
	if f.Name == "" {
		return c, fmt.Errorf("a freeze without a name: people read it when they are refused")
	}
	if c.zone, err = time.LoadLocation(f.Zone); err != nil || f.Zone == "Local" {
		return c, fmt.Errorf("zone: %q is no time zone: write e.g. Europe/Oslo", f.Zone)
	}
	if f.Weekly != "" {
		if f.From != "" || f.To != "" {
			return c, fmt.Errorf("a freeze is weekly, or from a day to another: write two")
		}
		begin, end, ok := strings.Cut(f.Weekly, " to ")
		if !ok {
			return c, fmt.Errorf("weekly: %q: write e.g. fri 15:00 to mon 07:00", f.Weekly)
		}
		if c.begin, err = readMoment(begin); err == nil {
			c.end, err = readMoment(end)
		}
		if err == nil && c.begin == c.end {
			err = fmt.Errorf("weekly: %q is no time at all, or all of it", f.Weekly)
		}
		return c, err
	}
	if c.from, err = readDay(f.From, c.zone); err != nil {
		return c, fmt.Errorf("from: %w", err)
	}
	if c.to, err = readDay(f.To, c.zone); err != nil {
		return c, fmt.Errorf("to: %w", err)
	}
	if !c.from.Before(c.to) {
		return c, fmt.Errorf("a freeze that ends at %s, before it begins", f.To)
	}
	return c, nil
}

// Words is when the freeze holds, in words.
func (c Calendar) Words() string {
	if c.Weekly != "" {
		return c.Weekly + " " + c.zone.String()
	}
	return c.From + " to " + c.To + " " + c.zone.String()
}

func readDay(s string, zone *time.Location) (time.Time, error) {
	for _, shape := range []string{"2006-01-02T15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(shape, s, zone); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no day: write 2026-12-20 or 2026-12-20T15:00", s)
}

var days = map[string]time.Weekday{"sun": 0, "mon": 1, "tue": 2, "wed": 3, "thu": 4, "fri": 5, "sat": 6}

func readMoment(s string) (moment, error) {
	name, at, _ := strings.Cut(strings.TrimSpace(s), " ")
	day, ok := days[strings.ToLower(name)]
	t, err := time.Parse("15:04", at)
	if !ok || err != nil {
		return moment{}, fmt.Errorf("weekly: %q is no time of the week: write e.g. fri 15:00", s)
	}
	return moment{day, t.Hour(), t.Minute()}, nil
}

// At reports whether the freeze holds at a time, and until when.
func (c Calendar) At(now time.Time) (until time.Time, frozen bool) {
	if c.Weekly == "" {
		return c.to, !now.Before(c.from) && now.Before(c.to)
	}
	// The last beginning that is not behind now, and the first end behind that one.
	begin := c.near(c.begin, now, -1)
	end := c.near(c.end, begin, +1)
	return end, now.Before(end)
}

// near is the moment's next time behind t (+1), or its last one not behind it (-1).
func (c Calendar) near(m moment, t time.Time, way int) time.Time {
	wall := t.In(c.zone)
	for days := 0; ; days++ {
		day := wall.AddDate(0, 0, way*days)
		if day.Weekday() != m.day {
			continue
		}
		at := twice(time.Date(day.Year(), day.Month(), day.Day(), m.hour, m.minute, 0, 0, c.zone), way)
		if way > 0 && at.After(t) || way < 0 && !at.After(t) {
			return at
		}
	}
}

// twice gives the later (+1) or the earlier (-1) of two times at which the wall's clock shows the same, when an hour comes twice.
func twice(t time.Time, way int) time.Time {
	for _, d := range []time.Duration{2 * time.Hour, time.Hour, 30 * time.Minute} {
		also := t.Add(time.Duration(way) * d)
		if also.Format(time.DateTime) == t.Format(time.DateTime) {
			return also
		}
	}
	return t
}

// Waive marks what does not hold and does not count in an emergency: the gates that are waived.
func Waive(results []Result, waived func(gate string) bool) {
	for i, r := range results {
		if r.Verdict != Holds && waived(r.Gate) {
			results[i].Waived = true
		}
	}
}

// Frozen is the verdict of the freezes of an environment, as that of a gate: one that waits until the last of those that hold
// has ended.
func Frozen(freezes []Calendar, now time.Time) []Result {
	var out []Result
	for _, c := range freezes {
		r := Result{Gate: "no freeze: " + c.Name, Verdict: Holds, Seen: "it does not hold now"}
		if until, frozen := c.At(now); frozen {
			r = doesNot(
				"wait until "+clock(until),
				"the freeze %s holds until %s",
				c.Name,
				until.In(c.zone).Format("2006-01-02 15:04 MST"),
			)
			r.Gate, r.Comes, r.At = "no freeze: "+c.Name, ByTime, until
		}
		r.Asks = "no freeze of " + c.Name
		out = append(out, r)
	}
	return out
}

// Span is a time in which a freeze holds; To is exclusive.
type Span struct{ From, To time.Time }

// maxSpans bounds what a calendar shows.
const maxSpans = 200

// Spans gives when the freeze holds between two times, in order, cut to them.
func (c Calendar) Spans(from, to time.Time) []Span {
	var out []Span
	for t := from; t.Before(to) && len(out) < maxSpans; {
		end, frozen := c.At(t)
		if frozen {
			out = append(out, Span{t, earlier(end, to)})
			t = end
			continue
		}
		next := c.from
		if c.Weekly != "" {
			next = c.near(c.begin, t, +1)
		}
		if !next.After(t) { // it is over
			break
		}
		t = next
	}
	return out
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
