package image

import (
	"strings"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Kind says what a manifest is: an image to run, or something that lies beside images and must never be taken for one.
type Kind string

// The kinds there are.
const (
	KindIndex       Kind = "index"
	KindImage       Kind = "image"
	KindAttestation Kind = "attestation"       // how it was built, signed statements
	KindSignature   Kind = "signature"         //
	KindMaterials   Kind = "bill of materials" // what is in it
	KindArtifact    Kind = "artifact"          // anything else
)

// The config types of images to run.
const (
	configOCI     = ocispec.MediaTypeImageConfig
	configSchema2 = "application/vnd.docker.container.image.v1+json"
)

// KindOf tells what a manifest is, by what its descriptor, its config and its layers say. m may be the zero Manifest where only
// the descriptor is known, as in a list of referrers.
func KindOf(d ocispec.Descriptor, m Manifest) Kind {
	media := d.MediaType
	if m.MediaType != "" {
		media = m.MediaType
	}
	words := []string{d.ArtifactType, m.ArtifactType}
	if !runs(m.Config.MediaType) {
		words = append(words, m.Config.MediaType)
	}
	for _, l := range m.Layers {
		words = append(words, l.MediaType)
	}
	for _, v := range d.Annotations {
		words = append(words, v)
	}
	beside := PlatformOf(d).Unknown() || d.ArtifactType != "" || m.ArtifactType != "" ||
		m.Config.MediaType != "" && !runs(m.Config.MediaType)
	switch {
	case !beside && isIndexType(media):
		return KindIndex
	case !beside:
		return KindImage
	}
	return besideKind(strings.ToLower(strings.Join(words, " ")), PlatformOf(d).Unknown())
}

func runs(configType string) bool { return configType == configOCI || configType == configSchema2 }

func besideKind(words string, unknownPlatform bool) Kind {
	has := func(any ...string) bool {
		for _, w := range any {
			if strings.Contains(words, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("in-toto", "attestation", "provenance", "dsse"):
		return KindAttestation
	case has("spdx", "cyclonedx", "sbom"):
		return KindMaterials
	case has("signing", "signature"):
		return KindSignature
	case unknownPlatform: // nothing else is put into an index under a platform that no machine has
		return KindAttestation
	}
	return KindArtifact
}
