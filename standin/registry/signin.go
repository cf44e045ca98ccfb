package registry

import (
	"crypto/rand"
	"net/http"
	"strings"
	"time"
)

// grant is what a token permits: scopes as "repository:NAME:ACTION".
type grant struct {
	scopes  map[string]bool
	expires time.Time
}

// allowed lets the request through, or answers it with a challenge or a refusal.
func (s *Server) allowed(w http.ResponseWriter, r *http.Request, repository, act string) bool {
	if s.opt.SignIn == Open {
		return true
	}
	if act == "delete" && strings.Contains(r.URL.Path, "/blobs/uploads/") {
		act = "push" // cancelling an upload is part of pushing
	}
	if s.opt.SignIn == Basic {
		return s.allowedBasic(w, r, act)
	}
	tok := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
	if v, ok := s.tokens.Load(tok); ok {
		if g := v.(grant); time.Now().Before(g.expires) && (act == "" || g.scopes[repository+":"+act]) {
			return true
		}
	}
	scope := ""
	if act != "" {
		acts := act
		if act == "push" {
			acts = "pull,push"
		}
		scope = `,scope="repository:` + repository + ":" + acts + `"`
	}
	w.Header().Set("WWW-Authenticate", `Bearer realm="`+self(r)+`/token",service="`+r.Host+`"`+scope)
	refuse(w, http.StatusUnauthorized, "UNAUTHORIZED", "a token with the right scope is needed")
	return false
}

func self(r *http.Request) string {
	if r.TLS != nil {
		return "https://" + r.Host
	}
	return "http://" + r.Host
}

func (s *Server) allowedBasic(w http.ResponseWriter, r *http.Request, act string) bool {
	name, secret, ok := r.BasicAuth()
	a, known := s.account(name, secret)
	switch {
	case !ok || !known:
		w.Header().Set("WWW-Authenticate", `Basic realm="registry"`)
		refuse(w, http.StatusUnauthorized, "UNAUTHORIZED", "name and secret are needed")
		return false
	case act != "" && !a.may(act):
		refuse(w, http.StatusForbidden, "DENIED", "the account may not "+act)
		return false
	}
	return true
}

func (a Account) may(act string) bool {
	return act == "pull" && a.Pull || act == "push" && a.Push || act == "delete" && a.Delete
}

// issue gives a token for those of the scopes asked that the account may have.
func (s *Server) issue(w http.ResponseWriter, r *http.Request) {
	name, secret, _ := r.BasicAuth()
	a, known := s.account(name, secret)
	if !known {
		refuse(w, http.StatusUnauthorized, "UNAUTHORIZED", "no such account, or another secret")
		return
	}
	g := grant{scopes: map[string]bool{}, expires: time.Now().Add(s.opt.TokenLife)}
	for _, scope := range r.URL.Query()["scope"] {
		parts := strings.Split(scope, ":")
		if len(parts) != 3 {
			continue
		}
		for act := range strings.SplitSeq(parts[2], ",") {
			if a.may(act) && (act == "pull" || !s.opt.Quirks.NarrowScopes) {
				g.scopes[parts[1]+":"+act] = true
			}
		}
	}
	tok := rand.Text()
	s.tokens.Store(tok, g)
	w.Header().Set("Content-Type", "application/json")
	out := map[string]any{"token": tok, "expires_in": int(s.opt.TokenLife.Seconds())}
	if s.opt.Quirks.RefreshTokens {
		out["refresh_token"] = rand.Text()
	}
	answer(w, out)
}
