package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"
)

// run is a pipeline run of snowpack-model, with parts of a few bytes.
func run(number int, version string) pipeline.Build {
	return pipeline.Build{
		Component: "snowpack-model",
		Number:    number,
		Version:   version,
		Commit:    fmt.Sprintf("%010x%030d", number*7919, 1),
		Branch:    "main",
		Created:   time.Date(2026, 3, 3, 9, 0, number, 0, time.UTC),
		Platforms: both,
		Bytes:     1 << 10,
	}
}

// report starts a run's build.
func (w *world) report(b pipeline.Build, more ...string) result {
	w.t.Helper()
	return w.run(append([]string{"build", "start", "--component", b.Component, "--number", fmt.Sprint(b.Number), "--commit", b.Commit,
		"--branch", b.Branch, "--version", b.Version}, more...)...)
}

func (w *world) started(b pipeline.Build, more ...string) {
	w.t.Helper()
	if r := w.report(b, more...); r.code != 0 {
		w.t.Fatalf("build %d is not taken: %s", b.Number, r.err)
	}
}

// part has a runner push the image of a platform, and gives the reference.
func (w *world) part(b pipeline.Build, platform string) string {
	w.t.Helper()
	img, err := b.Part(platform)
	must(w.t, err)
	must(w.t, w.bench().Push(context.Background(), img))
	return "forge/bench/snowpack-model@" + img.Index.Digest.String()
}

func name(b pipeline.Build) string { return fmt.Sprintf("%s/%d", b.Component, b.Number) }

func (w *world) parts(b pipeline.Build) {
	w.t.Helper()
	for _, p := range b.Platforms {
		w.ok("build", "part", name(b), "--platform", p, "--image", w.part(b, p))
	}
}

// whole reports a build with all its parts, and waits until it is closed.
func (w *world) whole(b pipeline.Build) wire.Build {
	w.t.Helper()
	w.started(b)
	w.parts(b)
	w.ok("build", "watch", name(b))
	return w.built(b)
}

func (w *world) built(b pipeline.Build) wire.Build {
	w.t.Helper()
	out, err := w.client().Build(w.t.Context(), b.Component, int64(b.Number), "")
	must(w.t, err)
	return out
}

// outcomes are a build's tags, with what came of each.
func outcomes(b wire.Build) string {
	var out []string
	for _, t := range b.Tags {
		out = append(out, t.Tag+" "+t.Outcome)
	}
	return strings.Join(out, ", ")
}

// TestABuildOfManyRunners: parts come in any order, at the same time and more than once; the last closes the build, its
// tags are pointed by rule, and nothing in the image is unknown.
func TestABuildOfManyRunners(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := run(41, "2.14.0")
	b.Attested = true
	changes := filepath.Join(t.TempDir(), "changes.json")
	must(t, os.WriteFile(changes, []byte(`[{"id": "4f1c9d2", "title": "Settle the weak layer"}]`), 0o600))
	w.started(
		b,
		"--changes",
		changes,
		"--link",
		"https://pipeline.skarvind.example/41",
		"--trigger",
		"push",
		"--base",
		"base.example/x:12",
	)
	w.started(b) // a retry makes no second build
	refs := map[string]string{}
	for _, p := range both {
		refs[p] = w.part(b, p)
	}
	w.forge.since()
	var g errgroup.Group
	for range 3 {
		for _, p := range slices.Backward(both) {
			g.Go(func() error {
				_, err := w.client().ReportPart(t.Context(), b.Component, 41, wire.NewPart{Platform: p, Image: refs[p]})
				return err
			})
		}
	}
	must(t, g.Wait())
	if r := w.run("build", "watch", name(b)); r.code != 0 {
		t.Fatalf("%d: %s", r.code, r.err)
	}
	got := w.built(b)
	if len(got.Parts) != 2 || got.Promise.KeptBy != name(b) || len(got.Changes) != 1 ||
		outcomes(got) != "build-41 points, 2.14.0 points, 2.14 points, main points" {
		t.Errorf("closed as %+v", got)
	}
	img, err := w.client().Image(t.Context(), "forge/bench/snowpack-model:main", client.LookAt{})
	must(t, err)
	if img.Digest != got.Digest || len(img.Platforms) != 2 || len(img.Beside) != 2 || len(img.Attestations) != 2 || !img.Attestations[0].Fits ||
		img.Builds[0].Number != 41 || img.Version != "2.14.0" ||
		img.Revision != b.Commit {
		t.Errorf("the image is %+v", img)
	}
	if trail := w.ok("trail", "forge/bench/snowpack-model:main"); strings.Count(trail, "tag pointed") != 1 ||
		!strings.Contains(trail, "build snowpack-model/41") {
		t.Errorf("the trail tells:\n%s", trail)
	}
	again := b
	again.Bytes = 2 << 10
	r := w.run("build", "part", name(b), "--platform", "linux/arm64", "--image", w.part(again, "linux/arm64"))
	if r.code != 3 || !strings.Contains(r.err, refs["linux/arm64"]) || !strings.Contains(r.err, "one image a platform") {
		t.Errorf("another image for a platform: %d\n%s", r.code, r.err)
	}
	w.ok("build", "part", name(b), "--platform", "linux/arm64", "--image", refs["linux/arm64"]) // the same is fine, also late
	if where := w.ok("where", "snowpack-model/41"); !strings.Contains(where, "stands in bench") {
		t.Errorf("where tells:\n%s", where)
	}
}

// TestPartsCostThreeRequests at most, and the same part again none.
func TestPartsCostThreeRequests(t *testing.T) {
	t.Parallel()
	for attested, want := range map[bool]int{false: 2, true: 3} {
		w := newWorld(t)
		b := run(41, "2.14.0")
		b.Attested = attested
		w.started(b)
		ref := w.part(b, "linux/amd64")
		w.ok("show", "forge/bench/snowpack-model@"+w.push(build(t, 1, "0.1.0", both, 1), "build-1")[len("forge/bench/snowpack-model@"):])
		w.forge.since() // signed in by now
		w.ok("build", "part", name(b), "--platform", "linux/amd64", "--image", ref)
		if asked := w.forge.since("/v2/"); len(asked) != want {
			t.Errorf("attested %v: %d requests: %v", attested, len(asked), asked)
		}
		w.ok("build", "part", name(b), "--platform", "linux/amd64", "--image", ref)
		if asked := w.forge.since("/v2/"); len(asked) != 0 {
			t.Errorf("again: %v", asked)
		}
	}
}

// TestRefusedReports: each mistake is refused with its reason and remedy, and neither a registry nor the records change.
func TestRefusedReports(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.whole(run(41, "2.14.0"))
	b := run(42, "2.14.1")
	w.started(b)
	two, err := b.Make()
	must(t, err)
	whole := w.push(two, "other")
	arm := w.part(b, "linux/arm64")
	foreign := b
	foreign.Commit = "aaaaaaaaaa"
	stranger := w.part(foreign, "linux/amd64")
	absent := "forge/bench/snowpack-model@sha256:" + strings.Repeat("ab", 32)
	broken := w.part(
		pipeline.Build{Component: "x", Version: "1", Bytes: 1},
		"linux/amd64",
	) // its config says no commit, and another version
	garbled, err := b.Part("linux/amd64")
	must(t, err)
	garbled = unreadable(t, garbled)
	must(t, w.bench().Push(t.Context(), garbled))
	other := w.in("")
	other.token = strings.TrimSpace(w.ok("token", "issue", "valley", "--for-pipeline", "snowpack-model", "--for", "1h"))
	w.adopt(strings.Replace(charterText, "components:", "components:\n  map-tiles: {platforms: [linux/amd64], route: mountain}", 1))
	part := func(platform, image string) []string {
		return []string{"build", "part", name(b), "--platform", platform, "--image", image}
	}
	start := func(number, commit string, more ...string) []string {
		return append(
			[]string{"build", "start", "--component", "snowpack-model", "--number", number, "--commit", commit, "--branch", "main"},
			more...)
	}
	rows := w.count(
		"SELECT count(*) FROM build_parts",
	) + w.count(
		"SELECT count(*) FROM builds",
	) + w.count(
		"SELECT count(*) FROM build_tags",
	)
	w.forge.since()
	for _, tt := range []struct {
		name string
		args []string
		code int
		says string
	}{
		{"a part that is not there", part("linux/amd64", absent), 1, "The part is not in the registry"},
		{"an index of several", part("linux/amd64", whole), 3, "an index of several images: linux/amd64, linux/arm64"},
		{"another platform than claimed", part("linux/amd64", arm), 3, "its config says linux/arm64"},
		{"a platform that nobody wants", part("linux/riscv64", arm), 3, "its config says linux/arm64"},
		{"from another commit", part("linux/amd64", stranger), 3, "labels agree with the build"},
		{"of another version", part("linux/amd64", broken), 3, "labels agree with the build"},
		{"with a config that cannot be read", part("linux/amd64", "forge/bench/snowpack-model@"+garbled.Index.Digest.String()), 1,
			"This image config cannot be read"},
		{"a part by its tag", part("linux/amd64", "forge/bench/snowpack-model:other"), 2, "A part is reported by its digest"},
		{"a part of no build", []string{"build", "part", "snowpack-model/99", "--platform", "linux/amd64", "--image", arm}, 1, "There is no such build"},
		{"a name that is none", []string{"build", "part", "snowpack-model", "--platform", "linux/amd64", "--image", arm}, 2, "COMPONENT/NUMBER"},
		{"closed too soon", []string{"build", "close", name(b)}, 3, "no part for linux/amd64, linux/arm64"},
		{"a number with another commit", start("41", "bbbbbbbbbb"), 3, "of bbbbbbbbbb on main"},
		{"a version that is not new", start("43", "bbbbbbbbbb", "--version", "2.14.0"), 3, "the next free one is 2.14.2"},
		{"a version that another build will be", start("43", "bbbbbbbbbb", "--version", "2.14.1"), 3, "it is that of snowpack-model/42, open"},
		{"no version", start("43", "bbbbbbbbbb", "--version", "v2"), 2, "not a semantic version"},
		{"no commit", start("43", "main"), 2, "7 to 64 hexadecimal digits"},
		{"a link to nowhere", start("43", "bbbbbbbbbb", "--link", "javascript:alert(1)"), 2, "a link that is none"},
		{"a component that is not there", []string{"build", "start", "--component", "gauge", "--number", "1", "--commit", "bbbbbbb", "--branch", "x"}, 1,
			"The charter knows no such component"},
		{"an image that lacks a platform", start("43", b.Commit, "--image", arm), 3, "no part for linux/amd64"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			r := w.run(tt.args...)
			if r.code != tt.code || !strings.Contains(r.err, tt.says) || !strings.Contains(r.err, "remedy") {
				t.Errorf("ended with %d, want %d and %q:\n%s", r.code, tt.code, tt.says, r.err)
			}
		})
	}
	for _, args := range [][]string{{"build", "start", "--component", "map-tiles", "--number", "1", "--commit", "bbbbbbb", "--branch", "main"},
		{"vouch", arm[:len("forge/bench/")] + "map-tiles@" + arm[strings.IndexByte(arm, '@')+1:], "--claim", "scan", "--verdict", "passed"}} {
		if r := other.run(args...); r.code != 1 || !strings.Contains(r.err, "You do not report for this component") {
			t.Errorf("%v with another's token: %d\n%s", args, r.code, r.err)
		}
	}
	if r := other.run("point", arm, "x", "--because", "y"); r.code != 1 || !strings.Contains(r.err, "permission point") {
		t.Errorf("pointing with a pipeline's token: %s", r.err)
	}
	if now := w.count("SELECT count(*) FROM build_parts") + w.count("SELECT count(*) FROM builds") + w.count("SELECT count(*) FROM build_tags"); now != rows {
		t.Errorf("%d records where there were %d", now, rows)
	}
	if wrote := append(w.forge.since("PUT"), w.forge.since("POST")...); len(wrote) != 0 {
		t.Errorf("the registry was written to: %v", wrote)
	}
}

// unreadable is an image whose config is no JSON.
func unreadable(t *testing.T, img pipeline.Image) pipeline.Image {
	t.Helper()
	var m ocispec.Manifest
	must(t, json.Unmarshal(img.Index.Bytes, &m))
	config := []byte("not a config")
	m.Config.Digest, m.Config.Size = digest.FromBytes(config), int64(len(config))
	raw, err := json.Marshal(m)
	must(t, err)
	root := pipeline.Content{
		Descriptor: ocispec.Descriptor{MediaType: m.MediaType, Digest: digest.FromBytes(raw), Size: int64(len(raw))},
		Bytes:      raw,
	}
	return pipeline.Image{Index: root, Manifests: []pipeline.Content{root},
		Blobs: append(img.Blobs, pipeline.Content{Descriptor: m.Config, Bytes: config})}
}

// TestCachesAreNotReleased: what only a pipeline's cache means cannot come to stand on the bench.
func TestCachesAreNotReleased(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.whole(run(41, "2.14.0")) // the branch is known by it
	ref := w.push(build(t, 7, "", both, 1<<10), "raw-7")
	w.ok("point", ref, "cache-main", "--because", "layers for the next run")
	if r := w.run("point", ref, "main", "--because", "x"); r.code != 3 || !strings.Contains(r.err, "only a pipeline's cache means") {
		t.Errorf("%d: %s", r.code, r.err)
	}
	w.ok("point", w.push(build(t, 8, "", both, 1<<10), "raw-8"), "cache-main", "--because", "of the run after") // it moves freely
}

// TestTemplatesThatCollide: no two builds get one fixed tag, and no two branches one moving tag.
func TestTemplatesThatCollide(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.adopt(strings.Replace(charterText, `"build-{number}", "{version}"`, `"build-{number}", "{version}", "c-{commit:10}"`, 1))
	b := run(41, "2.14.0")
	w.started(b)
	again := run(42, "2.14.1")
	again.Commit = b.Commit
	if r := w.report(again); r.code != 3 || !strings.Contains(r.err, "fixed tag c-{commit:10} in bench") ||
		!strings.Contains(r.err, "needs {number} besides") {
		t.Errorf("the same commit again: %d\n%s", r.code, r.err)
	}
	for i, tt := range []struct {
		branch string
		code   int
	}{{"release/2", 0}, {"release-2", 3}, {"release/2", 0}, {"release/3", 0}} {
		c := run(50+i, fmt.Sprintf("3.%d.0", i))
		c.Branch = tt.branch
		if r := w.report(c); r.code != tt.code || r.code == 3 && !strings.Contains(r.err, "Two branches would have one tag") {
			t.Errorf("%s: %d\n%s", tt.branch, r.code, r.err)
		}
	}
}

// TestAnOldBuildTakesNothingBack: what ends late gets its fixed tags; a moving tag stays with the newer, and the trail tells.
func TestAnOldBuildTakesNothingBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	old, rc, release := run(40, "2.13.9"), run(41, "2.14.0-rc.1"), run(42, "2.14.0")
	w.started(old)
	if got := outcomes(w.whole(release)); got != "build-42 points, 2.14.0 points, 2.14 points, main points" {
		t.Errorf("the release: %s", got)
	}
	if got := outcomes(w.whole(rc)); got != "build-41 points, 2.14.0-rc.1 points, main stays" {
		t.Errorf("its candidate: %s", got)
	}
	w.parts(old)
	w.ok("build", "watch", name(old))
	if got := outcomes(w.built(old)); got != "build-40 points, 2.13.9 points, 2.13 points, main stays" {
		t.Errorf("the old one: %s", got)
	}
	trail := w.ok("trail", "forge/bench/snowpack-model:main")
	if strings.Count(trail, "tag pointed") != 1 || strings.Count(trail, "tag stays") != 2 ||
		!strings.Contains(trail, "build 42 already, which is newer than build 40") {
		t.Errorf("the trail tells:\n%s", trail)
	}
	pipe := w.in("")
	pipe.token = strings.TrimSpace(w.ok("token", "issue", "old pipeline", "--kind", "pipeline", "--may", "read,point", "--for", "1h"))
	ref := "forge/bench/snowpack-model@" + w.built(old).Digest
	if r := pipe.run("point", ref, "main", "--because", "run again"); r.code != 3 || !strings.Contains(r.err, "newer than build 40") {
		t.Errorf("a pipeline's hand: %d\n%s", r.code, r.err)
	}
	w.ok("point", ref, "main", "2.13.9", "--because", "the new one drifts") // a person may
	if fixed := w.ok("trail", "forge/bench/snowpack-model:main"); !strings.Contains(fixed, "the new one drifts") {
		t.Errorf("the trail tells:\n%s", fixed)
	}
}

// TestPromises: a version that was promised stays open over tries that fail, and until a digest keeps it.
func TestPromises(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := run(41, "2.14.0")
	w.started(b)
	w.ok("build", "part", name(b), "--platform", "linux/amd64", "--image", w.part(b, "linux/amd64"))
	w.sql("UPDATE builds SET due_at = now() - interval '1 second'")
	w.sql("UPDATE river_job SET scheduled_at = now(), state = 'available' WHERE kind = 'build-due'")
	if r := w.run("build", "watch", name(b)); r.code != 4 || !strings.Contains(r.out, "linux/arm64") ||
		!strings.Contains(r.out, "incomplete") {
		t.Fatalf("ended with %d\n%s%s", r.code, r.out, r.err)
	}
	if list := w.ok("build", "list", "--promised"); !strings.Contains(list, "open, 1 try failed") {
		t.Errorf("promised:\n%s", list)
	}
	next := run(42, "2.14.0") // the version is not kept by anyone: another build takes it over
	w.started(next)
	if got := w.built(b); got.State != "given up" || !got.Ended {
		t.Errorf("the first is %s", got.State)
	}
	refs := map[string]string{}
	for _, p := range both {
		refs[p] = w.part(next, p)
	}
	w.forge.breaks(func(r *http.Request) (f sim.Fault) {
		if r.Method == http.MethodPut {
			f.Status = http.StatusForbidden
		}
		return f
	})
	for _, p := range both {
		w.ok("build", "part", name(next), "--platform", p, "--image", refs[p])
	}
	if r := w.run("build", "watch", name(next)); r.code != 1 || !strings.Contains(r.err, "403") {
		t.Fatalf("ended with %d\n%s%s", r.code, r.out, r.err)
	}
	w.forge.breaks(nil)
	if got := w.built(next); got.Promise.KeptBy != "" || got.Promise.Tries != 2 || got.State != "failed" {
		t.Errorf("after the failure: %s, %+v", got.State, got.Promise)
	}
	w.ok("build", "close", name(next))
	w.ok("build", "watch", name(next))
	if got := w.built(next); got.Promise.KeptBy != name(next) || got.Promise.Tries != 2 || got.Problem != nil {
		t.Errorf("kept: %+v, %+v", got.Promise, got.Problem)
	}
	if list := w.ok("build", "list", "--promised"); !strings.Contains(list, "No build was reported yet") {
		t.Errorf("promised:\n%s", list)
	}
}

// TestPartsFromElsewhere are copied in first, with what is attached to them; so is a join by hand.
func TestPartsFromElsewhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := run(41, "2.14.0")
	far := &pipeline.Target{Address: w.hut.URL, Repository: "scratch/arm", Name: "dovrak", Secret: secret}
	img, err := b.Part("linux/arm64")
	must(t, err)
	bom, err := pipeline.Attach(img, "application/spdx+json", map[string]string{"about": "arm64"})
	must(t, err)
	must(t, far.Push(t.Context(), img))
	must(t, far.Push(t.Context(), bom))
	w.started(b)
	w.ok("build", "part", name(b), "--platform", "linux/amd64", "--image", w.part(b, "linux/amd64"))
	w.ok("build", "part", name(b), "--platform", "linux/arm64", "--image", "hut/scratch/arm@"+img.Index.Digest.String())
	w.ok("build", "watch", name(b))
	member, err := w.client().Image(t.Context(), "forge/bench/snowpack-model@"+img.Index.Digest.String(), client.LookAt{})
	must(t, err)
	if len(member.Referrers) != 1 || member.Referrers[0].Kind != "bill of materials" {
		t.Errorf("attached: %+v", member.Referrers)
	}

	w.declare("hut/live/gauge")
	joined := w.ok(
		"join",
		"hut/live/gauge:1.0.0",
		"hut/scratch/arm@"+img.Index.Digest.String(),
		w.part(b, "linux/amd64"),
		"--because",
		"by hand",
	)
	if !strings.Contains(joined, "2 parts, joined") {
		t.Errorf("joined:\n%s", joined)
	}
	if got := w.ok("show", "hut/live/gauge:1.0.0"); !strings.Contains(got, w.built(b).Digest) { // of equal parts, the very same image
		t.Errorf("the join by hand:\n%s", got)
	}
	pointer := w.in("")
	pointer.token = strings.TrimSpace(w.ok("token", "issue", "pointer", "--may", "read,point", "--for", "1h"))
	if r := pointer.run("join", "hut/live/gauge:1.0.1", w.part(b, "linux/amd64"), "--because", "x"); r.code != 1 ||
		!strings.Contains(r.err, "permission copy") {
		t.Errorf("a part from elsewhere, by one who may not copy: %d\n%s", r.code, r.err)
	}
	for _, tt := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"join", "hut/live/gauge:1.0.0", w.part(b, "linux/amd64"), w.part(b, "linux/amd64"), "--because", "x"}, 3, "each platform once"},
		{[]string{"join", "forge/bench/snowpack-model:3.0.0", w.part(b, "linux/amd64"), "--because", "x"}, 3, "no part for linux/arm64"},
		{[]string{"join", "forge/bench/snowpack-model:build-41", w.part(run(7, "0.0.7"), "linux/amd64"), w.part(run(7, "0.0.7"), "linux/arm64"),
			"--because", "x"}, 3, "fixed tag build-{number} in bench"},
		{[]string{"join", "hut/live/nowhere:1", w.part(b, "linux/amd64"), "--because", "x"}, 3, "destinations are declared"},
	} {
		if r := w.run(tt.args...); r.code != tt.code || !strings.Contains(r.err, tt.says) {
			t.Errorf("%v: %d, want %q\n%s", tt.args, r.code, tt.says, r.err)
		}
	}
}

// TestAnIndexThatIsPushedWhole takes one call, and its bytes stay what they were.
func TestAnIndexThatIsPushedWhole(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := run(41, "2.14.0")
	img, err := b.Make()
	must(t, err)
	ref := w.push(img, "build-41") // by its pipeline's own hand
	w.started(b, "--image", ref)
	w.ok("build", "watch", name(b))
	if got := w.built(b); got.Digest != img.Index.Digest.String() || len(got.Parts) != 2 ||
		outcomes(got) != "build-41 points, 2.14.0 points, 2.14 points, main points" {
		t.Errorf("closed as %+v", got)
	}
}
