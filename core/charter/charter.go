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

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/tagging"

	"github.com/goccy/go-yaml"
)

// MaxBytes is the largest charter that is read.
const MaxBytes = 1 << 20

// Charter is one version of the governance document. Read it with [Parse], which checks it.
type Charter struct {
	Organisation string                 `yaml:"organisation"`
	Components   map[string]Component   `yaml:"components"`
	Environments map[string]Environment `yaml:"environments"`
	Routes       map[string][]string    `yaml:"routes"`
}

// Component is one thing that is released as an image.
type Component struct {
	Platforms []string `yaml:"platforms"` // os/architecture[/variant] that every release must have
	Route     string   `yaml:"route"`
}

// Environment is a step of a component's way.
type Environment struct {
	Standing string   `yaml:"standing"` // the moving tag that says what stands here
	Fixed    []string `yaml:"fixed"`    // patterns of tags that never change their meaning, see core/tagging
	Places   []Place  `yaml:"places"`
}

// Place is a repository in a registry. Its template has {component} where the component's name goes.
type Place struct {
	Registry   string `yaml:"registry"`
	Repository string `yaml:"repository"`
}

// At is the place's repository for one component.
func (p Place) At(component string) image.Reference {
	return image.Reference{Registry: p.Registry, Repository: strings.ReplaceAll(p.Repository, "{component}", component)}
}

// Rules are the environment's tag rules, compiled. Patterns were checked by [Parse].
func (e Environment) Rules(name string) tagging.Rules {
	rules := tagging.Rules{Environment: name, Standing: e.Standing}
	for _, s := range e.Fixed {
		if p, err := tagging.ParsePattern(s); err == nil {
			rules.Fixed = append(rules.Fixed, p)
		}
	}
	return rules
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
