package charter

import (
	"fmt"
	"slices"
	"strings"

	"dovrak/core/image"
	"dovrak/core/tagging"
)

// checkTags holds an environment's tag rules against each other.
func (c *Charter) checkTags(name string, at locator) error {
	env := c.Environments[name]
	if env.Other != "" && env.Other != "refuse" && env.Other != "allow" {
		return mistake(at.find("environments", name, "other"), "other: "+image.Printable(env.Other), "say other: allow or other: refuse")
	}
	for _, s := range env.Fixed {
		if err := checkFixed(env, name, s, at.find("environments", name, "fixed")); err != nil {
			return err
		}
	}
	for _, m := range env.Moving {
		where := at.find("environments", name, "moving")
		if _, err := tagging.ParseTemplate(m.Tag); err != nil {
			return mistake(where, err.Error(), tagging.TemplateHelp)
		}
		if !slices.Contains(tagging.Movements, m.Moves) {
			return mistake(where, fmt.Sprintf("%s moves by %q", m.Tag, image.Printable(string(m.Moves))),
				"say moves: any, forward, promotion or rollback")
		}
		if slices.Contains(env.Fixed, m.Tag) {
			return mistake(where, m.Tag+" is fixed and moving", "a tag is one of both")
		}
	}
	for _, s := range env.Cache {
		if err := checkCache(env, s, at.find("environments", name, "cache")); err != nil {
			return err
		}
	}
	return nil
}

func checkFixed(env Environment, name, text, where string) error {
	t, err := tagging.ParseTemplate(text)
	switch {
	case err != nil:
		return mistake(where, err.Error(), tagging.TemplateHelp)
	case t.MayMake(env.Standing, tagging.Facts{}, nil):
		return mistake(where, fmt.Sprintf("%s would make the standing tag %s fixed", text, env.Standing),
			"a standing tag moves; take another name for it or for the template")
	case !t.Plain() && !t.Tells():
		return mistake(where, text+" makes the same fixed tag for two builds of "+name,
			"put {number}, {version} or {commit} into it, or make it moving")
	}
	return nil
}

// checkCache keeps caches out of the names of releases: by plain text that no other rule begins with.
func checkCache(env Environment, text, where string) error {
	t, err := tagging.ParseTemplate(text)
	if err != nil {
		return mistake(where, err.Error(), tagging.TemplateHelp)
	}
	if t.Prefix() == "" {
		return mistake(where, text+" could make any name a cache", "begin it with plain text, e.g. cache-{branch}")
	}
	others := append([]string{env.Standing}, env.Fixed...)
	for _, m := range env.Moving {
		others = append(others, m.Tag)
	}
	for _, o := range others {
		other, err := tagging.ParseTemplate(o)
		if err == nil && other.Prefix() != "" &&
			(strings.HasPrefix(other.Prefix(), t.Prefix()) || strings.HasPrefix(t.Prefix(), other.Prefix())) {
			return mistake(where, text+" and "+o+" begin alike", "keep a cache's tags outside the names of releases")
		}
	}
	return nil
}

// checkReachable refuses rules by which what an environment ran would not stay reachable: every image that stands there must have
// earned a fixed tag, which its build or its version gives it.
func (c *Charter) checkReachable(name string, at locator) error {
	for _, text := range c.Environments[name].Fixed {
		if t, err := tagging.ParseTemplate(text); err == nil && t.Tells() {
			return nil
		}
	}
	return mistake(at.find("environments", name), name+" gives its images no fixed tag that tells one from another",
		`say fixed: ["{version}"] or fixed: ["build-{number}"], so that what it ran stays reachable`)
}
