package service

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"dovrak/core/charter"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/time/rate"
)

// Limits of sign-ins by tokens of an issuer.
const (
	PipelineLife    = time.Hour        // of the token that a pipeline gets
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

// to finds an issuer's description, by its own address.
func (i *issuers) to(ctx context.Context, issuer string) (*oidc.Provider, error) {
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

// PipelineSession is what a pipeline gets for its issuer's token.
type PipelineSession struct {
	Issued
	Name       string
	Components []string
}

// SignInPipeline trades a token that a pipeline's own issuer made for one of Dovrak's, for an hour. Each token counts once.
func (s *Service) SignInPipeline(ctx context.Context, raw string) (PipelineSession, error) {
	if !s.issuers.tries.Allow() {
		return PipelineSession{}, &problem.Problem{
			Kind:   problem.Busy,
			Title:  "Too many pipelines sign in at this moment",
			Remedy: "ask again in a second",
		}
	}
	law, err := s.law(ctx)
	if err != nil {
		return PipelineSession{}, err
	}
	issuer, err := issuerOf(raw)
	if err != nil {
		return PipelineSession{}, err
	}
	name, p, ok := law.PipelineOf(issuer)
	if !ok {
		return PipelineSession{}, notIn(
			"the issuer "+image.Printable(issuer),
			"",
			"have the charter name it, under pipelines; docs/pipelines.md tells how",
		)
	}
	now, err := s.db.Now(ctx)
	if err != nil {
		return PipelineSession{}, err
	}
	token, claims, err := s.verify(ctx, name, p, raw, now)
	if err != nil {
		return PipelineSession{}, err
	}
	components := p.ComponentsFor(claims)
	if len(components) == 0 {
		return PipelineSession{}, &problem.Problem{
			Kind:  problem.NotPermitted,
			Title: "This pipeline may report for nothing",
			Asked: "as " +
				image.Printable(token.Subject),
			Seen:   "claims that fit no condition",
			Rule:   "pipeline " + name + ": " + p.Wanted(),
			Remedy: "run the pipeline where its claims fit, or have the charter name them",
		}
	}
	return s.admit(ctx, name, token, raw, components)
}

// issuerOf reads who made a token, before anything of it is believed.
func issuerOf(raw string) (string, error) {
	parts := strings.Split(raw, ".")
	if len(raw) > maxIssuerToken || len(parts) != 3 {
		return "", notIn(
			"no JSON Web Token",
			"",
			"hand in the token that the pipeline's own system issues for the audience dovrak is given in the charter",
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
	return &problem.Problem{Kind: problem.NotSignedIn, Title: "The pipeline is not signed in", Seen: seen, Rule: rule, Remedy: remedy}
}

// verify checks signature, issuer, audience and times, by the database's clock.
func (s *Service) verify(
	ctx context.Context,
	name string,
	p charter.Pipeline,
	raw string,
	now time.Time,
) (*oidc.IDToken, map[string]any, error) {
	provider, err := s.issuers.to(ctx, p.Issuer)
	if err != nil {
		s.log.WarnContext(ctx, "an issuer cannot be asked", "pipeline", name, "issuer", p.Issuer, "error", err)
		return nil, nil, (&problem.Problem{Kind: problem.Unreachable, Title: "The issuer cannot be asked for its keys", Asked: "pipeline " + name,
			Where: p.Issuer, Seen: image.Printable(err.Error()), Remedy: "see that the service reaches it, and sign in again"}).Because(
			err,
		)
	}
	verifier := provider.Verifier(&oidc.Config{ClientID: p.Audience, Now: func() time.Time { return now }})
	token, err := verifier.Verify(ctx, raw)
	rule := "pipeline " + name + ": issuer " + p.Issuer + ", audience " + p.Audience
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

// admit spends the token and gives the pipeline one of Dovrak's, with what the charter lets it report for.
func (s *Service) admit(ctx context.Context, name string, token *oidc.IDToken, raw string, components []string) (PipelineSession, error) {
	out := PipelineSession{Name: name + "/" + token.Subject, Components: components}
	if len(out.Name) > maxWord || image.Printable(out.Name) != out.Name || token.Subject == "" {
		return out, notIn("a subject that is no name", "", "have the issuer name its subjects in at most 190 printable bytes")
	}
	spent := sha256.Sum256([]byte(raw))
	err := s.db.Tx(ctx, func(tx store.Tx) error {
		fresh, err := tx.Spend(ctx, spent[:], token.Expiry)
		if err != nil {
			return err
		}
		if !fresh {
			return notIn(
				"a token that signed in before",
				"a token signs in once",
				"have a new one issued for each run; what it gave counts for an hour",
			)
		}
		if err := tx.Lock(ctx, "actor "+out.Name); err != nil {
			return err
		}
		actor, known, err := tx.ActorNamed(ctx, out.Name)
		if err != nil {
			return err
		}
		grants := NewToken{May: []Permission{Report}, For: components}.grants()
		if known {
			err = tx.SetGrants(ctx, actor.ID, grants)
		} else {
			actor = store.Actor{ID: store.NewID(), Kind: "pipeline", Name: out.Name}
			err = tx.AddActor(ctx, actor, grants)
		}
		if err != nil {
			return err
		}
		secret, hash := newToken()
		kept, err := tx.AddToken(ctx, store.Token{ID: store.NewID(), ActorID: actor.ID, Hash: hash}, PipelineLife)
		if err != nil {
			return err
		}
		out.Issued = Issued{kept.Number, secret, kept.ExpiresAt.UTC()}
		return s.record(ctx, tx, entry{act: trail.PipelineIn, actor: out.Name, facts: map[string]string{"token": fmt.Sprint(kept.Number),
			"pipeline": name, "may": words(grants), "expires": kept.ExpiresAt.UTC().Format(time.RFC3339)}})
	})
	return out, err
}
