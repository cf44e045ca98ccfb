package main

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dovrak/standin/pipeline"
)

// pipelineRun is a pipeline run, and what becomes of it on this morning.
type pipelineRun struct {
	component, version string
	number             int
	platforms          []string
	promote            string // the reason for which Ragna promotes it; empty leaves it on the bench
}

var (
	desktops = []string{"linux/amd64", "linux/arm64"}
	boxes    = []string{"linux/arm64", "linux/arm/v7"}
	all      = []string{"linux/amd64", "linux/arm64", "linux/arm/v7"}
)

// morning is the release morning, in order.
var morning = []pipelineRun{
	{"slope-sensor", "4.1.7", 112, boxes, "new calibration for the west face"},
	{"map-tiles", "26.3.0", 63, desktops, "tiles of the March survey"},
	{"alert-relay", "3.2.0", 87, all, "sirens in the lower valley"},
	{"snowpack-model", "2.13.2", 39, desktops, "wind drift corrected"},
	{"alert-relay", "3.2.1", 88, all, ""},
	{"snowpack-model", "2.14.0-rc.1", 40, desktops, ""},
	{"snowpack-model", "2.14.0", 41, desktops, "avalanche danger 3, new snow layer"},
}

// play plays the morning, once: a world that has had it is left as it is.
func (w *world) play(ctx context.Context) error {
	done := filepath.Join(w.dir, "played")
	if _, err := os.Stat(done); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	fmt.Fprintln(w.said, "Skarvind Avalanche Watch, a release morning")
	if err := w.settle(ctx); err != nil {
		return err
	}
	for _, r := range morning {
		if err := w.release(ctx, r); err != nil {
			return err
		}
	}
	return os.WriteFile(done, nil, 0o644)
}

// settle connects the registries, adopts the charter, and gives people their tokens.
func (w *world) settle(ctx context.Context) error {
	for _, name := range []string{"forge", "hut"} {
		_, err := w.command(ctx, "administrator", accounts["dovrak"].Secret, "registry", "add", name,
			"--address", "http://"+w.addr[name], "--account", "dovrak", "--secret-file", "-")
		if err != nil && !strings.Contains(err.Error(), "a registry of that name") {
			return err
		}
		fmt.Fprintf(w.said, "  %-10s connected at %s\n", name, w.addr[name])
	}
	file := filepath.Join(w.dir, "charter.yaml")
	if err := os.WriteFile(file, charter, 0o644); err != nil {
		return err
	}
	if _, err := w.command(ctx, "administrator", "", "charter", "adopt", file); err != nil {
		return err
	}
	for _, p := range []struct{ name, kind, may string }{
		{"Ragna", "person", "read,point,copy,promote"},
		{"pipeline", "pipeline", "read,point"},
	} {
		token, err := w.command(ctx, "administrator", "", "token", "issue", p.name, "--kind", p.kind, "--may", p.may)
		if err != nil {
			return err
		}
		if err := os.WriteFile(w.tokenFile(p.name), []byte(token), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// release pushes a build to forge, points the bench's standing tag at it, and promotes it if this morning does.
func (w *world) release(ctx context.Context, r pipelineRun) error {
	img, err := pipeline.Build{Component: r.component, Number: r.number, Version: r.version, Branch: "main", Platforms: r.platforms,
		Commit: commit(r), Created: time.Now().Add(-20 * time.Minute).Truncate(time.Second)}.Make()
	if err != nil {
		return err
	}
	at := pipeline.Target{
		Address:    "http://" + w.addr["forge"],
		Repository: "bench/" + r.component,
		Name:       "pipeline",
		Secret:     accounts["pipeline"].Secret,
	}
	if err := at.Push(ctx, img, fmt.Sprintf("build-%d", r.number)); err != nil {
		return err
	}
	ref := "forge/bench/" + r.component + "@" + img.Index.Digest.String()
	because := fmt.Sprintf("build %d on main", r.number)
	if _, err := w.command(ctx, "pipeline", "", "point", ref, r.version, "main", "--because", because); err != nil {
		return err
	}
	fmt.Fprintf(w.said, "  build %-4d %s %s for %s\n", r.number, r.component, r.version, strings.Join(r.platforms, ", "))
	if r.promote == "" {
		return nil
	}
	out, err := w.command(ctx, "Ragna", "", "promote", r.component, "--to", "live", "--because", r.promote)
	if err != nil {
		return err
	}
	fmt.Fprintf(w.said, "  %-10s %s %s to live: %s\n", "promoted", r.component, r.version, lastLine(out))
	return nil
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return lines[len(lines)-1]
}

// commit makes up a commit, the same for the same run.
func commit(r pipelineRun) string {
	return fmt.Sprintf("%x", sha256.Sum256([]byte(r.component+r.version)))[:40]
}

// invite tells how to go on.
func (w *world) invite() {
	fmt.Fprintf(w.said, `
The console   http://%[1]s
  sign in with Ragna's token:  cat %[2]s

Five commands to try, in another terminal:
  export DOVRAK_SERVER=http://%[1]s DOVRAK_TOKEN=$(cat %[2]s)
  %[3]s show forge/bench/snowpack-model:build-41
  %[3]s trail hut/live/snowpack-model:live
  %[3]s promote alert-relay --to live --because "relay checked at the hut"
  %[3]s standing
  %[3]s promotions

Ctrl-C ends it; make demo finds it again, make demo FRESH=1 begins anew.
`, w.listen, w.tokenFile("Ragna"), w.bin)
}
