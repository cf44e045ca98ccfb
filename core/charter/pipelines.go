package charter

import (
	"fmt"
	"maps"
	"net"
	"net/url"
	"path"
	"slices"
	"strings"

	"dovrak/core/image"
)

// Pipeline is a system that runs builds, and signs in by OpenID Connect tokens of its own issuer: no secret is stored.
type Pipeline struct {
	Issuer   string  `yaml:"issuer"   required:"true" description:"whose tokens count; https, or http on this machine"`
	Audience string  `yaml:"audience" required:"true" description:"for whom they must be meant"`
	May      []Grant `yaml:"may"      required:"true" description:"what its tokens may report for"`
}

// Grant lets tokens whose claims all fit report for components. A claim's value may have * for any letters but /.
type Grant struct {
	Claims     map[string]string `yaml:"claims"     required:"true" description:"all of which must fit; * stands for any letters but /"`
	Components []string          `yaml:"components" required:"true" description:"that it may report for"`
}

// PipelineOf finds the pipelines that an issuer signs in to.
func (c *Charter) PipelineOf(issuer string) (string, Pipeline, bool) {
	for _, name := range sorted(c.Pipelines) {
		if c.Pipelines[name].Issuer == issuer {
			return name, c.Pipelines[name], true
		}
	}
	return "", Pipeline{}, false
}

// ComponentsFor gives what a token with these claims may report for, in order.
func (p Pipeline) ComponentsFor(claims map[string]any) []string {
	var out []string
	for _, g := range p.May {
		if g.fits(claims) {
			out = append(out, g.Components...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (g Grant) fits(claims map[string]any) bool {
	for name, want := range g.Claims {
		switch have := claims[name].(type) {
		case string, bool, float64:
			if ok, err := path.Match(want, fmt.Sprint(have)); err != nil || !ok {
				return false
			}
		default: // not there, or nothing that one pattern could stand for
			return false
		}
	}
	return true
}

// Wanted writes the conditions out, for a refusal.
func (p Pipeline) Wanted() string {
	var out []string
	for _, g := range p.May {
		var one []string
		for _, k := range slices.Sorted(maps.Keys(g.Claims)) {
			one = append(one, k+" "+g.Claims[k])
		}
		out = append(out, strings.Join(one, " and "))
	}
	return strings.Join(out, ", or ")
}

func (c *Charter) checkPipeline(name string, at locator) error {
	p, where := c.Pipelines[name], at.find("pipelines", name)
	u, err := url.Parse(p.Issuer)
	switch {
	case !plainName.MatchString(name):
		return mistake(where, "the pipeline "+image.Printable(name), "use lower case letters, digits and single hyphens")
	case err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !onThisMachine(u.Hostname())):
		return mistake(where, "the issuer "+image.Printable(p.Issuer), "name it by its https address, as its tokens do in iss")
	case p.Audience == "":
		return mistake(where, name+" names no audience", "say for whom its tokens are meant, e.g. audience: dovrak")
	case len(p.May) == 0:
		return mistake(where, name+" may report for nothing", "name claims and components under may:")
	}
	if other, _, _ := c.PipelineOf(p.Issuer); other != name {
		return mistake(where, name+" and "+other+" have one issuer", "put the claims of both under one name")
	}
	for _, g := range p.May {
		if len(g.Claims) == 0 {
			return mistake(where, name+" lets in every token of its issuer", "name at least one claim, e.g. repository: models/snowpack")
		}
		for k, v := range g.Claims {
			if _, err := path.Match(v, ""); err != nil || strings.Trim(v, "*") == "" {
				return mistake(where, "the claim "+image.Printable(k+": "+v), "write what it must be, with * for any letters but /")
			}
		}
		for _, comp := range g.Components {
			if _, ok := c.Components[comp]; !ok {
				return mistake(
					where,
					name+" may report for "+image.Printable(comp)+", which is no component",
					"name some of "+names(c.Components),
				)
			}
		}
	}
	return nil
}

func onThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
