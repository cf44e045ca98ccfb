package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"dovrak/api/wire"
	"dovrak/client"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// estate is a registry with one repository of so many tags over so many images, made up as it is asked.
type estate struct {
	tags, images       int
	heads, gets, lists atomic.Int64
	by                 map[digest.Digest][]byte
	manifests          []digest.Digest
}

func newEstate(b testing.TB, tags, images int) *estate {
	e := &estate{tags: tags, images: images, by: map[digest.Digest][]byte{}}
	keep := func(v any) ocispec.Descriptor {
		raw, err := json.Marshal(v)
		must(b, err)
		d := digest.FromBytes(raw)
		e.by[d] = raw
		return ocispec.Descriptor{MediaType: ocispec.MediaTypeImageConfig, Digest: d, Size: int64(len(raw))}
	}
	for i := range images {
		config := keep(ocispec.Image{Platform: ocispec.Platform{OS: "linux", Architecture: "arm64"}, Author: fmt.Sprint("build ", i)})
		m := ocispec.Manifest{MediaType: ocispec.MediaTypeImageManifest, Config: config, Layers: []ocispec.Descriptor{}}
		m.SchemaVersion = 2
		e.manifests = append(e.manifests, keep(m).Digest)
	}
	return e
}

func (e *estate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	_, name, _ := strings.Cut(r.URL.Path, "/manifests/")
	if name == "" {
		_, name, _ = strings.Cut(r.URL.Path, "/blobs/")
	}
	switch {
	case r.URL.Path == "/v2/":
	case strings.HasSuffix(r.URL.Path, "/tags/list"):
		e.lists.Add(1)
		e.list(w, r)
	case e.by[digest.Digest(name)] != nil:
		e.gets.Add(1)
		e.give(w, digest.Digest(name))
	default:
		var n int
		if _, err := fmt.Sscanf(name, "build-%d", &n); err != nil {
			http.NotFound(w, r)
			return
		}
		e.heads.Add(1)
		e.give(w, e.manifests[n%e.images])
	}
}

func (e *estate) give(w http.ResponseWriter, d digest.Digest) {
	w.Header().Set("Content-Type", ocispec.MediaTypeImageManifest)
	w.Header().Set("Docker-Content-Digest", d.String())
	_, _ = w.Write(e.by[d]) // a reader that went away is its own problem
}

func (e *estate) list(w http.ResponseWriter, r *http.Request) {
	var last, n int
	_, _ = fmt.Sscanf(r.URL.Query().Get("last"), "build-%d", &last) // none is the first page
	_, _ = fmt.Sscan(r.URL.Query().Get("n"), &n)
	var page struct {
		Tags []string `json:"tags"`
	}
	for i := last + 1; i <= e.tags && len(page.Tags) < n; i++ {
		page.Tags = append(page.Tags, fmt.Sprintf("build-%d", i))
	}
	if last+len(page.Tags) < e.tags {
		w.Header().Set("Link", fmt.Sprintf(`<%s?n=%d&last=build-%d>; rel="next"`, r.URL.Path, n, last+len(page.Tags)))
	}
	_ = json.NewEncoder(w).Encode(page)
}

func (w *world) connect(name string, e *estate) {
	w.t.Helper()
	srv := httptest.NewServer(e)
	w.t.Cleanup(srv.Close)
	w.ok("registry", "add", name, "--address", srv.URL, "--requests-per-second", "10000")
}

func (w *world) look(repository string) {
	w.t.Helper()
	must(w.t, w.client().LookAtTags(w.t.Context(), repository, func(wire.TagsLook) {}))
}

// BenchmarkTags looks at 5,000 tags over 2,000 images: a HEAD a tag, a GET for each manifest and config once; then again
// within a minute, at no request; then later, at a HEAD a tag alone.
func BenchmarkTags(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		w, e := newWorldWithout(b), newEstate(b, 5000, 2000)
		w.connect("old", e)
		b.StartTimer()
		w.look("old/bench/snowpack-model")
		b.StopTimer()
		count := func(what string, heads, gets, lists int64) {
			b.Helper()
			if e.heads.Load() != heads || e.gets.Load() != gets || e.lists.Load() != lists {
				b.Errorf("%s: %d HEADs, %d GETs, %d lists, want %d, %d, %d", what, e.heads.Load(), e.gets.Load(), e.lists.Load(), heads, gets, lists)
			}
			e.heads.Store(0)
			e.gets.Store(0)
			e.lists.Store(0)
		}
		count("first", 5000, 4000, 5)
		w.look("old/bench/snowpack-model")
		page, err := w.client().Tags(b.Context(), "old/bench/snowpack-model", client.TagQuery{Limit: 1000})
		if err != nil || page.Tags != 5000 || page.Images != 2000 || page.Items[0].Tag != "build-5000" {
			b.Errorf("%d tags of %d images: %v", page.Tags, page.Images, err)
		}
		count("within a minute", 0, 0, 0)
		w.sql("UPDATE surveys SET began_at = began_at - interval '2 minutes'")
		w.look("old/bench/snowpack-model")
		count("later", 5000, 0, 5)
		b.StartTimer()
	}
}

// BenchmarkMemoryOfTags compares the peak of the service's own process after looks at 500 and at 50,000 tags.
func BenchmarkMemoryOfTags(b *testing.B) {
	for b.Loop() {
		w := newWorldWithout(b)
		few, many := newEstate(b, 500, 50), newEstate(b, 50_000, 2500)
		w.connect("few", few)
		w.connect("many", many)
		w.look("few/bench/snowpack-model")
		before := w.peak()
		w.look("many/bench/snowpack-model")
		grown := w.peak() - before
		if grown > 16 {
			b.Errorf("the peak grew by %.1f MiB from 500 to 50,000 tags", grown)
		}
		b.ReportMetric(before, "MiB-500")
		b.ReportMetric(grown, "MiB-grown")
	}
}
