package test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/standin/oidc"
	"dovrak/standin/pipeline"
)

// valley starts an issuer and has the charter name it: projects of models, on main, report for snowpack-model.
func (w *world) valley() *oidc.Issuer {
	w.t.Helper()
	srv := httptest.NewUnstartedServer(nil)
	i, err := oidc.New("http://" + srv.Listener.Addr().String())
	must(w.t, err)
	srv.Config.Handler = i
	srv.Start()
	w.t.Cleanup(srv.Close)
	w.adopt(charterText + "pipelines:\n  valley:\n    issuer: " + i.URL + "\n    audience: dovrak\n" +
		"    may: [{claims: {project: models/*, branch: main}, components: [snowpack-model]}]\n")
	return i
}

func claims(more map[string]any) map[string]any {
	out := map[string]any{"aud": "dovrak", "sub": "models/snowpack", "project": "models/snowpack", "branch": "main"}
	for k, v := range more {
		out[k] = v
		if v == nil {
			delete(out, k)
		}
	}
	return out
}

// TestAPipelineSignsIn by its own system's token, without any secret that is stored; the keys may change at any time.
func TestAPipelineSignsIn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	valley := w.valley()
	sign := func(token string) result { return caller{w, "", token}.run("signin", "--pipeline") }
	issued := func(more map[string]any) string {
		token, err := valley.Token(claims(more))
		must(t, err)
		return token
	}
	first := issued(nil)
	r := sign(first)
	if r.code != 0 || !strings.Contains(r.err, "signed in as valley/models/snowpack, for snowpack-model") {
		t.Fatalf("%d: %s", r.code, r.err)
	}
	pipe := caller{w, strings.TrimSpace(r.out), ""}
	if who := pipe.ok("whoami"); !strings.Contains(who, "may report for snowpack-model") {
		t.Errorf("who: %s", who)
	}
	b := run(41, "2.14.0")
	pipe.ok(
		"build",
		"start",
		"--component",
		b.Component,
		"--number",
		"41",
		"--commit",
		b.Commit,
		"--branch",
		"main",
		"--version",
		b.Version,
	)
	for _, p := range both {
		pipe.ok("build", "part", name(b), "--platform", p, "--image", w.part(b, p))
	}
	pipe.ok("build", "watch", name(b)) // what it reports it may look at, and nothing else
	if r := pipe.run("build", "list"); r.code != 1 || !strings.Contains(r.err, "permission read") {
		t.Errorf("listing: %d %s", r.code, r.err)
	}
	if left := w.count("SELECT count(*) FROM tokens WHERE expires_at BETWEEN now() + interval '58 minutes' AND now() + interval '61 minutes'"); left != 1 {
		t.Errorf("%d tokens for an hour", left)
	}

	stranger, err := oidc.New(valley.URL)
	must(t, err)
	forged, err := stranger.Token(claims(nil))
	must(t, err)
	elsewhere, err := oidc.New("https://ci.elsewhere.example")
	must(t, err)
	foreign, err := elsewhere.Token(claims(nil))
	must(t, err)
	unsigned := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + strings.Split(issued(nil), ".")[1] + "."
	now := time.Now()
	for _, tt := range []struct{ name, token, says string }{
		{"used before", first, "a token that signed in before"},
		{"expired", issued(map[string]any{"exp": now.Add(-time.Minute).Unix()}), "a token that expired at"},
		{"not yet", issued(map[string]any{"nbf": now.Add(3 * time.Minute).Unix()}), "a token from the future"},
		{"from the future", issued(map[string]any{"iat": now.Add(time.Hour).Unix(), "nbf": nil}), "a token from the future"},
		{"for another audience", issued(map[string]any{"aud": "elsewhere"}), "expected audience"},
		{"signed by a stranger", forged, "failed to verify signature"},
		{"signed by nobody", unsigned, "unexpected signature algorithm"},
		{"of another issuer", foreign, "the issuer https://ci.elsewhere.example"},
		{"of another project", issued(map[string]any{"project": "devices/relay"}), "claims that fit no condition"},
		{"of another branch", issued(map[string]any{"branch": "thaw"}), "claims that fit no condition"},
		{"without a claim", issued(map[string]any{"branch": nil}), "claims that fit no condition"},
		{"without a subject", issued(map[string]any{"sub": ""}), "a subject that is no name"},
		{"no token", "hello", "no JSON Web Token"},
		{"nothing", "", "no JSON Web Token"},
		{"one that cannot be read", "a.!.c", "a token that cannot be read"},
		{"too long a one", strings.Repeat("x", 17<<10), "too large"},
	} {
		if r := sign(tt.token); r.code == 0 || !strings.Contains(r.err, tt.says) || !strings.Contains(r.err, "remedy") || r.out != "" {
			t.Errorf("%s: %d, want %q\n%s", tt.name, r.code, tt.says, r.err)
		}
	}
	old := issued(nil)
	must(t, valley.Rotate())
	if r := sign(issued(nil)); r.code != 0 {
		t.Errorf("by a new key: %s", r.err)
	}
	if r := sign(old); r.code == 0 {
		t.Error("a token by a key that is no more counts")
	}
	if strings.Contains(w.log(), first) || strings.Contains(w.ok("trail"), pipe.token) {
		t.Error("a token is told")
	}
}

// TestEvidence: what is vouched for is kept for the very digest, and what it is worth is shown.
func TestEvidence(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := w.whole(run(41, "2.14.0"))
	ref := "forge/bench/snowpack-model@" + b.Digest
	dir := t.TempDir()
	report, huge := filepath.Join(dir, "scan.json"), filepath.Join(dir, "huge.json")
	must(t, os.WriteFile(report, []byte(`{"found": 0}`), 0o600))
	must(t, os.WriteFile(huge, bytes.Repeat([]byte("x"), 50<<20), 0o600))
	w.ok("vouch", ref, "--claim", "scan", "--verdict", "passed", "--file", report, "--link", "https://scan.example/41", "--for", "720h")
	w.ok("vouch", ref, "--claim", "bench-run", "--verdict", "failed", "--platform", "linux/arm64", "--note", "two slopes missed")
	w.ok("vouch", ref, "--claim", "sign-off", "--verdict", "noted", "--for", "1h")
	w.sql("UPDATE vouches SET expires_at = now() - interval '1 second' WHERE claim = 'sign-off'")
	shown := w.ok("show", ref)
	for _, want := range []string{"scan passed", "scan.json https://scan.example/41", "bench-run failed for linux/arm64", "two slopes missed", "expired"} {
		if !strings.Contains(shown, want) {
			t.Errorf("%q is not shown:\n%s", want, shown)
		}
	}
	if raw, err := w.client().Report(t.Context(), 1); err != nil || string(raw) != `{"found": 0}` {
		t.Errorf("the report is %q, %v", raw, err)
	}
	if trail := w.ok("trail", "forge/bench/snowpack-model"); strings.Count(trail, "vouched") != 3 ||
		!strings.Contains(trail, "two slopes missed") {
		t.Errorf("the trail tells:\n%s", trail)
	}
	vouch := func(image string, more ...string) []string { return append([]string{"vouch", image}, more...) }
	for _, tt := range []struct {
		name string
		args []string
		code int
		says string
	}{
		{"for a tag", vouch("forge/bench/snowpack-model:main", "--claim", "scan", "--verdict", "passed"), 2, "a tag in place of a digest"},
		{"for nothing", vouch("forge/bench/snowpack-model@sha256:"+strings.Repeat("ab", 32), "--claim", "scan", "--verdict", "passed"), 1, "Nothing is there"},
		{"for a platform it has not", vouch(ref, "--claim", "scan", "--verdict", "passed", "--platform", "linux/riscv64"), 1, "no such platform"},
		{"without a claim", vouch(ref, "--verdict", "passed"), 2, "the claim"},
		{"without a verdict", vouch(ref, "--claim", "scan", "--verdict", "fine"), 2, "passed, failed or noted"},
		{"with a link to nowhere", vouch(ref, "--claim", "scan", "--verdict", "passed", "--link", "javascript:x"), 2, "a link that is none"},
		{"for no time", vouch(ref, "--claim", "scan", "--verdict", "passed", "--for", "1s"), 2, "a life of 1s"},
		{"with 50 MB", vouch(ref, "--claim", "scan", "--verdict", "passed", "--file", huge), 2, "more than 4.0 MiB"},
	} {
		if r := w.run(tt.args...); r.code != tt.code || !strings.Contains(r.err, tt.says) || !strings.Contains(r.err, "remedy") {
			t.Errorf("%s: %d, want %d and %q\n%s", tt.name, r.code, tt.code, tt.says, r.err)
		}
	}
	for size, want := range map[int]int{5 << 20: 400, 50 << 20: 400} { // past the command line's own limit
		body, err := json.Marshal(wire.NewVouch{Image: ref, Claim: "scan", Verdict: "passed", Report: make([]byte, size)})
		must(t, err)
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, "http://"+w.listen+"/api/v1/evidence", bytes.NewReader(body))
		must(t, err)
		req.Header.Set("Authorization", "Bearer "+w.token)
		if resp, err := http.DefaultClient.Do(req); err == nil { // the connection may break while the rest is sent
			if must(t, resp.Body.Close()); resp.StatusCode != want {
				t.Errorf("%d bytes: %s", size, resp.Status)
			}
		}
	}
	if n := w.count("SELECT count(*) FROM vouches"); n != 3 {
		t.Errorf("%d pieces of evidence are kept", n)
	}
}

// TestAttestations count as verified by a key of the charter's, for the digest that they name.
func TestAttestations(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	img := build(t, 41, "2.14.0", both, 1<<10)
	ref := w.push(img, "build-41")
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(t, err)
	der, err := x509.MarshalPKIXPublicKey(key.Public())
	must(t, err)
	text := string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
	statement := func(of string) []byte {
		return []byte(
			`{"_type":"https://in-toto.io/Statement/v1","predicateType":"https://slsa.dev/provenance/v1","subject":[{"digest":{"sha256":"` +
				of + `"}}],"predicate":{"builder":{"id":"https://builder.skarvind.example"}}}`,
		)
	}
	const media = "application/vnd.in-toto+json"
	envelope := func(body []byte) map[string]any { // DSSE: what is signed is its type and its bytes, each with its length
		pae := []byte("DSSEv1 28 " + media + " " + strconv.Itoa(len(body)) + " " + string(body))
		sum := sha256.Sum256(pae)
		sig, err := ecdsa.SignASN1(rand.Reader, key, sum[:])
		must(t, err)
		return map[string]any{"payloadType": media, "payload": base64.StdEncoding.EncodeToString(body),
			"signatures": []any{map[string]string{"keyid": "x", "sig": base64.StdEncoding.EncodeToString(sig)}}}
	}
	for kind, said := range map[string]any{
		"application/vnd.dsse.envelope.v1+json": envelope(statement(img.Index.Digest.Encoded())),
		media:                                   json.RawMessage(statement(strings.Repeat("ab", 32))),
	} {
		a, err := pipeline.Attach(img, kind, said)
		must(t, err)
		must(t, w.bench().Push(t.Context(), a))
	}
	for _, tt := range []struct{ charter, signed string }{
		{charterText, ""}, {charterText + "attestation-keys:\n  builder: |\n    " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n    ") + "\n", "builder"},
	} {
		w.adopt(tt.charter)
		got, err := w.client().Image(t.Context(), ref, client.LookAt{})
		must(t, err)
		if len(got.Attestations) != 2 {
			t.Fatalf("read: %+v", got.Attestations)
		}
		for _, a := range got.Attestations {
			if a.Fits != (a.Digest == signedOne(got)) ||
				a.Fits && (a.Key != tt.signed || a.Builder != "https://builder.skarvind.example") ||
				!a.Fits && a.Key != "" {
				t.Errorf("with keys %q: %+v", tt.signed, a)
			}
		}
	}
}

// signedOne is the digest of the attestation in an envelope.
func signedOne(img wire.Image) string {
	for _, r := range img.Referrers { // its artifact type says so
		if strings.Contains(r.Type, "dsse") {
			return r.Digest
		}
	}
	return ""
}
