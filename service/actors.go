package service

import (
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

// Permission is a right that an actor may have.
type Permission string

// The permissions there are.
const (
	Read    Permission = "read"    // look at everything but secrets
	Point   Permission = "point"   // point tags
	Copy    Permission = "copy"    // copy images
	Promote Permission = "promote" // ask for promotions
	Keep    Permission = "keep"    // registries, charter, tokens
)

// Permissions lists them all.
var Permissions = []Permission{Read, Point, Copy, Promote, Keep}

// Actor is who acts, with what they may.
type Actor struct {
	ID      uuid.UUID
	Kind    string
	Name    string
	May     []Permission
	TokenID uuid.UUID
	Expires time.Time
}

// Require is nil if the actor has the permission, else the problem that says so.
func (a Actor) Require(p Permission) error {
	if slices.Contains(a.May, p) {
		return nil
	}
	return &problem.Problem{Kind: problem.NotPermitted, Title: "You do not have the permission for this", Asked: "as " + a.Name,
		Seen: "the permissions " + list(a.May), Rule: "permission " + string(p),
		Remedy: "have someone with the permission keep issue a token with --may " + string(p)}
}

func list(ps []Permission) string {
	if len(ps) == 0 {
		return "(none)"
	}
	out := make([]string, len(ps))
	for i, p := range ps {
		out[i] = string(p)
	}
	return strings.Join(out, ", ")
}

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

// SignedIn finds who bears a token. The problem is the same for a token that never was and for one that ended, but
// for its text.
func (s *Service) SignedIn(ctx context.Context, secret string) (Actor, error) {
	p := &problem.Problem{
		Kind:   problem.NotSignedIn,
		Title:  "You are not signed in",
		Remedy: "use a token that counts: in DOVRAK_TOKEN, by dovrak signin, or on the console’s sign-in page",
	}
	if secret == "" {
		p.Seen = "no token"
		return Actor{}, p
	}
	k, ok, err := s.db.Known(ctx, hashToken(secret))
	if err != nil {
		return Actor{}, err
	}
	if !ok {
		p.Seen = "a token that this service did not issue"
		return Actor{}, p
	}
	if !k.Live {
		p.Seen = "a token that expired or was revoked"
		return Actor{}, p
	}
	a := Actor{ID: k.Actor.ID, Kind: k.Actor.Kind, Name: k.Actor.Name, TokenID: k.TokenID, Expires: k.ExpiresAt}
	for _, m := range k.Permissions {
		a.May = append(a.May, Permission(m))
	}
	return a, nil
}

// OpenSession trades a token for a session of the console, and gives its secret and end. The session ends with the
// token it came from, if that is sooner.
func (s *Service) OpenSession(ctx context.Context, secret string) (string, time.Time, Actor, error) {
	a, err := s.SignedIn(ctx, secret)
	if err != nil {
		return "", time.Time{}, a, err
	}
	life := min(SessionLife, time.Until(a.Expires))
	session, hash := newToken()
	var tok store.Token
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		tok, err = tx.AddToken(ctx, store.Token{ID: store.NewID(), ActorID: a.ID, Hash: hash, Session: true}, life)
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
	Life time.Duration
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
	if err := n.check(); err != nil {
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

func (s *Service) issue(ctx context.Context, tx store.Tx, by Actor, n NewToken) (Issued, error) {
	a, known, err := tx.ActorNamed(ctx, n.Name)
	if err != nil {
		return Issued{}, err
	}
	may := make([]string, len(n.May))
	for i, m := range n.May {
		may[i] = string(m)
	}
	slices.Sort(may)
	may = slices.Compact(may)
	if !known {
		a = store.Actor{ID: store.NewID(), Kind: n.Kind, Name: n.Name}
		if err := tx.AddActor(ctx, a, may); err != nil {
			return Issued{}, err
		}
	} else if has, err := tx.PermissionsOf(ctx, a.ID); err != nil {
		return Issued{}, err
	} else if !slices.Equal(has, may) || a.Kind != n.Kind {
		return Issued{}, &problem.Problem{
			Kind:   problem.Refused,
			Title:  "This token cannot be issued",
			Asked:  n.Name + " with " + strings.Join(may, ", "),
			Seen:   n.Name + " is a " + a.Kind + " with " + strings.Join(has, ", "),
			Rule:   "an actor has one set of permissions",
			Remedy: "ask for those, or take another name",
		}
	}
	secret, hash := newToken()
	tok, err := tx.AddToken(ctx, store.Token{ID: store.NewID(), ActorID: a.ID, Hash: hash}, n.Life)
	if err != nil {
		return Issued{}, err
	}
	err = s.record(ctx, tx, entry{act: trail.TokenIssued, actor: by.Name, sealed: map[string]string{"bearer": n.Name},
		facts: map[string]string{
			"token":   fmt.Sprint(tok.Number),
			"may":     strings.Join(may, ", "),
			"expires": tok.ExpiresAt.UTC().Format(time.RFC3339),
		}})
	return Issued{tok.Number, secret, tok.ExpiresAt.UTC()}, err
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
