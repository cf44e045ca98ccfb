package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/google/uuid"
)

// tokenPrefix makes a token known for what it is wherever it turns up.
const tokenPrefix = "dovrak_"

// Lives of tokens.
const (
	MaxTokenLife = 366 * 24 * time.Hour
	SessionLife  = 12 * time.Hour
)

func newToken() (string, []byte) {
	secret := tokenPrefix + strings.ToLower(rand.Text())
	return secret, hashToken(secret)
}

// hashToken needs no salt and no slowness: a token has 130 random bits.
func hashToken(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// OpenSession trades a token for a session of the console, and gives its secret and end. The session ends with the
// token it came from, if that is sooner.
func (s *Service) OpenSession(ctx context.Context, secret string) (string, time.Time, Actor, error) {
	a, err := s.SignedIn(ctx, secret)
	if err != nil {
		return "", time.Time{}, a, err
	}
	now, err := s.db.Now(ctx) // by which the token expires, too
	if err != nil {
		return "", time.Time{}, a, err
	}
	life := min(SessionLife, a.Expires.Sub(now))
	session, hash := newToken()
	var tok store.Token
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		tok, err = tx.AddToken(ctx, store.Token{ID: store.NewID(), ActorID: a.ID, Hash: hash, Session: true, Own: a.Own}, life)
		return err
	})
	return session, tok.ExpiresAt, a, err
}

// CloseSession ends the session that the actor came with.
func (s *Service) CloseSession(ctx context.Context, a Actor) error {
	return s.db.Tx(ctx, func(tx store.Tx) error { return tx.EndSession(ctx, a.TokenID) })
}

// NewToken asks for a token. An actor of that name is made where there is none.
type NewToken struct {
	Name string
	Kind string // person or pipeline
	May  []Permission
	For  []string // the components that Report is for; none is all
	Life time.Duration
}

// grants are the permissions asked for, each with its scope.
func (n NewToken) grants() []store.Grant {
	var out []store.Grant
	for _, m := range n.May {
		if m != Report || len(n.For) == 0 {
			out = append(out, store.Grant{Permission: string(m)})
			continue
		}
		for _, c := range n.For {
			out = append(out, store.Grant{Permission: string(m), Scope: c})
		}
	}
	slices.SortFunc(out, func(a, b store.Grant) int {
		return cmp.Or(strings.Compare(a.Permission, b.Permission), strings.Compare(a.Scope, b.Scope))
	})
	return slices.Compact(out)
}

// words write grants out.
func words(grants []store.Grant) string {
	var out []string
	for _, g := range grants {
		w := g.Permission
		if g.Scope != "" {
			w += " for " + g.Scope
		}
		out = append(out, w)
	}
	return strings.Join(out, ", ")
}

// Issued is a token with its secret, which is shown this once.
type Issued struct {
	Number  int64
	Secret  string
	Expires time.Time
}

var actorName = regexp.MustCompile(`^[\pL][\pL\pN ._-]{0,62}[\pL\pN]$`)

func (n NewToken) check() error {
	p := &problem.Problem{Kind: problem.Malformed, Title: "This token cannot be issued", Asked: "a token for " + image.Printable(n.Name)}
	switch {
	case !actorName.MatchString(n.Name):
		p.Seen, p.Remedy = "a name that is none", "use 2 to 64 letters, digits, spaces and . _ -"
	case n.Kind != "person" && n.Kind != "pipeline":
		p.Seen, p.Remedy = "the kind "+image.Printable(n.Kind), "say person or pipeline"
	case n.Life < time.Minute || n.Life > MaxTokenLife:
		p.Seen, p.Remedy = "a life of "+n.Life.String(), "between a minute and 366 days (8784h)"
	case len(n.May) == 0:
		p.Seen, p.Remedy = "no permission", "name at least one of "+list(Permissions)
	case len(n.For) > 0 && (n.Kind != "pipeline" || !slices.Contains(n.May, Report)):
		p.Seen, p.Remedy = "components, and no pipeline that reports for them", "say --for-pipeline COMPONENT…"
	default:
		for _, m := range n.May {
			if !slices.Contains(Permissions, m) {
				p.Seen, p.Remedy = "the permission "+image.Printable(string(m)), "name some of "+list(Permissions)
				return p
			}
		}
		return nil
	}
	return p
}

// IssueToken makes a token. An actor who is there already keeps the permissions they have; asking for others is refused.
func (s *Service) IssueToken(ctx context.Context, by Actor, n NewToken) (Issued, error) {
	if err := by.Require(Keep); err != nil {
		return Issued{}, err
	}
	if err := firstOf(n.check(), s.components(ctx, n.For)); err != nil {
		return Issued{}, err
	}
	var out Issued
	err := s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.Lock(ctx, "actor "+n.Name); err != nil {
			return err
		}
		var err error
		out, err = s.issue(ctx, tx, by, n)
		return err
	})
	return out, err
}

// components refuses names that the charter does not know.
func (s *Service) components(ctx context.Context, names []string) error {
	if len(names) == 0 {
		return nil
	}
	law, err := s.law(ctx)
	for _, c := range names {
		if err == nil {
			_, err = law.Component(c)
		}
	}
	return err
}

func (s *Service) issue(ctx context.Context, tx store.Tx, by Actor, n NewToken) (Issued, error) {
	a, known, err := tx.ActorNamed(ctx, n.Name)
	if err != nil {
		return Issued{}, err
	}
	if known {
		if accounts, err := tx.AccountsOf(ctx, a.ID); err != nil || len(accounts) > 0 {
			return Issued{}, cmp.Or(err, spokenFor(a.Name))
		}
	}
	wanted := n.grants()
	if !known {
		a = store.Actor{ID: store.NewID(), Kind: n.Kind, Name: n.Name}
		if err := tx.AddActor(ctx, a, wanted); err != nil {
			return Issued{}, err
		}
	} else if has, err := tx.PermissionsOf(ctx, a.ID); err != nil {
		return Issued{}, err
	} else if !slices.Equal(has, wanted) || a.Kind != n.Kind {
		return Issued{}, &problem.Problem{
			Kind:   problem.Refused,
			Title:  "This token cannot be issued",
			Asked:  n.Name + " with " + words(wanted),
			Seen:   n.Name + " is a " + a.Kind + " with " + words(has),
			Rule:   "an actor has one set of permissions",
			Remedy: "ask for those, or take another name",
		}
	}
	secret, hash := newToken()
	tok := store.Token{ID: store.NewID(), ActorID: a.ID, Hash: hash}
	if by.ID != uuid.Nil {
		tok.IssuedBy = &by.ID
	}
	if tok, err = tx.AddToken(ctx, tok, n.Life); err != nil {
		return Issued{}, err
	}
	err = s.record(ctx, tx, entry{act: trail.TokenIssued, actor: by.Name, sealed: map[string]string{"bearer": n.Name},
		facts: map[string]string{
			"token":   fmt.Sprint(tok.Number),
			"may":     words(wanted),
			"expires": tok.ExpiresAt.UTC().Format(time.RFC3339),
		}})
	return Issued{tok.Number, secret, tok.ExpiresAt.UTC()}, err
}

// spokenFor refuses a token in the name of someone who can sign in: it would act as them.
func spokenFor(name string) error {
	return &problem.Problem{Kind: problem.Refused, Title: "This token cannot be issued", Asked: "a token for " + name,
		Seen: name + " has an account, and signs in by it", Rule: "nobody is given another's name",
		Remedy: "have them sign in: dovrak signin; or name the machine that the token is for"}
}

// Tokens lists tokens, newest first, without their secrets.
func (s *Service) Tokens(ctx context.Context, by Actor, p store.Page) ([]store.ListedToken, error) {
	if err := by.Require(Keep); err != nil {
		return nil, err
	}
	return s.db.Tokens(ctx, p.Before, p.Limit)
}

// RevokeToken ends a token at once.
func (s *Service) RevokeToken(ctx context.Context, by Actor, number int64) error {
	if err := by.Require(Keep); err != nil {
		return err
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		ended, err := tx.RevokeToken(ctx, number)
		if err != nil {
			return err
		}
		if !ended {
			return &problem.Problem{
				Kind:   problem.NotFound,
				Title:  "There is no such token that still counts",
				Asked:  fmt.Sprintf("token %d", number),
				Remedy: "dovrak token list shows them",
			}
		}
		return s.record(ctx, tx, entry{act: trail.TokenRevoked, actor: by.Name, facts: map[string]string{"token": fmt.Sprint(number)}})
	})
}

// ErrKey says that the sealing key is not the one of this database.
var ErrKey = errors.New(
	"service: the key file is not the one that this database was sealed with; " +
		"start with that one, since no credential could be opened with another",
)

// FirstStart binds an empty database to the key and makes the administrator, whose token it gives; an empty one means
// that this was done before. first is only called when there is a token to be kept, before anything is committed.
func (s *Service) FirstStart(ctx context.Context, first func(secret string) error) error {
	return s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.Lock(ctx, "first start"); err != nil {
			return err
		}
		fp, err := tx.KeyFingerprint(ctx)
		if err != nil {
			return err
		}
		if fp != nil {
			if !slices.Equal(fp, s.key.Fingerprint()) {
				return ErrKey
			}
			return nil
		}
		if err := tx.SetKeyFingerprint(ctx, s.key.Fingerprint()); err != nil {
			return err
		}
		admin := NewToken{Name: "administrator", Kind: "person", May: Permissions, Life: MaxTokenLife}
		issued, err := s.issue(ctx, tx, Actor{Name: "dovrak"}, admin)
		if err != nil {
			return err
		}
		return first(issued.Secret)
	})
}
