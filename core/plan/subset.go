package plan

import (
	"encoding/json"
	"slices"
	"strings"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Subset takes some platforms out of an index. One platform with nothing beside it is that image itself; else a new index is
// written, whose digest is another: of the members as they were, with what lies in the index about them, and the index's own
// annotations. All platforms are the index as it is.
func Subset(index image.Manifest, platforms []image.Platform) (root image.Manifest, made bool, err error) {
	keep := map[string]bool{}
	var kept []ocispec.Descriptor
	for _, want := range platforms {
		found := false
		for _, d := range index.Members {
			if p := image.PlatformOf(d); p != (image.Platform{}) && p.Same(want) {
				found, keep[d.Digest.String()] = true, true
			}
		}
		if !found {
			return root, false, noPlatform(index, want)
		}
	}
	for _, d := range index.Members {
		if keep[d.Digest.String()] || keep[image.AboutOf(d).String()] {
			kept = append(kept, d)
		}
	}
	if len(kept) == len(index.Members) {
		return index, false, nil
	}
	if len(kept) == 1 {
		return image.Manifest{MediaType: kept[0].MediaType, Digest: kept[0].Digest}, false, nil
	}
	raw, err := json.Marshal(ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: index.MediaType,
		ArtifactType: index.ArtifactType, Manifests: kept, Subject: index.Subject, Annotations: index.Annotations})
	if err != nil {
		return root, false, err
	}
	root, err = image.Read(index.MediaType, raw)
	return root, true, err
}

func noPlatform(index image.Manifest, want image.Platform) error {
	var have []string
	for _, d := range index.Members {
		if p := image.PlatformOf(d); !p.Unknown() && p != (image.Platform{}) {
			have = append(have, p.String())
		}
	}
	slices.Sort(have)
	seen := "the platforms " + image.Printable(strings.Join(have, ", "))
	if !index.Index {
		seen = "the image of one platform, which can only be copied as it is"
	}
	return &problem.Problem{
		Kind:   problem.NotFound,
		Title:  "The image has no such platform",
		Asked:  index.Digest.String() + " for " + want.String(),
		Seen:   seen,
		Remedy: "name some of those, or copy the whole",
	}
}
