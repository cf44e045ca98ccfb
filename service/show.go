package service

import (
	"context"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Image is what a reference means, looked at.
type Image struct {
	Ref         image.Reference // with the digest
	MediaType   string
	Index       bool
	SeenAt      time.Time // when the registry said what the reference means
	Created     *time.Time
	Version     string
	Annotations map[string]string
	Platforms   []PlatformImage
}

// PlatformImage is the image of one platform. Sizes are in bytes, compressed.
type PlatformImage struct {
	Platform image.Platform
	Digest   digest.Digest
	Created  *time.Time
	Labels   map[string]string
	Config   ocispec.Descriptor
	Layers   []ocispec.Descriptor
	Size     int64 // manifest, config and layers
}

// Show looks at an image. Manifests and configs seen before cost no request: a known image costs one HEAD.
func (s *Service) Show(ctx context.Context, by Actor, ref image.Reference) (Image, error) {
	if err := by.Require(Read); err != nil {
		return Image{}, err
	}
	at, err := s.spot(ctx, ref)
	if err != nil {
		return Image{}, err
	}
	root, seen, err := s.resolve(ctx, at, ref)
	if err != nil {
		return Image{}, err
	}
	m, err := transfer.Manifest(ctx, at.Repository, contents{s.db}, root)
	if err != nil {
		return Image{}, err
	}
	ref.Digest = m.Digest
	out := Image{Ref: ref, MediaType: m.MediaType, Index: m.Index, SeenAt: seen, Annotations: m.Annotations}
	if err := s.showPlatforms(ctx, at, m, &out); err != nil {
		return Image{}, err
	}
	out.Version, out.Created = version(m, out.Platforms), created(m, out.Platforms)
	return out, s.db.Hold(ctx, at.at(), m.Digest, false)
}

func (s *Service) showPlatforms(ctx context.Context, at spot, m image.Manifest, out *Image) error {
	if !m.Index {
		p, err := s.showPlatform(ctx, at, m)
		out.Platforms = []PlatformImage{p}
		return err
	}
	for _, d := range m.Members {
		member, err := transfer.Manifest(ctx, at.Repository, contents{s.db}, d.Digest)
		if err != nil {
			return err
		}
		if member.Index { // an index inside an index has no platform of its own; its members are shown in its place
			if err := s.showPlatforms(ctx, at, member, out); err != nil {
				return err
			}
			continue
		}
		p, err := s.showPlatform(ctx, at, member)
		if err != nil {
			return err
		}
		out.Platforms = append(out.Platforms, p)
	}
	return nil
}

func (s *Service) showPlatform(ctx context.Context, at spot, m image.Manifest) (PlatformImage, error) {
	cfg, err := transfer.Config(ctx, at.Repository, contents{s.db}, m.Config)
	if err != nil {
		return PlatformImage{}, err
	}
	p := PlatformImage{
		Platform: cfg.Platform,
		Digest:   m.Digest,
		Created:  cfg.Created,
		Labels:   cfg.Labels,
		Config:   m.Config,
		Layers:   m.Layers,
	}
	p.Size = m.Size() + m.Config.Size
	for _, l := range m.Layers {
		p.Size += l.Size
	}
	return p, nil
}

// resolve asks the registry what a reference means, and records what it said of a tag.
func (s *Service) resolve(ctx context.Context, at spot, ref image.Reference) (digest.Digest, time.Time, error) {
	seen, err := s.db.Now(ctx)
	if err != nil {
		return "", seen, err
	}
	d, err := at.Head(ctx, ref.Name())
	switch {
	case problem.Is(err, problem.NotFound):
		p := problem.From(err)
		p.Asked = ref.String()
		if ref.Digest == "" {
			return "", seen, firstOf(s.sight(ctx, at, ref.Tag, "", seen), p)
		}
		return "", seen, firstOf(s.db.Forget(ctx, at.at(), ref.Digest), p)
	case err != nil:
		return "", seen, err
	case ref.Digest == "":
		return d.Digest, seen, s.sight(ctx, at, ref.Tag, d.Digest, seen)
	}
	return ref.Digest, seen, nil
}

// sight records what a tag was seen to mean; no digest is nothing.
func (s *Service) sight(ctx context.Context, at spot, tag string, d digest.Digest, seen time.Time) error {
	row := store.Sighting{RegistryID: at.conn.ID, Repository: at.ref.Repository, Tag: tag, SeenAt: seen}
	if d != "" {
		row.Digest = &d
	}
	return s.db.See(ctx, row)
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// version is what the image says of its own version: on the index, or on all of its images alike.
func version(m image.Manifest, ps []PlatformImage) string {
	if v := m.Annotations[ocispec.AnnotationVersion]; v != "" {
		return v
	}
	v := ""
	for _, p := range ps {
		switch l := p.Labels[ocispec.AnnotationVersion]; {
		case v == "":
			v = l
		case l != v:
			return ""
		}
	}
	return v
}

// created is when the newest of the images was made.
func created(m image.Manifest, ps []PlatformImage) *time.Time {
	if t, err := time.Parse(time.RFC3339, m.Annotations[ocispec.AnnotationCreated]); err == nil {
		return &t
	}
	var newest *time.Time
	for _, p := range ps {
		if p.Created != nil && (newest == nil || p.Created.After(*newest)) {
			newest = p.Created
		}
	}
	return newest
}

// contents keeps what transfer reads.
type contents struct{ db *store.Store }

func (c contents) Content(ctx context.Context, d digest.Digest) (string, []byte, bool, error) {
	got, ok, err := c.db.Content(ctx, d)
	return got.MediaType, got.Bytes, ok, err
}

func (c contents) Keep(ctx context.Context, d digest.Digest, mediaType string, raw []byte) error {
	return c.db.KeepContent(ctx, store.Content{Digest: d, MediaType: mediaType, Bytes: raw})
}

var _ transfer.Contents = contents{}
var _ registry.Pace = (*budget)(nil)
