package test

import (
	"fmt"
	"os"
	"regexp"
	"strconv"
	"testing"

	"dovrak/api/wire"
	"dovrak/standin/pipeline"
)

var highWater = regexp.MustCompile(`VmHWM:\s+(\d+) kB`)

// peak is the most memory that the service's process ever held, in MiB.
func (w *world) peak() float64 {
	w.t.Helper()
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", w.cmd.Process.Pid))
	must(w.t, err)
	m := highWater.FindSubmatch(raw)
	if m == nil {
		w.t.Fatal("no VmHWM on this system")
	}
	kib, err := strconv.ParseFloat(string(m[1]), 64)
	must(w.t, err)
	return kib / 1024
}

// BenchmarkCopyLargeLayer copies an image of one platform with a layer of 256 MiB and one of 128 MiB, and measures by how
// much the peak of the service's own process grows over what it was after a small copy.
func BenchmarkCopyLargeLayer(b *testing.B) {
	w := newWorld(b)
	w.declare("hut/live/small")
	w.copyDone(wire.NewCopy{From: w.push(build(b, 1, "0.0.1", both, 1<<10), "build-1"), To: []string{"hut/live/small"}})
	w.declare("hut/live/large")
	idle := w.peak()
	n := 0
	for b.Loop() {
		b.StopTimer()
		n++
		ref, size := w.pushLarge(n)
		b.SetBytes(size)
		b.StartTimer()
		w.copyDone(wire.NewCopy{From: ref, To: []string{"hut/live/large"}})
	}
	b.ReportMetric(idle, "MiB-idle")
	b.ReportMetric(w.peak()-idle, "MiB-grown")
}

// pushLarge pushes an image that shares nothing with those before it, and gives its size in bytes.
func (w *world) pushLarge(n int) (string, int64) {
	w.t.Helper()
	img, err := pipeline.Build{
		Component: "snowpack-model",
		Version:   fmt.Sprintf("2.14.%d", n),
		Base:      fmt.Sprint(n),
		Platforms: both[:1],
		Bytes:     128 << 20,
	}.Make()
	must(w.t, err)
	var size int64
	for _, c := range img.Blobs {
		size += c.Size
	}
	return w.push(img, fmt.Sprintf("build-large-%d", n)), size
}

// BenchmarkRepeatedCopy copies an image that was verified whole at the destination: one HEAD there, nothing at the source.
func BenchmarkRepeatedCopy(b *testing.B) {
	w := newWorld(b)
	n := wire.NewCopy{From: w.push(build(b, 41, "2.14.0", both, 64<<10), "build-41"), To: []string{"hut/live/snowpack-model"}}
	w.copyDone(n)
	w.hut.since()
	w.forge.since()
	copies := 0
	for b.Loop() {
		copies++
		w.copyDone(n)
	}
	there, here := len(w.hut.since()), len(w.forge.since())
	if there != copies || here != 0 {
		b.Errorf("%d copies asked the destination %d times and the source %d times", copies, there, here)
	}
	b.ReportMetric(float64(there)/float64(copies), "requests-destination")
	b.ReportMetric(float64(here)/float64(copies), "requests-source")
}

// BenchmarkFirstCopy copies an image of two platforms, of which nothing is there, each time, and counts its requests.
func BenchmarkFirstCopy(b *testing.B) {
	w := newWorld(b)
	requests, copies := 0, 0
	for b.Loop() {
		b.StopTimer()
		copies++
		img, err := pipeline.Build{
			Component: "snowpack-model",
			Version:   fmt.Sprintf("2.14.%d", copies),
			Base:      fmt.Sprint(copies),
			Platforms: both,
			Bytes:     512 << 10,
		}.Make()
		must(b, err)
		ref := w.push(img, fmt.Sprintf("build-%d", copies))
		w.hut.since()
		w.forge.since()
		b.StartTimer()
		w.copyDone(wire.NewCopy{From: ref, To: []string{"hut/live/snowpack-model"}})
		requests += len(w.hut.since()) + len(w.forge.since())
	}
	b.ReportMetric(float64(requests)/float64(copies), "requests")
}
