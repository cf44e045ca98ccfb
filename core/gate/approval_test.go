package gate

import (
	"strings"
	"testing"
	"time"
)

// TestAgreement: who has agreed to this very plan, may still, and did not ask for it, counts once; everything else is said and does
// not count.
func TestAgreement(t *testing.T) {
	now := time.Date(2026, 3, 3, 9, 15, 0, 0, time.UTC)
	rule := Approvals{Count: 2, From: []string{"operations", "desk"}, GoodFor: "12h"}
	ylva := Approval{By: "Ylva", Person: "p1", Agreed: true, At: now.Add(-time.Hour), Bound: "plan", Groups: []string{"operations"}}
	with := func(a Approval, change func(*Approval)) Approval { change(&a); return a }
	tormod := with(ylva, func(a *Approval) { a.By, a.Person, a.Groups = "Tormod", "p2", []string{"desk", "models"} })
	for _, tt := range []struct {
		name string
		said []Approval
		says string // what is seen; one that holds says what was agreed
		want string // what is still wanted; empty: it holds
	}{
		{"nobody", nil, "nobody has agreed yet", "2 more of operations or desk"},
		{"one of two", []Approval{ylva}, "Ylva agreed at 2026-03-03 08:15:00 UTC", "1 more"},
		{"both", []Approval{ylva, tormod}, "Ylva agreed at 2026-03-03 08:15:00 UTC; Tormod agreed", ""},
		{"one twice", []Approval{ylva, ylva}, "Ylva agreed", "1 more"},
		{"one by two accounts", []Approval{ylva, with(tormod, func(a *Approval) { a.Person = "p1" })}, "Ylva agreed", "1 more"},
		{"who asked", []Approval{ylva, with(tormod, func(a *Approval) { a.Person = "p0" })}, "Tormod has asked for it", "1 more"},
		{"to the plan before", []Approval{ylva, with(tormod, func(a *Approval) { a.Bound = "another" })}, "Tormod agreed to the plan before", "1 more"},
		{"whose right is gone", []Approval{ylva, with(tormod, func(a *Approval) { a.Groups = nil })}, "Tormod may not agree any more", "1 more"},
		{"of another group", []Approval{ylva, with(tormod, func(a *Approval) { a.Groups = []string{"models"} })}, "Tormod may not agree", "1 more"},
		{"too long ago", []Approval{ylva, with(tormod, func(a *Approval) { a.At = now.Add(-12 * time.Hour) })}, "Tormod agreed more than 12h ago", "1 more"},
		{"who thought better of it", []Approval{ylva, tormod, with(tormod, func(a *Approval) { a.Agreed = false })}, "Tormod declined", "1 more"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			r := Agreement(Wanted{Rule: rule, Bound: "plan", Requesters: []string{"p0"}, Now: now}, tt.said)
			if holds := tt.want == ""; (r.Verdict == Holds) != holds || !strings.Contains(r.Seen, tt.says) ||
				!strings.Contains(r.Wants, tt.want) {
				t.Errorf("%s: saw %q, wants %q", r.Verdict, r.Seen, r.Wants)
			}
			if decision, _ := Decide([]Result{r}); (decision == Go) != (tt.want == "") || decision == Refuse {
				t.Errorf("decided %s", decision)
			}
		})
	}
}

// TestWaiving: what is waived does not count, and is still said; nothing else is.
func TestWaiving(t *testing.T) {
	results := []Result{
		{Gate: "soak", Verdict: DoesNot, Comes: ByTime}, {Gate: "platforms", Verdict: Holds}, {Gate: "branch", Verdict: DoesNot},
	}
	Waive(results, func(name string) bool { return name == "soak" || name == "platforms" })
	if !results[0].Waived || results[1].Waived || results[2].Waived {
		t.Errorf("waived %+v", results)
	}
	if d, _ := Decide(results); d != Refuse {
		t.Errorf("decided %s", d)
	}
	Waive(results, func(string) bool { return true })
	if d, _ := Decide(results); d != Go {
		t.Errorf("with all waived: %s", d)
	}
}

// TestTooLate: what time would meet only behind a promotion's end can be met no more; what comes by people or evidence can.
func TestTooLate(t *testing.T) {
	end := time.Date(2026, 3, 4, 9, 15, 0, 0, time.UTC)
	for _, tt := range []struct {
		name string
		r    Result
		want Decision
	}{
		{"in time", Result{Verdict: DoesNot, Comes: ByTime, At: end}, Wait},
		{"too late", Result{Verdict: DoesNot, Comes: ByTime, At: end.Add(time.Second)}, Refuse},
		{"too late, and waived", Result{Verdict: DoesNot, Comes: ByTime, At: end.Add(time.Second), Waived: true}, Go},
		{"by a person", Result{Verdict: DoesNot, Comes: ByPerson}, Wait},
	} {
		results := []Result{tt.r}
		Until(results, end)
		if d, _ := Decide(results); d != tt.want {
			t.Errorf("%s: %s", tt.name, d)
		}
	}
}
