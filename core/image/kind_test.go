package image

import (
	"testing"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

func TestKinds(t *testing.T) {
	unknown := &ocispec.Platform{OS: "unknown", Architecture: "unknown"}
	layers := func(media string) []ocispec.Descriptor { return []ocispec.Descriptor{{MediaType: media}} }
	run := ocispec.Descriptor{MediaType: configOCI}
	for name, tt := range map[string]struct {
		d    ocispec.Descriptor
		m    Manifest
		want Kind
	}{
		"an image":                     {ocispec.Descriptor{Platform: &ocispec.Platform{OS: "linux", Architecture: "arm64"}}, Manifest{MediaType: MediaManifest, Config: run}, KindImage},
		"an older image":               {ocispec.Descriptor{}, Manifest{MediaType: MediaSchema2, Config: ocispec.Descriptor{MediaType: configSchema2}}, KindImage},
		"an index":                     {ocispec.Descriptor{}, Manifest{MediaType: MediaIndex, Index: true}, KindIndex},
		"a builder's attestation":      {ocispec.Descriptor{Platform: unknown}, Manifest{Config: run, Layers: layers("application/vnd.in-toto+json")}, KindAttestation},
		"an unknown platform":          {ocispec.Descriptor{Platform: unknown}, Manifest{Config: run, Layers: layers("application/octet-stream")}, KindAttestation},
		"a signature by its layer":     {ocispec.Descriptor{ArtifactType: "application/vnd.skarvind.signing"}, Manifest{}, KindSignature},
		"materials by artifact type":   {ocispec.Descriptor{ArtifactType: "application/spdx+json"}, Manifest{}, KindMaterials},
		"materials by config type":     {ocispec.Descriptor{}, Manifest{Config: ocispec.Descriptor{MediaType: "application/vnd.cyclonedx.config"}}, KindMaterials},
		"anything else is an artifact": {ocispec.Descriptor{ArtifactType: "application/vnd.skarvind.forecast"}, Manifest{}, KindArtifact},
	} {
		if got := KindOf(tt.d, tt.m); got != tt.want {
			t.Errorf("%s: %s, want %s", name, got, tt.want)
		}
	}
}

func TestChoosing(t *testing.T) {
	have := []Platform{
		{"linux", "amd64", ""},
		{"linux", "arm", "v6"},
		{"linux", "arm", "v7"},
		{"linux", "arm64", ""},
		{"linux", "amd64", "v3"},
	}
	for client, want := range map[string]int{
		"linux/amd64": 0, "linux/amd64/v2": 0, "linux/amd64/v4": 4, "linux/arm/v7": 2, "linux/arm/v6": 1, "linux/arm/v5": -1, "linux/arm": 2,
		"linux/arm64": 3, "linux/arm64/v8": 3, "windows/amd64": -1, "linux/riscv64": -1,
	} {
		p, err := ParsePlatform(client)
		if err != nil {
			t.Fatal(err)
		}
		if got := Choose(have, p); got != want {
			t.Errorf("%s gets %d, want %d", client, got, want)
		}
	}
	for _, bad := range []string{"", "linux", "linux/", "/amd64", "linux/arm/v7/x", "linux/a\x1b"} {
		if _, err := ParsePlatform(bad); err == nil {
			t.Errorf("%q is read as a platform", bad)
		}
	}
}
