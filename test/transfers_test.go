package test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/core/problem"
	sim "dovrak/standin/registry"
)

// copyEnded asks for a copy and waits until it has ended, however.
func (w *world) copyEnded(n wire.NewCopy) wire.Copy {
	w.t.Helper()
	no, err := w.client().Copy(w.t.Context(), n)
	must(w.t, err)
	return w.copyOver(no)
}

func (w *world) copyOver(no int64) (c wire.Copy) {
	w.t.Helper()
	c, err := client.Follow(w.t.Context(), w.client(), "copy", no, w.client().CopyNumbered,
		func(c wire.Copy) wire.Work { return c.Work }, func(wire.Copy) {})
	must(w.t, err)
	return c
}

// TestACopyToSeveral reads each layer once, points its tag when all is whole everywhere, and ends well in the places that can be
// reached while it tells of the one that cannot.
func TestACopyToSeveral(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	other := newSide(t, sim.Basic)
	w.in(secret).ok("registry", "add", "ridge", "--address", other.URL, "--account", "dovrak", "--secret-file", "-")
	w.declare("hut/spare/model", "ridge/spare/model")
	img := build(t, 41, "2.14.0", both, 256<<10)
	ref := w.push(img, "build-41")
	w.forge.since()
	n := wire.NewCopy{From: ref, To: []string{"hut/spare/model:try", "ridge/spare/model"}}
	if _, err := w.client().Copy(t.Context(), n); err == nil || !strings.Contains(err.Error(), "reason") {
		t.Errorf("a tag is pointed without a reason: %v", err)
	}
	n.Because = "Ylva tries it"
	if c := w.copyEnded(n); c.State != "verified" || len(c.Places) != 2 || len(c.Progress) != 2 || c.Requests == 0 {
		t.Fatalf("%+v", c)
	}
	read := strings.Join(w.forge.since("GET", "/blobs/"), "\n")
	for _, l := range img.Blobs {
		if n := strings.Count(read, l.Digest.String()); n != 1 {
			t.Errorf("%s of %d bytes was read %d times", l.Digest, l.Size, n)
		}
	}
	if got := w.ok("show", "hut/spare/model:try"); !strings.Contains(got, img.Index.Digest.String()) {
		t.Errorf("the tag means\n%s", got)
	}
	if trail := w.ok("trail", "hut/spare/model:try"); !strings.Contains(trail, "Ylva tries it") {
		t.Errorf("the trail says\n%s", trail)
	}
	second := w.push(build(t, 42, "2.14.1", both, 256<<10), "build-42")
	w.hut.breaks(func(r *http.Request) sim.Fault {
		return sim.Fault{Status: map[bool]int{true: http.StatusInsufficientStorage}[r.Method == http.MethodPut]}
	})
	n.From = second
	c := w.copyEnded(n)
	if c.Problem == nil || !strings.Contains(c.Problem.Title, "no room left") || c.Progress[0].Problem == "" || c.Progress[1].Problem != "" {
		t.Fatalf("%+v", c)
	}
	w.hut.breaks(nil)
	if n := w.hut.sessions(t); n != 0 {
		t.Errorf("%d uploads are left open at a full disk", n)
	}
	w.ok("show", "ridge/spare/model@"+second[strings.IndexByte(second, '@')+1:])
	if got := w.ok("show", "hut/spare/model:try"); !strings.Contains(got, img.Index.Digest.String()) {
		t.Errorf("the tag moved before all was whole:\n%s", got)
	}
	other.since()
	if out := w.ok("copies", "resume", "2"); !strings.Contains(out, "verified") {
		t.Errorf("resumed:\n%s", out)
	}
	if again := other.since("POST"); len(again) != 0 {
		t.Errorf("the place that was whole was supplied again: %v", again)
	}
}

// TestRequestsOfACopy: the root is looked at before and behind; a manifest costs a GET, a list of what refers to it and a PUT; a blob a
// HEAD, GET, POST and PUT. What is whole there costs one request.
func TestRequestsOfACopy(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	const manifests, blobs = 3, 7
	n := wire.NewCopy{From: w.push(build(t, 41, "2.14.0", both, 1<<10), "build-41"), To: []string{"hut/live/snowpack-model"}}
	w.forge.since()
	w.hut.since()
	c := w.copyEnded(n)
	there, here := w.hut.since(), w.forge.since()
	// The first request to a registry may be one more, to be told to sign in.
	if extra := len(there) - (2 + manifests + 3*blobs); extra < 0 || extra > 1 || len(here)-(2*manifests+blobs) > 1 {
		t.Errorf("%d requests there, %d here:\n%s\n%s", len(there), len(here), strings.Join(there, "\n"), strings.Join(here, "\n"))
	}
	if signIns := c.Requests - int64(len(there)+len(here)); signIns < -manifests || signIns > 4 {
		t.Errorf("it says that there were %d", c.Requests)
	}
	if again := w.copyEnded(n); len(w.hut.since()) != 1 || len(w.forge.since()) != 0 || again.Requests != 1 {
		t.Errorf("again, it took %d requests", again.Requests)
	}
}

// TestTheSameBlobIsSentOnce: of two copies to one repository that need the same layers at the same time, one sends them and the
// other waits for that.
func TestTheSameBlobIsSentOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first, second := build(t, 41, "2.14.0", both, 64<<10), build(t, 42, "2.14.1", both, 64<<10)
	shared := first.Blobs[0] // of the base
	refs := []string{w.push(first, "build-41"), w.push(second, "build-42")}
	hold := make(chan struct{})
	release := sync.OnceFunc(func() { close(hold) })
	t.Cleanup(release)
	var mu sync.Mutex
	sent := 0
	w.hut.breaks(func(r *http.Request) sim.Fault {
		if r.Method != http.MethodPut || r.URL.Query().Get("digest") != shared.Digest.String() {
			return sim.Fault{}
		}
		mu.Lock()
		defer mu.Unlock()
		sent++
		return sim.Fault{Hold: hold}
	})
	var numbers []int64
	for _, ref := range refs {
		no, err := w.client().Copy(t.Context(), wire.NewCopy{From: ref, To: []string{"hut/live/snowpack-model"}})
		must(t, err)
		numbers = append(numbers, no)
	}
	w.until(wait, "both copies have come to the shared layer", func() bool {
		return w.count("SELECT count(*) FROM works WHERE kind = 'copy' AND state = 'moving' AND progress::text LIKE '%mm%'") == 2
	})
	release()
	waited := false
	for _, no := range numbers {
		c := w.copyOver(no)
		if c.State != "verified" {
			t.Fatalf("copy %d: %+v", no, c.Problem)
		}
		for _, p := range c.Places[0].Pieces {
			waited = waited || p.What == "sent" && p.Digest == shared.Digest.String()
		}
	}
	if sent != 1 || !waited {
		t.Errorf("the shared layer was sent %d times; one waited for the other: %t", sent, waited)
	}
}

// TestAKilledCopyGoesOn where it was in the middle of a layer, by the hash's state and the upload that were kept.
func TestAKilledCopyGoesOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("registry", "edit", "hut", "--bytes-per-second", "3MiB")
	ref := w.push(build(t, 41, "2.14.0", both[:1], 8<<20), "build-41")
	w.ok("copy", ref, "hut/live/snowpack-model", "--detach")
	w.until(wait, "a mark is kept", func() bool { return w.count("SELECT count(*) FROM uploads WHERE jsonb_array_length(marks) > 0") > 0 })
	w.kill() // by SIGKILL
	var cut int
	must(t, filepath.WalkDir(filepath.Join(w.hut.dir, "uploads"), func(_ string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			info, ierr := e.Info()
			must(t, ierr)
			cut += int(info.Size())
		}
		return err
	}))
	w.hut.since()
	w.start()
	w.ok("registry", "edit", "hut", "--bytes-per-second", "0")
	w.until(40*time.Second, "the copy has ended", func() bool {
		c, err := w.client().CopyNumbered(t.Context(), 1)
		return err == nil && c.Ended
	})
	if c := w.copyOver(1); c.State != "verified" {
		t.Fatalf("%+v", c.Problem)
	}
	if resumed := w.hut.since("PATCH"); cut < 4<<20 || len(resumed) == 0 {
		t.Errorf("%d bytes had arrived, and no upload was gone on with", cut)
	}
	if n := w.count("SELECT count(*) FROM uploads"); n != 0 || w.hut.sessions(t) != 0 {
		t.Errorf("%d uploads are kept, %d open", n, w.hut.sessions(t))
	}
}

// TestAForgottenUpload, which nobody has gone on with for a day, is cancelled at its registry, and nothing is kept of it.
func TestAForgottenUpload(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("registry", "edit", "hut", "--bytes-per-second", "1MiB")
	ref := w.push(build(t, 41, "2.14.0", both[:1], 8<<20), "build-41")
	w.ok("copy", ref, "hut/live/snowpack-model", "--detach")
	w.until(wait, "every open upload is kept", func() bool {
		kept := w.count("SELECT count(*) FROM uploads WHERE location <> ''")
		return kept > 0 && kept == w.hut.sessions(t) && kept == w.count("SELECT count(*) FROM uploads")
	})
	w.kill()
	if w.hut.sessions(t) == 0 {
		t.Fatal("no upload is open")
	}
	w.sql("UPDATE works SET ended = true, ended_at = now(), state = 'stopped', owner = NULL")
	w.start()
	prune := func() { w.sql("INSERT INTO river_job (kind, args, max_attempts) VALUES ('prune', '{}', 1)") }
	pruned := func() bool {
		return w.count("SELECT count(*) FROM river_job WHERE kind = 'prune' AND state <> 'completed'") == 0
	}
	prune()
	w.until(wait, "what is old was looked for", pruned)
	if w.count("SELECT count(*) FROM uploads") == 0 || w.hut.sessions(t) == 0 {
		t.Error("an upload of a moment ago was taken for a forgotten one")
	}
	w.sql("UPDATE uploads SET kept_at = kept_at - interval '25 hours'")
	prune()
	w.until(wait, "what is old was looked for again", pruned)
	if n := w.count("SELECT count(*) FROM uploads"); n != 0 || w.hut.sessions(t) != 0 {
		t.Errorf("%d uploads are kept, %d open", n, w.hut.sessions(t))
	}
}

// TestKilledWhileItCopies: wherever the service dies, the next one ends the copy, and its tag was pointed once.
func TestKilledWhileItCopies(t *testing.T) {
	t.Parallel()
	for _, point := range []string{"blob-opened", "blobs-moved", "copy-in-place", "intent-written", "tag-put"} {
		t.Run(point, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			w.declare("hut/spare/model")
			img := build(t, 41, "2.14.0", both, 64<<10)
			ref := w.push(img, "build-41")
			struck := w.diesAt(point)
			w.ok("copy", ref, "hut/spare/model:try", "--because", "Ylva tries it", "--detach")
			struck()
			if r := w.mountainShows("spare/model", "try"); r && point != "tag-put" {
				t.Error("the tag was pointed before the copy came to it")
			}
			w.start()
			w.until(40*time.Second, "the copy has ended", func() bool {
				c, err := w.client().CopyNumbered(t.Context(), 1)
				return err == nil && c.Ended
			})
			if c := w.copyOver(1); c.State != "verified" {
				t.Fatalf("it ended as %s: %+v", c.State, c.Problem)
			}
			trail := w.ok("trail", "hut/spare/model:try")
			if n := strings.Count(trail, "tag pointed"); n != 1 || !strings.Contains(trail, img.Index.Digest.String()[7:19]) {
				t.Errorf("the trail shows %d changes:\n%s", n, trail)
			}
			if n := w.count("SELECT count(*) FROM uploads"); n != 0 { // one whose POST was not heard of any more lapses there by itself
				t.Errorf("%d uploads are kept", n)
			}
		})
	}
}

// mountainShows reports whether a tag is there in the hut's own files.
func (w *world) mountainShows(repository, tag string) bool {
	_, err := os.Stat(filepath.Join(w.hut.dir, "repos", repository, "_tags", tag))
	return err == nil
}

// TestWhatChangesInMidCopy: a source that is deleted ends a copy with what is missing, and it goes on when the source is back; a
// tag that someone else moves meanwhile is seen, stands on the trail as what it was, and is judged by its rule.
func TestWhatChangesInMidCopy(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.declare("hut/spare/model")
	theirs, ours := build(t, 40, "2.13.0", both, 1<<10), build(t, 41, "2.14.0", both, 1<<10)
	ref := w.push(ours, "build-41")
	missing := ours.Blobs[0].Digest.String()
	w.forge.breaks(func(r *http.Request) sim.Fault {
		if strings.HasSuffix(r.URL.Path, missing) {
			return sim.Fault{Status: http.StatusNotFound, Code: "BLOB_UNKNOWN"}
		}
		return sim.Fault{}
	})
	c := w.copyEnded(wire.NewCopy{From: ref, To: []string{"hut/spare/model:try"}, Because: "a trial"})
	if c.Problem == nil || c.Problem.Kind != string(problem.NotFound) || !strings.Contains(fmt.Sprint(*c.Problem), missing) {
		t.Errorf("a layer is gone: %+v", c.Problem)
	}
	if w.mountainShows("spare/model", "try") || w.hut.sessions(t) != 0 {
		t.Errorf("the tag is there, or %d uploads are open", w.hut.sessions(t))
	}
	w.forge.breaks(nil)
	w.ok("copies", "resume", "1")

	for _, tt := range []struct{ to, tag, says string }{
		{"spare/model", "next", ""},
		{"live/snowpack-model", "2.14.0", "a fixed tag never changes"}, // by the charter
	} {
		at := w.mountain()
		at.Repository = tt.to
		must(t, at.Push(t.Context(), theirs, "theirs"))
		w.hut.breaks(func(r *http.Request) sim.Fault { // when the image itself is put or looked at, someone else is quicker with the tag
			if !strings.HasSuffix(r.URL.Path, "/manifests/"+ours.Index.Digest.String()) {
				return sim.Fault{}
			}
			return sim.Fault{Call: func() { w.hut.point(t, tt.to, tt.tag, theirs.Index.Digest.Encoded()) }}
		})
		c := w.copyEnded(wire.NewCopy{From: ref, To: []string{"hut/" + tt.to + ":" + tt.tag}, Because: "a trial"})
		w.hut.breaks(nil)
		trail := w.ok("trail", "hut/"+tt.to+":"+tt.tag)
		foreign := theirs.Index.Digest.String()[7:19]
		switch {
		case tt.says == "" && (c.State != "verified" || !strings.Contains(trail, foreign)):
			t.Errorf("%s: %+v\n%s", tt.tag, c.Problem, trail)
		case tt.says != "" && (c.Problem == nil || !strings.Contains(fmt.Sprint(*c.Problem), tt.says)):
			t.Errorf("%s: %s, %+v", tt.tag, c.State, c.Problem)
		}
	}
}

// point makes a tag mean a digest in the registry's own files, behind everyone's back.
func (s *side) point(t testing.TB, repository, tag, encoded string) {
	dir := filepath.Join(s.dir, "repos", repository, "_tags")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Error(err)
	}
	if err := os.WriteFile(filepath.Join(dir, tag), []byte("sha256:"+encoded), 0o600); err != nil {
		t.Error(err)
	}
}
