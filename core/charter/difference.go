package charter

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"dovrak/core/gate"
)

// Difference says in words what a charter changes against the one before it, each change in a line, in the order in which a
// charter is read. Nothing where both mean the same; comments and order mean nothing.
func Difference(old, now *Charter) []string {
	var d difference
	d.value("the organisation", old.Organisation, now.Organisation)
	each(&d, "component", old.Components, now.Components, func(name string, a, b Component) {
		d.value("component "+name+": route", a.Route, b.Route)
		d.list("component "+name+": required platforms", a.Platforms, b.Platforms)
		d.list("component "+name+": optional platforms", a.Optional, b.Optional)
		d.value("component "+name+": labels that contradict the build", a.Labels, b.Labels)
		d.value("component "+name+": build-within", a.BuildWithin, b.BuildWithin)
	})
	each(&d, "environment", old.Environments, now.Environments, d.environment)
	each(&d, "route", old.Routes, now.Routes, func(name string, a, b []string) {
		d.value("route "+name, strings.Join(a, " → "), strings.Join(b, " → "))
	})
	d.value("where people sign in", signInText(old.People), signInText(now.People))
	each(&d, "group", old.Groups, now.Groups, func(name string, a, b Group) {
		d.list("group "+name+": claims", a.Claims, b.Claims)
		d.list("group "+name+": members", a.Members, b.Members)
		d.list("group "+name+": may", texts(a.May, roleText), texts(b.May, roleText))
	})
	d.value("who must agree to a charter", old.Adoption.Words(), now.Adoption.Words())
	each(&d, "pipeline issuer", old.Pipelines, now.Pipelines, func(name string, a, b Pipeline) {
		d.value("pipeline issuer "+name+": address", a.Issuer, b.Issuer)
		d.value("pipeline issuer "+name+": audience", a.Audience, b.Audience)
		if !reflect.DeepEqual(a.May, b.May) {
			d.say("pipeline issuer %s: what its tokens may report is another", name)
		}
	})
	each(&d, "attestation key", old.Keys, now.Keys, func(name, a, b string) {
		if strings.TrimSpace(a) != strings.TrimSpace(b) {
			d.say("attestation key %s is another", name)
		}
	})
	return d.lines
}

// difference gathers lines.
type difference struct{ lines []string }

func (d *difference) say(format string, args ...any) {
	d.lines = append(d.lines, fmt.Sprintf(format, args...))
}

func (d *difference) environment(name string, a, b Environment) {
	what := "environment " + name + ": "
	d.value(what+"standing tag", a.Standing, b.Standing)
	d.list(what+"fixed tags", a.Fixed, b.Fixed)
	d.list(what+"moving tags", texts(a.Moving, movingText), texts(b.Moving, movingText))
	d.list(what+"caches", a.Cache, b.Cache)
	d.value(what+"other tags", a.Other, b.Other)
	d.list(what+"places", texts(a.Places, placeText), texts(b.Places, placeText))
	d.list(what+"gates", gateTexts(a), gateTexts(b))
	d.list(what+"freezes", texts(a.Conditions().Freezes, freezeText), texts(b.Conditions().Freezes, freezeText))
	d.list(what+"who may promote", a.Promote, b.Promote)
	d.list(what+"also takes from", a.AlsoFrom, b.AlsoFrom)
	d.value(what+"approvals", a.Approvals.Words(), b.Approvals.Words())
	d.value(what+"emergencies", emergencyText(a.Emergency), emergencyText(b.Emergency))
	d.value(what+"agreement to skip an environment", a.Skipping.Words(), b.Skipping.Words())
	d.list(what+"who may roll back", a.RollBack, b.RollBack)
	if a.Retries() != b.Retries() {
		d.say("%stries a switch again for %s in place of %s", what, b.Retries(), a.Retries())
	}
	if a.Waits() != b.Waits() {
		d.say("%swaits for gates: %s in place of %s", what, b.Waits(), a.Waits())
	}
}

func signInText(s *SignIn) string {
	if s == nil {
		return ""
	}
	return s.Issuer + " as " + s.Client + ", by the claims " + s.NameClaim() + " and " + s.GroupsClaim() + secretText(s)
}

func secretText(s *SignIn) string {
	if s.Secret == "" {
		return ""
	}
	return ", with the secret of the source " + s.Secret
}

func emergencyText(e *Emergency) string {
	if e == nil {
		return ""
	}
	words := e.Approvals.Words()
	if len(e.Waives) > 0 {
		words += "; waives " + strings.Join(e.Waives, ", ")
	}
	return words
}

// each compares two maps by their names; what is in both is compared by fn.
func each[V any](d *difference, what string, old, now map[string]V, fn func(name string, a, b V)) {
	for _, name := range sorted(old) {
		if _, ok := now[name]; !ok {
			d.say("%s %s is gone", what, name)
		}
	}
	for _, name := range sorted(now) {
		if was, ok := old[name]; ok {
			fn(name, was, now[name])
		} else {
			d.say("%s %s is new", what, name)
		}
	}
}

func (d *difference) value(what, old, now string) {
	if old != now {
		d.say("%s: %s in place of %s", what, orNothing(now), orNothing(old))
	}
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

// list compares lists as sets: their order means nothing.
func (d *difference) list(what string, old, now []string) {
	var changes []string
	for _, s := range now {
		if !slices.Contains(old, s) {
			changes = append(changes, "with "+s)
		}
	}
	for _, s := range old {
		if !slices.Contains(now, s) {
			changes = append(changes, "without "+s)
		}
	}
	if len(changes) > 0 {
		d.say("%s: %s", what, strings.Join(changes, ", "))
	}
}

func texts[T any](all []T, text func(T) string) []string {
	out := make([]string, len(all))
	for i, v := range all {
		out[i] = text(v)
	}
	return out
}

func gateTexts(e Environment) []string {
	var out []string
	for _, g := range e.Conditions().Gates {
		if name, words := g.Name(), g.Words(); name != words {
			out = append(out, name+" ("+words+")")
		} else {
			out = append(out, words)
		}
	}
	return out
}

func roleText(r Role) string { return string(r) }

func movingText(m Moving) string { return m.Tag + " (" + string(m.Moves) + ")" }

func placeText(p Place) string { return p.Registry + "/" + p.Repository }

func freezeText(f gate.Calendar) string { return f.Name + " (" + f.Words() + ")" }
