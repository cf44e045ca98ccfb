package charter

import (
	"fmt"
	"strings"
	"time"

	"dovrak/core/gate"
)

// Rules are what an environment asks of whom, each in words that need no knowledge of the file.
type Rules struct {
	Environment string
	Tags        []string // what each tag is for
	Places      []string
	From        string // where its images come from
	Promote     string
	Approvals   string
	Emergency   string // empty: there is none
	Skipping    string // empty: there is none, or as ever
	RollBack    string // empty: nothing is promoted there
	Switch      string // what is done where a place fails; empty likewise
	Waits       string
	Gates       []GateInWords
	Freezes     []FreezeInWords
}

// GateInWords is a gate by its name, and what it asks for.
type GateInWords struct{ Name, Asks string }

// FreezeInWords is a freeze with the times in which it holds.
type FreezeInWords struct {
	Name, When string
	Spans      []gate.Span
}

// Words tells the rules of every environment in the order of the routes, and when its freezes hold between two times.
func (c *Charter) Words(from, to time.Time) []Rules {
	var out []Rules
	for _, name := range c.Order() {
		e := c.Environments[name]
		r := Rules{
			Environment: name,
			Tags:        tagWords(e),
			Places:      texts(e.Places, placeText),
			From:        c.fromWords(name),
			Promote:     "whoever may promote at all",
			Approvals:   e.Approvals.Words(),
			Waits:       lastingWords(e.Waits()),
			Emergency:   emergencyText(e.Emergency),
		}
		if e.Skipping.Count > 0 {
			r.Skipping = e.Skipping.Words()
		}
		if r.From != fromPipelines {
			r.RollBack, r.Switch = e.backWords()
		}
		if len(e.Promote) > 0 {
			r.Promote = strings.Join(e.Promote, " or ")
		}
		for _, g := range e.conditions.Gates {
			r.Gates = append(r.Gates, GateInWords{g.Name(), g.Words()})
		}
		for _, f := range e.conditions.Freezes {
			r.Freezes = append(r.Freezes, FreezeInWords{f.Name, f.Words(), f.Spans(from, to)})
		}
		out = append(out, r)
	}
	return out
}

// backWords tell who may roll back, and what a switch does where a place fails.
func (e Environment) backWords() (rollBack, failing string) {
	rollBack, failing = "whoever may roll back at all", "where a place fails, the others go back at once"
	if len(e.RollBack) > 0 {
		rollBack = strings.Join(e.RollBack, " or ")
	}
	if d := e.Retries(); d > 0 {
		failing = "where a place fails, it is tried again for " + lastingWords(d) + "; then the others go back"
	}
	return rollBack, failing
}

// fromPipelines is where the images of a first environment come from.
const fromPipelines = "from pipelines"

func tagWords(e Environment) []string {
	out := []string{e.Standing + " says what stands here"}
	for _, f := range e.Fixed {
		out = append(out, f+" never moves")
	}
	for _, m := range e.Moving {
		out = append(out, fmt.Sprintf("%s moves: %s", m.Tag, m.Moves))
	}
	for _, c := range e.Cache {
		out = append(out, c+" is a pipeline's cache")
	}
	if e.Other == "allow" {
		return append(out, "any other tag is allowed")
	}
	return append(out, "no other tag is made")
}

// fromWords tells from which environments images come, by the routes that lead there.
func (c *Charter) fromWords(name string) string {
	var before []string
	for _, route := range sorted(c.Routes) {
		for i, env := range c.Routes[route] {
			if env == name && i > 0 && !strings.Contains(strings.Join(before, " "), c.Routes[route][i-1]) {
				before = append(before, c.Routes[route][i-1])
			}
		}
	}
	if len(before) == 0 {
		return fromPipelines
	}
	words := "from " + strings.Join(before, " or ")
	if also := c.Environments[name].AlsoFrom; len(also) > 0 {
		words += ", or directly from " + strings.Join(also, " or ")
	}
	return words
}

// lastingWords writes a duration without what is nothing.
func lastingWords(d time.Duration) string {
	s := d.String()
	for _, zero := range []string{"0s", "0m"} {
		if t, ok := strings.CutSuffix(s, zero); ok && t != "" && t[len(t)-1] > '9' {
			s = t
		}
	}
	return s
}
