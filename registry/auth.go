package registry

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"

	"golang.org/x/sync/singleflight"
)

// A registry that wants a sign-in says how in WWW-Authenticate (RFC 9110): Basic, or Bearer with the realm that
// issues tokens, the service they are for, and the scope they must have. A scope is "repository:NAME:ACTIONS".
func scope(repository, actions string) string { return "repository:" + repository + ":" + actions }

// tokens keeps what was learned of a registry's sign-in. Nothing is sent before the registry has asked for it.
type tokens struct {
	c     *Client
	fetch singleflight.Group
	mu    sync.Mutex
	basic *Credential                  // what the registry was seen to take with every request; nil before it has asked
	held  map[string]token             // by wanted scopes
	asked map[string]map[string]string // what the registry wanted for them
}

type token struct {
	value   string
	expires time.Time // by the local, monotonic clock
}

// maxHeld bounds the tokens kept: one a repository and set of actions, of which an estate has many.
const maxHeld = 4096

func (t *tokens) init(c *Client) {
	t.c, t.held, t.asked = c, map[string]token{}, map[string]map[string]string{}
}

// forStream sees to it that a token lasts for a while before a body is sent that can be sent only once: behind a 401 there
// would be nothing left to send.
func (t *tokens) forStream(ctx context.Context, scopes []string) error {
	t.mu.Lock()
	params := t.asked[key(scopes)]
	fresh := time.Now().Add(time.Minute).Before(t.held[key(scopes)].expires)
	t.mu.Unlock()
	if params == nil || fresh {
		return nil
	}
	_, err, _ := t.fetch.Do(key(scopes), func() (any, error) { return nil, t.obtain(ctx, params, scopes) })
	return err
}

// sign puts on a request what the registry was seen to want.
func (t *tokens) sign(req *http.Request, scopes []string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if tok, ok := t.held[key(scopes)]; ok && time.Now().Before(tok.expires) {
		req.Header.Set("Authorization", "Bearer "+tok.value)
	} else if t.basic != nil {
		req.SetBasicAuth(t.basic.Name, t.basic.Secret)
	}
}

func key(scopes []string) string { return strings.Join(scopes, " ") }

// answer takes up the challenge of a 401, and reports whether it is worth asking again.
func (t *tokens) answer(ctx context.Context, resp *http.Response, scopes []string) (bool, error) {
	for _, h := range resp.Header.Values("WWW-Authenticate") {
		scheme, params := challenge(h)
		switch {
		case scheme == "bearer" && params["realm"] != "":
			_, err, _ := t.fetch.Do(key(scopes), func() (any, error) { return nil, t.obtain(ctx, params, scopes) })
			return err == nil, err
		case scheme == "basic":
			return t.takeBasic(ctx, resp)
		}
	}
	return false, nil
}

// takeBasic signs in by name and secret from now on. It is worth asking again if they are not those that were refused.
func (t *tokens) takeBasic(ctx context.Context, resp *http.Response) (bool, error) {
	now, err := t.c.cfg.Credentials.Credential(ctx)
	if err != nil || now == (Credential{}) {
		return false, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.basic = &now
	name, secret, tried := resp.Request.BasicAuth()
	return !tried || now != Credential{name, secret}, nil
}

var param = regexp.MustCompile(`([A-Za-z]+)=(?:"((?:[^"\\]|\\.)*)"|([^\s,"]+))`)

// challenge splits a WWW-Authenticate header into its scheme, in lower case, and its parameters.
func challenge(h string) (string, map[string]string) {
	scheme, rest, _ := strings.Cut(strings.TrimSpace(h), " ")
	params := map[string]string{}
	for _, m := range param.FindAllStringSubmatch(rest, -1) {
		params[strings.ToLower(m[1])] = strings.ReplaceAll(m[2], `\`, "") + m[3]
	}
	return strings.ToLower(scheme), params
}

// obtain asks the realm for a token and keeps it until shortly before it expires.
func (t *tokens) obtain(ctx context.Context, params map[string]string, scopes []string) error {
	cred, err := t.c.cfg.Credentials.Credential(ctx)
	if err != nil {
		return err
	}
	realm, err := t.realm(params["realm"], cred == Credential{})
	if err != nil {
		return err
	}
	q := realm.Query()
	if params["service"] != "" {
		q.Set("service", params["service"])
	}
	want := slices.Clone(scopes)
	if s := params["scope"]; s != "" && !slices.Contains(want, s) {
		want = append(want, s)
	}
	for _, s := range want {
		q.Add("scope", s)
	}
	realm.RawQuery = q.Encode()
	tok, err := t.ask(ctx, realm, cred)
	if err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.held) >= maxHeld {
		clear(t.held)
		clear(t.asked)
	}
	t.held[key(scopes)], t.asked[key(scopes)] = tok, params
	return nil
}

// realm checks where the credential would go: over TLS, or where the registry itself is spoken to in the clear; and to
// the registry's own host, or one that was named for it. Without a credential there is nothing to lose but the former.
func (t *tokens) realm(s string, anonymous bool) (*url.URL, error) {
	p := &problem.Problem{
		Kind:  problem.RegistryError,
		Title: "The registry's sign-in is not one to trust a credential to",
		Where: t.c.cfg.Name,
		Seen:  "the realm " + image.Printable(s),
	}
	u, err := url.Parse(s)
	if err != nil || u.Host == "" || u.User != nil {
		p.Remedy = "have the registry name a realm with https"
		return nil, p
	}
	sameHost := u.Hostname() == t.c.base.Hostname()
	if u.Scheme != "https" && !(u.Scheme == "http" && sameHost && t.c.base.Scheme == "http") {
		p.Rule, p.Remedy = "a credential goes over TLS, or to the registry's own host", "have the registry name a realm with https"
		return nil, p
	}
	if !sameHost && !anonymous && !slices.Contains(t.c.cfg.SignInHosts, u.Host) {
		p.Rule = "a credential goes to the hosts that were named for it"
		p.Remedy = "if this registry does sign in there: dovrak registry edit " + t.c.cfg.Name + " --sign-in-host " + image.Printable(u.Host)
		return nil, p
	}
	return u, nil
}

func (t *tokens) ask(ctx context.Context, realm *url.URL, cred Credential) (token, error) {
	rq := request{op: "sign in"}
	ctx, dog := watch(ctx, t.c.cfg.Stall)
	defer dog.release()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, realm.String(), nil)
	if err != nil {
		return token{}, err
	}
	if cred != (Credential{}) {
		req.SetBasicAuth(cred.Name, cred.Secret)
	}
	realmClient := *t.c.http
	realmClient.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	asked := time.Now()
	resp, err := realmClient.Do(req)
	if err != nil {
		return token{}, t.c.broken(rq, dog.cause(err))
	}
	if resp.StatusCode != http.StatusOK {
		return token{}, t.c.refused(rq, resp)
	}
	raw, err := io.ReadAll(io.LimitReader(resp.Body, 256<<10))
	if err = errors.Join(err, resp.Body.Close()); err != nil {
		return token{}, t.c.broken(rq, err)
	}
	var body struct {
		Token       string `json:"token"`
		AccessToken string `json:"access_token"`
		ExpiresIn   int    `json:"expires_in"`
	}
	if err := json.Unmarshal(raw, &body); err != nil || body.Token+body.AccessToken == "" {
		return token{}, &Error{
			Registry:  t.c.cfg.Name,
			Operation: rq.op,
			Status:    http.StatusUnauthorized,
			Message:   "the realm's answer holds no token",
		}
	}
	value := body.Token
	if value == "" {
		value = body.AccessToken
	}
	life := time.Duration(max(body.ExpiresIn, 60)) * time.Second // "expires_in" may be left out and then means 60
	return token{value, asked.Add(life * 9 / 10)}, nil
}
