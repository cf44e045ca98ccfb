package transfer

import (
	"context"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/registry"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Bounds of what is followed from an image: whoever may push can attach without end.
const (
	maxAttached = 1000
	maxDepth    = 4 // of what refers to what refers to the image
)

// Listing gives what refers to a digest, as the source lists it.
type Listing func(context.Context, digest.Digest) ([]ocispec.Descriptor, error)

// ReadAttached reads what refers to the manifests of an image, and what refers to that in turn. want chooses by descriptor.
// What is listed and does not name its subject is left out: it is attached to something else.
func ReadAttached(ctx context.Context, from *registry.Repository, keep Contents, tree plan.Tree, list Listing,
	want func(ocispec.Descriptor) bool) ([]plan.Attached, error) {
	a := attacher{from: from, keep: keep, list: list, want: want, seen: map[digest.Digest]bool{}}
	for _, m := range tree {
		a.seen[m.Digest] = true
	}
	for _, m := range tree {
		if m.Index || image.KindOf(ocispec.Descriptor{MediaType: m.MediaType}, m) == image.KindImage {
			if err := a.follow(ctx, m.Digest, 1); err != nil {
				return nil, err
			}
		}
	}
	return a.out, nil
}

type attacher struct {
	from *registry.Repository
	keep Contents
	list Listing
	want func(ocispec.Descriptor) bool
	seen map[digest.Digest]bool
	out  []plan.Attached
}

func (a *attacher) follow(ctx context.Context, subject digest.Digest, depth int) error {
	all, err := a.list(ctx, subject)
	if err != nil {
		return err
	}
	for _, d := range all {
		if a.seen[d.Digest] || !a.want(d) || len(a.out) == maxAttached {
			continue
		}
		tree, err := ReadTree(ctx, a.from, a.keep, d.Digest)
		if problem.Is(err, problem.NotFound) { // listed still, and deleted since
			continue
		}
		if err != nil {
			return err
		}
		if s := tree.Root().Subject; s == nil || s.Digest != subject {
			continue
		}
		a.seen[d.Digest] = true
		a.out = append(a.out, plan.Attached{Subject: subject, As: d, Tree: tree})
		if depth < maxDepth {
			if err := a.follow(ctx, d.Digest, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}
