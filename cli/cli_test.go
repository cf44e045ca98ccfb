package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dovrak/api/wire"
)

// TestTheRidge draws what the console draws: twelve posts by twelve digits, the hue by the thirteenth.
func TestTheRidge(t *testing.T) {
	digest := "sha256:0123456789abcdef" + strings.Repeat("0", 48)
	if got := (&App{}).ridge(digest); got != "▁▁▂▂▃▃▄▄▅▅▆▆" {
		t.Errorf("got %s", got)
	}
	if got := (&App{colour: true}).ridge(digest); got != "\x1b[38;5;136m▁▁▂▂▃▃▄▄▅▅▆▆\x1b[0m" { // hue c & 7 = 4
		t.Errorf("got %q", got)
	}
	if got := (&App{}).plate("sha256:f" + digest[8:]); !strings.HasPrefix(got, "█▁▂▂") || !strings.HasSuffix(got, " f123456789ab") {
		t.Errorf("got %s", got)
	}
	if got := (&App{}).plate(""); got != "nothing" {
		t.Errorf("no digest is drawn as %q", got)
	}
	if got := (&App{}).ridge("sha256:00"); strings.TrimSpace(got) != "" {
		t.Errorf("what is no digest is drawn as %q", got)
	}
}

func TestWords(t *testing.T) {
	now := time.Date(2026, 3, 3, 12, 0, 0, 0, time.UTC)
	for ago, want := range map[time.Duration]string{
		-time.Second: "just now", 59 * time.Second: "59 s", 59 * time.Minute: "59 min", 47 * time.Hour: "47 h", 49 * time.Hour: "2 d",
	} {
		if got := age(now.Add(-ago), now); got != want {
			t.Errorf("%s ago: %q", ago, got)
		}
	}
	for _, tt := range []struct {
		moved, total int64
		full         int
	}{{0, 100, 0}, {50, 100, 12}, {100, 100, 24}, {300, 100, 24}, {0, 0, 24}} {
		if got := strings.Count(bar(tt.moved, tt.total), "━"); got != tt.full {
			t.Errorf("%d of %d: %d parts of 24", tt.moved, tt.total, got)
		}
	}
}

// run runs a command against a service that gives the answers told, and tells what it printed.
func run(t *testing.T, answer http.HandlerFunc, env map[string]string, stdin string, args ...string) (int, string, string) {
	t.Helper()
	srv := httptest.NewServer(answer)
	defer srv.Close()
	var out, problem bytes.Buffer
	a := App{In: strings.NewReader(stdin), Out: &out, Err: &problem, Env: func(k string) string {
		if k == "DOVRAK_SERVER" {
			return srv.URL
		}
		return env[k]
	}}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	return a.Run(ctx, args), out.String(), problem.String()
}

func gives(status int, v any) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		if err := json.NewEncoder(w).Encode(v); err != nil {
			panic(err)
		}
	}
}

func TestExitCodes(t *testing.T) {
	for _, tt := range []struct {
		kind   string
		status int
		code   int
		word   string
	}{
		{"malformed", 400, WrongUsage, "failed"}, {"not-signed-in", 401, Failed, "failed"}, {"not-permitted", 403, Failed, "failed"},
		{"not-found", 404, Failed, "failed"}, {"refused", 409, Refused, "refused"}, {"busy", 409, Failed, "failed"},
		{"registry", 502, Failed, "failed"}, {"internal", 500, Failed, "failed"},
	} {
		p := wire.Problem{Title: "This was not done", Kind: tt.kind, Status: tt.status, Seen: "what was seen", Rule: "a rule",
			Remedy: "a remedy", RequestID: "r-1"}
		code, out, err := run(t, gives(tt.status, p), nil, "", "whoami")
		if code != tt.code || out != "" || !strings.HasPrefix(err, tt.word+": This was not done\n") || !strings.Contains(err,
			"  remedy a remedy\n") {
			t.Errorf("%s: %d\n%s%s", tt.kind, code, out, err)
		}
		if (tt.kind == "internal") != strings.Contains(err, "request r-1") {
			t.Errorf("%s: the request's id:\n%s", tt.kind, err)
		}
	}
	code, _, err := run(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusBadGateway) }, nil, "", "whoami")
	if code != Failed || !strings.Contains(err, "Something else than the service answered") {
		t.Errorf("a proxy's own answer: %d %s", code, err)
	}
}

// TestSigningIn keeps a token for its own service alone, where nobody else reads it, and never shows it.
func TestSigningIn(t *testing.T) {
	home := t.TempDir()
	env := map[string]string{"XDG_CONFIG_HOME": home}
	var sent string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		sent = r.Header.Get("Authorization")
		gives(200, wire.Actor{Name: "Ragna", Kind: "person", May: []string{"read"}})(w, r)
	}))
	defer srv.Close()
	do := func(stdin string, args ...string) (int, string) {
		var out bytes.Buffer
		a := App{In: strings.NewReader(stdin), Out: &out, Err: &out, Env: func(k string) string { return env[k] }}
		return a.Run(t.Context(), append(args, "--server", srv.URL)), out.String()
	}
	if code, out := do("dovrak_token-of-ragna\n", "signin"); code != Done || !strings.Contains(out,
		"as Ragna") || strings.Contains(out, "token-of") {
		t.Fatalf("%d %s", code, out)
	}
	file := filepath.Join(home, "dovrak", "signin.yaml")
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("kept with %v, %v", info, err)
	}
	sent = ""
	if code, out := do("", "whoami"); code != Done || sent != "Bearer dovrak_token-of-ragna" {
		t.Errorf("afterwards: %d %s, sent %q", code, out, sent)
	}
	code, _, _ := run(t, func(w http.ResponseWriter, r *http.Request) {
		sent = r.Header.Get("Authorization")
		gives(200, wire.Actor{})(w, r)
	}, env, "", "whoami")
	if code != Done || sent != "" {
		t.Errorf("another service was sent %q", sent)
	}
}

// TestPlainLines: where nobody watches, progress is a line for each change of state, and nothing is drawn over.
func TestPlainLines(t *testing.T) {
	var err bytes.Buffer
	p := (&App{Err: &err}).progress("copy 77")
	for _, state := range []string{"asked", "moving", "moving", "verified"} {
		p.show(wire.Work{State: state})
	}
	p.end()
	if got := err.String(); got != "copy 77: asked\ncopy 77: moving\ncopy 77: verified\n" {
		t.Errorf("got %q", got)
	}
	err.Reset()
	p = (&App{Err: &err, liveErr: true}).progress("copy 77")
	p.show(wire.Work{State: "moving", Progress: []wire.Progress{{Repository: "hut/x", Moved: 1 << 20, Total: 2 << 20}}})
	p.end()
	if got := err.String(); !strings.Contains(got, "1.0 MiB of 2.0 MiB") || !strings.HasSuffix(got, "\x1b[2A\x1b[J") {
		t.Errorf("on a terminal: %q", got)
	}
}
