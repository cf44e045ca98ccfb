package service

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/store"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/time/rate"
)

// Limits of sign-ins by tokens of an issuer.
const (
	maxIssuerToken  = 16 << 10         // bytes
	issuerTimeout   = 10 * time.Second // of each request to an issuer
	providerFor     = 10 * time.Minute // that an issuer's description is kept; its keys are asked for whenever an unknown one turns up
	clockDifference = time.Minute
)

// issuers keeps what is known of issuers. Its keys may change at any time: a token by an unknown key has them asked for anew,
// and so the tries are bounded.
type issuers struct {
	mu    sync.Mutex
	known map[string]knownIssuer
	tries *rate.Limiter
}

type knownIssuer struct {
	provider *oidc.Provider
	until    time.Time
}

func newIssuers() *issuers {
	return &issuers{known: map[string]knownIssuer{}, tries: rate.NewLimiter(20, 40)}
}

// trusted is an issuer that the charter names, and for whom its tokens must be meant.
type trusted struct{ what, issuer, audience string }

// allow bounds the tries.
func (i *issuers) allow() error {
	if i.tries.Allow() {
		return nil
	}
	return &problem.Problem{Kind: problem.Busy, Title: "Too many sign in at this moment", Remedy: "ask again in a second"}
}

// to finds an issuer's description, by its own address.
func (i *issuers) to(ctx context.Context, by trusted) (*oidc.Provider, error) {
	provider, err := i.provider(ctx, by.issuer)
	if err != nil {
		return nil, (&problem.Problem{Kind: problem.Unreachable, Title: "The issuer cannot be asked", Asked: by.what, Where: by.issuer,
			Seen: image.Printable(err.Error()), Remedy: "see that the service reaches it, and sign in again"}).Because(err)
	}
	return provider, nil
}

func (i *issuers) provider(ctx context.Context, issuer string) (*oidc.Provider, error) {
	i.mu.Lock()
	have, ok := i.known[issuer]
	i.mu.Unlock()
	if ok && time.Now().Before(have.until) {
		return have.provider, nil
	}
	client := &http.Client{Timeout: issuerTimeout}
	// The provider asks for keys later, in the time of other requests.
	provider, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), client), issuer)
	if err != nil {
		return nil, err
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.known[issuer] = knownIssuer{provider, time.Now().Add(providerFor)}
	return provider, nil
}

// issuerOf reads who made a token, before anything of it is believed.
func issuerOf(raw string) (string, error) {
	parts := strings.Split(raw, ".")
	if len(raw) > maxIssuerToken || len(parts) != 3 {
		return "", notIn(
			"no JSON Web Token",
			"",
			"hand in the token that the issuer made, for the audience that the charter names",
		)
	}
	var claims struct {
		Issuer string `json:"iss"`
	}
	body, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err == nil {
		err = json.Unmarshal(body, &claims)
	}
	if err != nil {
		return "", notIn("a token that cannot be read", "", "hand in the token as it was issued, whole and on one line")
	}
	return claims.Issuer, nil
}

func notIn(seen, rule, remedy string) error {
	return &problem.Problem{Kind: problem.NotSignedIn, Title: "This sign-in does not count", Seen: seen, Rule: rule, Remedy: remedy}
}

// verify checks signature, issuer, audience and times, by the database's clock.
func (i *issuers) verify(ctx context.Context, by trusted, raw string, now time.Time) (*oidc.IDToken, map[string]any, error) {
	provider, err := i.to(ctx, by)
	if err != nil {
		return nil, nil, err
	}
	verifier := provider.Verifier(&oidc.Config{ClientID: by.audience, Now: func() time.Time { return now }})
	token, err := verifier.Verify(ctx, raw)
	rule := by.what + ": issuer " + by.issuer + ", audience " + by.audience
	if late, ok := errors.AsType[*oidc.TokenExpiredError](err); ok {
		return nil, nil, notIn("a token that expired at "+stamp(late.Expiry), rule, "have a new one issued")
	}
	if err != nil {
		return nil, nil, notIn(
			image.Printable(strings.TrimPrefix(err.Error(), "oidc: ")),
			rule,
			"have one issued by that issuer, for that audience",
		)
	}
	claims := map[string]any{}
	if err := token.Claims(&claims); err != nil {
		return nil, nil, notIn("claims that cannot be read", rule, "have a new one issued")
	}
	from := token.IssuedAt
	if nbf, ok := claims["nbf"].(float64); ok && int64(nbf) > from.Unix() {
		from = time.Unix(int64(nbf), 0)
	}
	if from.After(now.Add(clockDifference)) {
		return nil, nil, notIn(
			"a token from the future: it counts from "+stamp(from),
			rule,
			"set the issuer's clock; here it is "+stamp(now),
		)
	}
	return token, claims, nil
}

// spend uses an issuer's token up: it signs in once.
func spend(ctx context.Context, tx store.Tx, raw string, expires time.Time) error {
	fresh, err := tx.Spend(ctx, hashToken(raw), expires)
	if err == nil && !fresh {
		err = notIn("a token that signed in before", "a token signs in once", "have a new one issued each time")
	}
	return err
}
