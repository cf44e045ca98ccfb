package registry_test

import (
	"bytes"
	"crypto/x509"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/standin/debian"
	"dovrak/standin/issuer"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// TestQuirks: an image is pushed, looked at, listed and read back from registries with every quirk of the field. Each is
// asked everything; what a quirk changes is how, not what comes of it.
func TestQuirks(t *testing.T) {
	for name, q := range map[string]sim.Quirks{
		"none": {}, "no digest header": {NoDigestHeader: true}, "no HEAD": {NoHead: true}, "absolute locations": {AbsoluteLocations: true},
		"a least chunk": {MinChunk: 64 << 10}, "no mount": {NoMount: true}, "refresh tokens": {RefreshTokens: true},
		"no referrers": {NoReferrers: true}, "lists given whole": {NoPaging: true}, "blobs elsewhere": {BlobsAt: "set below"},
	} {
		t.Run(name, func(t *testing.T) {
			var h *sim.Server
			if q.BlobsAt != "" {
				other := httptest.NewServer(
					http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { h.Elsewhere().ServeHTTP(w, r) }),
				)
				t.Cleanup(other.Close)
				q.BlobsAt = other.URL
			}
			h, err := sim.New(sim.Options{Dir: t.TempDir(), Accounts: desk, SignIn: sim.Token, Quirks: q})
			must(t, err)
			srv := httptest.NewServer(h)
			t.Cleanup(srv.Close)
			c := dial(t, registry.Config{Name: "forge", Address: srv.URL, FirstWait: time.Millisecond, Chunk: 100 << 10, Page: 1,
				Credentials: registry.Credential{Name: "desk", Secret: "s3cret-word"}})
			wholeRound(t, c)
		})
	}
}

func wholeRound(t *testing.T, c *registry.Client) {
	t.Helper()
	ctx, at := t.Context(), c.Repository("bench/x")
	img, err := pipeline.Build{
		Component: "x",
		Version:   "1.0.0",
		Platforms: []string{"linux/amd64"},
		Bytes:     150 << 10,
		Created:   time.Unix(0, 0),
	}.Make()
	must(t, err)
	for _, b := range img.Blobs {
		must(t, upload(ctx, at, b.Descriptor, bytes.NewReader(b.Bytes)))
	}
	m, err := image.Read("", img.Manifests[0].Bytes)
	must(t, err)
	for _, tag := range []string{"1.0.0", "main"} {
		must(t, at.PutManifest(ctx, tag, m))
	}
	d, err := at.Head(ctx, "main")
	if err != nil || d.Digest != m.Digest {
		t.Errorf("looking: %v %v", d, err)
	}
	if got, err := at.Manifest(ctx, "main"); err != nil || !bytes.Equal(got.Bytes, m.Bytes) {
		t.Errorf("reading: %v", err)
	}
	if raw, err := at.SmallBlob(ctx, img.Blobs[0].Descriptor, 10<<20); err != nil || !bytes.Equal(raw, img.Blobs[0].Bytes) {
		t.Errorf("a blob: %v", err)
	}
	if _, err := c.Repository("bench/y").Mount(ctx, at, img.Blobs[0].Descriptor); err != nil {
		t.Errorf("mounting: %v", err)
	}
	var tags []string
	must(t, at.Tags(ctx, func(page []string) error { tags = append(tags, page...); return nil }))
	if strings.Join(tags, " ") != "1.0.0 main" {
		t.Errorf("tags: %v", tags)
	}
	if all, err := at.Referrers(ctx, m.Digest); err != nil || len(all) != 0 {
		t.Errorf("referrers: %v %v", all, err)
	}
}

// TestPagingThatLoops is left, with the words of what was seen.
func TestPagingThatLoops(t *testing.T) {
	cfg := standin(t, sim.Options{Quirks: sim.Quirks{EndlessPaging: true}})
	cfg.Page = 1
	at := dial(t, cfg).Repository("bench/x")
	img, err := image.Read("", []byte(`{"schemaVersion":2,"manifests":[]}`))
	must(t, err)
	must(t, at.PutManifest(t.Context(), "a", img))
	must(t, at.PutManifest(t.Context(), "b", img))
	err = at.Tags(t.Context(), func([]string) error { return nil })
	if !problem.Is(err, problem.RegistryError) || !strings.Contains(err.Error(), "does not end") {
		t.Errorf("got %v", err)
	}
}

// TestReferrers: what is attached is found by the registry's list, or by the fallback tag where there is none; a registry
// that was seen to have none is not asked for it again.
func TestReferrers(t *testing.T) {
	for name, q := range map[string]sim.Quirks{"the list": {}, "the fallback tag": {NoReferrers: true}} {
		t.Run(name, func(t *testing.T) {
			var mu sync.Mutex
			var asked []string
			cfg := standin(t, sim.Options{Quirks: q, Seen: func(method, path string, _ int) {
				mu.Lock()
				defer mu.Unlock()
				asked = append(asked, method+" "+path)
			}})
			at := dial(t, cfg).Repository("bench/x")
			root, err := image.Read("", []byte(`{"schemaVersion":2,"manifests":[]}`))
			must(t, err)
			must(t, at.PutManifest(t.Context(), "1", root))
			bom, err := pipeline.Attach(
				pipeline.Image{Index: pipeline.Content{Descriptor: ocispec.Descriptor{MediaType: root.MediaType, Digest: root.Digest,
					Size: root.Size()}}},
				"application/spdx+json",
				"x",
			)
			must(t, err)
			to := pipeline.Target{Address: cfg.Address, Repository: "bench/x"}
			must(t, to.Push(t.Context(), bom))
			if q.NoReferrers {
				list, err := image.Read(
					"",
					[]byte(`{"schemaVersion":2,"mediaType":"`+image.MediaIndex+`","manifests":[{"mediaType":"`+image.MediaManifest+
						`","digest":"`+bom.Manifests[0].Digest.String()+`","size":1,"artifactType":"application/spdx+json"}]}`),
				)
				must(t, err)
				must(t, at.PutManifest(t.Context(), registry.FallbackTag(root.Digest), list))
			}
			for range 2 {
				mu.Lock()
				asked = nil
				mu.Unlock()
				all, err := at.Referrers(t.Context(), root.Digest)
				if err != nil || len(all) != 1 || all[0].ArtifactType != "application/spdx+json" {
					t.Errorf("found %+v, %v", all, err)
				}
			}
			mu.Lock()
			defer mu.Unlock()
			if len(asked) != 1 {
				t.Errorf("asked %v", asked)
			}
		})
	}
}

// TestAPullOnlyAccount: against the plain registry server, with tokens of an issuer that it trusts, an account that may pull
// and not push is told as precisely that.
func TestAPullOnlyAccount(t *testing.T) {
	i, err := issuer.New("skarvind", map[string]issuer.Account{
		"desk":   {Secret: "s3cret-word", May: []string{"pull", "push", "delete"}},
		"reader": {Secret: "r", May: []string{"pull"}},
	})
	must(t, err)
	tokens := httptest.NewTLSServer(i)
	t.Cleanup(tokens.Close)
	r, err := debian.StartRegistry(t.Context(), debian.RegistryOptions{Dir: t.TempDir(), Realm: tokens.URL + "/token", Issuer: "skarvind",
		Trusted: i.Certificate()})
	must(t, err)
	t.Cleanup(func() { must(t, r.Stop()) })
	trust := x509.NewCertPool()
	trust.AppendCertsFromPEM(r.CA)
	trust.AddCert(tokens.Certificate())
	as := func(name, secret string) *registry.Client {
		return dial(t, registry.Config{Name: "ridge", Address: r.Address, RootCAs: trust, Attempts: 1,
			Credentials: registry.Credential{Name: name, Secret: secret}})
	}
	wholeRound(t, as("desk", "s3cret-word"))
	look := func(c *registry.Client) map[string]registry.Step {
		out := map[string]registry.Step{}
		for _, s := range c.Check(t.Context(), registry.CheckOptions{Repository: "bench/x", Now: time.Now}).Steps {
			out[s.Name] = s
		}
		return out
	}
	for name, tt := range map[string]struct {
		c    *registry.Client
		want map[string]registry.Result
	}{
		"desk": {as("desk", "s3cret-word"), map[string]registry.Result{registry.StepCertificate: registry.Holds, registry.StepSignIn: registry.Holds,
			registry.StepPull: registry.Holds, registry.StepPush: registry.Holds, registry.StepDelete: registry.CannotTell}},
		"reader": {as("reader", "r"), map[string]registry.Result{registry.StepSignIn: registry.Holds, registry.StepPull: registry.Holds,
			registry.StepPush: registry.Fails, registry.StepDelete: registry.Fails}},
		"a wrong secret": {as("desk", "wrong"), map[string]registry.Result{registry.StepSignIn: registry.Fails, registry.StepPush: registry.NotTried}},
		"no trust": {dial(t, registry.Config{Name: "ridge", Address: r.Address, Attempts: 1}),
			map[string]registry.Result{registry.StepConnection: registry.Holds, registry.StepCertificate: registry.Fails}},
	} {
		got := look(tt.c)
		for step, want := range tt.want {
			if got[step].Result != want {
				t.Errorf("%s: %s %s, want %s: %s", name, step, got[step].Result, want, got[step].Seen)
			}
		}
		if name == "reader" && !strings.Contains(got[registry.StepPush].Seen, "may not push to ridge/bench/x") {
			t.Errorf("the reader's push: %+v", got[registry.StepPush])
		}
		if name == "no trust" && !strings.Contains(got[registry.StepCertificate].Seen, "issued by Skarvind test CA") {
			t.Errorf("the certificate: %+v", got[registry.StepCertificate])
		}
	}
}

// TestWhereARegistryMayLead: neither a redirect nor a realm leads to a link-local address, and a credential goes to no host
// that was not named for it.
func TestWhereARegistryMayLead(t *testing.T) {
	var to string
	home := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.Path, "/blobs/") {
			http.Redirect(w, r, to, http.StatusTemporaryRedirect)
			return
		}
		w.Header().Set("WWW-Authenticate", `Bearer realm="`+to+`",service="s"`)
		w.WriteHeader(http.StatusUnauthorized)
	}))
	t.Cleanup(home.Close)
	cfg := registry.Config{Name: "odd", Address: home.URL, FirstWait: time.Millisecond, Attempts: 2}
	secret := registry.Credential{Name: "desk", Secret: "s3cret-word"}
	for name, tt := range map[string]struct {
		to   string
		cred registry.Credentials
		ask  func(*testing.T, *registry.Repository) error
		says string
	}{
		"a redirect to a link-local address": {"http://169.254.169.254/latest", nil, blobOf, "no link-local address"},
		"one by IPv6":                        {"http://[fe80::1]/latest", nil, blobOf, "no link-local address"},
		"a realm at a link-local address":    {"https://169.254.169.254/token", nil, manifestOf("1"), "no link-local address"},
		"a realm on another host":            {"https://elsewhere.example/token", secret, manifestOf("1"), "--sign-in-host elsewhere.example"},
		"a realm in the clear":               {"http://elsewhere.example/token", secret, manifestOf("1"), "over TLS"},
		"a realm with a name in it":          {"https://x:y@elsewhere.example/token", secret, manifestOf("1"), "not one to trust"},
	} {
		to = tt.to
		cfg.Credentials = tt.cred
		began := time.Now()
		err := tt.ask(t, dial(t, cfg).Repository("x"))
		if err == nil || !strings.Contains(err.Error(), tt.says) || strings.Contains(err.Error(), "s3cret-word") ||
			time.Since(began) > 3*time.Second {
			t.Errorf("%s, after %s: %v", name, time.Since(began), err)
		}
	}
}

// TestTokensAroundATransfer: a token that has run out between the upload's opening and its body is renewed before the body is
// sent, which can be sent only once; one that permits less than was asked is a refusal, and says so.
func TestTokensAroundATransfer(t *testing.T) {
	var h *sim.Server
	opt := sim.Options{
		Dir:       t.TempDir(),
		Accounts:  desk,
		SignIn:    sim.Token,
		TokenLife: 5 * time.Minute,
		Quirks:    sim.Quirks{RefreshTokens: true},
	}
	h, err := sim.New(opt)
	must(t, err)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.ServeHTTP(w, r)
		if r.Method == http.MethodPost {
			h.EndTokens() // every token that was issued so far
		}
	}))
	t.Cleanup(srv.Close)
	cfg := registry.Config{
		Name:        "forge",
		Address:     srv.URL,
		FirstWait:   time.Millisecond,
		Credentials: registry.Credential{Name: "desk", Secret: "s3cret-word"},
	}
	err = upload(t.Context(), dial(t, cfg).Repository("bench/x"), blob([]byte("snow")), strings.NewReader("snow"))
	if registry.Status(err) != http.StatusUnauthorized {
		t.Errorf("a token that is withdrawn before its end cannot be foreseen: %v", err)
	}
	opt.Dir, opt.TokenLife = t.TempDir(), 30*time.Second // shorter than a body may take: renewed before each
	h, err = sim.New(opt)
	must(t, err)
	must(t, upload(t.Context(), dial(t, cfg).Repository("bench/x"), blob([]byte("snow")), strings.NewReader("snow")))

	narrow := standin(t, sim.Options{SignIn: sim.Token, Quirks: sim.Quirks{NarrowScopes: true}})
	err = upload(t.Context(), dial(t, narrow).Repository("bench/x"), blob([]byte("snow")), strings.NewReader("snow"))
	if !problem.Is(err, problem.Denied) || !strings.Contains(problem.From(err).Remedy, "lacks the permission") {
		t.Errorf("a narrower token: %v", err)
	}
}

// TestCertificates: what a check says of every sort of certificate, and which remedy belongs to it.
func TestCertificates(t *testing.T) {
	now := time.Now()
	answer := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Date", now.Add(-10*time.Minute).UTC().Format(http.TimeFormat))
	})
	secure, plain := httptest.NewTLSServer(answer), httptest.NewServer(answer)
	t.Cleanup(secure.Close)
	t.Cleanup(plain.Close)
	trust := x509.NewCertPool()
	trust.AddCert(secure.Certificate())
	port := secure.URL[strings.LastIndexByte(secure.URL, ':'):]
	at := func(when time.Time) func() time.Time { return func() time.Time { return when } }
	for name, tt := range map[string]struct {
		cfg    registry.Config
		now    time.Time
		result registry.Result
		says   string
		remedy string
	}{
		"trusted":               {registry.Config{Address: secure.URL, RootCAs: trust}, now, registry.Holds, "issued by", ""},
		"of an unknown CA":      {registry.Config{Address: secure.URL}, now, registry.Fails, "unknown authority", "--ca FILE"},
		"for another name":      {registry.Config{Address: "https://localhost" + port, RootCAs: trust}, now, registry.Fails, "not localhost", "a name that its certificate holds"},
		"run out":               {registry.Config{Address: secure.URL, RootCAs: trust}, now.AddDate(100, 0, 0), registry.Fails, "expired", "renewed"},
		"by an exception":       {registry.Config{Address: secure.URL, Unverified: true}, now, registry.CannotTell, "not checked by an exception", ""},
		"none on a plain port":  {registry.Config{Address: strings.Replace(plain.URL, "http:", "https:", 1)}, now, registry.Fails, "no TLS on this port", "--client-cert"},
		"none, and plain HTTP":  {registry.Config{Address: plain.URL}, now, registry.Absent, "can be read and changed on the way", ""},
		"an exception too many": {registry.Config{Address: secure.URL, RootCAs: trust, Unverified: true}, now, registry.Holds, "the exception is not needed", ""},
	} {
		tt.cfg.Name, tt.cfg.Attempts = "ridge", 1
		var got, clock registry.Step
		for _, s := range dial(t, tt.cfg).Check(t.Context(), registry.CheckOptions{Now: at(tt.now)}).Steps {
			switch s.Name {
			case registry.StepCertificate:
				got = s
			case registry.StepClock:
				clock = s
			}
		}
		if got.Result != tt.result || !strings.Contains(got.Seen, tt.says) || !strings.Contains(got.Remedy, tt.remedy) {
			t.Errorf("%s: %+v", name, got)
		}
		if name == "trusted" && (clock.Result != registry.Fails || !strings.Contains(clock.Seen, "the registry's clock is 10m")) {
			t.Errorf("a clock that is late: %+v", clock)
		}
	}
}
