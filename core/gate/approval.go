package gate

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Approvals is how many people must agree to a promotion, and who may. Count 0: nobody need be asked.
type Approvals struct {
	Count   int      `yaml:"count"    minimum:"1" maximum:"10" required:"true" description:"how many people"`
	From    []string `yaml:"from"                              required:"true" description:"groups"`
	GoodFor string   `yaml:"good-for"                                          description:"how long each counts; as long as the promotion waits where nothing is said"`
}

// Approval is what someone has said of a promotion. Person is the same for all the accounts of one.
type Approval struct {
	By     string
	Person string
	Agreed bool
	At     time.Time
	Bound  string   // the plan that it was given for
	Groups []string // that they are in now; none once their rights were withdrawn
	Remark string
}

// Wanted is an agreement that is asked for: by whom, to which plan, at which time. Requesters are the people who have asked: they
// never agree to what they want themselves.
type Wanted struct {
	Rule       Approvals
	Bound      string
	Requesters []string
	Now        time.Time
}

// Lasts is how long an approval counts; zero: as long as the promotion waits.
func (a Approvals) Lasts() time.Duration {
	if a.GoodFor == "" {
		return 0
	}
	return lasting(a.GoodFor)
}

// Check says what is wrong with the rule, in words for the charter's author.
func (a Approvals) Check() error {
	switch {
	case a.Count == 0 && (len(a.From) > 0 || a.GoodFor != ""):
		return fmt.Errorf("approvals that none is wanted of: say count: 1 or more")
	case a.Count < 0 || a.Count > 10:
		return fmt.Errorf("approvals: count: %d: from 1 to 10", a.Count)
	case a.Count > 0 && len(a.From) == 0:
		return fmt.Errorf("approvals from nobody: name groups, from: [GROUP]")
	case a.GoodFor != "":
		_, err := span(a.GoodFor)
		return err
	}
	return nil
}

// Words is the rule in words.
func (a Approvals) Words() string {
	if a.Count == 0 {
		return "nobody need agree"
	}
	people := "one"
	if a.Count > 1 {
		people = fmt.Sprint(a.Count)
	}
	words := people + " of " + strings.Join(a.From, " or ") + " must agree, and never who asks"
	if a.GoodFor != "" {
		words += "; it counts for " + a.GoodFor
	}
	return words
}

// Agreement judges what was said of a promotion, as a gate: it waits for people until enough agree.
func Agreement(w Wanted, said []Approval) Result {
	var counted, not []string
	persons := map[string]bool{}
	for _, a := range newest(said) {
		why := w.discounts(a)
		if why == "" && !persons[a.Person] {
			persons[a.Person] = true
			counted = append(counted, a.By+" agreed at "+clock(a.At))
		} else if why != "" {
			not = append(not, a.By+" "+why)
		}
	}
	seen := "nobody has agreed yet"
	if all := append(counted, not...); len(all) > 0 {
		seen = strings.Join(all, "; ")
	}
	r := Result{Gate: "approvals", Asks: w.Rule.Words(), Verdict: Holds, Seen: seen}
	if missing := w.Rule.Count - len(counted); missing > 0 {
		r.Verdict, r.Comes = DoesNot, ByPerson
		r.Wants = fmt.Sprintf("%d more of %s: dovrak approve", missing, strings.Join(w.Rule.From, " or "))
	}
	return r
}

// discounts says why an approval does not count; "" if it does.
func (w Wanted) discounts(a Approval) string {
	switch lasts := w.Rule.Lasts(); {
	case !a.Agreed:
		return "declined at " + clock(a.At)
	case slices.Contains(w.Requesters, a.Person):
		return "has asked for it, and cannot agree to it"
	case a.Bound != w.Bound:
		return "agreed to the plan before this one"
	case !slices.ContainsFunc(a.Groups, func(g string) bool { return slices.Contains(w.Rule.From, g) }):
		return "may not agree any more"
	case lasts > 0 && !w.Now.Before(a.At.Add(lasts)):
		return "agreed more than " + w.Rule.GoodFor + " ago"
	}
	return ""
}

// newest gives the last word of each account, in the order in which they were said.
func newest(said []Approval) []Approval {
	var out []Approval
	for _, a := range said {
		out = append(slices.DeleteFunc(out, func(b Approval) bool { return b.By == a.By }), a)
	}
	return out
}
