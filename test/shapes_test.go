package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

const (
	schema2     = "application/vnd.docker.distribution.manifest.v2+json"
	schema2List = "application/vnd.docker.distribution.manifest.list.v2+json"
)

// reshaped writes a document anew with another media type, for shapes that the pipeline does not make.
func reshaped(t *testing.T, media string, raw []byte, change func(map[string]any)) pipeline.Content {
	t.Helper()
	var doc map[string]any
	must(t, json.Unmarshal(raw, &doc))
	doc["mediaType"] = media
	change(doc)
	raw, err := json.Marshal(doc)
	must(t, err)
	return pipeline.Content{
		Descriptor: ocispec.Descriptor{MediaType: media, Digest: digest.FromBytes(raw), Size: int64(len(raw))},
		Bytes:      raw,
	}
}

// TestShapesOfImages: a single image, the older schema 2, and indexes inside an index are shown and copied like any
// other, and every document arrives with the very bytes it had.
func TestShapesOfImages(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	oci := build(t, 41, "2.14.0", both, 1<<10)
	keep := func(map[string]any) {}

	single := oci
	single.Index, single.Manifests = oci.Manifests[0], nil

	old := oci
	old.Manifests = nil
	list := []any{}
	for i, m := range oci.Manifests {
		o := reshaped(t, schema2, m.Bytes, keep)
		o.Platform = m.Platform
		old.Manifests = append(old.Manifests, o)
		list = append(list, map[string]any{"mediaType": schema2, "digest": o.Digest, "size": o.Size,
			"platform": map[string]any{"os": "linux", "architecture": []string{"amd64", "arm64"}[i]}})
	}
	old.Index = reshaped(
		t,
		schema2List,
		oci.Index.Bytes,
		func(doc map[string]any) { doc["manifests"] = list; delete(doc, "annotations") },
	)

	nested := oci
	nested.Manifests = append(append([]pipeline.Content{}, oci.Manifests...), oci.Index)
	nested.Index = reshaped(t, ocispec.MediaTypeImageIndex, oci.Index.Bytes, func(doc map[string]any) {
		doc["manifests"] = []any{map[string]any{"mediaType": oci.Index.MediaType, "digest": oci.Index.Digest, "size": oci.Index.Size}}
	})

	for name, tt := range map[string]struct {
		img       pipeline.Image
		platforms int
		index     bool
	}{"single": {single, 1, false}, "schema-2": {old, 2, true}, "nested": {nested, 2, true}} {
		ref := w.push(tt.img, name)
		shown, err := w.client().Image(t.Context(), "forge/bench/snowpack-model:"+name, client.LookAt{})
		must(t, err)
		if shown.Digest != tt.img.Index.Digest.String() || len(shown.Platforms) != tt.platforms || (shown.Kind == "index") != tt.index ||
			shown.Version != "2.14.0" {
			t.Errorf("%s is shown as %+v", name, shown)
		}
		w.declare("hut/live/" + name)
		w.ok("copy", ref, "hut/live/"+name)
		for _, m := range append(append([]pipeline.Content{}, tt.img.Manifests...), tt.img.Index) {
			req, err := http.NewRequestWithContext(
				t.Context(),
				http.MethodGet,
				w.hut.URL+"/v2/live/"+name+"/manifests/"+m.Digest.String(),
				nil,
			)
			must(t, err)
			req.SetBasicAuth("dovrak", secret)
			resp, err := http.DefaultClient.Do(req)
			must(t, err)
			must(t, resp.Body.Close())
			if resp.StatusCode != http.StatusOK || resp.Header.Get("Content-Type") != m.MediaType || resp.ContentLength != m.Size {
				t.Errorf(
					"%s: %s arrived as %s, %s, %d bytes",
					name,
					m.Digest,
					resp.Status,
					resp.Header.Get("Content-Type"),
					resp.ContentLength,
				)
			}
		}
	}
}

// adopt puts another charter in force.
func (w *world) adopt(text string) {
	w.t.Helper()
	w.ok("charter", "adopt", w.file(text))
}

// file keeps a charter in a file.
func (w *world) file(text string) string {
	w.t.Helper()
	file := filepath.Join(w.t.TempDir(), "charter.yaml")
	must(w.t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

// TestTwoPlaces: an environment with two places gets an image in both before a tag is pointed in either. Where one place
// cannot be filled, no tag moves in the other.
func TestTwoPlaces(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.adopt(strings.Replace(charterText, `{registry: hut, repository: "live/{component}"}`,
		`{registry: forge, repository: "near/{component}"}, {registry: hut, repository: "live/{component}"}`, 1))
	img := build(t, 41, "2.14.0", both, 16<<10)
	w.onBench(img, "build-41")
	w.hut.breaks(func(r *http.Request) sim.Fault {
		if r.Method == http.MethodPut && strings.Contains(r.URL.Path, "/uploads/") {
			return sim.Fault{Status: http.StatusForbidden, Code: "DENIED"}
		}
		return sim.Fault{}
	})
	w.forge.since()
	if r := w.run("promote", "snowpack-model", "--to", "live", "--because", "x"); r.code != 1 || !strings.Contains(r.err,
		"hut/live/snowpack-model") {
		t.Fatalf("%d %s", r.code, r.err)
	}
	for _, put := range w.forge.since("PUT", "near", "/manifests/") {
		if !strings.Contains(put, "sha256:") {
			t.Errorf("a tag moved at one place while the other had no image: %s", put)
		}
	}
	w.hut.breaks(nil)
	out := w.ok("promote", "snowpack-model", "--to", "live", "--because", "x")
	for _, place := range []string{"forge/near/snowpack-model", "hut/live/snowpack-model"} {
		if !strings.Contains(out, "✓  "+place+":live") {
			t.Errorf("%s is not told of:\n%s", place, out)
		}
		if got := w.ok("show", place+":live"); !strings.Contains(got, img.Index.Digest.String()) {
			t.Errorf("%s means something else", place)
		}
	}
	if moved := w.forge.since("GET", "/blobs/"); len(moved) > 7+2 { // read for hut, and the configs once; near is mounted
		t.Errorf("within a registry %d blobs were moved in place of being mounted", len(moved)-9)
	}
	var s wire.Standing
	must(t, json.Unmarshal([]byte(w.ok("standing", "-o", "json")), &s))
	if len(s.Rows[0].Cells) != 3 || len(s.Environments[1].Places) != 2 {
		t.Errorf("standing: %+v", s)
	}
}

// TestHistory: a lane's stretches follow one another without a gap, each told by who began it; a time before is none.
func TestHistory(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	began := time.Now().UTC().Add(-time.Second)
	versions := []string{"2.13.1", "2.13.2", "2.14.0"}
	for i, v := range versions {
		w.onBench(build(t, 39+i, v, both, 1<<10), fmt.Sprintf("build-%d", 39+i))
		w.ok("promote", "snowpack-model", "--to", "live", "--because", "for "+v)
	}
	h, err := w.client().History(t.Context(), "snowpack-model", began)
	must(t, err)
	var names []string
	for _, l := range h.Lanes {
		names = append(names, l.Environment+":"+l.Tag)
		if l.Tag != "live" {
			continue
		}
		for i, s := range l.Stretches {
			last := i == len(l.Stretches)-1
			if s.Version != versions[i] || s.Because != "for "+versions[i] || s.By != "administrator" || s.Promotion == nil ||
				*s.Promotion != int64(i+1) ||
				(s.Until == nil) != last ||
				!last && !s.Until.Equal(l.Stretches[i+1].From) {
				t.Errorf("stretch %d: %+v", i, s)
			}
		}
		middle := l.Stretches[1].From
		m, err := w.client().Meaning(t.Context(), "hut/live/snowpack-model:live", middle.Format(time.RFC3339Nano))
		if err != nil || m.Version != "2.13.2" || m.Until == nil {
			t.Errorf("at the very moment of the second change: %+v, %v", m, err)
		}
		m, err = w.client().Meaning(t.Context(), "hut/live/snowpack-model:live", middle.Add(-time.Microsecond).Format(time.RFC3339Nano))
		if err != nil || m.Version != "2.13.1" {
			t.Errorf("a microsecond before: %+v, %v", m, err)
		}
		late, err := w.client().History(t.Context(), "snowpack-model", l.Stretches[2].From.Add(time.Microsecond))
		must(t, err)
		for _, ll := range late.Lanes {
			if ll.Tag == "live" && (len(ll.Stretches) != 1 || ll.Stretches[0].Version != "2.14.0") {
				t.Errorf("from the last change on: %+v", ll.Stretches)
			}
		}
	}
	if got := strings.Join(names, " "); got != "bench:main live:live live:2.13.1 live:2.13.2 live:2.14.0" {
		t.Errorf("the lanes are %s", got)
	}
}

// TestLimitsOfARegistry hold over all processes together: two services copy from a registry that is to be asked ten
// times a second, and together they do not ask it more often.
func TestLimitsOfARegistry(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	slow := newSide(t, sim.Basic)
	w.in(secret).ok("registry", "add", "slow", "--address", slow.URL, "--account", "dovrak", "--secret-file", "-",
		"--requests-per-second", "10")
	ref := w.push(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	other := *w
	other.listen = strings.Replace(w.listen, "127.0.0.1", "127.0.0.2", 1) // another address, the same port
	other.start()
	t.Cleanup(other.kill)
	w.ok("show", ref)
	slow.since()
	began := time.Now()
	for i := range 4 {
		to := fmt.Sprintf("slow/live/x%d", i)
		w.declare(to)
		w.ok("copy", ref, to, "--detach")
	}
	w.until(wait, "fifty requests were sent", func() bool {
		slow.mu.Lock()
		defer slow.mu.Unlock()
		return len(slow.asked) >= 50
	})
	took := time.Since(began).Seconds()
	if most := 10*took + 4; float64(len(slow.since())) > most { // and what each may send in a burst
		t.Errorf("50 requests in %.1f s, where %.0f are allowed", took, most)
	}
}

// TestNoTurnInTime: where a registry's limit lets nobody ask before the time of a look is over, the limit is named, and no tag changes.
func TestNoTurnInTime(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	img := build(t, 41, "2.14.0", both, 1<<10)
	ref := w.push(img, "build-41")
	w.ok("registry", "edit", "forge", "--requests-per-second", "0.19")
	w.forge.since()
	r := w.run("point", "forge/bench/snowpack-model@"+img.Index.Digest.String(), "main", "--because", "wind drift corrected")
	if r.code != 1 || !strings.Contains(r.err, "leaves no turn in time") || !strings.Contains(r.err, "0.19 requests a second") ||
		!strings.Contains(r.err, "dovrak registry edit forge") {
		t.Errorf("%d\n%s", r.code, r.err)
	}
	if wrote := w.forge.since("PUT"); len(wrote) != 0 {
		t.Errorf("it wrote %v", wrote)
	}
	w.ok("registry", "edit", "forge", "--requests-per-second", "20")
	w.ok("point", "forge/bench/snowpack-model@"+img.Index.Digest.String(), "main", "--because", "wind drift corrected")
	w.ok("show", ref)
}
