package join

import (
	"encoding/json"
	"fmt"
	"math/rand"
	"slices"
	"strings"
	"testing"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

func document(t testing.TB, v any) image.Manifest {
	t.Helper()
	raw, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	m, err := image.Read("", raw)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func blob(text string) ocispec.Descriptor {
	return ocispec.Descriptor{MediaType: ocispec.MediaTypeImageLayer, Digest: digest.FromString(text), Size: int64(len(text))}
}

// single is the image of one platform.
func single(t testing.TB, platform string) image.Manifest {
	config := blob("config " + platform)
	config.MediaType = ocispec.MediaTypeImageConfig
	return document(
		t,
		ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest, Config: config,
			Layers: []ocispec.Descriptor{blob("layer " + platform)}},
	)
}

func platform(t testing.TB, s string) image.Platform {
	t.Helper()
	p, err := image.ParsePlatform(s)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

var morning = time.Date(2026, 3, 3, 9, 0, 0, 0, time.UTC)

func part(t testing.TB, claimed, is string, labels map[string]string, after time.Duration) Part {
	m, made := single(t, is), morning.Add(after)
	return Part{
		Claimed: platform(t, claimed),
		Root:    m,
		Image:   m,
		Config:  image.Config{Platform: platform(t, is), Labels: labels, Created: &made},
	}
}

var own = map[string]string{ocispec.AnnotationRevision: "4f1c9d2e8a", ocispec.AnnotationVersion: "2.14.0"}

var wanted = Wanted{Component: "snowpack-model", Required: []string{"linux/amd64", "linux/arm64"}, Optional: []string{"linux/arm/v7"},
	Facts: Facts{Version: "2.14.0", Revision: "4f1c9d2e8a7b6c5d4e3f", Source: "https://git.skarvind.example/models"}}

// TestTheIndexIsCanonical: the same parts give the same bytes in whatever order; the time is the newest part's.
func TestTheIndexIsCanonical(t *testing.T) {
	parts := []Part{part(t, "linux/amd64", "linux/amd64", own, 0), part(t, "linux/arm64", "linux/arm64", own, time.Hour),
		part(t, "linux/arm/v7", "linux/arm/v7", own, time.Minute)}
	parts[0].Beside = []ocispec.Descriptor{{MediaType: ocispec.MediaTypeImageManifest, Digest: digest.FromString("b"), Size: 1,
		Platform: &ocispec.Platform{OS: "unknown", Architecture: "unknown"}}}
	parts[2].Beside = []ocispec.Descriptor{{MediaType: ocispec.MediaTypeImageManifest, Digest: digest.FromString("a"), Size: 1,
		Platform: &ocispec.Platform{OS: "unknown", Architecture: "unknown"}}}
	first, warnings, err := wanted.Join(parts)
	if err != nil || len(warnings) > 0 {
		t.Fatal(err, warnings)
	}
	for range 20 {
		rand.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		if again, _, err := wanted.Join(parts); err != nil || again.Digest != first.Digest {
			t.Fatalf("%s, then %s (%v)", first.Digest, again.Digest, err)
		}
	}
	var platforms []string
	for _, d := range first.Members {
		platforms = append(platforms, image.PlatformOf(d).String())
	}
	if want := []string{"linux/amd64", "linux/arm/v7", "linux/arm64", "unknown/unknown", "unknown/unknown"}; !slices.Equal(
		platforms,
		want,
	) {
		t.Errorf("in the order %v", platforms)
	}
	if got := first.Annotations; got[ocispec.AnnotationCreated] != "2026-03-03T10:00:00Z" || got[ocispec.AnnotationVersion] != "2.14.0" ||
		got[ocispec.AnnotationRevision] != wanted.Facts.Revision || got[ocispec.AnnotationSource] != wanted.Facts.Source {
		t.Errorf("annotated %v", got)
	}
}

// TestWhatIsNotJoined: each mistake is refused by its rule, and nothing comes of it.
func TestWhatIsNotJoined(t *testing.T) {
	amd, arm := part(t, "linux/amd64", "linux/amd64", own, 0), part(t, "linux/arm64", "linux/arm64", own, 0)
	other := map[string]string{ocispec.AnnotationRevision: "aaaaaaa", ocispec.AnnotationVersion: "2.14.0"}
	warned := wanted
	warned.WarnOnly = true
	for _, tt := range []struct {
		name       string
		want       Wanted
		parts      []Part
		rule, seen string
	}{
		{"all in", wanted, []Part{amd, arm}, "", ""},
		{"one missing", wanted, []Part{amd}, "required platforms of snowpack-model", "linux/arm64"},
		{"none at all", Wanted{}, nil, "required platforms of ", ""},
		{"one twice", wanted, []Part{amd, arm, arm}, "each platform once", arm.Root.Digest.String()},
		{"one twice in another spelling", wanted, []Part{amd, arm, part(t, "linux/arm64/v8", "linux/arm64", own, 0)}, "each platform once", ""},
		{"not what it claims", wanted, []Part{amd, part(t, "linux/arm64", "linux/amd64", own, 0)}, "a part is what it claims", "linux/amd64"},
		{"an older variant than it claims", wanted, []Part{amd, arm, part(t, "linux/arm/v7", "linux/arm/v6", own, 0)}, "a part is what it claims", "v6"},
		{"for a platform that is not wanted", wanted, []Part{amd, arm, part(t, "linux/riscv64", "linux/riscv64", own, 0)},
			"platforms of snowpack-model", "linux/arm/v7"},
		{"from another commit", wanted, []Part{amd, part(t, "linux/arm64", "linux/arm64", other, 0)}, "labels agree with the build", "aaaaaaa"},
		{"from another commit, warned", warned, []Part{amd, part(t, "linux/arm64", "linux/arm64", other, 0)}, "", "linux/arm64: the label says the commit aaaaaaa"},
		{"without labels", wanted, []Part{amd, part(t, "linux/arm64", "linux/arm64", nil, 0)}, "", "linux/arm64: no label says its commit"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			m, warnings, err := tt.want.Join(tt.parts)
			if tt.rule == "" {
				if err != nil || tt.seen != "" && (len(warnings) == 0 || !strings.Contains(strings.Join(warnings, "\n"), tt.seen)) {
					t.Fatalf("%v, warned %q", err, warnings)
				}
				return
			}
			p := problem.From(err)
			if p.Kind != problem.Refused || p.Rule != tt.rule || !strings.Contains(p.Seen, tt.seen) || p.Remedy == "" || m.Digest != "" {
				t.Fatalf("got %v", err)
			}
		})
	}
}

// TestNewPart: an image, or an index of one with its attestations, is a part; nothing else is.
func TestNewPart(t *testing.T) {
	amd, arm := single(t, "linux/amd64"), single(t, "linux/arm64")
	member := func(m image.Manifest, os, arch string, notes map[string]string) ocispec.Descriptor {
		return ocispec.Descriptor{MediaType: m.MediaType, Digest: m.Digest, Size: m.Size(), Annotations: notes,
			Platform: &ocispec.Platform{OS: os, Architecture: arch}}
	}
	index := func(members ...ocispec.Descriptor) image.Manifest {
		return document(
			t,
			ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageIndex, Manifests: members},
		)
	}
	about := func(d digest.Digest) map[string]string {
		return map[string]string{"watch.skarvind.example.reference.digest": d.String()}
	}
	one := index(member(amd, "linux", "amd64", nil))
	artifact := document(t, ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest,
		ArtifactType: "application/spdx+json", Config: ocispec.DescriptorEmptyJSON, Layers: []ocispec.Descriptor{blob("x")}})
	for _, tt := range []struct {
		name   string
		root   image.Manifest
		beside int
		seen   string
	}{
		{"an image", amd, 0, ""},
		{"an index of one", one, 0, ""},
		{"with its attestation", index(member(amd, "linux", "amd64", nil), member(artifact, "unknown", "unknown", about(amd.Digest))), 1, ""},
		{"with another's attestation", index(member(amd, "linux", "amd64", nil), member(artifact, "unknown", "unknown", about(arm.Digest))), 0, "is about"},
		{"an index of two", index(member(amd, "linux", "amd64", nil), member(arm, "linux", "arm64", nil)), 0, "linux/amd64, linux/arm64"},
		{"an index of none", index(member(artifact, "unknown", "unknown", nil)), 0, "no image to run"},
		{"an index in an index", index(ocispec.Descriptor{MediaType: one.MediaType, Digest: one.Digest, Size: one.Size()}), 0, "no image to run"},
		{"a bill of materials", artifact, 0, "no image to run"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			p, err := NewPart(platform(t, "linux/amd64"), tt.root, func(d ocispec.Descriptor) (image.Manifest, error) {
				return map[digest.Digest]image.Manifest{amd.Digest: amd, arm.Digest: arm, one.Digest: one}[d.Digest], nil
			}, func(ocispec.Descriptor) (image.Config, error) {
				return image.Config{Platform: platform(t, "linux/amd64")}, nil
			})
			if tt.seen != "" {
				if !problem.Is(err, problem.Refused) || !strings.Contains(problem.From(err).Seen, tt.seen) {
					t.Fatalf("got %v", err)
				}
				return
			}
			if err != nil || p.Image.Digest != amd.Digest || len(p.Beside) != tt.beside {
				t.Fatalf("%v: %s with %d beside", err, p.Image.Digest, len(p.Beside))
			}
		})
	}
}

// BenchmarkJoin joins 16 parts.
func BenchmarkJoin(b *testing.B) {
	var parts []Part
	var w Wanted
	for i := range 16 {
		name := fmt.Sprintf("linux/a%d", i)
		parts = append(parts, part(b, name, name, own, 0))
		w.Required = append(w.Required, name)
	}
	for b.Loop() {
		if _, _, err := w.Join(parts); err != nil {
			b.Fatal(err)
		}
	}
}
