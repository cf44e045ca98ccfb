// Package transfer moves images between registries as a plan says: content first, children before parents, every byte
// verified while it flows, nothing kept on disk and nothing moved that is there already. It points no tags.
package transfer

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/registry"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"
)

// Contents remembers manifests and configs by digest, which never change: each is fetched once ever.
type Contents interface {
	// Content gives bytes kept earlier, and whether there are any.
	Content(context.Context, digest.Digest) (mediaType string, raw []byte, found bool, err error)
	// Keep keeps bytes that were verified.
	Keep(ctx context.Context, d digest.Digest, mediaType string, raw []byte) error
}

// atOnce is how many small requests go to one registry side by side.
const atOnce = 8

// maxTree bounds the manifests of one image.
const maxTree = 4000

// Manifest gives a manifest by digest, from what is kept or else from the repository.
func Manifest(ctx context.Context, from *registry.Repository, keep Contents, d digest.Digest) (image.Manifest, error) {
	media, raw, ok, err := keep.Content(ctx, d)
	if err != nil {
		return image.Manifest{}, err
	}
	if ok {
		return image.Read(media, raw)
	}
	m, err := from.Manifest(ctx, d.String())
	if err != nil {
		return m, err
	}
	return m, keep.Keep(ctx, m.Digest, m.MediaType, m.Bytes)
}

// Config gives an image's config, kept like a manifest.
func Config(ctx context.Context, from *registry.Repository, keep Contents, d ocispec.Descriptor) (image.Config, error) {
	raw, err := ConfigBytes(ctx, from, keep, d)
	if err != nil {
		return image.Config{}, err
	}
	return image.ReadConfig(raw)
}

// ConfigBytes gives the very bytes of a config.
func ConfigBytes(ctx context.Context, from *registry.Repository, keep Contents, d ocispec.Descriptor) ([]byte, error) {
	_, raw, ok, err := keep.Content(ctx, d.Digest)
	if err == nil && !ok {
		if raw, err = from.SmallBlob(ctx, d, image.MaxConfig); err == nil {
			err = keep.Keep(ctx, d.Digest, d.MediaType, raw)
		}
	}
	return raw, err
}

// ReadTree reads an image with everything below it. Manifests that are kept cost no request.
func ReadTree(ctx context.Context, from *registry.Repository, keep Contents, root digest.Digest) (plan.Tree, error) {
	r := reader{from: from, keep: keep, seen: map[digest.Digest]bool{}}
	err := r.read(ctx, root, nil)
	return r.tree, err
}

type reader struct {
	from *registry.Repository
	keep Contents
	seen map[digest.Digest]bool
	tree plan.Tree
}

func (r *reader) read(ctx context.Context, d digest.Digest, above []digest.Digest) error {
	if r.seen[d] {
		return nil
	}
	if len(above) > image.MaxNesting || len(r.seen) >= maxTree {
		return &problem.Problem{Kind: problem.Altered, Title: "This image goes deeper than any image should", Asked: above[0].String(),
			Where: r.from.String(), Seen: fmt.Sprintf("indexes nested more than %d deep, or more than %d manifests", image.MaxNesting, maxTree),
			Remedy: "have whoever built it look at it"}
	}
	r.seen[d] = true
	m, err := Manifest(ctx, r.from, r.keep, d)
	if err != nil {
		return err
	}
	for _, c := range m.Members {
		if err := r.read(ctx, c.Digest, append(above, d)); err != nil {
			return err
		}
	}
	r.tree = append(r.tree, m)
	return nil
}

// Look asks a destination what it has of a cargo: one HEAD for the root, so that whatever sign-in the registry wants is settled
// before many ask at once; then one each for the blobs, which cost most to send for nothing. The other manifests are asked for
// only where the root is there: to put one again costs no more than to ask.
func Look(ctx context.Context, to *registry.Repository, cargo plan.Cargo) (plan.Presence, error) {
	var mu sync.Mutex
	have := plan.Presence{}
	note := func(d digest.Digest, there bool) {
		mu.Lock()
		defer mu.Unlock()
		have[d] = there
	}
	root := cargo.Root().Digest
	there, err := Has(ctx, to, root)
	if err != nil {
		return nil, err
	}
	note(root, there)
	wanted := plan.NewCopy(cargo, nil)
	rootThere := there
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for _, p := range wanted.Blobs {
		if p.Foreign {
			continue
		}
		g.Go(func() error {
			there, err := to.HasBlob(ctx, p.Descriptor())
			note(p.Digest, there)
			return err
		})
	}
	for _, m := range wanted.Manifests {
		if m.Digest == root || !rootThere {
			continue
		}
		g.Go(func() error {
			there, err := Has(ctx, to, m.Digest)
			note(m.Digest, there)
			return err
		})
	}
	return have, g.Wait()
}

// Has asks for one manifest.
func Has(ctx context.Context, at *registry.Repository, d digest.Digest) (bool, error) {
	_, err := at.Head(ctx, d.String())
	if problem.Is(err, problem.NotFound) {
		return false, nil
	}
	return err == nil, err
}

// join is errors.Join for an error that is usually alone.
func join(err, also error) error {
	if also == nil {
		return err
	}
	return errors.Join(err, also)
}
