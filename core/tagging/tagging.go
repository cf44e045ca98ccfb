// Package tagging knows what a tag may come to mean. A fixed tag never changes its meaning; a moving tag may, by its
// rule. Registries know no such difference: any tag can be put anywhere, and this package is what stands between.
//
// Names come from templates over the facts of a build ([Template]); [Rules] are those of one environment, and say of a
// [Change] whether it may be made.
package tagging

import (
	"cmp"
	"fmt"
	"slices"
)

// Movement is how a moving tag may move.
type Movement string

// The movements there are.
const (
	MovesAny       Movement = "any"       // by hand to any image; by builds only to newer ones
	MovesForward   Movement = "forward"   // to a higher version only, and never from a release to a prerelease
	MovesPromotion Movement = "promotion" // by a promotion only, or the roll back of one
	MovesRollBack  Movement = "rollback"  // by a roll back only
)

// Movements lists them all.
var Movements = []Movement{MovesAny, MovesForward, MovesPromotion, MovesRollBack}

// Moving is a rule for moving tags.
type Moving struct {
	Template Template
	Moves    Movement
}

// Kind is what a tag is by the rules.
type Kind string

// The kinds there are. A cache is kept for a pipeline's own use, and is never released.
const (
	Standing  Kind = "standing"
	Fixed     Kind = "fixed"
	Cache     Kind = "cache"
	Other     Kind = "other" // no rule speaks of it, and it may be made
	MovingTag Kind = "moving"
	Unruled   Kind = "unruled" // no rule speaks of it, and it may not
)

// order is in which a change of several tags points them: what never moves first, what says what stands last.
var order = []Kind{Fixed, Cache, Other, Unruled, MovingTag, Standing}

// Before orders kinds as a change of several tags points them.
func (k Kind) Before(l Kind) int { return cmp.Compare(slices.Index(order, k), slices.Index(order, l)) }

// Rules are what the charter says of the tags in one environment. The zero Rules allow everything: what no charter
// speaks of, nobody has promised.
type Rules struct {
	Environment string
	Standing    string // the moving tag that says what stands there
	First       bool   // the environment is the first of its route, where nothing is promoted to
	Fixed       []Template
	Moving      []Moving
	Caches      []Template
	Other       bool     // tags that no rule speaks of may be made and moved
	Branches    []string // of the component's builds, for templates with a branch
	NoOverwrite bool     // the registry itself lets no tag of the repository be overwritten
}

// Rule is what the rules say of one tag. Template is the zero Template where no template made it.
type Rule struct {
	Kind     Kind
	Template Template
	Moves    Movement
	in       string
	text     string
}

// String names the rule, as refusals do.
func (r Rule) String() string {
	switch r.Kind {
	case Other, Unruled:
		return "other tags in " + r.in
	}
	return fmt.Sprintf("%s tag %s in %s", r.Kind, r.text, r.in)
}

// Words tell what the rule means.
func (r Rule) Words() string {
	switch {
	case r.Kind == Fixed:
		return "made once, and never pointed elsewhere"
	case r.Kind == Cache:
		return "for a pipeline's own use: moves freely, and what only it means is never released"
	case r.Kind == Other:
		return "no rule speaks of them; they can be made and moved"
	case r.Kind == Unruled:
		return "no rule speaks of them; they cannot be made"
	case r.Moves == MovesAny:
		return "moves by hand, and with each newer build"
	case r.Moves == MovesForward:
		return "moves to a higher version only, and never from a release to a prerelease"
	case r.Moves == MovesRollBack:
		return "moves by a roll back only"
	}
	return "moves by a promotion only"
}

// Of finds the rule for a tag that an image of these facts is to have. A name that some rule makes is that rule's, also where
// it is for another image: then no rule lets this one have it.
func (r Rules) Of(tag string, f Facts) Rule {
	if r.Environment == "" {
		return Rule{Kind: Other, in: "a repository without a charter"}
	}
	if tag == r.Standing {
		return r.standing(f)
	}
	rule, ok := r.making(tag, f)
	if ok && (rule.Kind == Fixed || !r.fixedName(tag)) {
		return rule
	}
	if _, another := r.making(tag, Facts{}); r.Other && !ok && !another {
		return Rule{Kind: Other, Moves: MovesAny, in: r.Environment}
	}
	return Rule{Kind: Unruled, in: r.Environment}
}

// fixedName reports a name that a fixed tag of some image has or may get. Nothing else is called so: a branch that is named as a
// version is must not move that version's tag.
func (r Rules) fixedName(tag string) bool {
	return slices.ContainsFunc(r.Fixed, func(t Template) bool { return t.MayMake(tag, Facts{}, r.Branches) })
}

// making finds the rule whose template can have made a tag.
func (r Rules) making(tag string, f Facts) (Rule, bool) {
	made := func(t Template) bool { return t.MayMake(tag, f, r.Branches) }
	for _, t := range r.Fixed {
		if made(t) {
			return r.rule(Fixed, t, ""), true
		}
	}
	for _, t := range r.Caches {
		if made(t) {
			return r.rule(Cache, t, MovesAny), true
		}
	}
	for _, m := range r.Moving {
		if made(m.Template) {
			return r.rule(MovingTag, m.Template, m.Moves), true
		}
	}
	return Rule{}, false
}

// rule is what one template says.
func (r Rules) rule(kind Kind, t Template, moves Movement) Rule {
	return Rule{Kind: kind, Template: t, Moves: moves, in: r.Environment, text: t.String()}
}

// standing is the rule of the standing tag. Where nothing is promoted to, it moves as the template does that makes it.
func (r Rules) standing(f Facts) Rule {
	out := Rule{Kind: Standing, Moves: MovesPromotion, in: r.Environment, text: r.Standing}
	if !r.First {
		return out
	}
	out.Moves = MovesAny
	for _, m := range r.Moving {
		if m.Template.MayMake(r.Standing, f, r.Branches) {
			out.Template, out.Moves = m.Template, m.Moves
			break
		}
	}
	return out
}

// UseBranch reports whether some tag is made of a branch.
func (r Rules) UseBranch() bool {
	branch := func(t Template) bool { return t.Uses("branch") }
	return slices.ContainsFunc(r.Fixed, branch) || slices.ContainsFunc(r.Caches, branch) ||
		slices.ContainsFunc(r.Moving, func(m Moving) bool { return branch(m.Template) })
}

// FixedBy gives the template that makes a tag fixed.
func (r Rules) FixedBy(tag string) (Template, bool) {
	rule := r.Of(tag, Facts{})
	return rule.Template, rule.Kind == Fixed
}

// Names reports whether the rules speak of a tag.
func (r Rules) Names(tag string) bool {
	k := r.Of(tag, Facts{}).Kind
	return k != Other && k != Unruled
}

// Earned is a tag that a build gets by a rule, or why it gets none by it.
type Earned struct {
	Rule Rule
	Tag  string
	Why  string // there is none
}

// Earn fills the templates of all tags that a mover may point, from what is known of an image: fixed tags first, the standing
// tag last. A fixed tag of one plain name is given by hand, once.
func (r Rules) Earn(f Facts, by Mover) []Earned {
	var out []Earned
	add := func(rule Rule) {
		if rule.Kind == Fixed && rule.Template.Plain() || rule.Moves == MovesRollBack && by != ByRollBack ||
			rule.Moves == MovesPromotion && by != ByPromotion && by != ByRollBack {
			return
		}
		tag, err := rule.Template.Fill(f)
		e := Earned{Rule: rule, Tag: tag}
		switch {
		case err != nil:
			e.Why = err.Error()
		case tag == "latest" && !rule.Template.Plain():
			e.Tag, e.Why = "", "latest is made only where a rule names it"
		case tag == r.Standing:
			e.Rule = r.standing(f)
		case rule.Kind != Fixed && r.fixedName(tag):
			e.Tag, e.Why = "", tag+" is the name of a fixed tag"
		}
		if !slices.ContainsFunc(out, func(o Earned) bool { return o.Tag != "" && o.Tag == e.Tag }) {
			out = append(out, e)
		}
	}
	for _, t := range r.Fixed {
		add(r.rule(Fixed, t, ""))
	}
	for _, m := range r.Moving {
		add(r.rule(MovingTag, m.Template, m.Moves))
	}
	slices.SortStableFunc(out, func(a, b Earned) int { return a.Rule.Kind.Before(b.Rule.Kind) })
	return out
}

// All lists every rule, as people read them.
func (r Rules) All() []Rule {
	out := []Rule{r.standing(Facts{})}
	for _, t := range r.Fixed {
		out = append(out, r.rule(Fixed, t, ""))
	}
	for _, m := range r.Moving {
		out = append(out, r.rule(MovingTag, m.Template, m.Moves))
	}
	for _, t := range r.Caches {
		out = append(out, r.rule(Cache, t, MovesAny))
	}
	rest := Rule{Kind: Unruled, in: r.Environment}
	if r.Other {
		rest.Kind = Other
	}
	return append(out, rest)
}

// Text is the tag or template that the rule is about.
func (r Rule) Text() string { return r.text }
