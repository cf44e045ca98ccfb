// Package gate judges whether a promotion may go on: conditions over facts, each with its reason.
//
// A gate reports that it holds, that it does not, or that it cannot be told from what is known; that is no better than
// a no. It says what was seen and what would satisfy it, and whether that can still come: by waiting until a time, or by
// someone who brings the evidence. So a promotion can wait for a gate that will yet be met, and is refused by one that
// never will. Judging asks nobody, changes nothing, and is bounded in cost: facts come in as a value, the time with them.
package gate

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// Verdict is what a gate says.
type Verdict string

// The verdicts there are.
const (
	Holds      Verdict = "holds"
	DoesNot    Verdict = "does not hold"
	CannotTell Verdict = "cannot tell"
)

// Result is a gate's verdict with its reasons.
type Result struct {
	Gate    string    `json:"gate"`
	Asks    string    `json:"asks"` // the condition in words
	Verdict Verdict   `json:"verdict"`
	Seen    string    `json:"seen"`
	Wants   string    `json:"wants,omitempty"`  // what would satisfy it
	Comes   Comes     `json:"comes,omitempty"`  // how that can still be met; empty: it cannot
	At      time.Time `json:"at,omitzero"`      // by time: when
	Waived  bool      `json:"waived,omitempty"` // an emergency, for which it does not count
}

// Open reports that the result keeps a promotion from going on.
func (r Result) Open() bool { return r.Verdict != Holds && !r.Waived }

// Comes is how a gate that does not hold can still be met for the same image.
type Comes string

// The ways there are.
const (
	ByTime     Comes = "time"
	ByEvidence Comes = "evidence"
	ByPerson   Comes = "person" // who may has yet to agree
	ByOther    Comes = "other"  // another promotion has to end
)

// Decision is what several results come to.
type Decision string

// The decisions there are.
const (
	Go     Decision = "go"
	Wait   Decision = "wait"
	Refuse Decision = "refuse"
)

// Decide sums results up: one that can never be met refuses, one that can yet be met waits. The time is the earliest at
// which waiting for time alone may have an end; zero where it is not time that is waited for.
func Decide(results []Result) (d Decision, at time.Time) {
	d = Go
	for _, r := range results {
		switch {
		case !r.Open():
		case r.Comes == "":
			return Refuse, time.Time{}
		default:
			d = Wait
			if r.Comes == ByTime && r.At.After(at) {
				at = r.At
			}
		}
	}
	return d, at
}

// Until marks what time would meet too late: it can be met no more for a promotion that waits until then at the most.
func Until(results []Result, end time.Time) {
	for i, r := range results {
		if r.Open() && r.Comes == ByTime && r.At.After(end) {
			results[i].Comes = ""
			results[i].Wants = "ask again then: it is not met before " + clock(r.At)
		}
	}
}

// Gate is one condition of an environment, as the charter says it: a ready-made one, or Holds with its sentence.
type Gate struct {
	Name string `yaml:"name" description:"as results call it; where it is left out, the condition in words"`

	BeenIn      string   `yaml:"been-in"       description:"it has stood in this environment"`
	For         string   `yaml:"for"           description:"for so long"`
	Platforms   string   `yaml:"platforms"     description:"required: all that the component must have"          enum:"required"`
	Branch      string   `yaml:"branch"        description:"its build came from there; * stands for any letters"`
	Version     string   `yaml:"version"       description:"not-lower: than what stands there"                   enum:"not-lower"`
	Evidence    string   `yaml:"evidence"      description:"the claim was vouched for, and passed"`
	Within      string   `yaml:"within"        description:"so lately"`
	BaseWithin  string   `yaml:"base-within"   description:"what it is built on was made so lately"`
	GrowsAtMost string   `yaml:"grows-at-most" description:"than what stands there, in percent: 20%"`
	Labels      []string `yaml:"labels"        description:"none is missing"`
	Annotations []string `yaml:"annotations"   description:"none is missing"`
	Attested    bool     `yaml:"attested"      description:"a verified attestation says how it was built"`
	Holds       string   `yaml:"holds"         description:"a condition in the Common Expression Language"`
	Refusal     string   `yaml:"refusal"       description:"the sentence that refuses where it does not hold"`
}

// kind is a sort of gate.
type kind struct {
	key   string
	set   func(Gate) bool
	check func(Gate) error
	words func(Gate) string
	judge func(Gate, Facts) Result
}

// Compiled is a gate that was checked and can judge.
type Compiled struct {
	gate Gate
	kind kind
	cond *condition // of Holds
}

// Name is how results call the gate.
func (c Compiled) Name() string {
	if c.gate.Name != "" {
		return c.gate.Name
	}
	return c.kind.words(c.gate)
}

// Lasts is for how long a promotion may have to wait for the gate to hold by time alone.
func (c Compiled) Lasts() time.Duration {
	if c.gate.For == "" {
		return 0
	}
	return lasting(c.gate.For)
}

// Words is the condition in words.
func (c Compiled) Words() string { return c.kind.words(c.gate) }

// Compile checks a gate. The error says what is wrong, in words for the charter's author.
func Compile(g Gate) (Compiled, error) {
	var found []kind
	for _, k := range kinds {
		if k.set(g) {
			found = append(found, k)
		}
	}
	switch len(found) {
	case 0:
		return Compiled{}, fmt.Errorf("a gate without a condition: write one of %s", keys())
	case 1:
	default:
		return Compiled{}, fmt.Errorf("a gate with two conditions, %s and %s: write two gates", found[0].key, found[1].key)
	}
	c := Compiled{gate: g, kind: found[0]}
	for _, only := range []struct{ key, value, of string }{
		{"for", g.For, "been-in"}, {"within", g.Within, "evidence"}, {"refusal", g.Refusal, "holds"},
	} {
		if only.value != "" && c.kind.key != only.of {
			return c, fmt.Errorf("%s belongs to a gate with %s", only.key, only.of)
		}
	}
	if err := c.kind.check(g); err != nil {
		return c, err
	}
	if g.Holds == "" {
		return c, nil
	}
	var err error
	c.cond, err = compile(g.Holds)
	return c, err
}

func keys() string {
	var out []string
	for _, k := range kinds {
		out = append(out, k.key)
	}
	return strings.Join(out, ", ")
}

// Judge asks every gate. The order is the charter's.
func Judge(ctx context.Context, gates []Compiled, f Facts) []Result {
	out := make([]Result, len(gates))
	for i, g := range gates {
		if g.cond != nil {
			out[i] = g.cond.judge(ctx, g.gate, f)
		} else {
			out[i] = g.kind.judge(g.gate, f)
		}
		out[i].Gate, out[i].Asks = g.Name(), g.Words()
	}
	return out
}

func holds(format string, args ...any) Result {
	return Result{Verdict: Holds, Seen: fmt.Sprintf(format, args...)}
}

func doesNot(wants, format string, args ...any) Result {
	return Result{Verdict: DoesNot, Wants: wants, Seen: fmt.Sprintf(format, args...)}
}

func cannotTell(wants, format string, args ...any) Result {
	return Result{Verdict: CannotTell, Wants: wants, Seen: fmt.Sprintf(format, args...)}
}

// span reads a time to last: a number with s, m, h or d.
func span(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		s = days + "h"
		d, err := time.ParseDuration(s)
		if d *= 24; err != nil || d <= 0 || d > 100*365*24*time.Hour {
			return 0, fmt.Errorf("%q is not a time to last: write e.g. 90m, 24h or 14d", days+"d")
		}
		return d, nil
	}
	d, err := time.ParseDuration(s)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("%q is not a time to last: write e.g. 90m, 24h or 14d", s)
	}
	return d, nil
}

func lasting(s string) time.Duration {
	d, err := span(s) // checked by Compile
	if err != nil {
		return 0
	}
	return d
}

// bytesOf writes a size as people do.
func bytesOf(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }
