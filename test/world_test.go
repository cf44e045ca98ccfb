// Package test holds the whole system to its promises, through its command line, its network interface and its console:
// the built program on a database of its own, between two simulated registries that can be told to fail.
package test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"dovrak/client"
	"dovrak/standin/debian"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"
	"dovrak/test/pgtest"

	"github.com/jackc/pgx/v5"
)

// binary is the program, built with failpoints.
var binary string

func TestMain(m *testing.M) { os.Exit(testMain(m)) }

func testMain(m *testing.M) int {
	dir, err := os.MkdirTemp(os.Getenv("DOVRAK_TEST_DIR"), "bin-*")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	binary = filepath.Join(dir, "dovrak")
	if out, err := exec.Command("go", "build", "-tags", "failpoints", "-o", binary, "dovrak/cmd/dovrak").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		return 1
	}
	return pgtest.Run(m)
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// side is a simulated registry, with what it was asked.
type side struct {
	*httptest.Server
	sim   *sim.Server
	dir   string
	mu    sync.Mutex
	fault func(*http.Request) sim.Fault
	asked []string // "METHOD path"
}

const secret = "desk-and-mountain"

func newSide(t testing.TB, signIn sim.SignIn, quirks ...sim.Quirks) *side {
	t.Helper()
	s := &side{dir: t.TempDir()}
	h, err := sim.New(
		sim.Options{
			Dir:      s.dir,
			SignIn:   signIn,
			Quirks:   append(quirks, sim.Quirks{})[0],
			Accounts: map[string]sim.Account{"dovrak": {Secret: secret, Pull: true, Push: true, Delete: true}},
			Fault: func(_ int, r *http.Request) sim.Fault {
				s.mu.Lock()
				defer s.mu.Unlock()
				if s.fault == nil {
					return sim.Fault{}
				}
				return s.fault(r)
			},
			Seen: func(method, path string, _ int) {
				s.mu.Lock()
				defer s.mu.Unlock()
				s.asked = append(s.asked, method+" "+path)
			},
		},
	)
	must(t, err)
	s.sim, s.Server = h, httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s
}

// sessions counts the uploads that were begun and neither closed nor cancelled.
func (s *side) sessions(t testing.TB) int {
	t.Helper()
	left, err := os.ReadDir(filepath.Join(s.dir, "uploads"))
	must(t, err)
	return len(left)
}

// breaks makes requests fail from now on; nil ends it.
func (s *side) breaks(f func(*http.Request) sim.Fault) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fault = f
}

// since gives what was asked since the last call, of those that contain all the words. Looks at the standing tags are
// left out: the service's watch asks for them at any moment.
func (s *side) since(words ...string) []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []string
	for _, a := range s.asked {
		match := !strings.HasSuffix(a, "/manifests/main") && !strings.HasSuffix(a, "/manifests/live") || !strings.HasPrefix(a, "HEAD")
		for _, w := range words {
			match = match && strings.Contains(a, w)
		}
		if match {
			out = append(out, a)
		}
	}
	s.asked = nil
	return out
}

const charterText = `organisation: Skarvind Avalanche Watch
components:
  snowpack-model: {platforms: [linux/amd64, linux/arm64], route: mountain}
environments:
  bench:
    standing: main
    fixed: ["build-{number}", "{version}"]
    moving:
      - {tag: "{branch}", moves: any}
      - {tag: "{major}.{minor}", moves: forward}
    cache: ["cache-{branch}"]
    other: allow
    places: [{registry: forge, repository: "bench/{component}"}]
  live:
    standing: live
    fixed: ["{version}"]
    places: [{registry: hut, repository: "live/{component}"}]
routes:
  mountain: [bench, live]
`

// world is a whole system.
type world struct {
	t          testing.TB
	dir, db    string
	forge, hut *side
	listen     string
	cmd        *exec.Cmd
	gone       chan error
	front      *httptest.Server // between clients and service: holds every answer against the OpenAPI document
	token      string
}

// newWorld starts registries and service, connects them, adopts the charter. Nothing is pushed yet.
func newWorld(t testing.TB) *world {
	t.Helper()
	return newWorldOf(t, sim.Quirks{})
}

// newWorldOf is a world whose forge has quirks.
func newWorldOf(t testing.TB, quirks sim.Quirks) *world {
	t.Helper()
	return newWorldBetween(t, quirks, sim.Quirks{})
}

// newWorldBetween is a world whose forge and hut have quirks.
func newWorldBetween(t testing.TB, forge, hut sim.Quirks) *world {
	t.Helper()
	w := newWorldWithout(t, forge, hut)
	for name, s := range map[string]*side{"forge": w.forge, "hut": w.hut} {
		w.in(secret).ok("registry", "add", name, "--address", s.URL, "--account", "dovrak", "--secret-file", "-")
	}
	w.adopt(charterText)
	w.ok("registry", "check", "hut", "--repository", "live/snowpack-model") // so that no plan need do it
	w.hut.since()
	return w
}

// declare lets the service write to repositories that the charter does not name.
func (w *world) declare(repositories ...string) {
	w.t.Helper()
	for _, r := range repositories {
		w.ok("registry", "declare", r, "--owner", "Tormod")
	}
}

// newWorldWithout starts registries and service, of which neither knows the other, and there is no charter.
func newWorldWithout(t testing.TB, quirks ...sim.Quirks) *world {
	t.Helper()
	quirks = append(quirks, sim.Quirks{}, sim.Quirks{})
	w := &world{t: t, dir: t.TempDir(), db: pgtest.URL(t), forge: newSide(t, sim.Token, quirks[0]), hut: newSide(t, sim.Basic, quirks[1])}
	port, err := debian.FreePort()
	must(t, err)
	w.listen = fmt.Sprintf("127.0.0.1:%d", port)
	w.front = httptest.NewServer(w.proxy())
	t.Cleanup(w.front.Close)
	w.start()
	t.Cleanup(w.kill)
	raw, err := os.ReadFile(filepath.Join(w.dir, "first.token"))
	must(t, err)
	w.token = strings.TrimSpace(string(raw))
	return w
}

// start starts the service and waits until it is ready. env are further variables.
func (w *world) start(env ...string) {
	w.t.Helper()
	log, err := os.OpenFile(w.logFile(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	must(w.t, err)
	defer log.Close()
	w.cmd = exec.Command(binary, "serve")
	w.cmd.Env = append(os.Environ(), append(env, "DOVRAK_DATABASE_URL="+w.db, "DOVRAK_LISTEN="+w.listen,
		"DOVRAK_KEY_FILE="+filepath.Join(w.dir, "key"), "DOVRAK_FIRST_TOKEN_FILE="+filepath.Join(w.dir, "first.token"))...)
	w.cmd.Stdout, w.cmd.Stderr = log, log
	w.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	must(w.t, w.cmd.Start())
	w.gone = make(chan error, 1)
	cmd, gone := w.cmd, w.gone
	go func() { gone <- cmd.Wait() }()
	w.until(20*time.Second, "the service is ready", func() bool {
		resp, err := http.Get("http://" + w.listen + "/readyz")
		return err == nil && resp.Body.Close() == nil && resp.StatusCode == http.StatusOK
	})
}

func (w *world) logFile() string { return filepath.Join(w.dir, "log") }

func (w *world) log() string {
	raw, err := os.ReadFile(w.logFile())
	must(w.t, err)
	return string(raw)
}

// kill ends the service with SIGKILL, if it lives.
func (w *world) kill() {
	if err := w.cmd.Process.Kill(); err != nil && !errors.Is(err, os.ErrProcessDone) {
		w.t.Error(err)
	}
	w.ended()
}

// ended waits for the service's end.
func (w *world) ended() {
	select {
	case err := <-w.gone:
		w.gone <- err
	case <-time.After(30 * time.Second):
		w.t.Fatalf("the service does not end; its log:\n%s", w.log())
	}
}

// until waits for something that nobody tells.
func (w *world) until(within time.Duration, what string, holds func() bool) {
	w.t.Helper()
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for end := time.Now().Add(within); !holds(); <-tick.C {
		if time.Now().After(end) {
			w.t.Fatalf("not within %s: %s; the service's log:\n%s", within, what, w.log())
		}
	}
}

func (w *world) client() *client.Client {
	return &client.Client{Server: w.front.URL, Token: w.token}
}

// result is what a command gave.
type result struct {
	code     int
	out, err string
}

// caller runs commands with a token and standard input.
type caller struct {
	w            *world
	token, stdin string
}

func (w *world) in(stdin string) caller { return caller{w, w.token, stdin} }

// run runs a command of the built program.
func (c caller) run(args ...string) result {
	c.w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Env = append(os.Environ(), "DOVRAK_SERVER="+c.w.front.URL, "DOVRAK_TOKEN="+c.token, "HOME="+c.w.dir)
	cmd.Stdin = strings.NewReader(c.stdin)
	var out, problem bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &problem
	err := cmd.Run()
	if _, exited := errors.AsType[*exec.ExitError](err); err != nil && !exited {
		c.w.t.Fatal(err)
	}
	return result{cmd.ProcessState.ExitCode(), out.String(), problem.String()}
}

// ok runs a command that must succeed and gives what it printed.
func (c caller) ok(args ...string) string {
	c.w.t.Helper()
	r := c.run(args...)
	if r.code != 0 {
		c.w.t.Fatalf("dovrak %s ended with %d:\n%s%s\nthe service's log:\n%s", strings.Join(args, " "), r.code, r.out, r.err, c.w.log())
	}
	return r.out
}

func (w *world) run(args ...string) result { w.t.Helper(); return w.in("").run(args...) }
func (w *world) ok(args ...string) string  { w.t.Helper(); return w.in("").ok(args...) }

// build makes an image as the pipeline does. bytes is the size of the component's own layer.
func build(t testing.TB, number int, version string, platforms []string, bytes int) pipeline.Image {
	t.Helper()
	img, err := pipeline.Build{Component: "snowpack-model", Number: number, Version: version, Commit: "4f1c9d2", Branch: "main",
		Created: time.Date(2026, 3, 3, 9, 0, 0, 0, time.UTC), Platforms: platforms, Bytes: bytes}.Make()
	must(t, err)
	return img
}

var both = []string{"linux/amd64", "linux/arm64"}

// push pushes a build to forge, as the pipeline does, and gives the reference by digest.
func (w *world) push(img pipeline.Image, tags ...string) string {
	w.t.Helper()
	to := w.bench()
	must(w.t, to.Push(context.Background(), img, tags...))
	return "forge/bench/snowpack-model@" + img.Index.Digest.String()
}

func (w *world) bench() *pipeline.Target {
	return &pipeline.Target{Address: w.forge.URL, Repository: "bench/snowpack-model", Name: "dovrak", Secret: secret}
}

func (w *world) mountain() *pipeline.Target {
	return &pipeline.Target{Address: w.hut.URL, Repository: "live/snowpack-model", Name: "dovrak", Secret: secret}
}

// onBench pushes a build and points the bench's standing tag at it.
func (w *world) onBench(img pipeline.Image, tag string) string {
	w.t.Helper()
	ref := w.push(img, tag)
	w.ok("point", ref, "main", "--because", "the build is on the bench")
	return ref
}

// proxy stands before the service and holds every answer against the OpenAPI document.
func (w *world) proxy() http.Handler {
	check := newContract(w.t)
	target := &url.URL{Scheme: "http", Host: w.listen}
	return &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(target)
			r.Out.Host = r.In.Host
		},
		ModifyResponse: check.answer,
		ErrorHandler: func(rw http.ResponseWriter, _ *http.Request, _ error) {
			panic(http.ErrAbortHandler) // the service is gone: the client sees its connection break
		},
	}
}

// newWorldDatabase is a database that no service has started on.
func newWorldDatabase(t testing.TB) string { return pgtest.URL(t) }

// sql runs a statement on the world's database.
func (w *world) sql(statement string) {
	w.t.Helper()
	c, err := pgx.Connect(w.t.Context(), w.db)
	must(w.t, err)
	defer c.Close(w.t.Context())
	_, err = c.Exec(w.t.Context(), statement)
	must(w.t, err)
}

// count reads one number from the world's database.
func (w *world) count(query string) (n int) {
	w.t.Helper()
	c, err := pgx.Connect(w.t.Context(), w.db)
	must(w.t, err)
	defer c.Close(w.t.Context())
	must(w.t, c.QueryRow(w.t.Context(), query).Scan(&n))
	return n
}
