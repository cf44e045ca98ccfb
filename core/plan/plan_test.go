package plan

import (
	"fmt"
	"slices"
	"testing"

	"dovrak/core/charter"
	"dovrak/core/image"
	"dovrak/core/tagging"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// tree makes an index of n images with layers each, of which the first is shared by all.
func tree(t testing.TB, n, layers int) Tree {
	t.Helper()
	d := func(s string) string {
		return fmt.Sprintf(`{"mediaType":"m","digest":%q,"size":100}`, digest.FromString(s))
	}
	var out Tree
	members := ""
	for i := range n {
		raw := `{"schemaVersion":2,"config":` + d(fmt.Sprint("config", i)) + `,"layers":[` + d("shared")
		for j := 1; j < layers; j++ {
			raw += "," + d(fmt.Sprint("layer", i, " ", j))
		}
		m, err := image.Read(image.MediaManifest, []byte(raw+"]}"))
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, m)
		if i > 0 {
			members += ","
		}
		members += fmt.Sprintf(
			`{"mediaType":%q,"digest":%q,"size":%d,"platform":{"os":"linux","architecture":"a%d"}}`,
			image.MediaManifest,
			m.Digest,
			m.Size(),
			i,
		)
	}
	root, err := image.Read(image.MediaIndex, []byte(`{"schemaVersion":2,"manifests":[`+members+`]}`))
	if err != nil {
		t.Fatal(err)
	}
	return append(out, root)
}

func TestNewCopy(t *testing.T) {
	tr := tree(t, 2, 3)
	c := NewCopy(Cargo{Image: tr}, Presence{digest.FromString("shared"): true, tr[0].Digest: true})
	if len(c.Blobs) != 2+1+4 {
		t.Errorf("%d blobs: the shared layer is to be planned once", len(c.Blobs))
	}
	if c.Manifests[len(c.Manifests)-1].Digest != tr.Root().Digest || c.Root != tr.Root().Digest {
		t.Error("the root is not the last")
	}
	want := Totals{Move: 6 + 2, MoveBytes: 600 + tr[1].Size() + tr[2].Size(), Present: 2, PresentBytes: 100 + tr[0].Size()}
	if got := c.Totals(); got != want {
		t.Errorf("got %+v, want %+v", got, want)
	}
}

func TestTagsOfAPromotion(t *testing.T) {
	env := charter.Environment{Standing: "live", Fixed: []string{"{version}", "build-{number}"}, Moving: []charter.Moving{
		{Tag: "{major}.{minor}", Moves: tagging.MovesForward}, {Tag: "before", Moves: tagging.MovesRollBack}}}
	for version, want := range map[string][]string{
		"2.14.0": {"2.14.0", "build-41", "2.14", "live"}, "2.4.0+meta": {"2.4.0_meta", "build-41", "2.4", "live"},
		"2.14.0-rc.1": {"2.14.0-rc.1", "build-41", "live"}, "": {"build-41", "live"}, "nightly": {"build-41", "live"},
	} {
		var got []string
		for _, e := range Tags(env.Rules("live"), tagging.Facts{Version: version, Number: 41}, tagging.ByPromotion) {
			got = append(got, e.Tag)
		}
		if !slices.Equal(got, want) {
			t.Errorf("version %q: %v, want %v", version, got, want)
		}
	}
}

// TestPlatformsOfAnIndex: which required ones it lacks, and which image a client of each is given. linux/arm64 and linux/arm64/v8 are one.
func TestPlatformsOfAnIndex(t *testing.T) {
	member := func(text string) ocispec.Descriptor {
		p, err := image.ParsePlatform(text)
		if err != nil {
			t.Fatal(err)
		}
		return ocispec.Descriptor{Digest: digest.FromString(text),
			Platform: &ocispec.Platform{OS: p.OS, Architecture: p.Architecture, Variant: p.Variant}}
	}
	index := image.Manifest{Index: true, Members: []ocispec.Descriptor{member("unknown/unknown"), member("linux/arm/v6"),
		member("linux/arm64/v8"), member("linux/arm/v7"), member("linux/amd64")}}
	single := image.Manifest{Digest: "sha256:aa"}
	for _, tt := range []struct {
		root           image.Manifest
		own, want, got string // the platform required, and the one of whose image its client is given; empty: none
	}{
		{index, "", "linux/amd64", "linux/amd64"}, {index, "", "linux/arm64", "linux/arm64/v8"}, {index, "", "linux/arm64/v8", "linux/arm64/v8"},
		{index, "", "linux/arm/v7", "linux/arm/v7"}, {index, "", "linux/arm", "linux/arm/v7"}, {index, "", "linux/riscv64", ""},
		{single, "linux/arm64/v8", "linux/arm64", "alone"},
	} {
		var own image.Platform
		if tt.own != "" {
			own, _ = image.ParsePlatform(tt.own)
		}
		missing := Missing([]string{tt.want}, tt.root, own)
		if (len(missing) == 0) != (tt.got != "") {
			t.Errorf("%s: missing %v", tt.want, missing)
		}
		given := Clients(tt.root, []string{tt.want})
		switch {
		case tt.got == "" && len(given) == 0:
		case tt.got == "alone" && slices.Equal(given, []Resolved{{tt.want, "sha256:aa"}}):
		case tt.got == "" || !slices.Equal(given, []Resolved{{tt.want, digest.FromString(tt.got)}}):
			t.Errorf("%s: given %v, want that of %q", tt.want, given, tt.got)
		}
	}
}
