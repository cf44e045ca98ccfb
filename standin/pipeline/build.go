// Package pipeline simulates a build pipeline: it makes images out of made-up files and pushes them to a registry,
// the way a pipeline's own tools would. The same build always gives the same bytes.
package pipeline

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Build is what one pipeline run makes of a component.
type Build struct {
	Component string
	Number    int
	Version   string
	Commit    string
	Branch    string
	Created   time.Time
	Platforms []string // os/architecture[/variant]
	Base      string   // which base it is built on; default "12"
	Bytes     int      // of the component's own layer, for each platform; default 2 MiB
	Attested  bool     // each platform's image has an attestation beside it in the index, as builders put them
}

// Image is a built image: its index, and below it every manifest and blob by digest.
type Image struct {
	Index     Content
	Manifests []Content
	Blobs     []Content
}

// Content is bytes with what describes them.
type Content struct {
	ocispec.Descriptor
	Bytes []byte
}

// Make builds the image. Each platform has a layer of its base, which builds on the same base share, one of the component's own
// program, and a small one of its settings.
func (b Build) Make() (Image, error) {
	if b.Bytes == 0 {
		b.Bytes = 2 << 20
	}
	if b.Base == "" {
		b.Base = "12"
	}
	var img Image
	index := ocispec.Index{
		Versioned:   specs.Versioned{SchemaVersion: 2},
		MediaType:   ocispec.MediaTypeImageIndex,
		Annotations: b.annotations(),
	}
	for _, name := range b.Platforms {
		m, err := b.platform(&img, name)
		if err != nil {
			return Image{}, err
		}
		m.Platform = platform(name)
		index.Manifests = append(index.Manifests, m.Descriptor)
		img.Manifests = append(img.Manifests, m)
	}
	if b.Attested {
		if err := b.attest(&img, &index); err != nil {
			return Image{}, err
		}
	}
	var err error
	img.Index, err = document(ocispec.MediaTypeImageIndex, index)
	return img, err
}

// Part builds the image of one platform, as a runner of its own does. An attested part is an index of the image and its
// attestation. Push puts it there by its digest.
func (b Build) Part(name string) (Image, error) {
	alone := b
	alone.Platforms = []string{name}
	whole, err := alone.Make()
	if err != nil {
		return whole, err
	}
	part := Image{Index: whole.Manifests[0], Manifests: whole.Manifests, Blobs: whole.Blobs}
	if b.Attested {
		part.Index = whole.Index
		part.Manifests = append(part.Manifests, whole.Index)
	}
	return part, nil
}

// attest puts an attestation of each image into the index, under the platform unknown/unknown.
func (b Build) attest(img *Image, index *ocispec.Index) error {
	for _, of := range index.Manifests {
		a, err := artifact(img, "", "application/vnd.in-toto+json", map[string]any{
			"_type": "https://in-toto.io/Statement/v1", "predicateType": "https://slsa.dev/provenance/v1",
			"subject": []any{map[string]any{"digest": map[string]string{"sha256": of.Digest.Encoded()}}},
			"predicate": map[string]any{
				"runDetails": map[string]any{"builder": map[string]string{"id": "https://pipeline.skarvind.example"}},
				"commit":     b.Commit,
			},
		}, nil)
		if err != nil {
			return err
		}
		a.Platform = &ocispec.Platform{OS: "unknown", Architecture: "unknown"}
		a.Annotations = map[string]string{"watch.skarvind.example.reference.digest": of.Digest.String()}
		index.Manifests = append(index.Manifests, a.Descriptor)
		img.Manifests = append(img.Manifests, a)
	}
	return nil
}

// Attach makes something that refers to an image, such as its bill of materials, to be pushed by [Target.Push] with no tag.
func Attach(to Image, kind string, statement any) (Image, error) {
	var out Image
	d := to.Index.Descriptor
	m, err := artifact(&out, kind, kind, statement, &ocispec.Descriptor{MediaType: d.MediaType, Digest: d.Digest, Size: d.Size})
	out.Manifests = []Content{m}
	return out, err
}

// artifact makes a manifest with one layer that holds a statement. Without a kind it has the config of an image.
func artifact(img *Image, kind, media string, statement any, subject *ocispec.Descriptor) (Content, error) {
	layer, err := document(media, statement)
	if err != nil {
		return Content{}, err
	}
	config := content(ocispec.MediaTypeEmptyJSON, []byte("{}"))
	if kind == "" {
		nobody := ocispec.Image{Platform: ocispec.Platform{OS: "unknown", Architecture: "unknown"}}
		if config, err = document(ocispec.MediaTypeImageConfig, nobody); err != nil {
			return Content{}, err
		}
	}
	img.Blobs = append(img.Blobs, layer, config)
	return document(
		ocispec.MediaTypeImageManifest,
		ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest,
			ArtifactType: kind, Config: config.Descriptor, Layers: []ocispec.Descriptor{layer.Descriptor}, Subject: subject},
	)
}

func (b Build) annotations() map[string]string {
	return map[string]string{
		ocispec.AnnotationCreated:  b.Created.UTC().Format(time.RFC3339),
		ocispec.AnnotationVersion:  b.Version,
		ocispec.AnnotationRevision: b.Commit,
		ocispec.AnnotationTitle:    b.Component,
	}
}

func (b Build) platform(img *Image, name string) (Content, error) {
	var layers []ocispec.Descriptor
	var diffs []digest.Digest
	for _, l := range []struct {
		path, seed string
		size       int
	}{
		{"usr/lib/skarvind/base.bin", "base " + b.Base + " " + name, b.Bytes * 2},
		{"usr/bin/" + b.Component, fmt.Sprint(b.Component, " ", b.Version, " ", b.Commit, " ", name), b.Bytes},
		{"etc/skarvind/" + b.Component + ".conf", b.Component + " " + b.Version, 4 << 10},
	} {
		c, diff, err := layer(l.path, l.seed, l.size)
		if err != nil {
			return Content{}, err
		}
		layers, diffs = append(layers, c.Descriptor), append(diffs, diff)
		img.Blobs = append(img.Blobs, c)
	}
	p := platform(name)
	created := b.Created.UTC()
	config, err := document(ocispec.MediaTypeImageConfig, ocispec.Image{
		Created: &created, Platform: *p, RootFS: ocispec.RootFS{Type: "layers", DiffIDs: diffs},
		Config: ocispec.ImageConfig{Entrypoint: []string{"/usr/bin/" + b.Component}, Labels: map[string]string{
			ocispec.AnnotationVersion:         b.Version,
			ocispec.AnnotationRevision:        b.Commit,
			ocispec.AnnotationRefName:         b.Branch,
			"watch.skarvind.example.build":    fmt.Sprint(b.Number),
			"watch.skarvind.example.pipeline": fmt.Sprintf("https://pipeline.skarvind.example/%s/%d", b.Component, b.Number),
		}},
	})
	if err != nil {
		return Content{}, err
	}
	img.Blobs = append(img.Blobs, config)
	return document(ocispec.MediaTypeImageManifest, ocispec.Manifest{
		Versioned: specs.Versioned{
			SchemaVersion: 2,
		}, MediaType: ocispec.MediaTypeImageManifest, Config: config.Descriptor, Layers: layers,
	})
}

func platform(name string) *ocispec.Platform {
	parts := append(strings.Split(name, "/"), "", "")
	return &ocispec.Platform{OS: parts[0], Architecture: parts[1], Variant: parts[2]}
}

func document(media string, v any) (Content, error) {
	raw, err := json.Marshal(v)
	return content(media, raw), err
}

func content(media string, raw []byte) Content {
	return Content{ocispec.Descriptor{MediaType: media, Digest: digest.FromBytes(raw), Size: int64(len(raw))}, raw}
}

// layer makes a compressed archive with one file of made-up bytes that compress little, as a program's do.
func layer(path, seed string, size int) (Content, digest.Digest, error) {
	var plain bytes.Buffer
	tw := tar.NewWriter(&plain)
	body := noise(seed, size)
	err := tw.WriteHeader(&tar.Header{Name: path, Mode: 0o755, Size: int64(size), ModTime: time.Unix(0, 0), Format: tar.FormatPAX})
	if err == nil {
		_, err = tw.Write(body)
	}
	if err == nil {
		err = tw.Close()
	}
	if err != nil {
		return Content{}, "", err
	}
	diff := digest.FromBytes(plain.Bytes())
	var packed bytes.Buffer
	gz, err := gzip.NewWriterLevel(&packed, gzip.BestSpeed)
	if err != nil {
		return Content{}, "", err
	}
	if _, err = io.Copy(gz, &plain); err == nil {
		err = gz.Close()
	}
	return content(ocispec.MediaTypeImageLayerGzip, packed.Bytes()), diff, err
}

func noise(seed string, size int) []byte {
	var key [32]byte
	copy(key[:], digest.FromString(seed).Encoded())
	out := make([]byte, size)
	_, _ = rand.NewChaCha8(key).Read(out) // it never fails
	return out
}
