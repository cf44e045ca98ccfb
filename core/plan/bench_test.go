package plan

import (
	"fmt"
	"testing"
	"time"

	"dovrak/core/image"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// imageOf makes an image of so many platforms with so many layers each; images of one name share none with others.
func imageOf(name string, platforms, layers int) Cargo {
	of := func(parts ...any) ocispec.Descriptor {
		return ocispec.Descriptor{
			MediaType: ocispec.MediaTypeImageLayerGzip,
			Digest:    digest.FromString(fmt.Sprint(parts...)),
			Size:      1 << 20,
		}
	}
	var t Tree
	index := image.Manifest{Index: true, MediaType: ocispec.MediaTypeImageIndex, Digest: of(name).Digest}
	for p := range platforms {
		config := of(name, p, "config")
		m := image.Manifest{MediaType: ocispec.MediaTypeImageManifest, Digest: of(name, p).Digest, Config: config}
		for l := range layers {
			m.Layers = append(m.Layers, of(name, p, l))
		}
		t = append(t, m)
		index.Members = append(index.Members, ocispec.Descriptor{MediaType: m.MediaType, Digest: m.Digest})
	}
	return Cargo{Image: append(t, index)}
}

// BenchmarkPlan plans one image of 40 platforms with 60 layers each, and many images of one platform with 10 layers.
func BenchmarkPlan(b *testing.B) {
	b.Run("40 platforms of 60 layers", func(b *testing.B) {
		cargo := imageOf("map-tiles", 40, 60)
		for b.Loop() {
			NewCopy(cargo, nil)
		}
	})
	for _, n := range []int{1000, 2000, 4000} {
		b.Run(fmt.Sprint(n, " images of 10 layers"), func(b *testing.B) {
			all := imagesOf(n)
			for b.Loop() {
				planAll(all)
			}
		})
	}
}

func imagesOf(n int) []Cargo {
	all := make([]Cargo, n)
	for i := range all {
		all[i] = imageOf(fmt.Sprint("map-tiles ", i), 1, 10)
	}
	return all
}

// planAll plans each against a place that has every second blob.
func planAll(all []Cargo) (moves int) {
	for _, cargo := range all {
		have := Presence{}
		for i, d := range cargo.Image[0].Blobs() {
			have[d.Digest] = i%2 == 0
		}
		moves += NewCopy(cargo, have).Totals().Move
	}
	return moves
}

// TestPlanningGrowsLinearly: four times as many images or layers cost about four times as much, and a thousand images less than
// a second.
func TestPlanningGrowsLinearly(t *testing.T) {
	best := func(do func()) time.Duration {
		least := time.Hour
		for range 5 {
			began := time.Now()
			do()
			least = min(least, time.Since(began))
		}
		return least
	}
	few, many := imagesOf(250), imagesOf(1000)
	small, large := imageOf("map-tiles", 10, 60), imageOf("map-tiles", 40, 60)
	ten := func(c Cargo) func() {
		return func() {
			for range 10 {
				NewCopy(c, nil).Totals()
			}
		}
	}
	for name, pair := range map[string][2]time.Duration{
		"images": {best(func() { planAll(few) }), best(func() { planAll(many) })},
		"layers": {best(ten(small)), best(ten(large))},
	} {
		if grown := float64(pair[1]) / float64(pair[0]); grown > 10 { // twice and a half what is linear, for a machine that is shared
			t.Errorf("four times the %s took %.1f times as long: %s, %s", name, grown, pair[0], pair[1])
		}
		t.Logf("%s: %s, four times as many %s", name, pair[0], pair[1])
	}
	if got := planAll(many); got != 1000*7 {
		t.Errorf("%d pieces to move in a thousand images", got)
	}
}
