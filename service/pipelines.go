package service

import (
	"context"
	"fmt"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/coreos/go-oidc/v3/oidc"
)

// PipelineLife is that of the token that a pipeline gets.
const PipelineLife = time.Hour

// PipelineSession is what a pipeline gets for its issuer's token.
type PipelineSession struct {
	Issued
	Name       string
	Components []string
}

// SignInPipeline trades a token that a pipeline's own issuer made for one of Dovrak's, for an hour. Each token counts once.
func (s *Service) SignInPipeline(ctx context.Context, raw string) (PipelineSession, error) {
	if err := s.issuers.allow(); err != nil {
		return PipelineSession{}, err
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
	token, claims, err := s.issuers.verify(ctx, trusted{"pipeline " + name, p.Issuer, p.Audience}, raw, now)
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

// admit spends the token and gives the pipeline one of Dovrak's, with what the charter lets it report for.
func (s *Service) admit(ctx context.Context, name string, token *oidc.IDToken, raw string, components []string) (PipelineSession, error) {
	out := PipelineSession{Name: name + "/" + token.Subject, Components: components}
	if len(out.Name) > maxWord || image.Printable(out.Name) != out.Name || token.Subject == "" {
		return out, notIn("a subject that is no name", "", "have the issuer name its subjects in at most 190 printable bytes")
	}
	err := s.db.Tx(ctx, func(tx store.Tx) error {
		if err := spend(ctx, tx, raw, token.Expiry); err != nil {
			return err
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
