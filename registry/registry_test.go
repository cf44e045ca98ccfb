package registry_test

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/standin/debian"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

var desk = map[string]sim.Account{
	"desk":   {Secret: "s3cret-word", Pull: true, Push: true, Delete: true},
	"reader": {Secret: "r", Pull: true},
}

// standin starts a simulated registry and gives the configuration to speak to it.
func standin(t *testing.T, opt sim.Options) registry.Config {
	t.Helper()
	opt.Dir, opt.Accounts = t.TempDir(), desk
	h, err := sim.New(opt)
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	cfg := registry.Config{Name: "forge", Address: srv.URL, FirstWait: time.Millisecond, Stall: 5 * time.Second}
	if opt.SignIn != sim.Open {
		cfg.Credentials = registry.Credential{Name: "desk", Secret: "s3cret-word"}
	}
	return cfg
}

// plain starts the registry server from Debian's packages.
func plain(t *testing.T) registry.Config {
	t.Helper()
	r, err := debian.StartRegistry(t.Context(), debian.RegistryOptions{Dir: t.TempDir(), Name: "desk", Secret: "s3cret-word"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := r.Stop(); err != nil {
			t.Error(err)
		}
	})
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(r.CA)
	return registry.Config{
		Name:        "ridge",
		Address:     r.Address,
		RootCAs:     pool,
		FirstWait:   time.Millisecond,
		Credentials: registry.Credential{Name: "desk", Secret: "s3cret-word"},
	}
}

func dial(t *testing.T, cfg registry.Config) *registry.Client {
	t.Helper()
	c, err := registry.New(cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	return c
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// upload sends a blob whole; what fails leaves no upload behind.
func upload(ctx context.Context, r *registry.Repository, d ocispec.Descriptor, body io.Reader) error {
	u, err := r.OpenUpload(ctx, d)
	for whole := false; err == nil && !whole; {
		if whole, err = u.Send(ctx, body); err != nil {
			u.Cancel(ctx)
		}
	}
	return err
}

func blob(raw []byte) ocispec.Descriptor {
	return ocispec.Descriptor{Digest: digest.FromBytes(raw), Size: int64(len(raw))}
}

// TestEveryOperation is one table of uses against every kind of registry, so that none of the simulated ones can be
// kinder than a real one.
func TestEveryOperation(t *testing.T) {
	kinds := map[string]func(*testing.T) registry.Config{
		"open":                     func(t *testing.T) registry.Config { return standin(t, sim.Options{}) },
		"basic":                    func(t *testing.T) registry.Config { return standin(t, sim.Options{SignIn: sim.Basic}) },
		"token":                    func(t *testing.T) registry.Config { return standin(t, sim.Options{SignIn: sim.Token}) },
		"plain server from Debian": plain,
	}
	for name, start := range kinds {
		t.Run(name, func(t *testing.T) {
			cfg := start(t)
			cfg.Chunk, cfg.Page = 64<<10, 2
			c := dial(t, cfg)
			must(t, c.Ping(t.Context()))
			everyOperation(t, c)
		})
	}
}

func everyOperation(t *testing.T, c *registry.Client) {
	ctx := t.Context()
	img, err := pipeline.Build{
		Component: "snowpack-model",
		Version:   "2.14.0",
		Platforms: []string{"linux/amd64"},
		Bytes:     100 << 10,
	}.Make()
	must(t, err)
	r := c.Repository("bench/snowpack-model")

	for _, b := range img.Blobs { // from 4 KiB, in a single PUT, to 200 KiB, in chunks
		there, err := r.HasBlob(ctx, b.Descriptor)
		must(t, err)
		if there {
			t.Fatalf("%s is there before it was pushed", b.Digest)
		}
		must(t, upload(ctx, r, b.Descriptor, bytes.NewReader(b.Bytes)))
		if there, err = r.HasBlob(ctx, b.Descriptor); err != nil || !there {
			t.Fatalf("%s is not there: %v", b.Digest, err)
		}
	}
	root, err := image.Read(img.Index.MediaType, img.Index.Bytes)
	must(t, err)
	if err := r.PutManifest(ctx, "build-41", root); registry.Status(err) != http.StatusBadRequest &&
		registry.Status(err) != http.StatusNotFound {
		t.Errorf("an index before its content: %v", err)
	}
	part, err := image.Read(img.Manifests[0].MediaType, img.Manifests[0].Bytes)
	must(t, err)
	must(t, r.PutManifest(ctx, part.Digest.String(), part))
	for i := range 3 {
		must(t, r.PutManifest(ctx, fmt.Sprintf("build-%d", 40+i), root))
	}
	for _, name := range []string{"build-41", root.Digest.String()} {
		d, err := r.Head(ctx, name)
		must(t, err)
		m, err := r.Manifest(ctx, name)
		must(t, err)
		if d.Digest != root.Digest || !bytes.Equal(m.Bytes, root.Bytes) || m.MediaType != root.MediaType {
			t.Errorf("%s: %v, %s", name, d, m.Bytes)
		}
	}
	body, err := r.Blob(ctx, img.Blobs[0].Descriptor, registry.Mark{})
	must(t, err)
	raw, err := io.ReadAll(body)
	must(t, errors.Join(err, body.Close()))
	if !bytes.Equal(raw, img.Blobs[0].Bytes) {
		t.Error("a blob came back changed")
	}
	other := c.Repository("bench/other")
	if mounted, err := other.Mount(ctx, r, img.Blobs[0].Descriptor); err != nil || !mounted {
		t.Errorf("mount: %v, %v", mounted, err)
	}
	if mounted, err := other.Mount(ctx, r, blob([]byte("nobody has this"))); err != nil || mounted {
		t.Errorf("mount of what is not there: %v, %v", mounted, err)
	}
	var tags []string
	must(t, r.Tags(ctx, func(page []string) error { tags = append(tags, page...); return nil }))
	if slices.Sort(tags); !slices.Equal(tags, []string{"build-40", "build-41", "build-42"}) {
		t.Errorf("tags: %v", tags)
	}
	must(t, r.DeleteManifest(ctx, root.Digest.String()))
	if _, err := r.Head(ctx, "build-41"); !problem.Is(err, problem.NotFound) {
		t.Errorf("a deleted image: %v", err)
	}
	if _, err := c.Repository("bench/nothing").Manifest(ctx, "x"); !problem.Is(err, problem.NotFound) {
		t.Errorf("a repository that is not there: %v", err)
	}
}

// TestFaults breaks the connection in each way, once or for good.
func TestFaults(t *testing.T) {
	content := bytes.Repeat([]byte("snow"), 4<<10)
	doc := fmt.Appendf(nil, `{"schemaVersion":2,"manifests":[],"annotations":{"x":%q}}`, strings.Repeat("x", 1000))
	for _, tt := range []struct {
		name       string
		fault      sim.Fault
		times      int // 0 is for good
		kind       problem.Kind
		seen       string
		asked      int // requests for the manifest until the end
		blobPasses bool
	}{
		{"500 once", sim.Fault{Status: 500}, 1, "", "", 2, true},
		{"500 for good", sim.Fault{Status: 500, Code: "UNKNOWN"}, 0, problem.Unreachable,
			"500 Internal Server Error, UNKNOWN: so it was told", 4, false},
		{"429 once, with its wait", sim.Fault{Status: 429, RetryAfter: 1}, 1, "", "", 2, true},
		{"429 with a wait that is too long", sim.Fault{Status: 429, RetryAfter: 3600}, 0, problem.Unreachable, "429", 1, false},
		{"reset once", sim.Fault{Reset: true}, 1, "", "", 2, true},
		{"reset for good", sim.Fault{Reset: true}, 0, problem.Unreachable, "EOF", 4, false},
		{"cut in the middle once", sim.Fault{CutAfter: 100}, 1, "", "", 2, true},
		{"cut for good", sim.Fault{CutAfter: 100}, 0, problem.Unreachable, "unexpected EOF", 4, false},
		{"a flipped byte", sim.Fault{Flip: true}, 0, problem.Altered, "", 1, false},
		{"403 is not asked again", sim.Fault{Status: 403, Code: "DENIED"}, 0, problem.Denied, "403 Forbidden, DENIED", 1, false},
		{"404 is not asked again", sim.Fault{Status: 404}, 0, problem.NotFound, "404", 1, false},
		{"401 without a challenge", sim.Fault{Status: 401, Code: "UNAUTHORIZED"}, 0, problem.Denied, "401", 1, false},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var on atomic.Bool
			var asked atomic.Int32
			c := dial(t, standin(t, sim.Options{Fault: func(int, *http.Request) sim.Fault {
				if !on.Load() {
					return sim.Fault{}
				}
				if n := int(asked.Add(1)); tt.times > 0 && n > tt.times {
					return sim.Fault{}
				}
				return tt.fault
			}}))
			r := c.Repository("bench/x")
			m, err := image.Read("", doc)
			must(t, err)
			must(t, r.PutManifest(t.Context(), "1", m))
			must(t, upload(t.Context(), r, blob(content), bytes.NewReader(content)))
			on.Store(true)
			_, err = r.Manifest(t.Context(), "1")
			if tt.kind == "" && err != nil || tt.kind != "" && !problem.Is(err, tt.kind) {
				t.Fatalf("got %v", err)
			}
			if p := problem.From(err); tt.kind != "" &&
				(!strings.Contains(p.Seen, tt.seen) || p.Where != "forge/bench/x" || p.Remedy == "" || p.Title == "") {
				t.Errorf("the problem says too little: %v", p)
			}
			extra := 0 // net/http itself asks once more where a kept connection breaks before any answer
			if tt.fault.Reset {
				extra = 1
			}
			if n := int(asked.Load()); n < tt.asked || n > tt.asked+extra {
				t.Errorf("asked %d times, want %d", asked.Load(), tt.asked)
			}
			asked.Store(0)
			body, err := r.Blob(t.Context(), blob(content), registry.Mark{})
			var raw []byte
			if err == nil {
				raw, err = io.ReadAll(body)
				must(t, body.Close())
			}
			if passes := err == nil && bytes.Equal(raw, content); passes != tt.blobPasses {
				t.Errorf("blob: %d bytes, %v", len(raw), err)
			}
			if bytes.Equal(raw, content) && err != nil {
				t.Error("all bytes of a bad blob were given out before the error")
			}
		})
	}
}

// TestAWrongUploadIsRefused: a stream that does not yield what it promised never becomes a blob, and no session is left.
func TestAWrongUploadIsRefused(t *testing.T) {
	var mu sync.Mutex
	var opened, cancelled int
	c := dial(t, standin(t, sim.Options{Seen: func(method, path string, status int) {
		mu.Lock()
		defer mu.Unlock()
		if method == http.MethodPost {
			opened++
		}
		if method == http.MethodDelete && status == http.StatusNoContent {
			cancelled++
		}
	}}))
	r := c.Repository("bench/x")
	right := []byte("what was promised")
	for name, body := range map[string]string{"other bytes": "what was sneaked in", "too short": "what", "broken": ""} {
		var stream io.Reader = strings.NewReader(body)
		if name == "broken" {
			stream = io.MultiReader(strings.NewReader("wh"), brokenReader{})
		}
		if err := upload(t.Context(), r, blob(right), stream); err == nil {
			t.Errorf("%s: taken", name)
		}
		if there, err := r.HasBlob(t.Context(), blob(right)); err != nil || there {
			t.Errorf("%s: it is there: %v", name, err)
		}
	}
	mu.Lock()
	defer mu.Unlock()
	if opened != 3 || cancelled != opened {
		t.Errorf("%d sessions opened, %d cancelled", opened, cancelled)
	}
}

type brokenReader struct{}

func (brokenReader) Read([]byte) (int, error) { return 0, errors.New("the source broke") }

// TestCredentialsStayAtHome: a redirect, a realm and an upload's address may lead elsewhere; the secret does not.
func TestCredentialsStayAtHome(t *testing.T) {
	var stranger atomic.Value
	stranger.Store("")
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		stranger.Store(stranger.Load().(string) + r.Header.Get("Authorization"))
		if r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/blob") {
			fmt.Fprint(w, "snow")
			return
		}
		w.WriteHeader(http.StatusCreated)
	}))
	defer elsewhere.Close()
	var realm string
	home := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _, signed := r.BasicAuth()
		switch {
		case strings.HasPrefix(r.URL.Path, "/v2/realm/"):
			w.Header().Set("WWW-Authenticate", `Bearer realm="`+realm+`",service="s"`)
			w.WriteHeader(http.StatusUnauthorized)
		case !signed:
			w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
			w.WriteHeader(http.StatusUnauthorized)
		case r.Method == http.MethodPost:
			w.Header().Set("Location", elsewhere.URL+"/upload")
			w.WriteHeader(http.StatusAccepted)
		default:
			http.Redirect(w, r, elsewhere.URL+"/blob", http.StatusTemporaryRedirect)
		}
	}))
	defer home.Close()
	c := dial(
		t,
		registry.Config{
			Name:        "home",
			Address:     home.URL,
			FirstWait:   time.Millisecond,
			Credentials: registry.Credential{Name: "desk", Secret: "s3cret-word"},
		},
	)
	raw, err := c.Repository("x").SmallBlob(t.Context(), blob([]byte("snow")), 100)
	if err != nil || string(raw) != "snow" {
		t.Errorf("through a redirect: %q, %v", raw, err)
	}
	must(t, upload(t.Context(), c.Repository("x"), blob([]byte("snow")), strings.NewReader("snow")))
	for _, realm = range []string{"http://realm.example/token", "ftp://127.0.0.1/", "not a url"} {
		_, err := c.Repository("realm").Head(t.Context(), "1")
		if err == nil || strings.Contains(err.Error(), "s3cret-word") {
			t.Errorf("realm %s: %v", realm, err)
		}
	}
	if got := stranger.Load().(string); got != "" {
		t.Errorf("a stranger was sent %q", got)
	}
}

// TestTokensAreKept: one token serves its scope until it expires; another scope and an expired token are asked for anew.
func TestTokensAreKept(t *testing.T) {
	var requests atomic.Int32
	cfg := standin(t, sim.Options{SignIn: sim.Token, TokenLife: 5 * time.Minute, Seen: func(string, string, int) { requests.Add(1) }})
	c := dial(t, cfg)
	for range 5 {
		if _, err := c.Repository("bench/x").Head(t.Context(), "1"); !problem.Is(err, problem.NotFound) {
			t.Fatal(err)
		}
	}
	if n := requests.Load(); n != 6 {
		t.Errorf("%d requests for 5 looks: one challenge is enough", n)
	}
	cfg.Credentials = registry.Credential{Name: "reader", Secret: "r"}
	err := upload(t.Context(), dial(t, cfg).Repository("bench/x"), blob([]byte("a")), strings.NewReader("a"))
	if registry.Status(err) != http.StatusUnauthorized || !strings.Contains(problem.From(err).Remedy, "lacks the permission") {
		t.Errorf("pushing with an account that may only pull: %v", err)
	}
}

// TestNothingMoves: a stream that stops for good is given up.
func TestNothingMoves(t *testing.T) {
	hold := make(chan struct{})
	defer close(hold)
	cfg := standin(t, sim.Options{Fault: func(int, *http.Request) sim.Fault { return sim.Fault{Hold: hold} }})
	cfg.Stall, cfg.Attempts = 50*time.Millisecond, 1
	_, err := dial(t, cfg).Repository("bench/x").Head(t.Context(), "1")
	if !problem.Is(err, problem.Unreachable) || !strings.Contains(err.Error(), "nothing moved") {
		t.Errorf("got %v", err)
	}
	cfg.Stall = time.Minute
	soon, end := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer end()
	_, err = dial(t, cfg).Repository("bench/x").Head(soon, "1")
	if !problem.Is(err, problem.Unreachable) || !errors.Is(err, context.DeadlineExceeded) ||
		!strings.Contains(err.Error(), "does not answer in time") || !strings.Contains(err.Error(), "bench/x") {
		t.Errorf("after the caller's time was over: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := dial(t, cfg).Repository("bench/x").Head(ctx, "1"); !errors.Is(err, context.Canceled) {
		t.Errorf("after the caller went away: %v", err)
	}
}
