package charter

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"dovrak/core/evidence"
	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/parser"
)

var (
	plainName    = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)
	platformName = regexp.MustCompile(`^[a-z0-9]+/[a-z0-9]+(/[a-z0-9.]+)?$`)
)

// check holds the charter's parts against each other. Names are gone through in order, so that the same charter
// always gives the same first mistake.
func (c *Charter) check(at locator) error {
	if c.Organisation == "" {
		return mistake("", "no organisation", "begin with: organisation: NAME")
	}
	if err := c.checkPeople(at); err != nil {
		return err
	}
	for _, name := range sorted(c.Environments) {
		if err := c.checkEnvironment(name, at); err != nil {
			return err
		}
	}
	for _, name := range sorted(c.Routes) {
		if err := c.checkRoute(name, at); err != nil {
			return err
		}
	}
	for _, name := range sorted(c.Components) {
		if err := c.checkComponent(name, at); err != nil {
			return err
		}
	}
	for _, name := range sorted(c.Pipelines) {
		if err := c.checkPipeline(name, at); err != nil {
			return err
		}
	}
	for _, name := range sorted(c.Keys) {
		if _, err := evidence.ParseKey(c.Keys[name]); err != nil {
			return mistake(at.find("attestation-keys", name), name+": "+err.Error(), "give a public key in PEM: ECDSA P-256 or Ed25519")
		}
	}
	return c.checkHomes(at)
}

func (c *Charter) checkEnvironment(name string, at locator) error {
	env, where := c.Environments[name], at.find("environments", name)
	switch {
	case !plainName.MatchString(name):
		return mistake(where, "the environment "+image.Printable(name), "use lower case letters, digits and single hyphens")
	case image.CheckTag(env.Standing) != nil:
		return mistake(
			where,
			fmt.Sprintf("the standing tag %q of %s", env.Standing, name),
			"give it one moving tag, e.g. standing: "+name,
		)
	case len(env.Places) == 0:
		return mistake(where, name+" has no place", "name at least one registry and repository under places:")
	}
	if err := firstOf(c.checkTags(name, at), c.checkGates(name, at), c.checkAgreement(name, at)); err != nil {
		return err
	}
	env = c.Environments[name]
	for _, from := range env.AlsoFrom {
		if _, ok := c.Environments[from]; !ok || from == name {
			return mistake(at.find("environments", name, "also-from"), name+" takes from "+image.Printable(from),
				"name another environment: "+names(c.Environments))
		}
	}
	for i, p := range env.Places {
		if _, err := image.ParseRepository(p.At("component").In()); err != nil {
			return mistake(at.find("environments", name, "places"), fmt.Sprintf("place %d: %s", i+1, problem.From(err).Seen),
				"write registry: NAME and repository: PATH/{component}")
		}
		if !strings.Contains(p.Repository, "{component}") && len(c.Components) > 1 {
			return mistake(
				at.find("environments", name, "places"),
				fmt.Sprintf("place %d puts every component into %s", i+1, p.Repository),
				"write {component} where its name goes",
			)
		}
	}
	return nil
}

func (c *Charter) checkRoute(name string, at locator) error {
	seen := map[string]bool{}
	for _, env := range c.Routes[name] {
		if _, ok := c.Environments[env]; !ok {
			return mistake(at.find("routes", name), "the route "+name+" leads to "+image.Printable(env)+", which is no environment",
				"name one of "+names(c.Environments))
		}
		if seen[env] {
			return mistake(at.find("routes", name), "the route "+name+" comes to "+env+" twice", "a route is a way, not a circle")
		}
		seen[env] = true
	}
	if len(seen) == 0 {
		return mistake(at.find("routes", name), "the route "+name+" is empty", "name its environments in order")
	}
	return nil
}

func (c *Charter) checkComponent(name string, at locator) error {
	comp, where := c.Components[name], at.find("components", name)
	if !plainName.MatchString(name) {
		return mistake(where, "the component "+image.Printable(name), "use lower case letters, digits and single hyphens")
	}
	if _, ok := c.Routes[comp.Route]; !ok {
		return mistake(where, name+" takes the route "+image.Printable(comp.Route)+", which there is not", "name one of "+names(c.Routes))
	}
	if len(comp.Platforms) == 0 {
		return mistake(where, name+" requires no platform", "name at least one, e.g. linux/amd64")
	}
	seen := map[string]bool{}
	for _, p := range append(slices.Clone(comp.Platforms), comp.Optional...) {
		if !platformName.MatchString(p) {
			return mistake(
				where,
				"the platform "+image.Printable(p),
				"write os/architecture or os/architecture/variant, e.g. linux/arm/v7",
			)
		}
		if seen[p] {
			return mistake(where, name+" names the platform "+p+" twice", "name it once, as required or as optional")
		}
		seen[p] = true
	}
	if comp.Labels != "" && comp.Labels != "refused" && comp.Labels != "warned" {
		return mistake(where, "labels: "+image.Printable(comp.Labels), "say labels: refused or labels: warned")
	}
	if d, err := time.ParseDuration(comp.BuildWithin); comp.BuildWithin != "" && (err != nil || d < time.Minute || d > 7*24*time.Hour) {
		return mistake(where, "build-within: "+image.Printable(comp.BuildWithin), "write a duration from 1m to 168h, e.g. 2h")
	}
	return nil
}

// checkHomes refuses two homes in one repository: nobody could tell then to which a tag there belongs.
func (c *Charter) checkHomes(at locator) error {
	homes := map[string]Home{}
	for _, name := range sorted(c.Components) {
		for _, env := range c.Routes[c.Components[name].Route] {
			for _, p := range c.Environments[env].Places {
				in := p.At(name).In()
				if other, taken := homes[in]; taken {
					return mistake(at.find("environments", env, "places"),
						fmt.Sprintf("%s is the home of %s in %s and of %s in %s", in, other.Component, other.Environment, name, env),
						"give each component and environment a repository of its own")
				}
				homes[in] = Home{name, env}
			}
		}
	}
	return nil
}

// locator finds where in the document a key stands.
type locator struct{ doc []byte }

func (l locator) find(keys ...string) string { return l.at(pathTo(keys)) }

// item finds one item of the list under a key.
func (l locator) item(i int, keys ...string) string {
	return l.at(pathTo(keys).Index(uint(i)))
}

func pathTo(keys []string) *yaml.PathBuilder {
	path := (&yaml.PathBuilder{}).Root()
	for _, k := range keys {
		path = path.Child(k)
	}
	return path
}

func (l locator) at(path *yaml.PathBuilder) string {
	file, err := parser.ParseBytes(l.doc, 0)
	if err != nil {
		return ""
	}
	node, err := path.Build().FilterFile(file)
	if err != nil || node == nil || node.GetToken() == nil {
		return ""
	}
	return position(node.GetToken().Position.Line, node.GetToken().Position.Column)
}

func position(line, column int) string { return fmt.Sprintf("line %d, column %d", line, column) }

func syntax(err error) error {
	y, ok := err.(yaml.Error)
	if !ok || y.GetToken() == nil {
		return mistake("", image.Printable(err.Error()), "see docs/charter.md")
	}
	pos := y.GetToken().Position
	return mistake(position(pos.Line, pos.Column), image.Printable(y.GetMessage()), "see docs/charter.md for the keys that there are")
}

func mistake(where, seen, remedy string) error {
	return &problem.Problem{Kind: problem.Malformed, Title: "The charter has a mistake", Where: where, Seen: seen, Remedy: remedy}
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func names[V any](m map[string]V) string {
	if len(m) == 0 {
		return "(none)"
	}
	return strings.Join(sorted(m), ", ")
}
