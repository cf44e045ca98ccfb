package charter

import (
	"slices"
	"strings"
	"testing"

	"dovrak/core/problem"
)

const peopled = good + `people: {issuer: "https://id.skarvind.example", client: dovrak}
groups:
  desk: {claims: [release-desk], may: [read, point]}
  operations: {claims: [ops], members: [ylva]}
  machines: {members: [valley], may: [read]}
`

// ruled is the charter of people with these lines in live.
func ruled(rules string) string {
	return strings.Replace(peopled, "    standing: live\n", "    standing: live\n"+rules, 1)
}

func TestGroups(t *testing.T) {
	c, err := Parse([]byte(ruled("    promote: [desk]\n    approvals: {count: 1, from: [operations]}\n")))
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		name     string
		who      Member
		groups   []string
		promotes bool
		approves bool
	}{
		{"by what the issuer says", Member{Claims: []string{"ops", "other"}}, []string{"operations"}, false, true},
		{"by name, in letters of any case", Member{Name: "Ylva"}, []string{"operations"}, false, true},
		{"by both, in order", Member{Name: "ylva", Claims: []string{"release-desk"}}, []string{"desk", "operations"}, true, true},
		{"by neither", Member{Name: "Isak", Claims: []string{"desk"}}, nil, false, false},
		{"without a name", Member{}, nil, false, false},
	} {
		got := c.GroupsOf(tt.who)
		if !slices.Equal(got, tt.groups) || len(c.PromotesIn(got)) > 0 != tt.promotes || len(c.ApprovesIn(got)) > 0 != tt.approves {
			t.Errorf("%s: %v, promotes in %v, approves in %v", tt.name, got, c.PromotesIn(got), c.ApprovesIn(got))
		}
	}
}

func TestMistakesAboutPeople(t *testing.T) {
	const lone = "    approvals: {count: 2, from: [lone]}\n"
	for _, tt := range []struct{ name, doc, where, seen string }{
		{"an issuer in the clear", strings.Replace(peopled, "https://id", "http://id", 1), "line 22", "the issuer http://id.skarvind.example"},
		{"no client", strings.Replace(peopled, ", client: dovrak", "", 1), "line 22", "no client"},
		{"a group of nobody", strings.Replace(peopled, "machines: {members: [valley], may", "machines: {may", 1), "line 26", "nobody can be in machines"},
		{"a role that is none", strings.Replace(peopled, "[read, point]", "[read, approve]", 1), "line 24", "desk may approve"},
		{"claims without an issuer", strings.Replace(peopled, "people: {", "# {", 1), "line 24", "people have no issuer"},
		{"who promotes", ruled("    promote: [nobody]\n"), "line 17", "the group nobody"},
		{"who approves", ruled("    approvals: {count: 1, from: [nobody]}\n"), "line 17", "approvals from nobody"},
		{"approvals from no group", ruled("    approvals: {count: 1}\n"), "line 17", "approvals from nobody"},
		{"none of some", ruled("    approvals: {from: [desk]}\n"), "line 17", "none is wanted of"},
		{"more than there are", ruled(lone) + "  lone: {members: [ragna]}\n", "line 17", "2 must agree, and no more than 1 could"},
		{"an approval that outlasts", ruled("    approvals: {count: 1, from: [desk], good-for: 48h}\n"), "line 17", "waits for 24h"},
		{"an emergency without a say", ruled("    emergency: {waives: []}\n"), "line 17", "nobody need agree to"},
		{"waiving what is no gate", ruled("    emergency: {approvals: {count: 1, from: [desk]}, waives: [soak]}\n"), "line 17", "waives soak"},
		{"from itself", ruled("    also-from: [live]\n"), "line 17", "takes from live"},
		{"a pipeline for people", peopled + "pipelines:\n  valley: {issuer: \"https://id.skarvind.example\", audience: dovrak, may: [{claims: {a: b}, components: [map-tiles]}]}\n",
			"line 22", "same issuer"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			_, err := Parse([]byte(tt.doc))
			p := problem.From(err)
			if err == nil || p.Kind != problem.Malformed || !strings.Contains(p.Where, tt.where) || !strings.Contains(p.Seen, tt.seen) {
				t.Errorf("%v at %q: %q", p.Kind, p.Where, p.Seen)
			}
		})
	}
}

func TestSkipping(t *testing.T) {
	doc := strings.NewReplacer("mountain: [bench, live]", "mountain: [bench, trial, live]", "  live:\n", `  trial:
    standing: trial
    places: [{registry: ridge, repository: "trial/{component}"}]
  live:
    also-from: [bench]
`).Replace(good)
	c, err := Parse([]byte(doc))
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ to, from, want string }{
		{"live", "", "trial"}, {"live", "trial", "trial"}, {"live", "bench", "bench"}, {"trial", "", "bench"},
		{"trial", "live", ""}, {"live", "live", ""}, {"live", "nowhere", ""},
	} {
		got, err := c.From("snowpack-model", tt.to, tt.from)
		if got != tt.want || (err == nil) != (tt.want != "") {
			t.Errorf("to %s from %q: %q, %v", tt.to, tt.from, got, err)
		}
	}
}

// TestRulesThatNeverApply are refused in a charter that is to be adopted; one from before is read all the same.
func TestRulesThatNeverApply(t *testing.T) {
	whole := strings.NewReplacer("    standing: live\n", "    standing: live\n    fixed: [\"{version}\"]\n", "may: [read, point]}", "may: [read]}",
		"operations: {claims: [ops], members: [ylva]}", "operations: {claims: [ops], may: [read]}").
		Replace(peopled)
	in := func(env, rule string) string {
		return strings.Replace(whole, "    standing: "+env+"\n", "    standing: "+env+"\n"+rule, 1)
	}
	for _, tt := range []struct{ name, doc, where, seen string }{
		{"a charter", whole, "", ""},
		{"an environment on no route", strings.Replace(whole, "mountain: [bench, live]", "mountain: [bench]", 1), "line 16", "no route leads to live"},
		{"a route that nothing takes", strings.Replace(whole, "  mountain: [bench, live]\n", "  mountain: [bench, live]\n  valley: [bench]\n", 1), "line 23", "takes the route valley"},
		{"a group that may nothing", strings.Replace(whole, "machines: {members: [valley], may: [read]}", "machines: {members: [valley]}", 1), "line 27", "may nothing"},
		{"a soak where nothing comes before", in("main", "    gates: [{been-in: live, for: 1h}]\n"), "line 12", "live comes before bench on no route"},
		{"also from behind", in("main", "    also-from: [live]\n"), "line 12", "live comes before bench on no route"},
		{"a gate before the first step", in("main", "    gates: [{branch: main}]\n"), "line 12", "nothing is ever promoted there"},
		{"approvals before the first step", in("main", "    approvals: {count: 1, from: [desk]}\n"), "line 12", "nothing is ever promoted there"},
	} {
		_, err := ParseNew([]byte(tt.doc))
		if p := problem.From(err); (err == nil) != (tt.seen == "") ||
			err != nil && (!strings.Contains(p.Where, tt.where) || !strings.Contains(p.Seen, tt.seen)) {
			t.Errorf("%s: %v", tt.name, err)
		}
		if _, err := Parse([]byte(tt.doc)); err != nil {
			t.Errorf("%s, from before: %v", tt.name, err)
		}
	}
}
