package service

import (
	"context"
	"strings"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/alexedwards/argon2id"
)

// Limits of accounts of Dovrak's own.
const (
	minPassword    = 12 // letters
	maxPassword    = 256
	freeTries      = 5
	blockTries     = 30 * time.Second // behind each wrong password from the last free one on
	invitationLife = 72 * time.Hour
	hashesAtOnce   = 2 // each takes 19 MiB and a processor
)

// passwordCosts are those that OWASP names for argon2id: memory in KiB.
var passwordCosts = &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// nobodysPassword is compared with where there is no account, so that this takes as long.
const nobodysPassword = "$argon2id$v=19$m=19456,t=2,p=1$c2thcnZpbmQtc2FsdC4uLg$1zfSDlJmSHIjqtjhUEWKjMp0CVCuuJQ/Ndrk4RhAqfM"

// accountOf is how an account of Dovrak's own is found: letters of any case mean the same.
func accountOf(name string) string { return strings.ToLower(name) }

// SignInByPassword lets the bearer of an account in. What is wrong with a name or a password is not told.
func (s *Service) SignInByPassword(ctx context.Context, name, password string, console bool) (Session, error) {
	wrong := &problem.Problem{Kind: problem.NotSignedIn, Title: "This name and password do not count",
		Seen: "another password, no such account, or too many tries", Rule: "five tries, then one in half a minute",
		Remedy: "wait half a minute and try again, or have someone with the permission keep invite you anew"}
	if len(name) > maxWord || len(password) > maxPassword {
		return Session{}, wrong
	}
	if err := s.issuers.allow(); err != nil {
		return Session{}, err
	}
	free := false
	err := s.db.Tx(ctx, func(tx store.Tx) (err error) { // a try counts, whatever comes of it
		free, err = tx.TryPassword(ctx, accountOf(name), freeTries, blockTries)
		return err
	})
	if err != nil {
		return Session{}, err
	}
	acc, known, err := s.db.AccountOf(ctx, "", accountOf(name))
	if err != nil {
		return Session{}, err
	}
	hash := acc.Password
	if hash == "" {
		hash = nobodysPassword
	}
	fits, err := s.passwordFits(ctx, password, hash)
	if err != nil {
		return Session{}, err
	}
	if !free || !known || acc.Password == "" || !fits {
		return Session{}, wrong
	}
	out := Session{}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		actor, _, err := tx.ActorByID(ctx, acc.ActorID)
		if err != nil {
			return err
		}
		if err := tx.SeeAccount(ctx, "", acc.Subject, []string{}); err != nil {
			return err
		}
		out.Name = actor.Name
		out.Issued, err = s.letIn(ctx, tx, actor, console, "")
		return err
	})
	return out, err
}

func (s *Service) passwordFits(ctx context.Context, password, hash string) (bool, error) {
	if err := s.hashes.Acquire(ctx, 1); err != nil {
		return false, err
	}
	defer s.hashes.Release(1)
	return argon2id.ComparePasswordAndHash(password, hash)
}

// SetPassword sets the password of an account of Dovrak's own, by an invitation, which is used up.
func (s *Service) SetPassword(ctx context.Context, name, invitation, password string) error {
	if err := s.issuers.allow(); err != nil {
		return err
	}
	if n := len([]rune(password)); n < minPassword || len(password) > maxPassword || strings.EqualFold(password, name) {
		return &problem.Problem{Kind: problem.Malformed, Title: "This password cannot be set", Seen: number(int64(n)) + " letters",
			Rule: "at least 12 letters, at most 256 bytes, and not the name", Remedy: "take several words"}
	}
	if err := s.hashes.Acquire(ctx, 1); err != nil {
		return err
	}
	hash, err := argon2id.CreateHash(password, passwordCosts)
	s.hashes.Release(1)
	if err != nil {
		return err
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		set, err := tx.SetPassword(ctx, accountOf(name), hashToken(invitation), hash)
		if err != nil {
			return err
		}
		if !set {
			return &problem.Problem{Kind: problem.NotSignedIn, Title: "This invitation does not count", Asked: image.Printable(name),
				Seen: "an invitation for another, that was used, or that is over", Rule: "an invitation counts once, for three days",
				Remedy: "have someone with the permission keep invite you anew: dovrak people invite NAME"}
		}
		acc, _, err := tx.AccountOf(ctx, "", accountOf(name))
		if err != nil {
			return err
		}
		actor, _, err := tx.ActorByID(ctx, acc.ActorID)
		if err != nil {
			return err
		}
		if err := tx.EndTokens(ctx, actor.ID, true); err != nil { // whoever was in by the password before
			return err
		}
		return s.record(ctx, tx, entry{act: trail.PasswordSet, actor: actor.Name})
	})
}
