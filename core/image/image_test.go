package image

import (
	"strings"
	"testing"

	"dovrak/core/problem"
)

const sha = "sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"

func TestParseReference(t *testing.T) {
	for _, tt := range []struct {
		name, in string
		want     Reference
		remedy   string // part of the refusal's remedy or of what was seen; empty: it is read
	}{
		{"tag", "forge/bench/snowpack-model:build-41", Reference{"forge", "bench/snowpack-model", "build-41", ""}, ""},
		{"digest", "hut/live/map-tiles@" + sha, Reference{"hut", "live/map-tiles", "", sha}, ""},
		{"both", "hut/live/map-tiles:live@" + sha, Reference{"hut", "live/map-tiles", "live", sha}, ""},
		{"neither never means latest", "forge/bench/snowpack-model", Reference{}, "neither a tag nor a digest"},
		{"no registry", "snowpack-model:41", Reference{}, "no registry before the repository"},
		{"upper case is mended", "forge/Bench/snowpack-model:41", Reference{}, "did you mean forge/bench/snowpack-model:41?"},
		{"a host in place of a name", "forge.example:5000/bench/x:1", Reference{}, "dovrak registry list"},
		{"short digest", "hut/live/x@sha256:e3b0", Reference{}, "4 digits in place of 64"},
		{"unknown algorithm", "hut/live/x@md5:d41d8cd98f00b204e9800998ecf8427e", Reference{}, "not a whole digest"},
		{"tag beginning with a dot", "hut/live/x:.a", Reference{}, "is not a tag"},
		{"control characters are shown, not printed", "hut/live/x:a\x1b[31m", Reference{}, `\x1b`},
		{"dots that climb", "hut/../x:1", Reference{}, "characters that a repository may not have"},
		{"tag of 129 letters", "hut/x:" + strings.Repeat("a", 129), Reference{}, "is not a tag"},
		{"empty", "", Reference{}, "no registry"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got, err := ParseReference(tt.in)
			if tt.remedy == "" {
				if err != nil || got != tt.want || got.String() != tt.in {
					t.Fatalf("got %+v (%s), %v", got, got, err)
				}
				return
			}
			if !problem.Is(err, problem.Malformed) || !strings.Contains(err.Error(), tt.remedy) {
				t.Fatalf("got %v, want a mistake with %q", err, tt.remedy)
			}
			if strings.ContainsRune(err.Error(), 0x1b) {
				t.Error("a control character went through")
			}
		})
	}
}

func FuzzParseReference(f *testing.F) {
	for _, s := range []string{"forge/bench/x:1", "hut/x@" + sha, "a/b:c@" + sha, "A/B:c", "::@@//", "a/b:\x00"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		r, err := ParseReference(s)
		if err != nil {
			if !problem.Is(err, problem.Malformed) {
				t.Fatalf("an error that is no mistake of the writer's: %v", err)
			}
			return
		}
		if again, err := ParseReference(r.String()); err != nil || again != r || r.String() != s {
			t.Fatalf("%q reads as %+v, which reads as %+v, %v", s, r, again, err)
		}
	})
}

const (
	config   = `"config":{"mediaType":"application/vnd.oci.image.config.v1+json","digest":"` + sha + `","size":2}`
	manifest = `{"schemaVersion":2,"mediaType":"` + MediaManifest + `",` + config + `,"layers":[{"mediaType":"x","digest":"` + sha + `","size":0}]}`
	index    = `{"schemaVersion":2,"manifests":[{"mediaType":"` + MediaManifest + `","digest":"` + sha + `","size":9,"platform":{"os":"linux","architecture":"arm","variant":"v7"}}]}`
)

func TestReadManifest(t *testing.T) {
	deep := strings.Repeat(`{"a":`, 70) + "1" + strings.Repeat("}", 70)
	for _, tt := range []struct{ name, media, raw, refused string }{
		{"manifest", MediaManifest, manifest, ""},
		{"media type only in the bytes", "application/json", manifest, ""},
		{"index without its own media type", MediaIndex, index, ""},
		{"nothing told at all", "", index, ""},
		{"schema 2", MediaSchema2, `{"schemaVersion":2,` + config + `,"layers":[]}`, ""},
		{"media type with a parameter", MediaManifest + "; charset=utf-8", manifest, ""},
		{"registry and bytes disagree", MediaIndex, manifest, "it calls itself"},
		{"media type contradicts content", MediaManifest, index, "contradicts the content"},
		{"both layers and manifests", "", `{"schemaVersion":2,"manifests":[],` + config + `,"layers":[]}`, "both manifests and layers"},
		{"neither", "", `{"schemaVersion":2}`, "neither manifests"},
		{"a key twice", "", `{"schemaVersion":2,"schemaVersion":2,"manifests":[]}`, "twice"},
		{"a key in another spelling", "", `{"schemaVersion":2,"Manifests":[],"manifests":[]}`, "some would read as manifests"},
		{"schema 1", "", `{"schemaVersion":1,"manifests":[]}`, "schema version 1"},
		{"a short digest within", "", strings.ReplaceAll(index, sha, "sha256:00"), "descriptor 0"},
		{"a negative size", "", strings.ReplaceAll(index, `"size":9`, `"size":-9`), "-9 bytes"},
		{"something behind the end", "", index + "{}", "behind the end"},
		{"nested for ever", "", deep, "64 deep"},
		{"over 4 MiB", "", index + strings.Repeat(" ", MaxManifest), "more than 4 MiB"},
		{"too many members", "", `{"schemaVersion":2,"manifests":[{"digest":"` + sha + `"}` + strings.Repeat(`,{"digest":"`+sha+`"}`,
			MaxDescriptors) + `]}`, "descriptors"},
		{"not JSON", "", "<html>", "not JSON"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			m, err := Read(tt.media, []byte(tt.raw))
			switch {
			case tt.refused == "" && err != nil:
				t.Fatal(err)
			case tt.refused == "" && (string(m.Bytes) != tt.raw || m.Index != strings.Contains(tt.raw, "manifests")):
				t.Fatalf("read as %+v", m)
			case tt.refused != "" && (!problem.Is(err, problem.Altered) || !strings.Contains(err.Error(), tt.refused)):
				t.Fatalf("got %v, want a refusal with %q", err, tt.refused)
			}
		})
	}
}

func TestAnIndexNamesPlatforms(t *testing.T) {
	m, err := Read("", []byte(index))
	if err != nil {
		t.Fatal(err)
	}
	if got := PlatformOf(m.Members[0]).String(); got != "linux/arm/v7" {
		t.Errorf("got %q", got)
	}
}

func FuzzReadManifest(f *testing.F) {
	for _, s := range []string{manifest, index, "{}", `{"schemaVersion":2,"manifests":null}`, "[[[", `{"a":{"a":1}}`} {
		f.Add("", []byte(s))
	}
	f.Fuzz(func(t *testing.T, media string, raw []byte) {
		m, err := Read(media, raw)
		if err != nil {
			if !problem.Is(err, problem.Altered) {
				t.Fatalf("an error of another kind: %v", err)
			}
			return
		}
		if string(m.Bytes) != string(raw) || m.Digest.Validate() != nil || m.Index != (m.Config.Digest == "") {
			t.Fatalf("read as %+v", m)
		}
	})
}
