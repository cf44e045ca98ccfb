package image

import (
	"fmt"
	"strings"
	"time"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Description is an image as people look at it: the platforms side by side, and what lies beside them without being an
// image to run. Sizes are in bytes, compressed.
type Description struct {
	Digest      digest.Digest
	MediaType   string
	Kind        Kind
	Annotations map[string]string
	Version     string // of the index, or of all its images alike
	Revision    string // the commit, likewise
	Created     *time.Time
	Size        int64 // of everything below it, each blob once
	Members     []Member
	Beside      []Beside
}

// Member is the image of one platform.
type Member struct {
	Digest        digest.Digest
	Platform      Platform
	Annotations   map[string]string
	Config        Config
	ConfigBlob    ocispec.Descriptor
	Layers        []ocispec.Descriptor
	Size          int64  // manifest, config and layers
	Contradiction string // what the index and the config say differently of its platform; empty: nothing
}

// Beside is something that is attached to an image, or lies in its index, and is not to be run.
type Beside struct {
	Digest      digest.Digest
	Kind        Kind
	Type        string // its artifact type, or its config's
	Size        int64
	Of          digest.Digest // what it is about, where it says so
	Annotations map[string]string
}

// Platforms are those of the members.
func (d Description) Platforms() []Platform {
	out := make([]Platform, len(d.Members))
	for i, m := range d.Members {
		out[i] = m.Platform
	}
	return out
}

// Contradiction is the first there is among the members; empty: none.
func (d Description) Contradiction() string {
	for _, m := range d.Members {
		if m.Contradiction != "" {
			return m.Digest.String() + ": " + m.Contradiction
		}
	}
	return ""
}

// Describe works a description out from an image's manifests, children before parents and the root last. config reads one
// config. An index inside an index has no platform of its own: its members are shown in its place.
func Describe(tree []Manifest, config func(ocispec.Descriptor) (Config, error)) (Description, error) {
	root := tree[len(tree)-1]
	by := map[digest.Digest]Manifest{}
	for _, m := range tree {
		by[m.Digest] = m
	}
	w := describer{by: by, config: config}
	d := &w.out
	d.Digest, d.MediaType, d.Annotations = root.Digest, root.MediaType, root.Annotations
	d.Kind = KindOf(ocispec.Descriptor{MediaType: root.MediaType}, root)
	if err := w.add(ocispec.Descriptor{MediaType: root.MediaType, Digest: root.Digest}); err != nil {
		return Description{}, err
	}
	d.Size = total(tree)
	d.Version = d.alike(ocispec.AnnotationVersion)
	d.Revision = d.alike(ocispec.AnnotationRevision)
	d.Created = d.created()
	return *d, nil
}

type describer struct {
	by     map[digest.Digest]Manifest
	config func(ocispec.Descriptor) (Config, error)
	out    Description
}

func (w *describer) add(d ocispec.Descriptor) error {
	m, ok := w.by[d.Digest]
	if !ok {
		return fmt.Errorf("image: the manifest %s is not in the tree", d.Digest)
	}
	if m.Index {
		for _, c := range m.Members {
			if err := w.add(c); err != nil {
				return err
			}
		}
		return nil
	}
	if kind := KindOf(d, m); kind != KindImage {
		w.out.Beside = append(w.out.Beside, besideOf(d, m, kind))
		return nil
	}
	c, err := w.config(m.Config)
	if err != nil {
		return err
	}
	mem := Member{Digest: m.Digest, Platform: c.Platform, Annotations: m.Annotations, Config: c, ConfigBlob: m.Config, Layers: m.Layers,
		Size: m.Size() + m.Config.Size}
	for _, l := range m.Layers {
		mem.Size += l.Size
	}
	if said := PlatformOf(d); said.Contradicts(c.Platform) {
		mem.Contradiction = fmt.Sprintf(
			"the index calls it %s, its config says %s",
			Printable(said.String()),
			Printable(c.Platform.String()),
		)
	} else if said.Variant != "" && c.Platform.Variant == "" {
		mem.Platform.Variant = said.Variant // left open by the config, as older builders do
	}
	w.out.Members = append(w.out.Members, mem)
	return nil
}

func besideOf(d ocispec.Descriptor, m Manifest, kind Kind) Beside {
	b := Beside{Digest: m.Digest, Kind: kind, Type: m.ArtifactType, Size: m.Size(), Annotations: d.Annotations}
	if b.Type == "" && len(m.Layers) > 0 {
		b.Type = m.Layers[0].MediaType
	}
	for _, l := range m.Blobs() {
		b.Size += l.Size
	}
	if m.Subject != nil {
		b.Of = m.Subject.Digest
	}
	if about := AboutOf(d); about != "" {
		b.Of = about
	}
	return b
}

// AboutOf is the member of an index that another is about, as builders annotate attestations; empty where it does not say.
func AboutOf(d ocispec.Descriptor) digest.Digest {
	for k, v := range d.Annotations {
		if about, err := ParseDigest(v); err == nil && strings.HasSuffix(k, "reference.digest") {
			return about
		}
	}
	return ""
}

// BesideOf tells what a referrer is, by its descriptor alone.
func BesideOf(d ocispec.Descriptor, subject digest.Digest) Beside {
	d.Annotations = printable(d.Annotations)
	kind := KindOf(d, Manifest{})
	if kind == KindImage || kind == KindIndex { // whatever refers to another is not the thing to run
		kind = KindArtifact
	}
	return Beside{Digest: d.Digest, Kind: kind, Type: Printable(d.ArtifactType), Size: d.Size, Of: subject, Annotations: d.Annotations}
}

func printable(m map[string]string) map[string]string {
	out := make(map[string]string, len(m))
	for k, v := range m {
		out[Printable(k)] = Printable(v)
	}
	return out
}

// total is the size of a whole tree, each manifest and blob once.
func total(tree []Manifest) int64 {
	seen := map[digest.Digest]bool{}
	var n int64
	for _, m := range tree {
		n += m.Size()
		for _, b := range m.Blobs() {
			if !seen[b.Digest] {
				seen[b.Digest] = true
				n += b.Size
			}
		}
	}
	return n
}

// alike is what the index says under a key, or else what all of its images say alike in their labels.
func (d Description) alike(key string) string {
	if v := d.Annotations[key]; v != "" {
		return v
	}
	v := ""
	for i, m := range d.Members {
		l := m.Config.Labels[key]
		if i > 0 && l != v {
			return ""
		}
		v = l
	}
	return v
}

// created is when the index was made, or else the newest of its images.
func (d Description) created() *time.Time {
	if t, err := time.Parse(time.RFC3339, d.Annotations[ocispec.AnnotationCreated]); err == nil {
		return &t
	}
	var newest *time.Time
	for _, m := range d.Members {
		if c := m.Config.Created; c != nil && (newest == nil || c.After(*newest)) {
			newest = c
		}
	}
	return newest
}
