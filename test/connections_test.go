package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"

	"github.com/opencontainers/go-digest"
)

// step finds one step of a check.
func step(t *testing.T, c wire.RegistryCheck, name string) wire.CheckStep {
	t.Helper()
	i := slices.IndexFunc(c.Steps, func(s wire.CheckStep) bool { return s.Name == name })
	if i < 0 {
		t.Fatalf("no step %s in %+v", name, c)
	}
	return c.Steps[i]
}

// TestChecks: what each step of a check says, of accounts and registries of every temper.
func TestChecks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	w.hut.sim.SetAccount("reader", sim.Account{Secret: secret, Pull: true})
	w.forge.sim.SetAccount("reader", sim.Account{Secret: secret, Pull: true})
	w.in(secret).ok("registry", "add", "hut-reader", "--address", w.hut.URL, "--account", "reader", "--secret-file", "-")
	w.in(secret).ok("registry", "add", "forge-reader", "--address", w.forge.URL, "--account", "reader", "--secret-file", "-")
	w.declare("hut-reader/live/snowpack-model", "forge-reader/bench/snowpack-model")
	for _, tt := range []struct {
		args []string
		code int
		want map[string]string // step → result and what is said with it
	}{
		{[]string{"hut", "--repository", "live/snowpack-model"}, 0, map[string]string{
			"name": "holds an address", "connection": "holds connected to 127.0.0.1", "certificate": "absent plain HTTP",
			"API": "holds signs in by basic", "sign-in": "holds as dovrak", "clock": "holds within", "pull": "holds nothing is there under that name yet",
			"public": "absent without a credential", "push": "holds the right to put a manifest is not proved",
			"referrers": "holds listed by the registry", "mount": "not tried no blob is known", "delete": "not tried --for delete",
		}},
		{[]string{"forge", "--repository", "bench/snowpack-model", "--for", "push,delete"}, 0, map[string]string{
			"API": "holds signs in by token at http://", "pull": "holds HEAD of the manifest build-41", "tag paging": "holds asked for one tag, it gives one",
			"push": "holds opened and cancelled", "delete": "cannot tell 404",
		}},
		{[]string{"forge", "--repository", "bench/elsewhere"}, 0, map[string]string{"pull": "holds", "push": "not tried not declared"}},
		{[]string{"forge"}, 0, map[string]string{"pull": "holds HEAD of the manifest"}}, // in the charter's place
		// The point of it all: an account that may pull but not push, by basic and by token.
		{[]string{"hut-reader", "--repository", "live/snowpack-model"}, 5, map[string]string{
			"sign-in": "holds says nothing yet of what the account may do", "pull": "holds",
			"push": "fails the account may not push to hut-reader/live/snowpack-model: 403 Forbidden, DENIED",
		}},
		{[]string{"forge-reader", "--repository", "bench/snowpack-model", "--for", "push,delete"}, 5, map[string]string{
			"sign-in": "holds as reader", "pull": "holds", "push": "fails the account may not push to forge-reader/bench/snowpack-model: 401",
			"delete": "fails may not delete",
		}},
	} {
		r := w.run(append([]string{"registry", "check", "-o", "json"}, tt.args...)...)
		var c wire.RegistryCheck
		if err := json.Unmarshal([]byte(r.out), &c); err != nil || r.code != tt.code {
			t.Fatalf("%v ended with %d: %s%s", tt.args, r.code, r.out, r.err)
		}
		for name, want := range tt.want {
			s := step(t, c, name)
			if said, ok := strings.CutPrefix(want, s.Result); !ok || !strings.Contains(s.Seen, strings.TrimSpace(said)) {
				t.Errorf("%v: %s %s: %s, want %s", tt.args, name, s.Result, s.Seen, want)
			}
		}
	}
	if left := w.hut.sessions(t) + w.forge.sessions(t); left != 0 {
		t.Errorf("%d upload sessions were left", left)
	}
	if got := w.ok("registry", "list"); !strings.Contains(got, "push fails") || !strings.Contains(got, "nothing fails") {
		t.Errorf("the list does not tell what was seen:\n%s", got)
	}
	if got := w.ok("registry", "destinations"); !strings.Contains(got, "hut/live/snowpack-model") ||
		!strings.Contains(got, "charter, live") {
		t.Errorf("destinations:\n%s", got)
	}
}

// TestABrokenConnectionSaysWhere: the first step that fails says what is wrong, and those that stand on it are not tried.
func TestABrokenConnectionSaysWhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.in(secret).ok("registry", "add", "old", "--address", w.hut.URL, "--account", "dovrak", "--secret-file", "-")
	check := func() wire.RegistryCheck {
		c, err := w.client().CheckRegistry(t.Context(), "old", wire.NewCheck{Repository: "live/snowpack-model"})
		must(t, err)
		return c
	}
	w.hut.breaks(func(*http.Request) sim.Fault { return sim.Fault{Status: 404} })
	if s := step(t, check(), "API"); s.Result != "fails" || !strings.Contains(s.Seen, "404") {
		t.Errorf("a server that is no registry: %+v", s)
	}
	w.hut.breaks(nil)
	w.hut.sim.SetAccount("dovrak", sim.Account{Secret: "another", Pull: true})
	c := check()
	if s := step(t, c, "sign-in"); s.Result != "fails" || !strings.Contains(s.Remedy, "expired or was replaced") {
		t.Errorf("a replaced secret: %+v", s)
	}
	if s := step(t, c, "push"); s.Result != "not tried" || !strings.Contains(s.Seen, "sign-in") {
		t.Errorf("what stands on it: %+v", s)
	}
	w.hut.Close()
	if s := step(t, check(), "connection"); s.Result != "fails" || !strings.Contains(s.Seen, "refused") {
		t.Errorf("nobody there: %+v", s)
	}
}

// TestAPlanLooksAtItsPlaces: a place that was not seen to take a push is checked before anything moves there, and one
// that may not be pushed to is refused with what the registry said.
func TestAPlanLooksAtItsPlaces(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	c, err := w.client().Plan(t.Context(), wire.NewPlan{Component: "snowpack-model", To: "live"})
	must(t, err)
	if posts := w.hut.since("POST"); len(posts) != 0 || time.Since(c.Places[0].Checked) > time.Hour {
		t.Errorf("a place that was checked today is checked again: %v, %s", posts, c.Places[0].Checked)
	}
	w.sql("UPDATE registry_checks SET at = at - interval '25 hours'")
	w.hut.sim.SetAccount("dovrak", sim.Account{Secret: secret, Pull: true})
	r := w.run("promote", "snowpack-model", "--to", "live", "--because", "x")
	if r.code != 3 || !strings.Contains(r.err, "the account may not push to hut/live/snowpack-model: 403 Forbidden, DENIED") {
		t.Errorf("promoting to where nothing may be pushed: %d %s", r.code, r.err)
	}
	w.hut.sim.SetAccount("dovrak", sim.Account{Secret: secret, Pull: true, Push: true})
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "the account may push now")
}

// TestEditing: what a connection's settings may become, and what of it is refused.
func TestEditing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	other := newSide(t, sim.Basic)
	for _, tt := range []struct {
		name string
		args []string
		code int
		says string
	}{
		{"a label and a limit", []string{"--label", "region=mountain", "--requests-per-second", "20"}, 0, "region=mountain"},
		{"a label away", []string{"--label", "region="}, 0, ""},
		{"a label that is none", []string{"--label", "Region=mountain"}, 2, "the label Region=mountain"},
		{"its secret to another host", []string{"--address", other.URL}, 3, "goes to the host it was given for"},
		{"its secret to another sign-in", []string{"--sign-in-host", "elsewhere.example"}, 3, "goes to the host it was given for"},
		{"another host with the secret again", []string{"--address", other.URL, "--account", "dovrak", "--secret-file", "-"}, 0, other.URL},
		{"plain HTTP elsewhere", []string{"--address", "http://hut.example", "--anonymous"}, 2, "unless it is said"},
		{"a wrong secret", []string{"--account", "dovrak", "--secret-file", filepath.Join(w.dir, "log")}, 1, "credential"},
		{"an account alone", []string{"--account", "dovrak"}, 2, "without its secret"},
		{"two credentials", []string{"--anonymous", "--secret-source", "x"}, 2, "more than one credential"},
		{"a source that nobody declared", []string{"--secret-source", "x"}, 1, "No secret source is declared"},
		{"unchecked without an owner", []string{"--unverified-until", "2026-03-03"}, 2, "an owner and an end"},
		{"unchecked for ever", []string{"--unverified-owner", "Ylva", "--unverified-until", "2099-01-01"}, 2, "31 days"},
		{"unchecked until tomorrow", []string{"--unverified-owner", "Ylva", "--unverified-until",
			time.Now().UTC().Add(24 * time.Hour).Format(time.RFC3339)}, 0, "unchecked certificates, by Ylva until"},
		{"checked again", []string{"--unverified-owner", ""}, 0, ""},
	} {
		r := w.in(secret).run(append([]string{"registry", "edit", "hut"}, tt.args...)...)
		if r.code != tt.code || !strings.Contains(r.out+r.err, tt.says) {
			t.Errorf("%s: %d, %s%s", tt.name, r.code, r.out, r.err)
		}
	}
	if r := w.run("registry", "edit", "huut", "--label", "a=b"); r.code != 1 || !strings.Contains(r.err, "did you mean hut?") {
		t.Errorf("a slip of typing: %d %s", r.code, r.err)
	}
	trail := w.ok("trail", "-o", "json")
	if strings.Count(trail, `"registry edited"`) != 5 || !strings.Contains(trail, `"address, secret"`) ||
		strings.Contains(trail, secret) {
		t.Errorf("the trail: %s", trail)
	}
}

// TestDropping: a registry that the charter needs stays; another goes, its secret with it, and its name is free again.
func TestDropping(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	if r := w.run("registry", "drop", "hut"); r.code != 3 ||
		!strings.Contains(r.err, "a place of the environment live: hut/live/{component}") {
		t.Errorf("the charter's registry: %d %s", r.code, r.err)
	}
	for range 2 {
		w.in(secret).ok("registry", "add", "spare", "--address", w.hut.URL, "--account", "dovrak", "--secret-file", "-")
		w.ok("registry", "drop", "spare")
	}
	if n := w.count("SELECT count(*) FROM registries WHERE name = 'spare' AND credential_sealed IS NULL AND dropped_at IS NOT NULL"); n != 2 {
		t.Errorf("%d dropped registries without a secret", n)
	}
	if r := w.run("show", "spare/live/snowpack-model:live"); r.code != 1 ||
		!strings.Contains(r.err, "No registry is connected under this name") {
		t.Errorf("a dropped registry: %d %s", r.code, r.err)
	}
}

// TestASecretIsReplacedAtOnce: the next request signs in anew, in a process that has the old one in use.
func TestASecretIsReplacedAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("registry", "check", "hut")
	w.hut.sim.SetAccount("dovrak", sim.Account{Secret: "new-word", Pull: true, Push: true})
	w.in("new-word").ok("registry", "edit", "hut", "--account", "dovrak", "--secret-file", "-")
	w.ok("registry", "check", "hut")
	if raw, err := os.ReadFile(w.logFile()); err != nil || strings.Contains(string(raw), secret) ||
		strings.Contains(string(raw), "new-word") {
		t.Errorf("the log repeats a secret, or cannot be read: %v", err)
	}
}

// TestSecretSources: the settings declare them, a registry names one, and none goes to a host that it is not for.
func TestSecretSources(t *testing.T) {
	t.Parallel()
	w := newWorldWithout(t)
	file := filepath.Join(w.dir, "dovrak.yaml")
	must(t, os.WriteFile(filepath.Join(w.dir, "hut.secret"), []byte(secret+"\n"), 0o600))
	must(t, os.WriteFile(file, fmt.Appendf(nil, `secretSources:
  hut-desk: {hosts: [%q], account: dovrak, file: %q}
  forge-hourly: {hosts: [%q], command: [/bin/echo, '{"account": "dovrak", "secret": "%s"}']}
`, host(w.hut), filepath.Join(w.dir, "hut.secret"), host(w.forge), secret), 0o600))
	w.kill()
	w.start("DOVRAK_CONFIG=" + file)
	w.ok("registry", "add", "hut", "--address", w.hut.URL, "--secret-source", "hut-desk")
	w.ok("registry", "add", "forge", "--address", w.forge.URL, "--secret-source", "forge-hourly")
	if r := w.run("registry", "add", "two", "--address", w.forge.URL, "--secret-source", "hut-desk"); r.code != 3 ||
		!strings.Contains(r.err, "a secret source is bound to its hosts") {
		t.Errorf("one registry's secret for another: %d %s", r.code, r.err)
	}
	if n := w.count("SELECT count(*) FROM registries WHERE credential_sealed IS NOT NULL"); n != 0 {
		t.Errorf("%d secrets of sources are in the database", n)
	}
	must(t, os.WriteFile(filepath.Join(w.dir, "hut.secret"), []byte("new-word\n"), 0o600))
	w.hut.sim.SetAccount("dovrak", sim.Account{Secret: "new-word", Pull: true})
	if r := w.run("show", "hut/live/snowpack-model:live"); r.code != 1 || !strings.Contains(r.err, "Nothing is there yet") {
		t.Errorf("a secret that was replaced in its file: %d %s", r.code, r.err)
	}
}

func host(s *side) string { return strings.TrimPrefix(s.URL, "http://") }

// TestDestinationsAreDeclared: nothing is written where neither the charter nor anyone by hand lets Dovrak write, and the
// refusal names what was probably meant.
func TestDestinationsAreDeclared(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ref := w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	for to, says := range map[string]string{
		"hut/live/snowpack-modle": "did you mean hut/live/snowpack-model?",
		"hut/prod/snowpack-model": "did you mean forge/bench/snowpack-model?",
		"hut/live/gauge":          "dovrak registry declare hut/live/gauge",
	} {
		if r := w.run("copy", ref, to); r.code != 3 || !strings.Contains(r.err, says) ||
			!strings.Contains(r.err, "destinations are declared") {
			t.Errorf("%s: %d %s", to, r.code, r.err)
		}
	}
	if asked := w.hut.since("POST"); len(asked) != 0 {
		t.Errorf("a refusal wrote: %v", asked)
	}
	w.ok("registry", "declare", "hut/live/gauge", "--owner", "Tormod", "--tags", "fixed")
	w.ok("copy", ref, "hut/live/gauge")
	gauge := "hut/live/gauge@" + ref[strings.IndexByte(ref, '@')+1:]
	w.ok("point", gauge, "a", "--because", "x")
	second := w.push(build(t, 42, "2.15.0", both, 1<<10), "build-42")
	w.ok("copy", second, "hut/live/gauge")
	if r := w.run("point", "hut/live/gauge@"+second[strings.IndexByte(second, '@')+1:], "a", "--because", "x"); r.code != 3 ||
		!strings.Contains(r.err, "tags cannot be overwritten") {
		t.Errorf("overwriting where nothing can be: %d %s", r.code, r.err)
	}
	w.ok("registry", "undeclare", "hut/live/gauge")
	if r := w.run("point", gauge, "b", "--because", "x"); r.code != 3 || !strings.Contains(r.err, "destinations are declared") {
		t.Errorf("after it was undeclared: %d %s", r.code, r.err)
	}
}

// TestTakingIn: an estate is read and not changed; what the trail did not know is found, not decided; and a process that
// dies over it loses nothing and writes nothing twice.
func TestTakingIn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	img := build(t, 41, "2.14.0", both, 1<<10)
	for _, repository := range []string{"old/alpha", "old/beta", "old/gamma"} {
		to := pipeline.Target{Address: w.forge.URL, Repository: repository, Name: "dovrak", Secret: secret}
		must(t, to.Push(t.Context(), img, "2.14.0", "nobody-knows", "build-41"))
	}
	w.onBench(img, "build-41")
	struck := w.diesAt("repository-taken")
	w.ok("registry", "take-in", "forge", "--repository", "old/*", "--detach")
	struck()
	w.forge.since()
	w.start()
	var taken wire.TakeIn
	w.until(30*time.Second, "the taking-in has ended", func() bool {
		var err error
		taken, err = w.client().TakeInNumbered(t.Context(), 1)
		must(t, err)
		return taken.Ended
	})
	r := taken.Report
	if taken.Problem != nil || r == nil || r.Repositories != 3 || r.Tags != 9 || r.Images != 1 || r.Sharing != 9 || r.Unruled != 3 ||
		r.Unreadable != 0 ||
		len(r.Platforms) != 2 ||
		!slices.Contains(r.Examples, "forge/old/beta:nobody-knows") {
		t.Errorf("taken in: %+v %+v", r, taken.Problem)
	}
	for _, a := range w.forge.since() {
		if !strings.HasPrefix(a, "GET") && !strings.HasPrefix(a, "HEAD") {
			t.Errorf("taking in changed something: %s", a)
		}
	}
	if n := w.count("SELECT count(*) FROM trail_entries WHERE act = 'tag found'"); n != 9 {
		t.Errorf("%d first entries, want one a tag", n)
	}
	if got := w.ok("trail", "forge/old/beta:nobody-knows"); !strings.Contains(got, "tag found") || !strings.Contains(got, "not decided") {
		t.Errorf("the trail: %s", got)
	}
	if got := w.ok("registry", "take-in", "forge", "--repository", "bench/snowpack-model"); !strings.Contains(
		got,
		"nothing was changed",
	) {
		t.Errorf("one repository by name: %s", got)
	}
	if n := w.count("SELECT count(*) FROM trail_entries WHERE act = 'tag found' AND subject = 'forge/bench/snowpack-model:main'"); n != 0 {
		t.Error("a tag that Dovrak pointed is called found")
	}
}

// TestAnExceptionEnds: certificates go unchecked while the exception counts, and are checked again when it is over.
func TestAnExceptionEnds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	h, err := sim.New(sim.Options{Dir: t.TempDir()})
	must(t, err)
	srv := httptest.NewTLSServer(h)
	t.Cleanup(srv.Close)
	until := time.Now().UTC().Add(time.Hour).Format(time.RFC3339)
	if r := w.run("registry", "add", "cellar", "--address", srv.URL); r.code != 1 || !strings.Contains(r.err, "certificate") {
		t.Errorf("an unknown CA: %d %s", r.code, r.err)
	}
	w.ok("registry", "add", "cellar", "--address", srv.URL, "--unverified-owner", "Ylva", "--unverified-until", until)
	w.declare("cellar/a")
	ref := w.push(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	w.ok("copy", ref, "cellar/a")
	shown := w.ok("show", "cellar/a@"+ref[strings.IndexByte(ref, '@')+1:])
	if !strings.Contains(shown, "certificates of cellar go unchecked, by Ylva until") {
		t.Errorf("it is not told where it applies:\n%s", shown)
	}
	w.sql("UPDATE registries SET unverified_until = now() - interval '1 second' WHERE name = 'cellar'")
	if r := w.run("show", "cellar/a:1"); r.code != 1 || !strings.Contains(r.err, "certificate") {
		t.Errorf("after its end: %d %s", r.code, r.err)
	}
}

// TestAHostileEstate: what a hand-made registry answers is shown as what it is, within bounds, and never acts on a terminal.
func TestAHostileEstate(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	documents := map[string]string{}
	put := func(raw string) string {
		d := digest.FromString(raw).String()
		documents[d] = raw
		return d
	}
	config := put(
		`{"os":"linux","architecture":"amd64","author":"\u001b[2Jnobody","config":{"Labels":{"note\u009b31m":"red\u001b[31m"}}}`,
	)
	img := put(
		fmt.Sprintf(
			`{"schemaVersion":2,"config":{"mediaType":"application/vnd.oci.image.config.v1+json","digest":%q,"size":%d},"layers":[]}`,
			config,
			len(documents[config]),
		),
	)
	member := func(d, platform string) string {
		return fmt.Sprintf(`{"schemaVersion":2,"manifests":[{"mediaType":"x","digest":%q,"size":%d%s}]}`, d, len(documents[d]), platform)
	}
	deep := img
	for range 6 {
		deep = put(member(deep, ""))
	}
	tags := map[string]string{"plain": img, "deep": deep, "twice": put(`{"schemaVersion":2,"schemaVersion":2,"manifests":[]}`),
		"both": put(
			`{"schemaVersion":2,"manifests":[],"layers":[]}`,
		), "contradicts": put(member(img, `,"platform":{"os":"linux","architecture":"arm64"}`))}
	srv := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		name := r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:]
		if d, ok := tags[name]; ok {
			name = d
		}
		switch {
		case r.URL.Path == "/v2/":
		case name == "list":
			fmt.Fprint(rw, `{"tags":["plain","deep","twice","both","contradicts","\u001b[2Jgone","../../x",""]}`)
		case documents[name] != "":
			rw.Header().Set("Docker-Content-Digest", name)
			fmt.Fprint(rw, documents[name])
		default:
			http.NotFound(rw, r)
		}
	}))
	t.Cleanup(srv.Close)
	w.ok("registry", "add", "odd", "--address", srv.URL)
	for tag, says := range map[string]string{"deep": "nested more than 4 deep", "twice": "twice in one object", "both": "both manifests and layers"} {
		if r := w.run("show", "odd/x:"+tag); r.code != 1 || !strings.Contains(r.err, says) {
			t.Errorf("%s: %d %s", tag, r.code, r.err)
		}
	}
	for _, args := range [][]string{{"show", "odd/x:plain"}, {"tags", "odd/x"}, {"show", "odd/x:contradicts"}, {"where", "plain"}} {
		r := w.run(args...)
		if r.code != 0 || strings.ContainsAny(r.out, "\x1b\u009b\r") {
			t.Errorf("%v: %d, %q %s", args, r.code, r.out, r.err)
		}
	}
	listed := w.ok("tags", "odd/x")
	if !strings.Contains(listed, "5 tags of 5 images") ||
		strings.Count(listed, "cannot be read")+strings.Count(listed, "goes deeper") != 3 ||
		!strings.Contains(listed, "the index calls it linux/arm64") {
		t.Errorf("listed:\n%s", listed)
	}
	if r := w.run("show", "odd/x:contradicts", "--as", "linux/amd64"); r.code != 1 || !strings.Contains(r.err, "Nobody can say") {
		t.Errorf("what a client gets of a contradiction: %d %s", r.code, r.err)
	}
}
