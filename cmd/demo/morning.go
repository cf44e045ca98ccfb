package main

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"dovrak/standin/pipeline"
)

// pipelineRun is a pipeline run, and what becomes of it on this morning.
type pipelineRun struct {
	component, version string
	number             int
	platforms          []string
	to                 string // how far Ragna promotes it: trial, live; empty leaves it on the bench
	because            string
	contested          bool // on its way to trial
}

var (
	desktops = []string{"linux/amd64", "linux/arm64"}
	boxes    = []string{"linux/arm64", "linux/arm/v7"}
	all      = []string{"linux/amd64", "linux/arm64", "linux/arm/v7"}
)

// morning is the release morning, in order.
var morning = []pipelineRun{
	{
		component: "slope-sensor",
		version:   "4.1.7",
		number:    112,
		platforms: boxes,
		to:        "live",
		because:   "new calibration for the west face",
	},
	{component: "map-tiles", version: "26.3.0", number: 63, platforms: desktops, to: "live", because: "tiles of the March survey"},
	{component: "alert-relay", version: "3.2.0", number: 87, platforms: all, to: "live", because: "sirens in the lower valley"},
	{component: "snowpack-model", version: "2.13.2", number: 39, platforms: all, to: "live", because: "wind drift corrected"},
	{component: "alert-relay", version: "3.2.1", number: 88, platforms: all, to: "trial", because: "longer siren, on trial"},
	{component: "snowpack-model", version: "2.14.0-rc.1", number: 40, platforms: all},
	{
		component: "snowpack-model",
		version:   "2.14.0",
		number:    41,
		platforms: all,
		to:        "live",
		because:   "avalanche danger 3, new snow layer",
		contested: true,
	},
}

// mended is the build that is needed in the storm.
var mended = pipelineRun{
	component: "snowpack-model",
	version:   "2.14.1",
	number:    42,
	platforms: all,
	because:   "slabs are told from powder again; danger 4 tonight",
}

// Two runs of the day's end: an older one that is run again and takes no tag back, and one of which a runner is still at work.
var (
	late    = pipelineRun{component: "snowpack-model", version: "2.13.1", number: 38, platforms: all}
	ongoing = pipelineRun{component: "snowpack-model", version: "2.15.0-rc.1", number: 43, platforms: all}
)

// play plays the morning, once: in a world that has had it, people only come in anew.
func (w *world) play(ctx context.Context) error {
	done := filepath.Join(w.dir, "played")
	if _, err := os.Stat(done); err == nil {
		return w.arrive(ctx)
	} else if !errors.Is(err, os.ErrNotExist) {
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
	if err := errors.Join(w.check(ctx), w.meddle(ctx, "2.13.2"), w.refusals(ctx), w.storm(ctx)); err != nil {
		return err
	}
	fmt.Fprintln(w.said, "  build 38   snowpack-model 2.13.1 is run late: the tags stay where they are")
	if err := errors.Join(w.build(ctx, late, nil), w.build(ctx, ongoing, []string{"linux/amd64", "linux/arm64"})); err != nil {
		return err
	}
	fmt.Fprintln(w.said, "  build 43   snowpack-model 2.15.0-rc.1 awaits its part for linux/arm/v7")
	return os.WriteFile(done, nil, 0o644)
}

// check has each registry checked where pipelines and promotions will write.
func (w *world) check(ctx context.Context) error {
	for name, env := range map[string]string{"forge": "bench", "ridge": "trial", "hut": "live"} {
		if _, err := w.command(ctx, "Ragna", "", "registry", "check", name, "--repository", env+"/snowpack-model"); err != nil {
			return err
		}
	}
	return nil
}

// meddle is what a hand at a registry does behind Dovrak's back: 2.13.2 was built again for its trial, for two platforms only, and put
// under a tag there.
func (w *world) meddle(ctx context.Context, tag string) error {
	img, err := build(pipelineRun{component: "snowpack-model", version: "2.13.2", number: 39, platforms: desktops}, "hotfix").Make()
	if err != nil {
		return err
	}
	trust := x509.NewCertPool()
	trust.AppendCertsFromPEM(w.ridgeCA)
	at := pipeline.Target{
		Address:    "https://" + w.addr["ridge"],
		Repository: "trial/snowpack-model",
		Name:       "dovrak",
		Secret:     accounts["dovrak"].Secret,
		HTTP:       &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: trust}}, Timeout: time.Minute},
	}
	defer at.HTTP.CloseIdleConnections()
	return at.Push(ctx, img, tag)
}

// settle connects the registries, adopts the charter, and signs people in.
func (w *world) settle(ctx context.Context) error {
	ca := filepath.Join(w.dir, "ridge-ca.pem")
	if err := os.WriteFile(ca, w.ridgeCA, 0o644); err != nil {
		return err
	}
	for _, r := range []struct {
		name, scheme string
		also         []string
	}{
		{"forge", "http", []string{"--label", "kind=hosted", "--label", "region=valley"}},
		{"ridge", "https", []string{"--ca", ca, "--label", "kind=plain", "--label", "region=data-centre"}},
		{"hut", "http", []string{"--label", "kind=plain", "--label", "region=mountain", "--transfers-at-once", "2"}},
	} {
		_, err := w.command(ctx, "administrator", accounts["dovrak"].Secret, append([]string{"registry", "add", r.name,
			"--address", r.scheme + "://" + w.addr[r.name], "--account", "dovrak", "--secret-file", "-"}, r.also...)...)
		if err != nil && !strings.Contains(err.Error(), "a registry of that name") {
			return err
		}
		fmt.Fprintf(w.said, "  %-10s connected at %s\n", r.name, w.addr[r.name])
	}
	file := filepath.Join(w.dir, "charter.yaml")
	if err := os.WriteFile(file, w.charterHere(), 0o644); err != nil {
		return err
	}
	if _, err := w.command(ctx, "administrator", "", "charter", "adopt", file); err != nil {
		return err
	}
	return w.arrive(ctx)
}

// release runs the pipeline, has its image vouched for, and promotes it as far as this morning does.
func (w *world) release(ctx context.Context, r pipelineRun) error {
	if err := w.build(ctx, r, nil); err != nil {
		return err
	}
	evidence := w.evidence
	if r.contested {
		evidence = w.contested
	}
	if err := evidence(ctx, r); err != nil {
		return err
	}
	fmt.Fprintf(w.said, "  build %-4d %s %s, joined of %s\n", r.number, r.component, r.version, strings.Join(r.platforms, ", "))
	if r.component == "slope-sensor" {
		if err := w.ahead(ctx, r); err != nil {
			return err
		}
	}
	return w.promote(ctx, r)
}

// attach pushes what a pipeline makes besides an image: its bill of materials, and a signature.
func (w *world) attach(ctx context.Context, r pipelineRun, digest string) error {
	for _, kind := range []string{"application/spdx+json", "application/vnd.skarvind.signature"} {
		at := w.bench(r.component)
		subject, err := at.Index(ctx, digest)
		if err != nil {
			return err
		}
		a, err := pipeline.Attach(subject, kind, map[string]string{"about": r.component + " " + r.version})
		if err == nil {
			err = at.Push(ctx, a)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func build(r pipelineRun, branch string) pipeline.Build {
	return pipeline.Build{Component: r.component, Number: r.number, Version: r.version, Branch: branch, Platforms: r.platforms,
		Commit: commit(
			r,
			branch,
		), Created: time.Now().Add(-20 * time.Minute).Truncate(time.Second), Attested: r.component == "snowpack-model" && branch == "main"}
}

// promote takes a build from the bench to the trial, and from there to where it goes.
func (w *world) promote(ctx context.Context, r pipelineRun) error {
	for _, env := range []string{"trial", "live"} {
		if r.to == "" || r.to == "trial" && env == "live" {
			return nil
		}
		if r.contested && env == "trial" {
			continue
		}
		if r.contested {
			return w.cutAtSwitch(ctx, r)
		}
		out, err := w.promoted(ctx, r.component, env, r.because)
		if err != nil {
			return err
		}
		fmt.Fprintf(w.said, "  %-10s %s %s to %s: %s\n", "promoted", r.component, r.version, env, lastLine(out))
	}
	return nil
}

// promoted asks for a promotion, has Ylva agree to it, and sees it through, also where it waits for its time on trial, which is short
// on this morning.
func (w *world) promoted(ctx context.Context, component, env, because string) (string, error) {
	n, err := w.asked(ctx, "Ragna", component, env, because)
	if err != nil {
		return "", err
	}
	if err := w.agrees(ctx, "Ylva", n, "the hut is told"); err != nil {
		return "", err
	}
	return w.command(ctx, "Ragna", "", "promotions", "watch", n)
}

// asked asks for a promotion and gives its number.
func (w *world) asked(ctx context.Context, who, component, env, because string, more ...string) (string, error) {
	out, err := w.command(
		ctx,
		who,
		"",
		append([]string{"promote", component, "--to", env, "--because", because, "--detach", "-o", "json"}, more...)...)
	if err != nil {
		return "", err
	}
	var p struct{ Number int64 }
	err = json.Unmarshal([]byte(out), &p)
	return strconv.FormatInt(p.Number, 10), err
}

func (w *world) agrees(ctx context.Context, who, n, remark string) error {
	_, err := w.command(ctx, who, "", "approve", n, "--because", remark)
	return err
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return lines[len(lines)-1]
}

// commit makes up a commit, the same for the same run.
func commit(r pipelineRun, branch string) string {
	return fmt.Sprintf("%x", sha256.Sum256([]byte(r.component+r.version+branch)))[:40]
}

// invite tells how to go on.
func (w *world) invite() {
	fmt.Fprintf(w.said, `
The console   http://%[1]s
  sign in at the organisation's own: choose Ragna, who releases, or Ylva, who approves

Eight commands to try, in another terminal, as Ragna:
  export DOVRAK_SERVER=http://%[1]s DOVRAK_TOKEN=$(cat %[2]s)
  %[3]s show forge/bench/snowpack-model:build-41
  %[3]s build show snowpack-model/43
  %[3]s tags --across snowpack-model
  %[3]s registry check ridge
  %[3]s promote alert-relay --to live --because "relay checked at the hut"
  DOVRAK_TOKEN=$(cat %[4]s) %[3]s approve 15 --because "the hut is told"
  %[3]s rollback snowpack-model --in live --plan
  %[3]s trail hut/live/snowpack-model:live

Ctrl-C ends it; make demo finds it again, make demo FRESH=1 begins anew.
`, w.listen, w.tokenFile("Ragna"), w.bin, w.tokenFile("Ylva"))
}
