package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"

	"golang.org/x/sync/errgroup"
)

// TestShowing: what lies beside images is shown as what it is, what a client of a platform gets is told, and the raw bytes
// are the very ones.
func TestShowing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	img, err := pipeline.Build{
		Component: "snowpack-model",
		Number:    41,
		Version:   "2.14.0",
		Platforms: []string{"linux/amd64", "linux/arm/v7"},
		Bytes:     1 << 10,
		Attested:  true,
	}.Make()
	must(t, err)
	ref := w.push(img, "build-41", "2.14.0")
	bom, err := pipeline.Attach(img, "application/spdx+json", map[string]string{"about": "snowpack-model"})
	must(t, err)
	must(t, w.bench().Push(t.Context(), bom))
	got, err := w.client().Image(t.Context(), ref, client.LookAt{As: "linux/arm/v7"})
	must(t, err)
	if len(got.Platforms) != 2 || len(got.Beside) != 2 || got.Beside[0].Kind != "attestation" || got.Beside[0].Of != got.Platforms[0].Digest ||
		len(got.Referrers) != 1 || got.Referrers[0].Kind != "bill of materials" ||
		got.Client.Digest != got.Platforms[1].Digest {
		t.Errorf("shown as %+v", got)
	}
	w.forge.since()
	w.ok("show", ref) // known, its referrers seen less than a minute ago
	if asked := w.forge.since(); len(asked) != 1 || !strings.HasPrefix(asked[0], "HEAD") {
		t.Errorf("a known image cost %v", asked)
	}
	w.sql("UPDATE referrers SET seen_at = seen_at - interval '2 minutes'")
	w.ok("show", ref)
	if asked := w.forge.since(); len(asked) != 2 || !strings.Contains(asked[1], "/referrers/") {
		t.Errorf("a known image cost %v", asked)
	}
	for _, tt := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{ref, "--as", "linux/arm/v6"}, 1, "the platforms linux/amd64, linux/arm/v7"},
		{[]string{ref, "--platform", "linux/amd64"}, 0, "layer 3"},
		{[]string{ref, "--platform", "arm"}, 2, "os/architecture"},
		{[]string{ref, "--raw", "config"}, 2, "An index has no config"},
		{[]string{"forge/bench/snowpack-model@" + bom.Manifests[0].Digest.String()}, 0, "bill of materials, not an image to run"},
		{[]string{"snowpack-model:build-41"}, 2, "did you mean forge/bench/snowpack-model:build-41?"},
		{[]string{"fogre/bench/snowpack-model:build-41"}, 1, "did you mean forge/bench/snowpack-model:build-41?"},
		{[]string{"bench/snowpack-model:build-41"}, 1, "did you mean forge/bench/snowpack-model:build-41?"},
	} {
		if r := w.run(append([]string{"show"}, tt.args...)...); r.code != tt.code || !strings.Contains(r.out+r.err, tt.says) {
			t.Errorf("show %v: %d, %s%s", tt.args, r.code, r.out, r.err)
		}
	}
	if raw := w.ok("show", ref, "--raw", "manifest"); raw != string(img.Index.Bytes) {
		t.Errorf("the raw index is not its bytes: %s", raw)
	}
	if raw := w.ok("show", ref, "--platform", "linux/arm/v7", "--raw", "manifest"); raw != string(img.Manifests[1].Bytes) {
		t.Errorf("the raw manifest is not its bytes: %s", raw)
	}
}

// TestFourWaysOfNotBeingThere are told apart, each with its reason and its time.
func TestFourWaysOfNotBeingThere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	img := build(t, 41, "2.14.0", both, 1<<10)
	ref := w.push(img, "build-41", "gone")
	w.ok("show", "forge/bench/snowpack-model:gone")
	w.ok("unpoint", "forge/bench/snowpack-model:gone", "--because", "not needed")
	other := w.push(build(t, 42, "2.15.0", both, 2<<10), "build-42")
	for _, tt := range []struct {
		name  string
		fault func(*http.Request) sim.Fault
		ref   string
		says  []string
	}{
		{"nothing there yet", nil, "forge/bench/snowpack-model:never", []string{"Nothing is there yet", "asked at 20"}},
		{"removed", nil, "forge/bench/snowpack-model:gone", []string{"was there and has been removed", "it meant " + img.Index.Digest.String(), "asked at 20"}},
		{"not permitted", func(*http.Request) sim.Fault { return sim.Fault{Status: 403, Code: "DENIED"} }, ref, []string{"403 Forbidden", "permission", "asked at 20"}},
		{"cannot be read", func(r *http.Request) sim.Fault { return sim.Fault{Flip: r.Method == http.MethodGet} }, other, []string{"cannot be read", "asked at 20"}},
		{"cannot be asked", func(*http.Request) sim.Fault { return sim.Fault{Status: 503} }, ref, []string{"503", "asked at 20"}},
	} {
		w.forge.breaks(tt.fault)
		r := w.run("show", tt.ref)
		for _, s := range tt.says {
			if r.code != 1 || !strings.Contains(r.err, s) {
				t.Errorf("%s: %d, want %q in %s", tt.name, r.code, s, r.err)
			}
		}
	}
}

// TestTags: what is asked of a registry for its tags, exactly, and what of it is shown.
func TestTags(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for n := 8; n <= 11; n++ {
		w.push(build(t, n, fmt.Sprintf("2.%d.0", n), both, n<<10), fmt.Sprintf("build-%d", n), fmt.Sprintf("2.%d.0", n))
	}
	w.run("show", "forge/bench/snowpack-model:none") // signs in
	w.forge.since()
	list := func(args ...string) (out wire.Tags) {
		must(t, json.Unmarshal([]byte(w.ok(append([]string{"tags", "-o", "json", "forge/bench/snowpack-model"}, args...)...)), &out))
		return out
	}
	names := func(l wire.Tags) (out []string) {
		for _, x := range l.Items {
			out = append(out, x.Tag)
		}
		return out
	}
	first := list()
	asked := w.forge.since()
	count := func(words ...string) (n int) {
		for _, a := range asked {
			if !slices.ContainsFunc(words, func(s string) bool { return !strings.Contains(a, s) }) {
				n++
			}
		}
		return n
	}
	// 8 tags over 4 images of 2 platforms each: one list, a HEAD a tag, an index and 2 manifests and 2 configs an image.
	if count("GET", "/tags/list") != 1 || count("HEAD", "/manifests/") != 8 || count("GET", "/manifests/") != 4*3 ||
		count("GET", "/blobs/") != 4*2 {
		t.Errorf("the first look cost %d requests:\n%s", len(asked), strings.Join(asked, "\n"))
	}
	want := []string{"build-11", "build-10", "build-9", "build-8", "2.11.0", "2.10.0", "2.9.0", "2.8.0"}
	if got := names(first); !slices.Equal(got, want) || first.Tags != 8 || first.Images != 4 ||
		!slices.Equal(first.Items[0].With, []string{"2.11.0"}) {
		t.Errorf("listed %v: %+v", got, first)
	}
	if list(); len(w.forge.since()) != 0 {
		t.Error("a second look within a minute asked something")
	}
	if got := names(list("--match", "build-*", "--ascending", "--limit", "2")); !slices.Equal(got, []string{"build-8", "build-9"}) {
		t.Errorf("matching: %v", got)
	}
	if got := names(list("--order", "size", "--limit", "2")); !slices.Equal(got, []string{"build-11", "2.11.0"}) {
		t.Errorf("by size: %v", got)
	}
	w.sql("UPDATE surveys SET began_at = began_at - interval '2 minutes'")
	must(t, w.bench().Point(t.Context(), build(t, 8, "2.8.0", both, 8<<10), "build-11")) // behind Dovrak's back
	w.forge.since()
	list()
	if asked = w.forge.since(); len(asked) != 9 {
		t.Errorf("a later look at known images cost %d requests:\n%s", len(asked), strings.Join(asked, "\n"))
	}
	if r := w.run("tags", "forge/bench/nothing"); r.code != 1 || !strings.Contains(r.err, "no such repository") {
		t.Errorf("an empty repository: %d %s", r.code, r.err)
	}
}

// TestTagsAcross: a tag that one registry lacks and one that differs are found; a gap that is meant is none.
func TestTagsAcross(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	old := build(t, 40, "2.13.0", both, 1<<10)
	w.onBench(old, "2.13.0")
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x")
	w.onBench(build(t, 41, "2.14.0", both, 2<<10), "2.14.0")
	hotfix := build(t, 40, "2.13.0", []string{"linux/amd64"}, 3<<10)
	must(t, w.mountain().Push(t.Context(), hotfix, "2.13.0"))
	r := w.run("tags", "--across", "snowpack-model", "-o", "json")
	var x wire.Across
	if err := json.Unmarshal([]byte(r.out), &x); err != nil || r.code != 5 {
		t.Fatalf("%d %s %s", r.code, r.out, r.err)
	}
	got := map[string]string{}
	for _, row := range x.Rows {
		got[row.Tag] = row.Verdict + " " + strings.Join(row.Platforms, " ")
	}
	for tag, want := range map[string]string{"main": "same ", "live": "same ", "2.14.0": "only here ", "2.13.0": "differs linux/arm64"} {
		if got[tag] != want {
			t.Errorf("%s: %q, want %q", tag, got[tag], want)
		}
	}
	w.ok("tags", "except", "snowpack-model", "2.1?.0", "--because", "the hut is behind, and meant to be")
	if r := w.run("tags", "--across", "snowpack-model"); r.code != 0 || !strings.Contains(r.out, "meant so (exception 1)") {
		t.Errorf("with an exception: %d %s", r.code, r.out)
	}
	w.ok("tags", "unexcept", "1")
	w.hut.Close()
	w.sql("UPDATE surveys SET began_at = began_at - interval '2 minutes'")
	if r := w.run("tags", "--across", "snowpack-model"); r.code != 5 || !strings.Contains(r.out, "could not be looked at") {
		t.Errorf("with a place that is gone: %d %s %s", r.code, r.out, r.err)
	}
}

// TestUnpointing takes one tag and nothing else, in registries of every kind.
func TestUnpointing(t *testing.T) {
	t.Parallel()
	img := build(t, 41, "2.14.0", both, 1<<10)
	for name, tt := range map[string]struct {
		quirks sim.Quirks
		code   int
		says   string
	}{
		"by the specification":        {sim.Quirks{}, 0, "means nothing now"},
		"deletes only digests":        {sim.Quirks{KeepsTags: true}, 3, "2 other tags on " + img.Index.Digest.String() + " would be lost with it: 2.14.0, build-41"},
		"takes the digest with a tag": {sim.Quirks{TagTakesAll: true}, 0, "means nothing now"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorldOf(t, tt.quirks)
			w.push(img, "build-41", "2.14.0", "trial-ready")
			r := w.run("unpoint", "forge/bench/snowpack-model:trial-ready", "--because", "the trial is over")
			if r.code != tt.code || !strings.Contains(r.out+r.err, tt.says) {
				t.Errorf("%d %s%s", r.code, r.out, r.err)
			}
			for tag, there := range map[string]bool{"build-41": true, "2.14.0": true, "trial-ready": tt.code != 0} {
				if r := w.run("show", "forge/bench/snowpack-model:"+tag); (r.code == 0) != there {
					t.Errorf("%s is there: %v, want %v: %s", tag, r.code == 0, there, r.err)
				}
			}
		})
	}
	w := newWorld(t)
	ref := w.onBench(img, "2.14.0")
	for tag, says := range map[string]string{"main": "standing tag main in bench", "2.14.0": "what stands in an environment keeps its tags", "none": "means nothing already"} {
		if r := w.run("unpoint", "forge/bench/snowpack-model:"+tag, "--because", "x"); r.code == 0 || !strings.Contains(r.err, says) {
			t.Errorf("%s: %d %s", tag, r.code, r.err)
		}
	}
	// A fixed tag that was taken away never comes to mean another image.
	w.onBench(build(t, 42, "2.15.0", both, 2<<10), "2.15.0")
	w.ok("unpoint", "forge/bench/snowpack-model:2.14.0", "--because", "withdrawn")
	second := w.push(build(t, 43, "2.14.0", both, 3<<10), "build-43")
	if r := w.run("point", second, "2.14.0", "--because", "again"); r.code != 3 || !strings.Contains(r.err, "before it was taken away") {
		t.Errorf("a fixed tag for another image: %d %s", r.code, r.err)
	}
	w.ok("point", ref, "2.14.0", "--because", "the same again")
	if trail := w.ok("trail", "forge/bench/snowpack-model:2.14.0"); !strings.Contains(trail, "tag removed") ||
		!strings.Contains(trail, "withdrawn") {
		t.Errorf("the trail: %s", trail)
	}
}

// TestWhereAndCompare: an image is found by whatever is known of it, and two are set side by side.
func TestWhereAndCompare(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	old := build(t, 40, "2.13.0", both, 1<<10)
	w.onBench(old, "build-40")
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x")
	w.onBench(build(t, 41, "2.14.0", []string{"linux/amd64"}, 2<<10), "build-41")
	w.ok("tags", "forge/bench/snowpack-model")
	hex := old.Index.Digest.Encoded()
	for what, says := range map[string]string{
		hex[:8]: "hut/live/snowpack-model", "sha256:" + hex: "stands in live", "4f1c9d2": "build-41", "40": "build-40", "2.14.0": "build-41",
		"snowpack-model": "from forge/bench/snowpack-model", "hut/live/snowpack-model": "stands in live", "hut/live/snowpack-model:live": "forge/bench/snowpack-model",
	} {
		if got := w.ok("where", what); !strings.Contains(got, says) {
			t.Errorf("where %s does not say %q:\n%s", what, says, got)
		}
	}
	if r := w.run("where", "snowpack-modle"); r.code != 1 || !strings.Contains(r.err, "did you mean snowpack-model?") {
		t.Errorf("a slip of typing: %d %s", r.code, r.err)
	}
	r := w.run("compare", "hut/live/snowpack-model:live", "forge/bench/snowpack-model:main")
	for _, want := range []string{"not there", "2.13.0", "2.14.0", "org.opencontainers.image.version"} {
		if r.code != 5 || !strings.Contains(r.out, want) {
			t.Errorf("compare (%d) does not say %q:\n%s%s", r.code, want, r.out, r.err)
		}
	}
	if got := w.ok("compare", "hut/live/snowpack-model:live", "hut/live/snowpack-model:2.13.0"); !strings.Contains(
		got,
		"the very same image",
	) {
		t.Errorf("an image and itself: %s", got)
	}
}

// TestManyLookAtOnce: whoever asks for the tags while another does so waits for that one; the registry is asked once.
func TestManyLookAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for n := range 6 {
		w.push(build(t, n, fmt.Sprintf("2.%d.0", n), both, 1<<10), fmt.Sprintf("build-%d", n))
	}
	w.run("show", "forge/bench/snowpack-model:none") // signs in
	w.forge.since()
	var all errgroup.Group
	for range 6 {
		all.Go(func() error {
			return w.client().LookAtTags(t.Context(), "forge/bench/snowpack-model", func(wire.TagsLook) {})
		})
	}
	must(t, all.Wait())
	asked := w.forge.since()
	if heads := len(slices.DeleteFunc(slices.Clone(asked), func(a string) bool { return !strings.HasPrefix(a, "HEAD") })); heads != 6 {
		t.Errorf("%d HEADs for 6 tags and 6 readers", heads)
	}
	// A registry that lists no repositories is taken in by name, and says so.
	quiet := newSide(t, sim.Basic, sim.Quirks{NoCatalog: true})
	to := pipeline.Target{Address: quiet.URL, Repository: "old/alpha", Name: "dovrak", Secret: secret}
	must(t, to.Push(t.Context(), build(t, 1, "1.0.0", both, 1<<10), "1.0.0"))
	w.in(secret).ok("registry", "add", "quiet", "--address", quiet.URL, "--account", "dovrak", "--secret-file", "-")
	if r := w.run("registry", "take-in", "quiet"); r.code != 1 || !strings.Contains(r.err, "does not list its repositories") {
		t.Errorf("without a list: %d %s", r.code, r.err)
	}
	if got := w.ok("registry", "take-in", "quiet", "--repository", "old/alpha"); !strings.Contains(got, "1 repository, 1 tag, 1 image") {
		t.Errorf("by name: %s", got)
	}
	if got := w.ok("registry", "take-ins"); !strings.Contains(got, "verified") || !strings.Contains(got, "failed") {
		t.Errorf("the list: %s", got)
	}
}

// TestLookingRefusals: what cannot be looked at is said in the words of the one who asked, with the same exit codes.
func TestLookingRefusals(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ref := w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	for _, tt := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"tags"}, 2, "tags REGISTRY/REPOSITORY, or tags --across COMPONENT"},
		{[]string{"tags", "forge/bench/snowpack-model", "--across", "snowpack-model"}, 2, "wanted"},
		{[]string{"tags", "forge/bench/snowpack-model:main"}, 2, "a repository was meant"},
		{[]string{"tags", "forge/bench/snowpack-model", "--order", "colour"}, 2, "version, name, age or size"},
		{[]string{"tags", "forge/bench/snowpack-model", "--match", "[a-z]"}, 2, "not a pattern of tags"},
		{[]string{"tags", "--across", "glacier"}, 1, "The charter knows no such component"},
		{[]string{"tags", "except", "snowpack-model", "build-*"}, 2, "A change needs its reason"},
		{[]string{"tags", "except", "snowpack-model", "build-*", "--place", "hut/x", "--because", "y"}, 1, "the places forge/bench/snowpack-model"},
		{[]string{"tags", "unexcept", "7"}, 1, "no such exception"},
		{[]string{"unpoint", ref, "--because", "x"}, 2, "A tag is taken away by its name"},
		{[]string{"unpoint", "forge/bench/snowpack-model:build-41"}, 2, "A change needs its reason"},
		{[]string{"unpoint", "forge/other/x:1", "--because", "x"}, 3, "destinations are declared"},
		{[]string{"point", "forge/bench/snowpack-model:main", "x", "--because", "y"}, 2, "it was last seen to mean " + ref},
		{[]string{"compare", ref, "forge/bench/snowpack-model:never"}, 1, "Nothing is there yet"},
		{[]string{"compare", ref}, 2, "compare IMAGE IMAGE"},
		{[]string{"where", "glacier-view"}, 1, "Dovrak knows nothing under this name"},
		{[]string{"registry", "check", "forge", "--for", "fly"}, 2, "name pull, push or delete"},
		{[]string{"registry", "check", "forge", "--repository", "Bench/x"}, 2, "did you mean forge/bench/x?"},
		{[]string{"registry", "take-in", "forge", "--repository", "a b"}, 2, "not a pattern of repositories"},
		{[]string{"registry", "declare", "forge/x"}, 2, "A declared repository has an owner"},
		{[]string{"registry", "declare", "forge/x", "--owner", "Tormod", "--tags", "loose"}, 2, "Tags are moving or fixed"},
		{[]string{"registry", "undeclare", "forge/bench/snowpack-model"}, 1, "was not declared by hand"},
	} {
		if r := w.run(tt.args...); r.code != tt.code || !strings.Contains(r.err, tt.says) {
			t.Errorf("%v: %d, %s%s", tt.args, r.code, r.out, r.err)
		}
	}
}
