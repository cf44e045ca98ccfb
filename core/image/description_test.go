package image

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// tree makes an image's documents for a test, each kept by its digest.
type tree struct {
	t       *testing.T
	configs map[digest.Digest][]byte
	all     []Manifest
}

func (r *tree) config(arch, variant, version string) ocispec.Descriptor {
	raw := fmt.Appendf(
		nil,
		`{"os":"linux","architecture":%q,"variant":%q,"os.version":"12","config":{"User":"desk","Env":["ZONE=west"],"Labels":{"org.opencontainers.image.version":%q}},"history":[{"created_by":"COPY"}]}`,
		arch,
		variant,
		version,
	)
	d := digest.FromBytes(raw)
	r.configs[d] = raw
	return ocispec.Descriptor{MediaType: ocispec.MediaTypeImageConfig, Digest: d, Size: int64(len(raw))}
}

func (r *tree) add(doc any) ocispec.Descriptor {
	r.t.Helper()
	raw, err := json.Marshal(doc)
	if err != nil {
		r.t.Fatal(err)
	}
	m, err := Read("", raw)
	if err != nil {
		r.t.Fatal(err)
	}
	r.all = append(r.all, m)
	return ocispec.Descriptor{MediaType: m.MediaType, Digest: m.Digest, Size: m.Size()}
}

func (r *tree) image(config ocispec.Descriptor, as string, layers ...ocispec.Descriptor) ocispec.Descriptor {
	r.t.Helper()
	m := ocispec.Manifest{MediaType: MediaManifest, Config: config, Layers: append([]ocispec.Descriptor{}, layers...)}
	m.SchemaVersion = 2
	d := r.add(m)
	if as != "" {
		p, err := ParsePlatform(as)
		if err != nil {
			r.t.Fatal(err)
		}
		d.Platform = &ocispec.Platform{OS: p.OS, Architecture: p.Architecture, Variant: p.Variant}
	}
	return d
}

func (r *tree) index(members ...ocispec.Descriptor) ocispec.Descriptor {
	r.t.Helper()
	i := ocispec.Index{MediaType: MediaIndex, Manifests: members}
	i.SchemaVersion = 2
	return r.add(i)
}

func (r *tree) describe() Description {
	r.t.Helper()
	d, err := Describe(r.all, func(d ocispec.Descriptor) (Config, error) { return ReadConfig(r.configs[d.Digest]) })
	if err != nil {
		r.t.Fatal(err)
	}
	return d
}

func TestDescribe(t *testing.T) {
	shared := ocispec.Descriptor{MediaType: "layer", Digest: digest.FromString("base"), Size: 100}
	statement := ocispec.Descriptor{MediaType: "application/vnd.in-toto+json", Digest: digest.FromString("statement"), Size: 7}
	for name, tt := range map[string]struct {
		make      func(*tree)
		kind      Kind
		platforms string
		version   string
		beside    int
		says      string // of a contradiction
	}{
		"one image": {func(r *tree) { r.image(r.config("amd64", "", "1.0.0"), "", shared) }, KindImage, "linux/amd64", "1.0.0", 0, ""},
		"an index": {func(r *tree) {
			r.index(r.image(r.config("amd64", "", "1.0.0"), "linux/amd64", shared), r.image(r.config("arm", "v7", "1.0.0"), "linux/arm/v7", shared))
		}, KindIndex, "linux/amd64 linux/arm/v7", "1.0.0", 0, ""},
		"an index in an index": {func(r *tree) {
			r.index(r.index(r.image(r.config("amd64", "", "1.0.0"), "linux/amd64")), r.image(r.config("arm64", "", "1.0.0"), "linux/arm64"))
		}, KindIndex, "linux/amd64 linux/arm64", "1.0.0", 0, ""},
		"an attestation is no platform": {func(r *tree) {
			r.index(r.image(r.config("amd64", "", "1.0.0"), "linux/amd64"), r.image(r.config("unknown", "", ""), "unknown/unknown", statement))
		}, KindIndex, "linux/amd64", "1.0.0", 1, ""},
		"a variant that only the index names": {func(r *tree) { r.index(r.image(r.config("arm64", "", "1.0.0"), "linux/arm64/v8")) },
			KindIndex, "linux/arm64/v8", "1.0.0", 0, ""},
		"versions that differ": {func(r *tree) {
			r.index(r.image(r.config("amd64", "", "1.0.0"), "linux/amd64"), r.image(r.config("arm64", "", "1.0.1"), "linux/arm64"))
		}, KindIndex, "linux/amd64 linux/arm64", "", 0, ""},
		"a config that contradicts its descriptor": {func(r *tree) { r.index(r.image(r.config("amd64", "", "1.0.0"), "linux/arm64")) },
			KindIndex, "linux/amd64", "1.0.0", 0, "the index calls it linux/arm64, its config says linux/amd64"},
	} {
		t.Run(name, func(t *testing.T) {
			r := &tree{t: t, configs: map[digest.Digest][]byte{}}
			tt.make(r)
			d := r.describe()
			var names []string
			for _, p := range d.Platforms() {
				names = append(names, p.String())
			}
			if d.Kind != tt.kind || strings.Join(names, " ") != tt.platforms || d.Version != tt.version || len(d.Beside) != tt.beside {
				t.Errorf("described as %s %v %q with %d beside", d.Kind, names, d.Version, len(d.Beside))
			}
			if c := d.Contradiction(); !strings.Contains(c, tt.says) || (c == "") != (tt.says == "") {
				t.Errorf("contradiction: %q", c)
			}
			if c := d.Members[0].Config; c.User != "desk" || c.OSVersion != "12" || len(c.Env) != 1 || c.History[0].By != "COPY" {
				t.Errorf("config: %+v", c)
			}
		})
	}
	// A layer that two images share counts once for the index, and for each image.
	r := &tree{t: t, configs: map[digest.Digest][]byte{}}
	r.index(r.image(r.config("amd64", "", "1"), "linux/amd64", shared), r.image(r.config("arm64", "", "1"), "linux/arm64", shared))
	d := r.describe()
	var documents int64
	for _, m := range r.all {
		documents += m.Size()
	}
	for _, c := range r.configs {
		documents += int64(len(c))
	}
	if d.Size != documents+shared.Size || d.Members[0].Size <= shared.Size {
		t.Errorf("%d bytes, want %d", d.Size, documents+shared.Size)
	}
}

func TestNearest(t *testing.T) {
	names := []string{"forge", "ridge", "hut", "hut/live/snowpack-model"}
	for name, want := range map[string]string{
		"fogre": "forge", "ridg": "ridge", "hutt": "hut", "glacier": "", "forge": "", "hut/live/snowpack-modle": "hut/live/snowpack-model", "": "",
	} {
		if got := Nearest(name, names); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}

func TestTextIsMadeVisible(t *testing.T) {
	for in, want := range map[string]string{"plain": "plain", "a\x1b[2Jb": `a\x1b[2Jb`, "two\nlines": "two\nlines", "\u009b31m": `\u009b31m`, "a\rb": `a\rb`} {
		if got := Visible(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}
