// Package charter reads the governance document: which components there are, in which environments and places their
// images are kept, and by which route an image goes from one environment to the next.
//
// A charter is one YAML file. It is read strictly: an unknown key, a key given twice, a name that points nowhere are
// errors with line and column, since a rule that was silently not read is worse than none. See docs/charter.md.
package charter

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dovrak/core/gate"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/tagging"

	"github.com/goccy/go-yaml"
)

// MaxBytes is the largest charter that is read.
const MaxBytes = 1 << 20

// Charter is one version of the governance document. Read it with [Parse], which checks it.
type Charter struct {
	Organisation string                 `yaml:"organisation"     required:"true" description:"whose charter it is"`
	Components   map[string]Component   `yaml:"components"                       description:"what is released as images, by name"`
	Environments map[string]Environment `yaml:"environments"                     description:"the steps of their way, by name"`
	Routes       map[string][]string    `yaml:"routes"                           description:"environments in order, by the route's name"`
	People       *SignIn                `yaml:"people"                           description:"where people sign in; else by accounts of Dovrak's own"`
	Groups       map[string]Group       `yaml:"groups"                           description:"people and machines, and what they may"`
	Adoption     gate.Approvals         `yaml:"adoption"                         description:"who must agree to the next charter"`
	Pipelines    map[string]Pipeline    `yaml:"pipelines"                        description:"systems whose own tokens sign runs in, by name"`
	Keys         map[string]string      `yaml:"attestation-keys"                 description:"name → public key in PEM"`
}

// Component is one thing that is released as an image.
type Component struct {
	Platforms   []string `yaml:"platforms"    required:"true" minItems:"1" description:"os/architecture[/variant] that every release must have"`
	Optional    []string `yaml:"optional"                                  description:"and those that it may have besides"`
	Route       string   `yaml:"route"        required:"true"              description:"the one that it takes"`
	Labels      string   `yaml:"labels"                                    description:"what labels that contradict the build are: refused or warned of"  enum:"refused,warned"`
	BuildWithin string   `yaml:"build-within"                              description:"how long the parts of a build may take; 2h where nothing is said"`
}

// BuildWithin is how long the parts of a build may take where the charter says nothing.
const BuildWithin = 2 * time.Hour

// LabelsWarn reports that labels which contradict the build are warned of, and not refused.
func (c Component) LabelsWarn() bool { return c.Labels == "warned" }

// Within is how long the parts of a build may take.
func (c Component) Within() time.Duration {
	if d, err := time.ParseDuration(c.BuildWithin); err == nil { // checked by Parse
		return d
	}
	return BuildWithin
}

// Environment is a step of a component's way.
type Environment struct {
	Standing string   `yaml:"standing" required:"true" description:"the moving tag that says what stands here"`
	Fixed    []string `yaml:"fixed"                    description:"templates of tags that never change their meaning, such as {version}"`
	Moving   []Moving `yaml:"moving"                   description:"templates of tags that do"`
	Cache    []string `yaml:"cache"                    description:"templates of tags that pipelines keep for themselves"`
	Other    string   `yaml:"other"                    description:"tags that no rule speaks of: refused, or allowed by the word allow"   enum:"allow"`
	Places   []Place  `yaml:"places"   required:"true" description:"repositories where its images are kept"                                            minItems:"1"`

	Gates   []gate.Gate   `yaml:"gates"   description:"what a promotion must meet"`
	Freezes []gate.Freeze `yaml:"freezes" description:"when there is none"`
	Waiting string        `yaml:"waits"   description:"how long a promotion waits for gates; 24h where nothing is said"`

	Promote   []string       `yaml:"promote"   description:"groups that may promote here; where none is named, whoever may promote at all"`
	AlsoFrom  []string       `yaml:"also-from" description:"environments from which an image may come, besides the one before"`
	Approvals gate.Approvals `yaml:"approvals" description:"who must agree"`
	Emergency *Emergency     `yaml:"emergency" description:"a promotion that cannot wait; left out: there is none"`
	Skipping  gate.Approvals `yaml:"skipping"  description:"who must agree where an environment is skipped; where nothing is said, those of approvals"`

	RollBack    []string `yaml:"roll-back"    description:"groups that may roll back here; where none is named, whoever may roll back at all"`
	SwitchWaits string   `yaml:"switch-waits" description:"how long a switch tries again where a place fails; where nothing is said, the other places go back at once"`

	conditions Conditions
}

// Waits is how long a promotion waits for gates that can yet be met.
func (e Environment) Waits() time.Duration {
	if d, err := time.ParseDuration(e.Waiting); err == nil { // checked by Parse
		return d
	}
	return 24 * time.Hour
}

// Retries is how long a switch tries again, while a place fails, before the other places go back.
func (e Environment) Retries() time.Duration {
	if d, err := time.ParseDuration(e.SwitchWaits); err == nil { // checked by Parse
		return d
	}
	return 0
}

// Moving is a rule for moving tags.
type Moving struct {
	Tag   string           `yaml:"tag"   required:"true" description:"a template, such as {major}.{minor}"`
	Moves tagging.Movement `yaml:"moves" required:"true" description:"when it may"                         enum:"any,forward,promotion,rollback"`
}

// Place is a repository in a registry. Its template has {component} where the component's name goes.
type Place struct {
	Registry   string `yaml:"registry"   required:"true" description:"the name under which it was connected"`
	Repository string `yaml:"repository" required:"true" description:"with {component} where its name goes"`
}

// At is the place's repository for one component.
func (p Place) At(component string) image.Reference {
	return image.Reference{Registry: p.Registry, Repository: strings.ReplaceAll(p.Repository, "{component}", component)}
}

// Rules are the environment's tag rules, compiled. Templates were checked by [Parse].
func (e Environment) Rules(name string) tagging.Rules {
	rules := tagging.Rules{Environment: name, Standing: e.Standing, Fixed: templates(e.Fixed), Caches: templates(e.Cache),
		Other: e.Other == "allow"}
	for _, m := range e.Moving {
		if t, err := tagging.ParseTemplate(m.Tag); err == nil {
			rules.Moving = append(rules.Moving, tagging.Moving{Template: t, Moves: m.Moves})
		}
	}
	return rules
}

func templates(texts []string) []tagging.Template {
	var out []tagging.Template
	for _, s := range texts {
		if t, err := tagging.ParseTemplate(s); err == nil {
			out = append(out, t)
		}
	}
	return out
}

// Parse reads and checks a charter. Every error is a problem of kind Malformed whose Where is "line L, column C".
func Parse(doc []byte) (*Charter, error) {
	if len(doc) > MaxBytes {
		return nil, mistake(
			"",
			fmt.Sprintf("%d bytes, more than 1 MiB", len(doc)),
			"keep to what governs; nothing else belongs in a charter",
		)
	}
	var c Charter
	if err := yaml.UnmarshalWithOptions(doc, &c, yaml.Strict()); err != nil {
		return nil, syntax(err)
	}
	if err := c.check(locator{doc}); err != nil {
		return nil, err
	}
	return &c, nil
}

// ParseNew reads a charter that is to be adopted: it must meet, besides, what was asked of charters only later.
func ParseNew(doc []byte) (*Charter, error) {
	c, err := Parse(doc)
	if err != nil {
		return nil, err
	}
	for _, name := range sorted(c.Environments) {
		if err := c.checkReachable(name, locator{doc}); err != nil {
			return nil, err
		}
	}
	return c, c.checkReach(locator{doc})
}

// Component finds a component, or explains what there is instead.
func (c *Charter) Component(name string) (Component, error) {
	if comp, ok := c.Components[name]; ok {
		return comp, nil
	}
	return Component{}, &problem.Problem{Kind: problem.NotFound, Title: "The charter knows no such component",
		Asked: image.Printable(name), Seen: "the components " + names(c.Components), Remedy: "name one of them, or add it to the charter"}
}

// Before is the environment from which a component comes to the one named: the step before it on its route.
func (c *Charter) Before(component, environment string) (string, error) {
	comp, err := c.Component(component)
	if err != nil {
		return "", err
	}
	route := c.Routes[comp.Route]
	for i, env := range route {
		switch {
		case env == environment && i == 0:
			return "", &problem.Problem{Kind: problem.Refused, Title: "Nothing is promoted to the first environment of a route",
				Asked: component + " to " + environment, Seen: "the route " + comp.Route + ": " + strings.Join(route, " → "),
				Rule: "route " + comp.Route, Remedy: "what pipelines push stands there when its standing tag is pointed: dovrak point"}
		case env == environment:
			return route[i-1], nil
		}
	}
	return "", &problem.Problem{Kind: problem.Refused, Title: "This environment is not on the component's route",
		Asked: component + " to " + image.Printable(environment), Seen: "the route " + comp.Route + ": " + strings.Join(route, " → "),
		Rule: "route " + comp.Route, Remedy: "name an environment of the route"}
}

// From is the environment from which a promotion comes: the step before, or an earlier one that the environment's rules let it
// come from. The empty word is the step before.
func (c *Charter) From(component, to, from string) (string, error) {
	before, err := c.Before(component, to)
	if err != nil || from == "" || from == before {
		return before, err
	}
	route := c.Routes[c.Components[component].Route]
	if i := slices.Index(route, from); i >= 0 && i < slices.Index(route, to) && slices.Contains(c.Environments[to].AlsoFrom, from) {
		return from, nil
	}
	return "", &problem.Problem{
		Kind:  problem.Refused,
		Title: "No rule lets this skip an environment",
		Asked: component + " from " + image.Printable(from) + " to " + to,
		Seen: "the route " + strings.Join(route, " → ") + "; " + to + " also takes from: " +
			orElse(strings.Join(c.Environments[to].AlsoFrom, ", "), "none"),
		Rule:   "also-from of " + to,
		Remedy: "promote it to " + before + " first, or have the charter allow it: also-from: [" + image.Printable(from) + "]",
	}
}

// Home is where a repository belongs by the charter.
type Home struct{ Component, Environment string }

// HomeOf finds the component and environment that keep their images in a repository. The zero Home means none.
func (c *Charter) HomeOf(r image.Reference) Home {
	for name, comp := range c.Components {
		for _, env := range c.Routes[comp.Route] {
			for _, place := range c.Environments[env].Places {
				if place.At(name).In() == r.In() {
					return Home{name, env}
				}
			}
		}
	}
	return Home{}
}

// Order gives the environments in the order of the routes that lead through them: each before those behind it,
// wherever the routes agree; else by the first route that names them.
func (c *Charter) Order() []string {
	var out []string
	for _, name := range sorted(c.Routes) {
		at := 0
		for _, env := range c.Routes[name] {
			if i := slices.Index(out, env); i >= 0 {
				at = i + 1
				continue
			}
			out = slices.Insert(out, at, env)
			at++
		}
	}
	return out
}

// First is the environment in which a component's way begins: builds go there.
func (c *Charter) First(component string) (string, Environment, error) {
	comp, err := c.Component(component)
	if err != nil {
		return "", Environment{}, err
	}
	name := c.Routes[comp.Route][0]
	return name, c.Environments[name], nil
}
