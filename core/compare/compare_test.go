package compare

import (
	"reflect"
	"testing"
	"time"

	"dovrak/core/image"
	"dovrak/core/tagging"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

func dig(s string) digest.Digest { return digest.FromString(s) }

func TestAcross(t *testing.T) {
	march := func(day int) time.Time { return time.Date(2026, 3, day, 9, 0, 0, 0, time.UTC) }
	cell := func(s string, day int, platforms ...string) Cell {
		return Cell{Digest: dig(s), Platforms: platforms, Since: march(day)}
	}
	glob, err := tagging.ParseGlob("build-*")
	if err != nil {
		t.Fatal(err)
	}
	places := []Place{
		{
			"forge/bench/x",
			tagging.Rules{Environment: "bench", Standing: "main"},
			map[string]Cell{
				"main":        cell("b", 2),
				"build-9":     cell("a", 1),
				"build-10":    cell("b", 2),
				"2.14.0":      cell("b", 2),
				"2.14.0-rc.1": cell("a", 1),
				"live":        cell("b", 2, "linux/amd64", "linux/arm64"),
			},
		},
		{
			"ridge/live/x",
			tagging.Rules{Environment: "live", Standing: "live"},
			map[string]Cell{"2.14.0": cell("b", 3), "2.14.0-rc.1": cell("a", 2), "live": cell("b", 3, "linux/amd64", "linux/arm64")},
		},
		{
			"hut/live/x",
			tagging.Rules{Environment: "live", Standing: "live"},
			map[string]Cell{"2.14.0": cell("b", 3), "live": cell("a", 4, "linux/amd64")},
		},
	}
	got := Across(places, []Exception{{Number: 7, Pattern: glob}})
	want := []struct {
		tag       string
		verdict   Verdict
		since     time.Time
		exception int64
		platforms []string
	}{
		{"main", Same, time.Time{}, 0, nil}, // it belongs to the bench alone
		{"live", Differs, march(4), 0, []string{"linux/arm64"}},
		{"build-10", OnlyHere, march(2), 7, nil},
		{"build-9", OnlyHere, march(1), 7, nil},
		{"2.14.0", Same, time.Time{}, 0, nil},
		{"2.14.0-rc.1", Lacking, march(2), 0, nil},
	}
	if len(got) != len(want) {
		t.Fatalf("%d rows", len(got))
	}
	for i, w := range want {
		g := got[i]
		if g.Tag != w.tag || g.Verdict != w.verdict || !g.Since.Equal(w.since) || g.Exception != w.exception ||
			len(g.Platforms) != len(w.platforms) {
			t.Errorf("row %d: %+v, want %+v", i, g, w)
		}
	}
	// An exception for one place does not cover a gap in another.
	if r := Across(places, []Exception{{Number: 7, Pattern: glob, Place: "hut/live/x"}}); r[2].Exception != 0 {
		t.Errorf("covered by %d", r[2].Exception)
	}
	// The same digest with other things attached.
	both := []Place{
		{"a", tagging.Rules{}, map[string]Cell{"1": {Digest: dig("x"), Attached: []digest.Digest{dig("s")}}}},
		{"b", tagging.Rules{}, map[string]Cell{"1": {Digest: dig("x"), Attached: []digest.Digest{}}}},
	}
	if r := Across(both, nil); r[0].Verdict != Attached {
		t.Errorf("attachments: %s", r[0].Verdict)
	}
}

func TestCompare(t *testing.T) {
	layer := func(s string, size int64) ocispec.Descriptor { return ocispec.Descriptor{Digest: dig(s), Size: size} }
	member := func(arch, env string, layers ...ocispec.Descriptor) image.Member {
		return image.Member{Digest: dig(arch + env), Platform: image.Platform{OS: "linux", Architecture: arch}, Layers: layers,
			Config: image.Config{Env: []string{"LEVEL=" + env, "ZONE=west"}, Labels: map[string]string{"build": env}}}
	}
	a := Side{Description: image.Description{Digest: dig("a"), Members: []image.Member{
		member("amd64", "2", layer("base", 10), layer("old", 5)), member("386", "2", layer("base", 10))}}}
	b := Side{Description: image.Description{Digest: dig("b"), Members: []image.Member{
		member("amd64", "3", layer("base", 10), layer("new", 7)), member("arm64", "3", layer("base", 10))}},
		Attached: []image.Beside{{Kind: image.KindSignature}}}
	got := Compare(a, b)
	p := got.Platforms
	if got.Same || len(p) != 3 || p[0].SharedBytes() != 10 || p[0].AddedBytes() != 7 || len(p[0].Removed) != 1 || p[1].B != "" ||
		p[2].A != "" {
		t.Fatalf("got %+v", got)
	}
	if want := []Change{{"environment LEVEL", "2", "3"}}; !reflect.DeepEqual(p[0].Config, want) {
		t.Errorf("config: %+v", p[0].Config)
	}
	if want := []Attachment{{Kind: image.KindSignature, B: 1}}; !reflect.DeepEqual(got.Attached, want) {
		t.Errorf("attached: %+v", got.Attached)
	}
	if same := Compare(a, a); !same.Same || len(same.Platforms[0].Config) != 0 || len(same.Platforms[0].Added) != 0 {
		t.Errorf("an image and itself: %+v", same)
	}
}
