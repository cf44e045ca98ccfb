// Package registry simulates a registry: a small server of the OCI distribution protocol that keeps what it is given
// in a directory, so that the demo and the tests have registries of every temper. It is as strict as the
// specification (a manifest whose content is missing is refused), can sign in by basic or by token, can be slow, and
// can be told to fail at any request. It shares no code with Dovrak's own registry package.
package registry

import (
	"encoding/json"
	"net/http"
	"regexp"
	"sync"
	"sync/atomic"
	"time"
)

// Options say of what temper the registry is. Dir is required.
type Options struct {
	Dir            string             // where content is kept; made if missing
	SignIn         SignIn             // how accounts sign in
	Accounts       map[string]Account // by name; without sign-in, everyone may do everything
	TokenLife      time.Duration      // default 5 minutes
	BytesPerSecond int                // of blobs, each way; 0 is no limit
	Quirks         Quirks

	// Fault is asked before each request but the sign-in's, with the number of requests before it.
	Fault func(n int, r *http.Request) Fault
	// Seen is told of each request but the sign-in's when it is answered.
	Seen func(method, path string, status int)
}

// SignIn is a way to sign in.
type SignIn int

// The ways there are.
const (
	Open  SignIn = iota // none
	Basic               // name and secret with every request
	Token               // a token from this server's own issuer, for a scope
)

// Account may do what it says.
type Account struct {
	Secret             string
	Pull, Push, Delete bool
}

// Server is the simulated registry: an http.Handler.
type Server struct {
	opt    Options
	store  store
	tokens sync.Map // token → grant
	people sync.Map // name → Account
	short  sync.Map // upload → its last chunk was shorter than it may be, unless it was the last
	count  atomic.Int64
}

// New makes a registry on its directory, with what an earlier one left there.
func New(opt Options) (*Server, error) {
	if opt.TokenLife == 0 {
		opt.TokenLife = 5 * time.Minute
	}
	s := &Server{opt: opt, store: store{opt.Dir}}
	for name, a := range opt.Accounts {
		s.people.Store(name, a)
	}
	return s, s.store.prepare()
}

// SetAccount changes what a name may do, or its secret, from now on; tokens that were issued stay.
func (s *Server) SetAccount(name string, a Account) { s.people.Store(name, a) }

// EndTokens ends every token that was issued so far.
func (s *Server) EndTokens() { s.tokens.Clear() }

func (s *Server) account(name, secret string) (Account, bool) {
	a, ok := s.people.Load(name)
	if !ok || a.(Account).Secret != secret {
		return Account{}, false
	}
	return a.(Account), true
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/token" {
		s.issue(w, r)
		return
	}
	n := int(s.count.Add(1)) - 1
	rec := &recorder{ResponseWriter: w}
	if s.opt.Seen != nil {
		defer func() { s.opt.Seen(r.Method, r.URL.Path, rec.status) }()
	}
	if s.opt.Fault != nil {
		f := s.opt.Fault(n, r)
		if f.strike(rec, r) {
			return
		}
		rec.fault = f
	}
	rec.Header().Set("Docker-Distribution-API-Version", "registry/2.0")
	s.route(rec, r)
}

var paths = regexp.MustCompile(`^/v2/(.+)/(manifests|blobs|tags|referrers)/(.*)$`)

func (s *Server) route(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/v2/" {
		if s.allowed(w, r, "", "") {
			w.WriteHeader(http.StatusOK)
		}
		return
	}
	if r.URL.Path == "/v2/_catalog" {
		if s.allowed(w, r, "", "") {
			s.catalog(w, r)
		}
		return
	}
	m := paths.FindStringSubmatch(r.URL.Path)
	if m == nil {
		refuse(w, http.StatusNotFound, "NAME_UNKNOWN", "no such path")
		return
	}
	repository, kind, rest := m[1], m[2], m[3]
	if !s.allowed(w, r, repository, action(r.Method)) {
		return
	}
	switch {
	case kind == "manifests":
		s.manifest(w, r, repository, rest)
	case kind == "tags" && rest == "list" && r.Method == http.MethodGet:
		s.tags(w, r, repository)
	case kind == "referrers" && r.Method == http.MethodGet:
		s.referrers(w, repository, rest)
	case kind == "blobs" && rest == "uploads/" && r.Method == http.MethodPost:
		s.openUpload(w, r, repository)
	case kind == "blobs" && len(rest) > 8 && rest[:8] == "uploads/":
		s.upload(w, r, repository, rest[8:])
	case kind == "blobs":
		s.blob(w, r, repository, rest)
	default:
		refuse(w, http.StatusMethodNotAllowed, "UNSUPPORTED", "no such operation")
	}
}

func action(method string) string {
	switch method {
	case http.MethodGet, http.MethodHead:
		return "pull"
	case http.MethodDelete:
		return "delete"
	}
	return "push"
}

func refuse(w http.ResponseWriter, status int, code, message string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	type one struct {
		Code    string `json:"code"`
		Message string `json:"message"`
	}
	answer(w, map[string][]one{"errors": {{code, message}}})
}

// answer writes JSON. A reader that went away is its own problem.
func answer(w http.ResponseWriter, v any) { _ = json.NewEncoder(w).Encode(v) }
