package service

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
)

// Unpoint takes one tag away and nothing else: never the tag that says what stands in an environment, nor one that keeps
// reachable what stands there. Where a registry deletes only whole digests, it refuses and says what would be lost.
func (s *Service) Unpoint(ctx context.Context, by Actor, tag image.Reference, because string) (Pointed, error) {
	if err := firstOf(by.Require(Point), reason(because), taggable(tag)); err != nil {
		return Pointed{}, err
	}
	at, err := s.spot(ctx, tag)
	if err != nil {
		return Pointed{}, err
	}
	if err := s.mayWrite(ctx, at); err != nil {
		return Pointed{}, err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return Pointed{}, err
	}
	w := wish{at: at, tag: tag.Tag, by: by, because: because, remove: true}
	if w.rules, err = s.rulesOf(ctx, law, at); err != nil {
		return Pointed{}, err
	}
	if err := s.mayPoint(ctx, w); err != nil {
		return Pointed{}, err
	}
	// What shares the digest must be known before anything is deleted.
	if _, err := s.survey(ctx, at, func(Survey, []string) error { return nil }); err != nil {
		return Pointed{}, err
	}
	if err := s.keepsStanding(ctx, w); err != nil {
		return Pointed{}, err
	}
	p, err := s.point(ctx, w)
	if err == nil && !p.Changed {
		err = &problem.Problem{Kind: problem.NotFound, Title: "This tag means nothing already", Asked: tag.String(),
			Remedy: "dovrak tags " + at.ref.In() + " lists those that do"}
	}
	return p, err
}

func taggable(tag image.Reference) error {
	if tag.Tag != "" && tag.Digest == "" {
		return nil
	}
	return &problem.Problem{Kind: problem.Malformed, Title: "A tag is taken away by its name", Asked: tag.String(),
		Seen: "a digest, which is content and goes with all its tags", Remedy: "name the tag: " + tag.In() + ":TAG"}
}

// keepsStanding refuses to take a tag from the image that stands in the environment: some registries delete the whole
// image with it.
func (s *Service) keepsStanding(ctx context.Context, w wish) error {
	if w.rules.Standing == "" {
		return nil
	}
	stands, _, err := s.means(ctx, w.at, w.rules.Standing)
	if err != nil {
		return err
	}
	means, _, err := s.means(ctx, w.at, w.tag)
	if err != nil || means == "" || means != stands {
		return err
	}
	return &problem.Problem{
		Kind:   problem.Refused,
		Title:  "This tag may not be taken away",
		Asked:  w.ref().String(),
		Seen:   "it means what stands in " + w.rules.Environment + ", as " + w.rules.Standing + " does",
		Rule:   "what stands in an environment keeps its tags",
		Remedy: "promote another image there first",
	}
}

// takeAway asks for the deletion of a tag. A registry that takes the digest with it, against the specification, gets back
// what it should have kept: the manifest, and its other tags.
func (s *Service) takeAway(ctx context.Context, w wish, from digest.Digest) error {
	others, err := s.db.TagsMeaning(ctx, w.at.at(), from)
	if err != nil {
		return err
	}
	others = slices.DeleteFunc(others, func(t string) bool { return t == w.tag })
	kept, err := transfer.Manifest(ctx, w.at.Repository, contents{s.db}, from)
	if err != nil {
		return err
	}
	if err := w.at.DeleteManifest(ctx, w.tag); err != nil {
		return onlyByDigest(w, from, others, err)
	}
	there, err := transfer.Has(ctx, w.at.Repository, from)
	if err != nil || there {
		return err
	}
	s.log.WarnContext(ctx, "a registry deleted an image with one of its tags; it is put back", "tag", w.ref().String(), "digest", from)
	for _, name := range append([]string{from.String()}, others...) {
		if err := w.at.PutManifest(ctx, name, kept); err != nil {
			return err
		}
	}
	return nil
}

// onlyByDigest explains a registry that deletes no single tag.
func onlyByDigest(w wish, from digest.Digest, others []string, err error) error {
	switch registry.Status(err) {
	case http.StatusMethodNotAllowed, http.StatusBadRequest, http.StatusNotFound:
	default:
		return err
	}
	lost := "the tag would be the only one lost, with the image itself"
	if len(others) > 0 {
		shown := others
		if len(shown) > 10 {
			shown = shown[:10]
		}
		lost = fmt.Sprintf("%d other tags on %s would be lost with it: %s", len(others), from, strings.Join(shown, ", "))
		if len(others) > len(shown) {
			lost += ", …"
		}
	}
	return (&problem.Problem{
		Kind:   problem.Refused,
		Title:  "This registry takes no single tag away",
		Asked:  w.ref().String(),
		Seen:   "it deletes only by digest; " + lost,
		Where:  w.at.String(),
		Rule:   "unpoint takes one tag away and nothing else",
		Remedy: "leave the tag, or point it elsewhere if it is a moving one",
	}).Because(err)
}
