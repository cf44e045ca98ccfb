package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"dovrak/standin/oidc"
	"dovrak/standin/pipeline"

	"golang.org/x/sync/errgroup"
)

// The issuers' addresses as the charter's file has them; where they listen in this world takes their place.
const (
	valleyInCharter = "http://127.0.0.1:8629"
	peopleInCharter = "http://127.0.0.1:8630"
)

// projects are where the valley's system keeps the sources of each component.
var projects = map[string]string{"snowpack-model": "models/snowpack-model", "map-tiles": "models/map-tiles",
	"alert-relay": "devices/alert-relay", "slope-sensor": "devices/slope-sensor"}

// commits are what each build changed.
var commits = map[int][]string{
	38:  {"Read the night's snow stakes"},
	39:  {"Correct wind drift above 1400 m", "Take the gusts of the ridge station"},
	40:  {"Model the buried weak layer", "Read hoar from the cameras"},
	41:  {"Settle the weak layer's thickness"},
	42:  {"Lower the alarm for wet slabs"},
	63:  {"Take in the March survey"},
	87:  {"Sound the sirens of the lower valley"},
	88:  {"Sound the siren for ninety seconds"},
	112: {"Calibrate the west face"},
}

// issuerAt starts an issuer, where it was before.
func (w *world) issuerAt(name string) (*oidc.Issuer, error) {
	at := w.addr[name]
	if at == "" {
		at = "127.0.0.1:0"
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("the issuer %s cannot listen where it did before: %w; begin anew: make demo FRESH=1", name, err)
	}
	w.addr[name] = l.Addr().String()
	issuer, err := oidc.New("http://" + w.addr[name])
	if err != nil {
		return nil, err
	}
	srv := &http.Server{Handler: issuer, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			fmt.Fprintln(os.Stderr, "demo: the issuer", name, "failed:", err)
		}
	}()
	w.ends = append(w.ends, func(context.Context) error { return srv.Close() })
	return issuer, nil
}

// charterHere is the charter of this world: the issuers where they listen, the days counted from today.
func (w *world) charterHere() []byte {
	text := strings.NewReplacer(valleyInCharter, w.issuer.URL, peopleInCharter, w.people.URL).Replace(string(charter))
	return dayText.ReplaceAllFunc([]byte(text), func(day []byte) []byte {
		n, err := strconv.Atoi(string(day[len("DAY+"):]))
		if err != nil {
			return day
		}
		return []byte(time.Now().AddDate(0, 0, n).Format(time.DateOnly))
	})
}

var dayText = regexp.MustCompile(`DAY\+\d+`)

// signIn has a run of the pipeline trade its system's token for one of Dovrak's.
func (w *world) signIn(ctx context.Context, r pipelineRun) error {
	token, err := w.issuer.Token(
		map[string]any{"aud": "dovrak", "sub": projects[r.component], "project": projects[r.component], "branch": "main",
			"run": r.number},
	)
	if err != nil {
		return err
	}
	out, err := w.command(ctx, "administrator", token, "signin", "--pipeline")
	if err != nil {
		return err
	}
	return os.WriteFile(w.tokenFile("pipeline-"+r.component), []byte(out), 0o600)
}

// build runs the pipeline: it reports the build, has a runner for each platform push and report its part, and waits until
// the build is tagged. parts says which runners come to an end; nil is all of them.
func (w *world) build(ctx context.Context, r pipelineRun, parts []string) error {
	if err := w.signIn(ctx, r); err != nil {
		return err
	}
	b := build(r, "main")
	changes, err := json.Marshal(changesOf(r))
	if err != nil {
		return err
	}
	as, name := "pipeline-"+r.component, fmt.Sprintf("%s/%d", r.component, r.number)
	if _, err := w.command(ctx, as, string(changes), "build", "start", "--component", r.component, "--number", fmt.Sprint(r.number),
		"--commit", b.Commit, "--branch", b.Branch, "--version", r.version, "--trigger", "push", "--changes", "-",
		"--link", "https://pipeline.skarvind.example/"+name, "--source", "https://git.skarvind.example/"+projects[r.component],
		"--commit-link", "https://git.skarvind.example/"+projects[r.component]+"/commits/"+b.Commit[:12],
		"--base", "base.skarvind.example/skarvind:12@"+baseDigest); err != nil {
		return err
	}
	if parts == nil {
		parts = r.platforms
	}
	g, running := errgroup.WithContext(ctx)
	for i, platform := range parts {
		g.Go(func() error { return w.runner(running, b, as, name, platform, 41+17*i) })
	}
	if err := g.Wait(); err != nil || len(parts) < len(r.platforms) {
		return err
	}
	_, err = w.command(ctx, as, "", "build", "watch", name)
	return err
}

// baseDigest pins the made-up base image.
const baseDigest = "sha256:5d3c7e1f08b24a96c1d2e3f405162738495a6b7c8d9eafb0c1d2e3f4a5b6c7d8"

// runner builds one platform on a machine of its own, pushes it and reports it. The valley has none for arm/v7.
func (w *world) runner(ctx context.Context, b pipeline.Build, as, name, platform string, seconds int) error {
	img, err := b.Part(platform)
	if err != nil {
		return err
	}
	at := w.bench(b.Component)
	if err := at.Push(ctx, img); err != nil {
		return err
	}
	how := "--native"
	if platform == "linux/arm/v7" {
		how, seconds = "--emulated", 6*seconds
	}
	_, err = w.command(ctx, as, "", "build", "part", name, "--platform", platform, how, "--seconds", fmt.Sprint(seconds),
		"--image", "forge/bench/"+b.Component+"@"+img.Index.Digest.String())
	return err
}

func (w *world) bench(component string) *pipeline.Target {
	return &pipeline.Target{Address: "http://" + w.addr["forge"], Repository: "bench/" + component, Name: "pipeline",
		Secret: accounts["pipeline"].Secret}
}

type change struct {
	ID    string `json:"id"`
	Title string `json:"title"`
}

func changesOf(r pipelineRun) []change {
	var out []change
	for i, title := range commits[r.number] {
		id := commit(r, "main")
		if i > 0 {
			id = commit(r, title)
		}
		out = append(out, change{id, title})
	}
	return out
}

// evidence vouches for a build's image and attaches what its builders make besides.
func (w *world) evidence(ctx context.Context, r pipelineRun) error {
	var b struct{ Digest string }
	as := "pipeline-" + r.component
	raw, err := w.command(ctx, as, "", "build", "show", fmt.Sprintf("%s/%d", r.component, r.number), "-o", "json")
	if err == nil {
		err = json.Unmarshal([]byte(raw), &b)
	}
	if err != nil {
		return err
	}
	ref := "forge/bench/" + r.component + "@" + b.Digest
	report := filepath.Join(w.dir, "bench-run.json")
	if err := os.WriteFile(report, []byte(`{"slopes": 214, "missed": 0}`), 0o644); err != nil {
		return err
	}
	if _, err := w.command(ctx, as, "", "vouch", ref, "--claim", "bench-run", "--verdict", "passed", "--file", report,
		"--link", fmt.Sprintf("https://pipeline.skarvind.example/%s/%d/bench", r.component, r.number)); err != nil {
		return err
	}
	verdict := "passed"
	if strings.Contains(r.version, "-rc") {
		verdict = "noted"
	}
	if _, err := w.command(ctx, as, "", "vouch", ref, "--claim", "scan", "--verdict", verdict, "--for", "720h",
		"--link", fmt.Sprintf("https://scan.skarvind.example/%s/%d", r.component, r.number)); err != nil {
		return err
	}
	return w.attach(ctx, r, b.Digest)
}
