package test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"dovrak/api/wire"
	"dovrak/standin/debian"
	"dovrak/standin/pipeline"

	"github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// heavy is an image of three platforms with four layers each, of random bytes.
func heavy(t testing.TB, layer int) pipeline.Image {
	t.Helper()
	var img pipeline.Image
	document := func(media string, v any) pipeline.Content {
		raw, err := json.Marshal(v)
		must(t, err)
		return pipeline.Content{
			Descriptor: ocispec.Descriptor{MediaType: media, Digest: digest.FromBytes(raw), Size: int64(len(raw))},
			Bytes:      raw,
		}
	}
	index := ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageIndex}
	noise := rand.NewChaCha8([32]byte{})
	for _, arch := range []string{"amd64", "arm64", "arm"} {
		m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest}
		for range 4 {
			raw := make([]byte, layer)
			_, err := noise.Read(raw)
			must(t, err)
			l := pipeline.Content{Descriptor: ocispec.Descriptor{MediaType: ocispec.MediaTypeImageLayer, Digest: digest.FromBytes(raw),
				Size: int64(len(raw))}, Bytes: raw}
			img.Blobs, m.Layers = append(img.Blobs, l), append(m.Layers, l.Descriptor)
		}
		config := document(ocispec.MediaTypeImageConfig, ocispec.Image{Platform: ocispec.Platform{OS: "linux", Architecture: arch}})
		m.Config = config.Descriptor
		img.Blobs = append(img.Blobs, config)
		child := document(ocispec.MediaTypeImageManifest, m)
		img.Manifests = append(img.Manifests, child)
		d := child.Descriptor
		d.Platform = &ocispec.Platform{OS: "linux", Architecture: arch}
		index.Manifests = append(index.Manifests, d)
	}
	img.Index = document(ocispec.MediaTypeImageIndex, index)
	return img
}

// plain starts the registry server from Debian's packages, without TLS and sign-in, and connects it without narrow limits.
func (w *world) plain(name string) *debian.Registry {
	w.t.Helper()
	r, err := debian.StartRegistry(w.t.Context(), debian.RegistryOptions{Dir: w.t.TempDir(), Plain: true})
	must(w.t, err)
	w.t.Cleanup(func() { must(w.t, r.Stop()) })
	w.ok("registry", "add", name, "--address", r.Address, "--requests-per-second", "10000", "--transfers-at-once", "4")
	return r
}

// BenchmarkThroughput copies 3 platforms of 4 layers of 32 MiB between two registry servers, beside a bare pipe of the same bytes
// with as many at once, one that hashes them, too, and beside pulling all to a disk and pushing it then. Each takes its turn in
// each round.
func BenchmarkThroughput(b *testing.B) {
	w := newWorldWithout(b)
	from, to := w.plain("valley"), w.plain("summit")
	program := filepath.Join(b.TempDir(), "pipe")
	out, err := exec.Command("go", "build", "-o", program, "dovrak/test/pipe").CombinedOutput()
	if err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	img := heavy(b, 32<<20)
	source := pipeline.Target{Address: from.Address, Repository: "bench/map-tiles"}
	must(b, source.Push(b.Context(), img, "main"))
	took := map[string][]float64{}
	round := 0
	pipe := func(more ...string) (seconds float64) {
		args := append([]string{"-from", from.Address, "-to", to.Address, "-source", "bench/map-tiles", "-tag", "main"}, more...)
		out, err := exec.Command(program, args...).CombinedOutput()
		var bytes int64
		if _, serr := fmt.Sscanf(string(out), "%d bytes %f s", &bytes, &seconds); err != nil || serr != nil || bytes < 384<<20 {
			b.Fatalf("%v %v\n%s", err, serr, out)
		}
		return seconds
	}
	requests := int64(0)
	for b.Loop() {
		round++
		took["pipe"] = append(took["pipe"], pipe("-target", fmt.Sprintf("pipe/%d", round)))
		took["hash"] = append(took["hash"], pipe("-target", fmt.Sprintf("hash/%d", round), "-hash"))
		at := fmt.Sprintf("summit/copy/%d", round)
		w.declare(at)
		w.sql("DELETE FROM holdings") // what was copied before is not mounted
		c := w.copyDone(wire.NewCopy{From: "valley/bench/map-tiles:main", To: []string{at}})
		took["copy"] = append(took["copy"], c.EndedAt.Sub(*c.Began).Seconds())
		requests = c.Requests
		took["disk"] = append(took["disk"], pipe("-target", fmt.Sprintf("disk/%d", round), "-disk", b.TempDir()))
	}
	middle := func(of string) float64 { slices.Sort(took[of]); return took[of][len(took[of])/2] }
	b.Logf("seconds: %s", strings.ReplaceAll(fmt.Sprint(took), "map", ""))
	b.ReportMetric(384*1.048576/middle("copy"), "MB/s")
	b.ReportMetric(middle("pipe")/middle("copy"), "of-a-pipe")
	b.ReportMetric(middle("hash")/middle("copy"), "of-a-pipe-that-hashes")
	b.ReportMetric(middle("disk")/middle("copy"), "times-by-disk")
	b.ReportMetric(float64(requests), "requests")
}

// BenchmarkMemoryOfLayers copies an image of eight layers of 2 GiB, all at once, and measures by how much the peak of the service's
// own process grows over what it was after a small copy.
func BenchmarkMemoryOfLayers(b *testing.B) {
	w := newWorld(b)
	w.declare("hut/live/small")
	w.copyDone(wire.NewCopy{From: w.push(build(b, 1, "0.0.1", both, 1<<10), "build-1"), To: []string{"hut/live/small"}})
	idle := w.peak()
	from, root := newFlood(b, 8, 2<<30)
	to, _ := newFlood(b, 0, 0)
	limits := []string{"--requests-per-second", "10000", "--transfers-at-once", "8"}
	w.ok(append([]string{"registry", "add", "valley", "--address", from.start(b)}, limits...)...)
	w.ok(append([]string{"registry", "add", "summit", "--address", to.start(b)}, limits...)...)
	w.declare("summit/x")
	b.SetBytes(8 * 2 << 30)
	for b.Loop() {
		clear(to.there)
		w.copyDone(wire.NewCopy{From: "valley/x@" + root, To: []string{"summit/x"}, Verify: true})
		if to.taken < 8*2<<30 {
			b.Fatalf("%d bytes arrived", to.taken)
		}
	}
	grown := w.peak() - idle
	b.ReportMetric(idle, "MiB-idle")
	b.ReportMetric(grown, "MiB-grown")
	if grown > 64 {
		b.Errorf("the peak grew by %.1f MiB", grown)
	}
}
