package test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"dovrak/api/wire"
	"dovrak/standin/oidc"
)

// peopleText is who there is, with %s for the issuer.
const peopleText = `people: {issuer: "%s", client: dovrak}
groups:
  release-desk: {claims: [desk], may: [read, point, copy]}
  operations: {claims: [ops]}
  auditors: {claims: [audit], members: [Isak], may: [read]}
`

const agreed = "    promote: [release-desk]\n    approvals: {count: 1, from: [operations]}\n"

// peopled is a world with an issuer at which people sign in. live has these rules besides: who promotes, and who approves.
func peopled(t testing.TB, rules string) (*world, *oidc.Issuer) {
	t.Helper()
	id := issuer(t)
	id.Let(oidc.Person{Subject: "u1", Name: "Ragna", Email: "ragna@skarvind.example", Groups: []string{"desk"}},
		oidc.Person{Subject: "u2", Name: "Tormod", Groups: []string{"desk", "ops"}},
		oidc.Person{Subject: "u3", Name: "Ylva", Email: "ylva@skarvind.example", Groups: []string{"ops"}},
		oidc.Person{Subject: "u4", Name: "Isak", Groups: []string{"audit"}},
		oidc.Person{Subject: "u5", Name: "Somebody", Groups: []string{"visitors"}})
	w := newWorld(t)
	w.adopt(w.charterOfPeople(id, rules))
	return w, id
}

func (w *world) charterOfPeople(id *oidc.Issuer, rules string) string {
	return strings.Replace(charterText, "    standing: live\n", "    standing: live\n"+agreed+rules, 1) + fmt.Sprintf(peopleText, id.URL)
}

// issuer starts a simulated issuer.
func issuer(t testing.TB) *oidc.Issuer {
	t.Helper()
	var id *oidc.Issuer
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { id.ServeHTTP(w, r) }))
	t.Cleanup(s.Close)
	id, err := oidc.New(s.URL)
	must(t, err)
	return id
}

// as signs somebody in whom the issuer knows, as a terminal does.
func (w *world) as(id *oidc.Issuer, name string) caller {
	w.t.Helper()
	raw, err := id.Token(id.Claims(name, "dovrak"))
	must(w.t, err)
	s, err := w.client().SignInTerminal(w.t.Context(), wire.TerminalSignIn{Identity: raw})
	must(w.t, err)
	return caller{w, s.Token, ""}
}

// visitor is somebody's, without the rendering: it keeps cookies and follows the console's own redirects by hand.
type visitor struct {
	t testing.TB
	w *world
	*http.Client
}

func (w *world) visitor() *visitor {
	jar, err := cookiejar.New(nil)
	must(w.t, err)
	return &visitor{
		w.t,
		w,
		&http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }},
	}
}

func (b *visitor) at(path string) string { return "http://" + b.w.listen + path }

// goes follows one address, and gives the next.
func (b *visitor) goes(address string, form url.Values) (status int, to string) {
	b.t.Helper()
	var resp *http.Response
	var err error
	if form == nil {
		resp, err = b.Get(address)
	} else {
		resp, err = b.PostForm(address, form)
	}
	must(b.t, err)
	_, err = io.Copy(io.Discard, resp.Body)
	must(b.t, err)
	must(b.t, resp.Body.Close())
	return resp.StatusCode, resp.Header.Get("Location")
}

// sent begins a sign-in, lets the issuer know who it is, and gives the address to which that sends back.
func (b *visitor) sent(who, to string) string {
	b.t.Helper()
	status, at := b.goes(b.at("/api/v1/sign-in/begin?to="+url.QueryEscape(to)), nil)
	if status != http.StatusFound {
		b.t.Fatalf("begin: %d", status)
	}
	if strings.HasPrefix(at, "/") {
		b.t.Fatalf("begin: sent to %s: %s\n%s", at, b.failed(), b.w.log())
	}
	_, back := b.goes(at, url.Values{"person": {who}})
	return back
}

// in reports who the browser is signed in as; nobody is the empty word.
func (b *visitor) in() string {
	b.t.Helper()
	resp, err := b.Get(b.at("/api/v1/whoami"))
	must(b.t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	must(b.t, err)
	if resp.StatusCode != http.StatusOK {
		return ""
	}
	return regexp.MustCompile(`"name":"(\w+)"`).FindStringSubmatch(string(raw))[1]
}

// failed is what the sign-in page would say.
func (b *visitor) failed() string {
	u, err := url.Parse(b.at("/signin"))
	must(b.t, err)
	for _, c := range b.Jar.Cookies(u) {
		if c.Name == "dovrak_signin_failed" {
			said, err := url.QueryUnescape(c.Value)
			must(b.t, err)
			return said
		}
	}
	return ""
}

// TestSignInByBrowser: the code flow with PKCE lets in whom the issuer names, once, in the browser that began it; nothing else does.
func TestSignInByBrowser(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	b := w.visitor()
	back := b.sent("Ragna", "/promotions/3")
	if !strings.Contains(back, "/api/v1/sign-in/return?code=") || !strings.Contains(back, "state=") {
		t.Fatalf("the issuer sends back to %q", back)
	}

	stranger := w.visitor()
	if stranger.goes(back, nil); stranger.in() != "" || !strings.Contains(stranger.failed(), "not begun in this browser") {
		t.Errorf("another browser is in as %q: %s", stranger.in(), stranger.failed())
	}
	if status, to := b.goes(back, nil); status != http.StatusFound || to != "/promotions/3" || b.in() != "Ragna" {
		t.Fatalf("%d to %q, in as %q: %s", status, to, b.in(), b.failed())
	}
	first := b.session()
	if b.goes(back, nil); b.session() != first || !strings.Contains(b.failed(), "a sign-in that was not begun in this browser, is over") {
		t.Errorf("played again: %s", b.failed())
	}

	// Whoever signs in gets a session of their own; the one before ends with it.
	b.goes(b.sent("Ylva", "/"), nil)
	if b.in() != "Ylva" || b.session() == first {
		t.Errorf("signed in anew as %q", b.in())
	}
	old := w.visitor()
	u, err := url.Parse(old.at("/"))
	must(t, err)
	old.Jar.SetCookies(u, []*http.Cookie{{Name: "dovrak_session", Value: first}})
	if old.in() != "" {
		t.Errorf("the session before is still %s's", old.in())
	}

	for _, tt := range []struct {
		name, who, to string
		change        func(back string) string
		says, goes    string
	}{
		{"a code of nobody's", "Ragna", "/", func(s string) string { return strings.Replace(s, "code=", "code=X", 1) }, "the issuer does not take the code", "/signin"},
		{"a state of nobody's", "Ragna", "/", func(s string) string { return strings.Replace(s, "state=", "state=X", 1) }, "not begun in this browser", "/signin"},
		{"refused at the issuer", "Ragna", "/", func(s string) string {
			return regexp.MustCompile(`code=\w+`).ReplaceAllString(s, "error=access_denied")
		},
			"the issuer says: access_denied", "/signin"},
		{"in no group", "Somebody", "/", nil, "You may do nothing here", "/signin"},
		{"to another site", "Ragna", "https://evil.example/", nil, "", "/"},
		{"to another site, without a scheme", "Ragna", "//evil.example/", nil, "", "/"},
		{"to another site, with a back slash", "Ragna", `/\evil.example/`, nil, "", "/"},
	} {
		b := w.visitor()
		back := b.sent(tt.who, tt.to)
		if tt.change != nil {
			back = tt.change(back)
		}
		_, to := b.goes(back, nil)
		if to != tt.goes || !strings.Contains(b.failed(), tt.says) || (b.in() == "") != (tt.says != "") {
			t.Errorf("%s: sent to %q, in as %q: %s", tt.name, to, b.in(), b.failed())
		}
	}
	if log := w.log(); strings.Contains(log, first) || strings.Contains(log, "code=") {
		t.Error("the log holds a secret")
	}
	_ = id
}

func (b *visitor) session() string {
	u, err := url.Parse(b.at("/"))
	must(b.t, err)
	for _, c := range b.Jar.Cookies(u) {
		if c.Name == "dovrak_session" {
			return c.Value
		}
	}
	return ""
}

// TestClientWithASecret: an issuer that wants one of the client gets it from a source of the server's settings, bound to its host.
func TestClientWithASecret(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	id.Secret = "ridge-and-hut"
	w.kill()
	config := filepath.Join(w.dir, "dovrak.yaml")
	must(
		t,
		os.WriteFile(
			config,
			[]byte(
				"secretSources:\n  desk: {hosts: [\""+strings.TrimPrefix(
					id.URL,
					"http://",
				)+"\"], account: dovrak, variable: DESK_SECRET}\n"+
					"  elsewhere: {hosts: [elsewhere.example], account: dovrak, variable: DESK_SECRET}\n",
			),
			0o600,
		),
	)
	w.start("DOVRAK_CONFIG="+config, "DESK_SECRET="+id.Secret)
	for _, tt := range []struct{ source, says string }{
		{"", "invalid_client"}, {"elsewhere", "This secret may not go to this host"}, {"nowhere", "No secret source is declared"}, {"desk", ""},
	} {
		named := ""
		if tt.source != "" {
			named = ", secret: " + tt.source
		}
		w.adopt(strings.Replace(w.charterOfPeople(id, ""), "client: dovrak", "client: dovrak"+named, 1))
		b := w.visitor()
		b.goes(b.sent("Ragna", "/"), nil)
		if in := b.in() == "Ragna"; in != (tt.says == "") || !strings.Contains(b.failed(), tt.says) {
			t.Errorf("%s: in as %q: %s", tt.source, b.in(), b.failed())
		}
	}
	if log := w.log(); strings.Contains(log, id.Secret) {
		t.Error("the log holds the secret")
	}
}

// TestSignInByIdentity: a terminal hands in the issuer's own token, which counts once and only if it is what it claims to be; and
// people are known by what the issuer has verified, never by what they call themselves.
func TestSignInByIdentity(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	stranger, err := oidc.New(id.URL)
	must(t, err)
	token := func(by *oidc.Issuer, who string, more map[string]any) string {
		t.Helper()
		claims := id.Claims(who, "dovrak")
		for k, v := range more {
			claims[k] = v
		}
		raw, err := by.Token(claims)
		must(t, err)
		return raw
	}
	used := token(id, "Ylva", nil)
	must(t, w.identity(used))
	for _, tt := range []struct{ name, raw, says string }{
		{"used before", used, "a token that signed in before"},
		{"of a stranger", token(stranger, "Ylva", nil), "failed to verify signature"},
		{"for a pipeline", token(id, "Ylva", map[string]any{"aud": "dovrak-pipelines"}), "expected audience"},
		{"expired", token(id, "Ylva", map[string]any{"exp": time.Now().Add(-time.Hour).Unix()}), "a token that expired"},
		{"of a browser's sign-in", token(id, "Ylva", map[string]any{"nonce": "n"}), "a token for another sign-in"},
		{"by another's name", token(id, "Ylva", map[string]any{"sub": "u9", "email": ""}), "Ylva already"},
		{"by the administrator's", token(id, "Ylva", map[string]any{"sub": "u9", "email": "", "name": "administrator"}), "administrator already"},
		{"without a name", token(id, "Ylva", map[string]any{"sub": "u9", "name": ""}), "in the claim name"},
		{"by an address that nobody has verified", token(id, "Ylva", map[string]any{"sub": "u9", "email_verified": false}), "Ylva already"},
		{"of a member by name, whom the issuer calls so", token(id, "Somebody", map[string]any{"sub": "u9", "name": "isak"}), "You may do nothing here"},
	} {
		if err := w.identity(tt.raw); err == nil || !strings.Contains(err.Error(), tt.says) {
			t.Errorf("%s: %v", tt.name, err)
		}
	}
	// A second account of the same verified address is the same person.
	must(t, w.identity(token(id, "Ylva", map[string]any{"sub": "u9", "name": "Ylva Two"})))
	if n := w.count("SELECT count(*) FROM actors WHERE name LIKE 'Ylva%'"); n != 1 {
		t.Errorf("Ylva is %d people", n)
	}
	if r := w.run("token", "issue", "Ylva", "--may", "read"); r.code != 3 || !strings.Contains(r.err, "Ylva has an account") {
		t.Errorf("a token in another's name: %d\n%s", r.code, r.err)
	}
}

func (w *world) identity(raw string) error {
	_, err := w.client().SignInTerminal(w.t.Context(), wire.TerminalSignIn{Identity: raw})
	return err
}

// TestSignInByDevice: a terminal shows a code, which is entered in a browser, and is signed in then.
func TestSignInByDevice(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	cmd := exec.CommandContext(t.Context(), binary, "signin", "--device")
	cmd.Env = append(cmd.Environ(), "DOVRAK_SERVER="+w.front.URL, "DOVRAK_TOKEN=", "XDG_CONFIG_HOME="+w.dir)
	said, err := cmd.StderrPipe()
	must(t, err)
	out := &strings.Builder{}
	cmd.Stdout = out
	must(t, cmd.Start())
	var page, code string
	_, err = fmt.Fscanf(said, "Open %s\nand enter the code %s\n", &page, &code)
	must(t, err)
	w.visitor().goes(page, url.Values{"person": {"Ylva"}, "user_code": {strings.ToLower(code)}})
	rest, err := io.ReadAll(said)
	must(t, err)
	if err := cmd.Wait(); err != nil || !strings.Contains(out.String(), "as Ylva") || page != id.URL+"/device" {
		t.Fatalf("%v: %s%s", err, out, rest)
	}
	cmd = exec.CommandContext(t.Context(), binary, "whoami")
	cmd.Env = append(cmd.Environ(), "DOVRAK_SERVER="+w.front.URL, "DOVRAK_TOKEN=", "XDG_CONFIG_HOME="+w.dir)
	if who, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(who), "approves in live") {
		t.Errorf("%v: %s", err, who)
	}
}

// TestAccounts of Dovrak's own: an invitation sets the password once; wrong ones are counted, and nothing tells who has an account.
func TestAccounts(t *testing.T) {
	t.Parallel()
	w, _ := peopled(t, "")
	const password = "seven crows on the ridge"
	invitation := strings.TrimSpace(w.ok("people", "add", "Isak", "--email", "isak@skarvind.example"))
	signin := func(name, stdin string, more ...string) result {
		return caller{w, "", stdin}.run(append([]string{"signin", "--account", name}, more...)...)
	}
	for _, tt := range []struct {
		name, who, stdin string
		invited          bool
		code             int
		says             string
	}{
		{"before a password is set", "Isak", password, false, 1, "This name and password do not count"},
		{"a short password", "Isak", invitation + "\nshort\n", true, 2, "at least 12 letters"},
		{"another invitation", "Isak", "dovrak_x\n" + password, true, 1, "This invitation does not count"},
		{"another's invitation", "Ragna", invitation + "\n" + password, true, 1, "This invitation does not count"},
		{"the invitation", "isak", invitation + "\n" + password, true, 0, "as Isak"},
		{"the invitation again", "Isak", invitation + "\n" + password, true, 1, "This invitation does not count"},
		{"the password", "ISAK", password, false, 0, "as Isak"},
		{"an account that there is not", "Nobody", password, false, 1, "This name and password do not count"},
	} {
		more := []string{}
		if tt.invited {
			more = append(more, "--invited")
		}
		if r := signin(tt.who, tt.stdin, more...); r.code != tt.code || !strings.Contains(r.out+r.err, tt.says) {
			t.Errorf("%s: %d\n%s%s", tt.name, r.code, r.out, r.err)
		}
	}
	for range 5 {
		signin("Isak", "a wrong one, surely")
	}
	if r := signin("Isak", password); r.code != 1 {
		t.Error("the right password after five wrong ones, at once: it is let in")
	}
	w.sql("UPDATE accounts SET blocked_until = now() WHERE issuer = ''") // as time does
	if r := signin("Isak", password); r.code != 0 {
		t.Errorf("half a minute later: %d %s", r.code, r.err)
	}
	if n := w.count("SELECT count(*) FROM accounts WHERE password LIKE '%" + password + "%' OR password NOT LIKE '$argon2id$v=19$m=19456,t=2,p=1$%' AND issuer = ''"); n != 0 {
		t.Errorf("%d passwords are not kept as they should be", n)
	}
	for _, args := range [][]string{{"add", "Isak"}, {"add", "x"}, {"add", "Sigrid", "--email", "no address"}, {"invite", "Nobody"}, {"withdraw", "Nobody"},
		{"withdraw", "administrator"}, {"edit", "Nobody", "--email", "a@b"}} {
		if r := w.run(append([]string{"people"}, args...)...); r.code == 0 || !strings.Contains(r.err, "remedy") {
			t.Errorf("people %v: %d\n%s", args, r.code, r.err)
		}
	}
	if log := w.log(); strings.Contains(log, password) || strings.Contains(log, invitation) {
		t.Error("the log holds a secret")
	}
	if trail := w.ok("trail", "-o", "json"); strings.Contains(trail, password) || strings.Contains(trail, invitation) ||
		!strings.Contains(trail, "person added") {
		t.Error("the trail")
	}
}
