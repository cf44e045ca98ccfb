package image

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// The media types of manifests that are read: the OCI's, and the older schema 2 that most registries still hold.
const (
	MediaIndex          = ocispec.MediaTypeImageIndex
	MediaManifest       = ocispec.MediaTypeImageManifest
	MediaSchema2List    = "application/vnd.docker.distribution.manifest.list.v2+json"
	MediaSchema2        = "application/vnd.docker.distribution.manifest.v2+json"
	mediaSchema2Foreign = "application/vnd.docker.image.rootfs.foreign.diff.tar.gzip"
)

// Accept lists every media type that [Read] understands, for the request that fetches a manifest.
var Accept = []string{MediaIndex, MediaManifest, MediaSchema2List, MediaSchema2}

// Limits on what a stranger's manifest may cost. The distribution specification obliges a registry to take
// 4 MiB and lets it refuse more; the rest is far above any image that was ever built for a purpose.
const (
	MaxManifest    = 4 << 20 // bytes
	MaxDescriptors = 2000    // members of an index, or layers of a manifest
	MaxNesting     = 4       // indexes inside indexes
)

// Manifest is one document of an image's tree: either an index, with Members, or an image, with Config and Layers.
type Manifest struct {
	MediaType    string
	Digest       digest.Digest // of Bytes
	Bytes        []byte        // as received; never written out again
	Index        bool
	ArtifactType string
	Annotations  map[string]string
	Subject      *ocispec.Descriptor
	Config       ocispec.Descriptor
	Layers       []ocispec.Descriptor
	Members      []ocispec.Descriptor
}

// Size is the length of the document itself, in bytes.
func (m Manifest) Size() int64 { return int64(len(m.Bytes)) }

// Blobs are the config and the layers, without repetition: all that a registry must hold before the manifest.
func (m Manifest) Blobs() []ocispec.Descriptor {
	if m.Index {
		return nil
	}
	seen := map[digest.Digest]bool{}
	var out []ocispec.Descriptor
	for _, d := range append([]ocispec.Descriptor{m.Config}, m.Layers...) {
		if !seen[d.Digest] {
			seen[d.Digest] = true
			out = append(out, d)
		}
	}
	return out
}

// Foreign reports a layer whose bytes may lie elsewhere and need not be in the registry (the schema-2 foreign layer;
// the image specification calls its own kind non-distributable).
func Foreign(d ocispec.Descriptor) bool {
	return d.MediaType == mediaSchema2Foreign || strings.Contains(d.MediaType, ".layer.nondistributable.")
}

type document struct {
	SchemaVersion int                   `json:"schemaVersion"`
	MediaType     string                `json:"mediaType"`
	ArtifactType  string                `json:"artifactType"`
	Config        *ocispec.Descriptor   `json:"config"`
	Layers        *[]ocispec.Descriptor `json:"layers"`
	Manifests     *[]ocispec.Descriptor `json:"manifests"`
	Subject       *ocispec.Descriptor   `json:"subject"`
	Annotations   map[string]string     `json:"annotations"`
}

// Read reads a manifest or index strictly. mediaType is what the registry called it, or empty. It refuses what two
// readers could understand differently: a key given twice, both layers and manifests, a media type that contradicts
// the content. The error is a problem of kind Altered: somebody's bytes are not what they claim.
func Read(mediaType string, raw []byte) (Manifest, error) {
	if len(raw) > MaxManifest {
		return Manifest{}, unreadable(fmt.Sprintf("%d bytes, more than 4 MiB", len(raw)))
	}
	if err := noKeyTwice(raw); err != nil {
		return Manifest{}, unreadable(err.Error())
	}
	var doc document
	if err := json.Unmarshal(raw, &doc); err != nil {
		return Manifest{}, unreadable("JSON that is not a manifest: " + err.Error())
	}
	m := Manifest{
		Digest: digest.FromBytes(raw), Bytes: raw, ArtifactType: doc.ArtifactType,
		Annotations: doc.Annotations, Subject: doc.Subject,
	}
	if err := m.fill(doc); err != nil {
		return Manifest{}, unreadable(err.Error())
	}
	var err error
	if m.MediaType, err = settleType(mediaType, doc.MediaType, m.Index); err != nil {
		return Manifest{}, unreadable(err.Error())
	}
	return m, nil
}

func (m *Manifest) fill(doc document) error {
	if doc.SchemaVersion != 2 {
		return fmt.Errorf("schema version %d; only 2 can be read", doc.SchemaVersion)
	}
	var all []ocispec.Descriptor
	switch {
	case doc.Manifests != nil && (doc.Layers != nil || doc.Config != nil):
		return fmt.Errorf("both manifests and layers, so that nobody can say whether it is an index or an image")
	case doc.Manifests != nil:
		m.Index, m.Members = true, *doc.Manifests
		all = m.Members
	case doc.Config != nil && doc.Layers != nil:
		m.Config, m.Layers = *doc.Config, *doc.Layers
		all = append([]ocispec.Descriptor{m.Config}, m.Layers...)
	default:
		return fmt.Errorf("neither manifests nor config and layers")
	}
	if len(all) > MaxDescriptors {
		return fmt.Errorf("%d descriptors, more than %d", len(all), MaxDescriptors)
	}
	if m.Subject != nil {
		all = append(all, *m.Subject)
	}
	for i, d := range all {
		if _, err := ParseDigest(d.Digest.String()); err != nil {
			return fmt.Errorf("descriptor %d: %s", i, problem.From(err).Seen)
		}
		if d.Size < 0 {
			return fmt.Errorf("descriptor %d: a size of %d bytes", i, d.Size)
		}
	}
	return nil
}

// settleType decides the media type from what the registry said and what the document says of itself.
func settleType(told, own string, index bool) (string, error) {
	told, _, _ = strings.Cut(told, ";")
	told = strings.TrimSpace(told)
	if !isIndexType(told) && !isImageType(told) { // nothing told, or something general such as application/json
		told = own
	}
	if own != "" && told != own {
		return "", fmt.Errorf("the registry calls it %s, it calls itself %s", Printable(told), Printable(own))
	}
	switch {
	case told == "" && index:
		return MediaIndex, nil
	case told == "":
		return MediaManifest, nil
	case index && isIndexType(told), !index && isImageType(told):
		return told, nil
	}
	return "", fmt.Errorf("the media type %s contradicts the content", Printable(told))
}

func isIndexType(t string) bool { return t == MediaIndex || t == MediaSchema2List }
func isImageType(t string) bool { return t == MediaManifest || t == MediaSchema2 }

// noKeyTwice walks the tokens of one JSON value. encoding/json would take the last of two equal keys in silence,
// other readers the first: the same bytes would mean two images.
func noKeyTwice(raw []byte) error {
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var open []map[string]bool // the keys of each open object; nil for an array
	key := false               // whether the next string is a key
	for {
		tok, err := dec.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("not JSON: %v", err)
		}
		switch t := tok.(type) {
		case json.Delim:
			switch t {
			case '{':
				open = append(open, map[string]bool{})
			case '[':
				open = append(open, nil)
			default:
				open = open[:len(open)-1]
			}
		case string:
			if key {
				if err := takeKey(open[len(open)-1], t); err != nil {
					return err
				}
				key = false
				continue
			}
		}
		if len(open) == 0 {
			if _, err := dec.Token(); err != io.EOF {
				return fmt.Errorf("something behind the end of the document")
			}
			return nil
		}
		if len(open) > 64 {
			return fmt.Errorf("JSON nested more than 64 deep")
		}
		key = open[len(open)-1] != nil
	}
}

// ownKeys are the keys that [document] and its descriptors are read by. encoding/json would also take them in another
// spelling ("Layers"), which no other reader does.
var ownKeys = map[string]string{
	"schemaversion": "schemaVersion", "mediatype": "mediaType", "artifacttype": "artifactType", "config": "config",
	"layers": "layers", "manifests": "manifests", "subject": "subject", "digest": "digest", "size": "size",
}

func takeKey(keys map[string]bool, key string) error {
	if keys[key] {
		return fmt.Errorf("the key %s twice in one object", quote(key))
	}
	if own, ok := ownKeys[strings.ToLower(key)]; ok && own != key {
		return fmt.Errorf("the key %s, which some would read as %s", quote(key), own)
	}
	keys[key] = true
	return nil
}

func unreadable(seen string) *problem.Problem {
	return &problem.Problem{Kind: problem.Altered, Title: "This manifest cannot be read", Seen: seen,
		Remedy: "look at its bytes in the registry, and have whoever built it push it again"}
}
