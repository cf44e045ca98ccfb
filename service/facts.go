package service

import (
	"cmp"
	"context"
	"slices"

	"dovrak/core/image"
	"dovrak/core/tagging"
	"dovrak/store"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// factsOf tells what is known of an image: by the build that made it, or else by what the image says of itself.
func (s *Service) factsOf(ctx context.Context, at spot, d digest.Digest) (tagging.Facts, error) {
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return tagging.Facts{}, err
	}
	component := law.HomeOf(at.ref).Component
	builds, err := s.db.BuildsMaking(ctx, []digest.Digest{d})
	if err != nil {
		return tagging.Facts{}, err
	}
	for _, b := range builds {
		if b.Build.Component == component {
			return buildFacts(b), nil
		}
	}
	f := tagging.Facts{Component: component}
	if kept, ok, err := s.db.Content(ctx, d); err != nil {
		return f, err
	} else if ok {
		if m, err := image.Read(kept.MediaType, kept.Bytes); err == nil { // else it says nothing
			f.Version, f.Commit = m.Annotations[ocispec.AnnotationVersion], m.Annotations[ocispec.AnnotationRevision]
		}
	}
	if f.Version != "" {
		return f, nil
	}
	sum, err := s.summary(ctx, at, d)
	f.Version, f.Commit = sum.Version, cmp.Or(f.Commit, sum.Revision)
	return f, err
}

// summary is an image in few words, as it is kept or, where it is not, read from the registry.
func (s *Service) summary(ctx context.Context, at spot, d digest.Digest) (store.Summary, error) {
	kept, ok, err := s.db.SummaryOf(ctx, d)
	if err != nil || ok {
		return kept, err
	}
	desc, err := s.describe(ctx, at, d)
	return summaryOf(desc), err
}

func buildFacts(b store.BuildWork) tagging.Facts {
	return tagging.Facts{Component: b.Build.Component, Number: b.Build.Run, Commit: b.Build.Revision, Branch: b.Build.Branch,
		Version: b.Build.Version, Started: b.Work.AskedAt}
}

// cacheOnly reports that what is to be pointed to is meant by a pipeline's caches alone.
func (s *Service) cacheOnly(ctx context.Context, w wish) (bool, error) {
	if len(w.rules.Caches) == 0 {
		return false, nil
	}
	tags, err := s.db.TagsMeaning(ctx, w.at.at(), w.to.Digest)
	return len(tags) > 0 && !slices.ContainsFunc(tags, func(t string) bool { return w.rules.Of(t, w.facts).Kind != tagging.Cache }), err
}

// buildName is how people and the trail name a build.
func buildName(b store.Build) string { return b.Component + "/" + number(b.Run) }
