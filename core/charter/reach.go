package charter

import (
	"slices"
	"strings"

	"dovrak/core/image"
)

// checkReach refuses rules that could never apply: who reads them would believe that they do.
func (c *Charter) checkReach(at locator) error {
	taken := map[string]bool{}
	for _, comp := range c.Components {
		taken[comp.Route] = true
	}
	for _, name := range sorted(c.Routes) {
		if !taken[name] {
			return mistake(at.find("routes", name), "no component takes the route "+name, "name it for a component, or leave it out")
		}
	}
	for _, name := range sorted(c.Environments) {
		if err := c.checkEnvironmentReach(name, at); err != nil {
			return err
		}
	}
	for _, name := range sorted(c.Groups) {
		if len(c.Groups[name].May) == 0 && !c.named(name) {
			return mistake(
				at.find("groups", name),
				"the group "+name+" may nothing, and no rule names it",
				"give it something it may, or leave it out",
			)
		}
	}
	return nil
}

func (c *Charter) checkEnvironmentReach(name string, at locator) error {
	before, on := c.before(name)
	if !on {
		return mistake(at.find("environments", name), "no route leads to "+name, "put it on a route, or leave it out")
	}
	env := c.Environments[name]
	for i, g := range env.Gates {
		if g.BeenIn != "" && !slices.Contains(before, g.BeenIn) {
			return mistake(at.item(i, "environments", name, "gates"), image.Printable(g.BeenIn)+" comes before "+name+" on no route",
				"name one of "+orElse(strings.Join(before, ", "), "none: nothing comes before it"))
		}
	}
	for _, from := range env.AlsoFrom {
		if !slices.Contains(before, from) {
			return mistake(at.find("environments", name, "also-from"), image.Printable(from)+" comes before "+name+" on no route",
				"name one of "+orElse(strings.Join(before, ", "), "none: nothing comes before it"))
		}
	}
	if env.Skipping.Count > 0 && len(env.AlsoFrom) == 0 {
		return mistake(at.find("environments", name, "skipping"), name+" has skipping, and takes from no environment but the one before",
			"name those that may be skipped to, under also-from, or leave it out")
	}
	if len(before) > 0 {
		return nil
	}
	// Nothing is promoted to where every route begins.
	for _, rule := range []struct {
		key   string
		given bool
	}{
		{"gates", len(env.Gates) > 0}, {"freezes", len(env.Freezes) > 0}, {"promote", len(env.Promote) > 0},
		{"approvals", env.Approvals.Count > 0}, {"emergency", env.Emergency != nil}, {"skipping", env.Skipping.Count > 0},
		{"roll-back", len(env.RollBack) > 0}, {"switch-waits", env.SwitchWaits != ""},
	} {
		if rule.given {
			return mistake(at.find("environments", name, rule.key), name+" has "+rule.key+", and nothing is ever promoted there",
				"what pipelines push stands there by its tag rules; put them where promotions go")
		}
	}
	return nil
}

// before lists the environments that come before one on the routes, and reports whether any route leads there.
func (c *Charter) before(name string) (before []string, on bool) {
	for _, r := range sorted(c.Routes) {
		if i := slices.Index(c.Routes[r], name); i >= 0 {
			before, on = append(before, c.Routes[r][:i]...), true
		}
	}
	slices.Sort(before)
	return slices.Compact(before), on
}

// named reports whether any rule names a group.
func (c *Charter) named(group string) bool {
	if slices.Contains(c.Adoption.From, group) {
		return true
	}
	for _, e := range c.Environments {
		if slices.Contains(slices.Concat(e.Promote, e.RollBack, e.Approvers()), group) {
			return true
		}
	}
	return false
}
