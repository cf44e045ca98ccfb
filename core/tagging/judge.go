package tagging

import (
	"fmt"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/Masterminds/semver/v3"
	"github.com/opencontainers/go-digest"
)

// Mover is who changes a tag.
type Mover int

// The movers there are. A pipeline is bound to the order of its builds, a hand is not.
const (
	ByHand Mover = iota
	ByBuild
	ByPromotion
	ByRollBack
)

// Change is a wish to point a tag, or, without To, to take it away. From is what it means now, empty if nothing; Was is what
// it meant last, where it means nothing now. Image and Means are what is known of To and of From.
type Change struct {
	Tag          image.Reference // registry, repository and tag
	From, To     digest.Digest
	Was          digest.Digest
	Mover        Mover
	Image, Means Facts
	CacheOnly    bool // To is meant by caches alone
}

// Judge says whether the change may be made: nil, or a problem of kind Refused that names the rule.
func (r Rules) Judge(c Change) error {
	if c.To == "" {
		return r.judgeRemoval(c)
	}
	rule := r.Of(c.Tag.Tag, c.Image)
	j := judgement{r, rule, c}
	if r.Environment != "" {
		if err := j.covered(); err != nil {
			return err
		}
	}
	if c.From == c.To {
		return nil
	}
	if err := j.moves(); err != nil {
		return err
	}
	if r.NoOverwrite && c.From != "" {
		p := j.refusal("it means "+c.From.String()+", and its registry lets no tag be pointed elsewhere",
			"take a new tag; if the registry was changed: dovrak registry declare "+c.Tag.In()+" --tags moving")
		p.Rule = "the repository's tags cannot be overwritten"
		return p
	}
	return nil
}

type judgement struct {
	rules  Rules
	rule   Rule
	change Change
}

func (j judgement) refusal(seen, remedy string) *problem.Problem {
	return &problem.Problem{Kind: problem.Refused, Title: "This tag may not be pointed there",
		Asked: j.change.Tag.String() + " to " + j.change.To.String(), Seen: seen, Rule: j.rule.String(), Remedy: remedy}
}

// covered refuses a tag that no rule makes for this image.
func (j judgement) covered() error {
	tag := j.change.Tag.Tag
	if tag == "latest" && j.rule.Kind != Standing && (!j.rule.Template.Plain() || j.rule.Template.String() != tag) {
		p := j.refusal("latest says nothing of what it means, and no rule names it",
			"point a tag that a rule makes; or have the charter name latest: moving: [{tag: latest, moves: promotion}]")
		p.Rule = "latest is refused unless a rule names it"
		return p
	}
	if j.change.CacheOnly && j.rule.Kind != Cache && j.rule.Kind != Other {
		return j.refusal(
			"an image that only a pipeline's cache means",
			"have the pipeline build and report the image; a cache is never released",
		)
	}
	if j.rule.Kind != Unruled {
		return nil
	}
	if other := j.rules.Of(tag, Facts{}); other.Kind != Unruled { // the name is right, for another image
		j.rule = other
		own, err := other.Template.Fill(j.change.Image)
		if err != nil {
			return j.refusal(
				"for this image the rule makes no tag: "+err.Error(),
				"point the tags that the build earned, or take another name",
			)
		}
		return j.refusal("for this image the rule makes "+own, "point "+own+", or find the image that "+tag+" is meant for")
	}
	return j.refusal("no rule of the environment makes a tag of this name",
		"take a name that a rule makes (dovrak charter show), or have the charter say other: allow")
}

// moves asks the rule of the tag whether it may go from what it means to what is wanted.
func (j judgement) moves() error {
	switch j.rule.Kind {
	case Fixed:
		return j.fixed()
	case Other, Cache:
		return nil
	}
	switch j.rule.Moves {
	case MovesAny:
		return j.inOrder()
	case MovesForward:
		return j.forward()
	case MovesRollBack:
		if j.change.Mover != ByRollBack {
			return j.refusal("only a roll back moves it", "roll the environment back; or change the rule in the charter")
		}
		return nil
	}
	if j.change.Mover == ByPromotion || j.change.Mover == ByRollBack {
		return nil
	}
	seen := "only a promotion moves it"
	if j.rule.Kind == Standing {
		seen = "it says what stands in " + j.rules.Environment + ", and only a promotion moves it"
	}
	return j.refusal(seen, "dovrak promote COMPONENT --to "+j.rules.Environment+" --because …")
}

func (j judgement) fixed() error {
	c := j.change
	remedy := "give the new image a tag of its own; dovrak trail " + c.Tag.String() + " tells how this one came to be"
	switch {
	case c.From != "":
		return j.refusal("it means "+c.From.String()+", and a fixed tag never changes its meaning", remedy)
	case c.Was != "" && c.Was != c.To:
		return j.refusal("it meant "+c.Was.String()+" before it was taken away, and a fixed tag never comes to mean another", remedy)
	}
	return nil
}

// inOrder holds builds to the order of their numbers: a build that ends late, or is run again, takes nothing back.
func (j judgement) inOrder() error {
	have, want := j.change.Means, j.change.Image
	if j.change.Mover != ByBuild || j.change.From == "" || want.Number == 0 || have.Number <= want.Number {
		return nil
	}
	return j.refusal(fmt.Sprintf("it means build %d already, which is newer than build %d", have.Number, want.Number),
		"nothing need be done; to go back is a decision of a person's: dovrak point")
}

func (j judgement) forward() error {
	if j.change.From == "" {
		return nil
	}
	have, herr := semver.StrictNewVersion(j.change.Means.Version)
	want, werr := semver.StrictNewVersion(j.change.Image.Version)
	switch {
	case herr != nil || werr != nil:
		return j.refusal(fmt.Sprintf("versions that cannot be compared: it means %s, and is to mean %s",
			called(j.change.Means.Version), called(j.change.Image.Version)),
			"have the image say its version (org.opencontainers.image.version)")
	case want.Prerelease() != "" && have.Prerelease() == "":
		return j.refusal(fmt.Sprintf("%s is a prerelease, and it means the release %s", want.Original(), have.Original()),
			"point it when the release is built")
	case !want.GreaterThan(have):
		return j.refusal(fmt.Sprintf("it means %s, and %s is not higher", have.Original(), want.Original()),
			"nothing need be done; to go back, the charter must let the tag move otherwise")
	}
	return nil
}

func called(version string) string {
	if version == "" {
		return "an image without a version"
	}
	return image.Printable(version)
}

// judgeRemoval says whether a tag may be taken away: any but the one that says what stands in an environment.
func (r Rules) judgeRemoval(c Change) error {
	if r.Standing == "" || c.Tag.Tag != r.Standing {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.Refused,
		Title:  "This tag may not be taken away",
		Asked:  c.Tag.String(),
		Seen:   "it says what stands in " + r.Environment,
		Rule:   r.Of(c.Tag.Tag, Facts{}).String(),
		Remedy: "promote another image there; the tag moves, and is never missing",
	}
}
