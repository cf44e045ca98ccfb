package service

import (
	"context"
	"strings"

	"dovrak/core/charter"
	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
)

// chosen is the image that a promotion is of: the one it is bound to, or is named, or stands where it comes from.
func (s *Service) chosen(
	ctx context.Context,
	n NewPromotion,
	at spot,
	environment string,
	src charter.Environment,
) (digest.Digest, error) {
	named := 0
	for _, given := range []bool{n.Version != "", n.Build != 0, n.Image != ""} {
		if given {
			named++
		}
	}
	switch {
	case n.bound != "":
		return n.bound, nil
	case named > 1:
		return "", &problem.Problem{Kind: problem.Malformed, Title: "An image is named one way", Asked: n.Component + " to " + n.To,
			Remedy: "name a version, a build or a digest"}
	case n.Image != "":
		return n.Image, nil
	case n.Build != 0:
		return s.imageOfBuild(ctx, n.Component, n.Build)
	case n.Version != "":
		return s.imageOfVersion(ctx, n, at, environment)
	}
	return s.standing(ctx, at, n.Component, environment, src.Standing)
}

func (s *Service) imageOfBuild(ctx context.Context, component string, run int64) (digest.Digest, error) {
	b, ok, err := s.db.BuildOf(ctx, component, run)
	if err == nil && (!ok || b.Build.Digest == "") {
		err = &problem.Problem{Kind: problem.NotFound, Title: "This build has no image", Asked: component + " build " + number(run),
			Remedy: "dovrak build list " + component + " shows the builds there are"}
	}
	return b.Build.Digest, err
}

// imageOfVersion is what the tag of the version means where the promotion comes from.
func (s *Service) imageOfVersion(ctx context.Context, n NewPromotion, at spot, environment string) (digest.Digest, error) {
	tag := strings.ReplaceAll(n.Version, "+", "_") // as tags have it
	if err := image.CheckTag(tag); err != nil {
		return "", err
	}
	d, _, err := s.means(ctx, at, tag)
	if err == nil && d == "" {
		err = &problem.Problem{Kind: problem.NotFound, Title: "This version is not where it would come from",
			Asked:  n.Component + " " + image.Printable(n.Version) + " from " + environment,
			Seen:   at.ref.In() + ":" + tag + " means nothing",
			Remedy: "dovrak tags " + at.ref.In() + " shows what is there"}
	}
	return d, err
}

func noEmergency(n NewPromotion) error {
	return &problem.Problem{Kind: problem.Refused, Title: "No rule knows of emergencies there", Asked: n.Component + " to " + n.To,
		Seen: "the charter says nothing of an emergency of " + n.To, Rule: "emergency of " + n.To,
		Remedy: "ask as ever; or have the charter say who must agree to an emergency, and what it waives"}
}

func (s *Service) standing(ctx context.Context, at spot, component, environment, tag string) (digest.Digest, error) {
	d, _, err := s.means(ctx, at, tag)
	if err == nil && d == "" {
		err = &problem.Problem{
			Kind:   problem.Refused,
			Title:  "Nothing stands where this would come from",
			Asked:  component + " from " + environment,
			Seen:   at.ref.In() + ":" + tag + " means nothing",
			Rule:   "what stands in the environment before is what moves",
			Remedy: "point it: dovrak point " + at.ref.In() + "@DIGEST " + tag + " --because …",
		}
	}
	return d, err
}
