package charter

import (
	"fmt"
	"time"

	"dovrak/core/gate"
	"dovrak/core/image"
)

// maxGates bounds the gates of one environment, and its freezes.
const maxGates = 50

// maxSwitchWaits bounds how long places may mean different things by one tag.
const maxSwitchWaits = 2 * time.Hour

// Conditions are an environment's gates and freezes, compiled.
type Conditions struct {
	Gates   []gate.Compiled
	Freezes []gate.Calendar
}

// Conditions of an environment. They were checked by [Parse].
func (e Environment) Conditions() Conditions { return e.conditions }

// checkGates compiles an environment's gates and freezes.
func (c *Charter) checkGates(name string, at locator) error {
	env := c.Environments[name]
	if len(env.Gates) > maxGates || len(env.Freezes) > maxGates {
		return mistake(at.find("environments", name), fmt.Sprintf("more than %d gates or freezes", maxGates), "say it with fewer")
	}
	if d, err := time.ParseDuration(env.Waiting); env.Waiting != "" && (err != nil || d < time.Minute || d > 90*24*time.Hour) {
		return mistake(
			at.find("environments", name, "waits"),
			"waits: "+image.Printable(env.Waiting),
			"write a duration from 1m to 2160h, e.g. 48h",
		)
	}
	if d, err := time.ParseDuration(env.SwitchWaits); env.SwitchWaits != "" && (err != nil || d < time.Second || d > maxSwitchWaits) {
		return mistake(
			at.find("environments", name, "switch-waits"),
			"switch-waits: "+image.Printable(env.SwitchWaits),
			"write a duration from 1s to 2h, e.g. 15m",
		)
	}
	seen := map[string]bool{}
	for i, g := range env.Gates {
		where := at.item(i, "environments", name, "gates")
		compiled, err := gate.Compile(g)
		if err != nil {
			return mistake(where, fmt.Sprintf("gate %d: %s", i+1, image.Printable(err.Error())), "see docs/charter.md, gates")
		}
		if seen[compiled.Name()] {
			return mistake(where, "two gates are called "+image.Printable(compiled.Name()), "give each a name of its own")
		}
		seen[compiled.Name()] = true
		if _, ok := c.Environments[g.BeenIn]; g.BeenIn != "" && (!ok || g.BeenIn == name) {
			return mistake(
				where,
				fmt.Sprintf("gate %d: been-in %s", i+1, image.Printable(g.BeenIn)),
				"name another environment: "+names(c.Environments),
			)
		}
		if soak := compiled.Lasts(); soak > env.Waits() {
			return mistake(
				where,
				fmt.Sprintf("gate %d: a promotion to %s waits for %s, and is over before it has been in %s for %s", i+1, name,
					env.Waits(), g.BeenIn, g.For),
				"let it wait longer: waits: "+g.For,
			)
		}
		env.conditions.Gates = append(env.conditions.Gates, compiled)
	}
	for i, f := range env.Freezes {
		calendar, err := gate.ReadFreeze(f)
		if err != nil {
			return mistake(at.item(i, "environments", name, "freezes"), fmt.Sprintf("freeze %d: %s", i+1, image.Printable(err.Error())),
				"see docs/charter.md, freezes")
		}
		env.conditions.Freezes = append(env.conditions.Freezes, calendar)
	}
	c.Environments[name] = env
	return nil
}
