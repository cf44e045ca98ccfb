package test

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/standin/debian"
	sim "dovrak/standin/registry"
)

// diesAt starts the service anew so that it kills itself, with SIGKILL, at a named point; struck waits for that and
// shows that the blow landed there.
func (w *world) diesAt(point string) (struck func()) {
	w.t.Helper()
	w.kill()
	mark := filepath.Join(w.t.TempDir(), "mark")
	w.start("DOVRAK_FAILPOINT="+point+"=kill", "DOVRAK_FAILPOINT_MARK="+mark)
	return func() {
		w.t.Helper()
		w.ended()
		if _, err := os.Stat(mark); err != nil {
			w.t.Fatalf("the point %s was never reached: %v", point, err)
		}
		exit, ok := errors.AsType[*exec.ExitError](<-w.gone)
		if !ok || exit.Sys().(syscall.WaitStatus).Signal() != syscall.SIGKILL {
			w.t.Fatalf("the service did not die by SIGKILL: %v", exit)
		}
		w.gone <- nil
	}
}

func (w *world) promotion(n int64) wire.Promotion {
	w.t.Helper()
	p, err := w.client().PromotionNumbered(w.t.Context(), n)
	must(w.t, err)
	return p
}

// TestKilledWhileItPromotes: wherever the service dies, the next one ends the promotion, and the trail shows one change
// of the tag.
func TestKilledWhileItPromotes(t *testing.T) {
	t.Parallel()
	for _, point := range []string{"blob-opened", "blobs-moved", "content-in-place", "intent-written", "tag-put"} {
		t.Run(point, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			img := build(t, 41, "2.14.0", both, 64<<10)
			w.onBench(img, "build-41")
			struck := w.diesAt(point)
			if r := w.run("promote", "snowpack-model", "--to", "live", "--because", "new snow layer", "--detach"); r.code != 0 {
				t.Fatalf("asking: %s\n%s", r.err, w.log())
			}
			struck()
			began := time.Now()
			w.start()
			w.until(40*time.Second, "the promotion has ended", func() bool { return w.promotion(1).Ended })
			if p := w.promotion(1); p.State != "verified" || p.Problem != nil {
				t.Fatalf("it ended as %s: %+v", p.State, p.Problem)
			}
			// What was being copied goes on at once; a tag's intent waits its writer's lease out.
			if took := time.Since(began); (point == "blob-opened" || point == "blobs-moved" || point == "content-in-place") &&
				took > 12*time.Second {
				t.Errorf("taking up took %s", took)
			}
			for _, tag := range []string{"2.14.0", "live"} {
				trail := w.ok("trail", "hut/live/snowpack-model:"+tag)
				if n := strings.Count(trail, "tag pointed"); n != 1 || !strings.Contains(trail, img.Index.Digest.String()[7:19]) {
					t.Errorf("the trail of %s shows %d changes:\n%s", tag, n, trail)
				}
			}
			w.ok("show", "hut/live/snowpack-model:live")
		})
	}
}

// TestAnotherProcessTakesOver: with two services on one database, the death of the one that works is made good by the
// other, within the 15 s that a lease lasts.
func TestAnotherProcessTakesOver(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 64<<10), "build-41")
	struck := w.diesAt("blob-opened")
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x", "--detach")
	struck()
	died := time.Now()
	other := *w
	other.start() // the second process; it was not there when the first died, and knows nothing of it
	w.cmd, w.gone = other.cmd, other.gone
	w.until(15*time.Second, "the promotion has ended", func() bool { return w.promotion(1).Ended })
	t.Logf("taken over and ended %s after the death", time.Since(died).Round(time.Millisecond))
}

// TestAProcessThatSleeps keeps its connection and its lock, but not its lease: after 15 s another takes its promotion
// over. When it wakes, it finds that it has lost, and changes nothing.
func TestAProcessThatSleeps(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	mark := filepath.Join(t.TempDir(), "mark")
	w.kill()
	w.start("DOVRAK_FAILPOINT=content-in-place=hold", "DOVRAK_FAILPOINT_MARK="+mark)
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x", "--detach")
	w.until(wait, "the point is reached", func() bool { _, err := os.Stat(mark); return err == nil })
	sleeper, slept := w.cmd, w.gone
	must(t, sleeper.Process.Signal(syscall.SIGSTOP))
	t.Cleanup(func() {
		if err := sleeper.Process.Kill(); err != nil {
			t.Error(err)
		}
		<-slept
	})
	port, err := debian.FreePort()
	must(t, err)
	w.listen = fmt.Sprintf("127.0.0.1:%d", port)
	w.front.Config.Handler = w.proxy() // to the one that is awake
	w.start()
	began := time.Now()
	w.until(25*time.Second, "another process has ended the promotion", func() bool { return w.promotion(1).State == "verified" })
	if took := time.Since(began); took > 17*time.Second {
		t.Errorf("taking over took %s", took)
	}
	w.hut.since()
	must(t, sleeper.Process.Signal(syscall.SIGCONT))
	w.until(wait, "the sleeper has noticed", func() bool { return strings.Contains(w.log(), "a work went to another process") })
	if puts := w.hut.since("PUT"); len(puts) != 0 {
		t.Errorf("the sleeper woke and wrote %v", puts)
	}
	if trail := w.ok("trail", "hut/live/snowpack-model:live"); strings.Count(trail, "tag pointed") != 1 {
		t.Errorf("the trail says\n%s", trail)
	}
}

// TestKilledBetweenIntentAndOutcome, of a tag pointed by hand: the registry is asked what came of it, both where the PUT
// was never sent and where it was.
func TestKilledBetweenIntentAndOutcome(t *testing.T) {
	t.Parallel()
	for point, act := range map[string]string{"intent-written": "tag not pointed", "tag-put": "tag pointed"} {
		t.Run(point, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			ref := w.push(build(t, 41, "2.14.0", both, 1<<10), "build-41")
			struck := w.diesAt(point)
			if r := w.run("point", ref, "trial-ready", "--because", "x"); r.code != 1 {
				t.Fatalf("%d %s", r.code, r.err)
			}
			struck()
			w.start()
			w.until(30*time.Second, "the intent has its outcome", func() bool {
				return strings.Contains(w.ok("trail", "forge/bench/snowpack-model:trial-ready"), act)
			})
			w.ok("point", ref, "trial-ready", "--because", "again")
			trail := w.ok("trail", "forge/bench/snowpack-model:trial-ready")
			if n := strings.Count(trail, "tag pointed"); n != 1 {
				t.Errorf("%d changes of the tag:\n%s", n, trail)
			}
		})
	}
}

// TestStoppedInOrder: SIGTERM during a copy ends the process soon, and the next goes on where it was.
func TestStoppedInOrder(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 64<<10), "build-41")
	hold, held := make(chan struct{}), make(chan struct{}, 100)
	defer close(hold)
	w.hut.breaks(func(r *http.Request) sim.Fault {
		if r.Method == http.MethodPost {
			held <- struct{}{}
			return sim.Fault{Hold: hold}
		}
		return sim.Fault{}
	})
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x", "--detach")
	<-held
	must(t, w.cmd.Process.Signal(syscall.SIGTERM))
	w.ended()
	if err := <-w.gone; err != nil {
		t.Errorf("it ended with %v\n%s", err, w.log())
	}
	w.gone <- nil
	w.hut.breaks(nil)
	w.start()
	w.until(10*time.Second, "the promotion has ended", func() bool { return w.promotion(1).State == "verified" })
}

// beside starts a second service on the same database, and gives the world as it is reached through that.
func (w *world) beside() *world {
	w.t.Helper()
	other := *w
	port, err := debian.FreePort()
	must(w.t, err)
	other.listen = fmt.Sprintf("127.0.0.1:%d", port)
	other.front = httptest.NewServer(other.proxy())
	w.t.Cleanup(other.front.Close)
	other.start()
	w.t.Cleanup(other.kill)
	return &other
}
