package oidc

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

// Person is somebody whom the issuer knows. Its own sign-in asks for no password: whoever it is chooses a name.
type Person struct {
	Subject, Name, Email string
	Groups               []string
}

// grant is a sign-in under way: a code for a browser, or for a terminal.
type grant struct {
	client, nonce, challenge, redirect string
	user                               string  // what is entered for a terminal
	person                             *Person // nil: nobody has signed in yet
	until                              time.Time
}

const grantLife = 5 * time.Minute

// Let makes the issuer know people, by the name that they choose on its page.
func (i *Issuer) Let(people ...Person) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for _, p := range people {
		i.people[p.Name] = p
	}
}

var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Skarvind sign-in</title>
<style>body{font:16px/24px Georgia,serif;margin:64px;background:#eef1ee;color:#1c2b26}button{font:inherit;margin:0 8px 8px 0;padding:6px 18px;
background:#1c2b26;color:#fff;border:0}input{font:inherit;padding:5px 8px;margin-bottom:12px;display:block}p{color:#52635c}</style>
<h1>Skarvind sign-in</h1><p>A stand-in for the organisation's own: choose who you are.</p>
<form method="post">{{range $k, $v := .Keep}}<input type="hidden" name="{{$k}}" value="{{$v}}">{{end}}
{{if .Device}}<label for="code">The code on your terminal</label><input id="code" name="user_code" value="{{.Code}}" autocomplete="off">{{end}}
{{range .People}}<button name="person" value="{{.}}">{{.}}</button>{{end}}</form>{{with .Said}}<p role="status">{{.}}</p>{{end}}</html>`))

type pageData struct {
	Keep       map[string]string
	People     []string
	Device     bool
	Code, Said string
}

func (i *Issuer) show(w http.ResponseWriter, d pageData) {
	i.mu.Lock()
	d.People = slices.Sorted(maps.Keys(i.people))
	i.mu.Unlock()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	if err := page.Execute(w, d); err != nil {
		panic(http.ErrAbortHandler)
	}
}

// authorize is the page to which a browser is sent (OpenID Connect Core 1.0, section 3.1.2).
func (i *Issuer) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || q.Get("redirect_uri") == "" {
		http.Error(w, "a code flow with PKCE is wanted", http.StatusBadRequest)
		return
	}
	p, known := i.chosen(r)
	if r.Method != http.MethodPost || !known {
		i.show(w, pageData{})
		return
	}
	code := i.grant(grant{client: q.Get("client_id"), nonce: q.Get("nonce"), challenge: q.Get("code_challenge"),
		redirect: q.Get("redirect_uri"), person: &p})
	back := url.Values{"code": {code}, "state": {q.Get("state")}}
	http.Redirect(w, r, q.Get("redirect_uri")+"?"+back.Encode(), http.StatusFound)
}

func (i *Issuer) chosen(r *http.Request) (Person, bool) {
	name := r.PostFormValue("person")
	i.mu.Lock()
	defer i.mu.Unlock()
	p, ok := i.people[name]
	return p, ok
}

func (i *Issuer) grant(g grant) string {
	code := rand.Text()
	g.until = time.Now().Add(grantLife)
	i.mu.Lock()
	defer i.mu.Unlock()
	i.grants[code] = g
	return code
}

// beginDevice answers a terminal (RFC 8628, section 3.1).
func (i *Issuer) beginDevice(w http.ResponseWriter, r *http.Request) {
	user := rand.Text()[:8]
	code := i.grant(grant{client: r.PostFormValue("client_id"), user: user})
	answer(w, http.StatusOK, map[string]any{"device_code": code, "user_code": user, "verification_uri": i.URL + "/device",
		"expires_in": int(grantLife.Seconds()), "interval": 1})
}

// device is the page on which the code of a terminal is entered.
func (i *Issuer) device(w http.ResponseWriter, r *http.Request) {
	p, known := i.chosen(r)
	user := strings.ToUpper(strings.TrimSpace(r.FormValue("user_code")))
	if r.Method != http.MethodPost || !known {
		i.show(w, pageData{Device: true, Code: user})
		return
	}
	said := "No terminal waits for this code."
	i.mu.Lock()
	for code, g := range i.grants {
		if user != "" && g.user == user && time.Now().Before(g.until) {
			g.person = &p
			i.grants[code] = g
			said = "Signed in as " + p.Name + ": go on at the terminal."
		}
	}
	i.mu.Unlock()
	i.show(w, pageData{Device: true, Said: said})
}

// token trades a code for an identity token (RFC 6749, section 4.1.3; RFC 7636; RFC 8628, section 3.4).
func (i *Issuer) token(w http.ResponseWriter, r *http.Request) {
	code := r.PostFormValue("code")
	terminal := r.PostFormValue("grant_type") == "urn:ietf:params:oauth:grant-type:device_code"
	if terminal {
		code = r.PostFormValue("device_code")
	}
	if !terminal && i.Secret != "" && !i.knows(r) {
		refuse(w, "invalid_client")
		return
	}
	i.mu.Lock()
	g, ok := i.grants[code]
	if ok && g.person != nil {
		delete(i.grants, code) // it counts once
	}
	i.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	switch {
	case !ok || time.Now().After(g.until):
		refuse(w, "invalid_grant")
	case terminal && g.person == nil:
		refuse(w, "authorization_pending")
	case terminal != (g.user != ""):
		refuse(w, "invalid_grant")
	case !terminal && (base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge || r.PostFormValue("redirect_uri") != g.redirect):
		refuse(w, "invalid_grant")
	default:
		i.give(w, g)
	}
}

// knows reports whether the client has shown its secret (RFC 6749, section 2.3.1).
func (i *Issuer) knows(r *http.Request) bool {
	_, secret, ok := r.BasicAuth()
	if !ok {
		secret = r.PostFormValue("client_secret")
	}
	return secret == i.Secret
}

func (i *Issuer) give(w http.ResponseWriter, g grant) {
	claims := g.person.claims(g.client)
	if g.nonce != "" {
		claims["nonce"] = g.nonce
	}
	id, err := i.Token(claims)
	if err != nil {
		http.Error(w, "signing failed", http.StatusInternalServerError)
		return
	}
	answer(w, http.StatusOK, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": id})
}

func refuse(w http.ResponseWriter, why string) {
	answer(w, http.StatusBadRequest, map[string]any{"error": why})
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	if err := json.NewEncoder(w).Encode(v); err != nil {
		panic(http.ErrAbortHandler)
	}
}

// Claims are what the issuer says of somebody to a client.
func (i *Issuer) Claims(name, client string) map[string]any {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.people[name].claims(client)
}

func (p Person) claims(client string) map[string]any {
	claims := map[string]any{"sub": p.Subject, "aud": client, "name": p.Name, "groups": p.Groups}
	if p.Email != "" {
		claims["email"], claims["email_verified"] = p.Email, true
	}
	return claims
}
