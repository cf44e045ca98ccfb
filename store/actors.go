package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// Actor is who acts: a person, a pipeline, or the service itself.
type Actor struct {
	ID   uuid.UUID
	Kind string
	Name string
}

// Token is a secret by which an actor is known; only its hash is kept. A session is a console's.
type Token struct {
	ID        uuid.UUID
	Number    int64 `gorm:"->"`
	ActorID   uuid.UUID
	Hash      []byte
	Session   bool
	Own       bool       // its bearer signed in by an account of their own
	IssuedBy  *uuid.UUID // else: who issued it
	CreatedAt time.Time  `gorm:"->"`
	ExpiresAt time.Time
	RevokedAt *time.Time
}

// Known is what a token says of its bearer. Live is false once it expired, by the database's clock, or was revoked.
type Known struct {
	Actor       Actor
	TokenID     uuid.UUID
	ExpiresAt   time.Time
	Live        bool
	Own         bool      // they signed in by an account of their own
	Withdrawn   bool      // nothing is permitted to them any more
	Permissions []Grant   // that they have by themselves
	Accounts    []Account // by which they may be in groups, if they signed in so
}

// Grant is a permission of an actor. A scope binds it to one component; none is everything.
type Grant struct{ Permission, Scope string }

// Known finds who bears the token with this hash.
func (q Queries) Known(ctx context.Context, hash []byte) (Known, bool, error) {
	type row struct {
		ID, TokenID uuid.UUID
		Kind, Name  string
		ExpiresAt   time.Time
		Live        bool
		Own         bool
		Withdrawn   bool
	}
	r, ok, err := first[row](q.g.WithContext(ctx).Table("tokens t").Joins("JOIN actors a ON a.id = t.actor_id").
		Select("a.id, a.kind, a.name, t.id AS token_id, t.expires_at, t.revoked_at IS NULL AND t.expires_at > now() AS live, "+
			"t.own, a.withdrawn_at IS NOT NULL AS withdrawn").
		Where("t.hash = ?", hash))
	if err != nil || !ok {
		return Known{}, false, err
	}
	k := Known{Actor: Actor{r.ID, r.Kind, r.Name}, TokenID: r.TokenID, ExpiresAt: r.ExpiresAt.UTC(), Live: r.Live, Own: r.Own,
		Withdrawn: r.Withdrawn}
	if k.Permissions, err = q.PermissionsOf(ctx, r.ID); err == nil && k.Own {
		k.Accounts, err = q.AccountsOf(ctx, r.ID)
	}
	return k, true, err
}

// ActorNamed finds an actor.
func (q Queries) ActorNamed(ctx context.Context, name string) (Actor, bool, error) {
	return first[Actor](q.g.WithContext(ctx).Table("actors").Where("name = ?", name))
}

// ActorByID finds an actor.
func (q Queries) ActorByID(ctx context.Context, id uuid.UUID) (Actor, bool, error) {
	return first[Actor](q.g.WithContext(ctx).Table("actors").Where("id = ?", id))
}

// AddActor makes an actor with its permissions.
func (t Tx) AddActor(ctx context.Context, a Actor, grants []Grant) error {
	if err := t.g.WithContext(ctx).Table("actors").Create(&a).Error; err != nil {
		return err
	}
	return t.SetGrants(ctx, a.ID, grants)
}

// SetGrants makes these the permissions of an actor.
func (t Tx) SetGrants(ctx context.Context, actor uuid.UUID, grants []Grant) error {
	if err := t.g.WithContext(ctx).Exec("DELETE FROM grants WHERE actor_id = ?", actor).Error; err != nil {
		return err
	}
	for _, g := range grants {
		row := map[string]any{"actor_id": actor, "permission": g.Permission, "scope": g.Scope}
		if err := t.g.WithContext(ctx).Table("grants").Create(row).Error; err != nil {
			return err
		}
	}
	return nil
}

// Spend uses up a token of an issuer's, which counts once; false if it was used before.
func (t Tx) Spend(ctx context.Context, hash []byte, expires time.Time) (bool, error) {
	tag, err := t.PGX.Exec(ctx, "INSERT INTO spent_tokens (hash, expires_at) VALUES ($1, $2) ON CONFLICT DO NOTHING", hash, expires)
	return tag.RowsAffected() == 1, err
}

// AddToken keeps a token's hash for so long, and gives its number and when it expires.
func (t Tx) AddToken(ctx context.Context, tok Token, life time.Duration) (Token, error) {
	err := t.g.WithContext(ctx).Raw(`INSERT INTO tokens (id, actor_id, hash, session, own, issued_by, expires_at)
		VALUES (?, ?, ?, ?, ?, ?, now() + make_interval(secs => ?)) RETURNING *`,
		tok.ID, tok.ActorID, tok.Hash, tok.Session, tok.Own, tok.IssuedBy, life.Seconds()).Scan(&tok).Error
	return tok, err
}

// ListedToken is a token with its bearer's name.
type ListedToken struct {
	Token
	Name, Kind string
}

// Tokens lists the newest tokens, at most limit, numbered below before (0: from the newest on).
func (q Queries) Tokens(ctx context.Context, before int64, limit int) ([]ListedToken, error) {
	g := q.g.WithContext(ctx).Table("tokens t").Joins("JOIN actors a ON a.id = t.actor_id").
		Select("t.*, a.name, a.kind").Where("NOT session").Order("number DESC").Limit(limit)
	if before > 0 {
		g = g.Where("number < ?", before)
	}
	var rows []ListedToken
	return rows, g.Scan(&rows).Error
}

// RevokeToken ends a token now; false if there is none with that number, or it was ended before.
func (t Tx) RevokeToken(ctx context.Context, number int64) (bool, error) {
	r := t.g.WithContext(ctx).Exec("UPDATE tokens SET revoked_at = now() WHERE number = ? AND revoked_at IS NULL", number)
	return r.RowsAffected == 1, r.Error
}

// EndSession ends a console's session now.
func (t Tx) EndSession(ctx context.Context, id uuid.UUID) error {
	return t.g.WithContext(ctx).Exec("UPDATE tokens SET revoked_at = now() WHERE id = ? AND session AND revoked_at IS NULL", id).Error
}

// KeyFingerprint is that of the sealing key this database belongs to, or nil if the database is empty.
func (q Queries) KeyFingerprint(ctx context.Context) ([]byte, error) {
	type row struct{ KeyFingerprint []byte }
	r, _, err := first[row](q.g.WithContext(ctx).Table("instance"))
	return r.KeyFingerprint, err
}

// SetKeyFingerprint binds an empty database to a key.
func (t Tx) SetKeyFingerprint(ctx context.Context, fp []byte) error {
	return t.g.WithContext(ctx).Table("instance").Create(map[string]any{"key_fingerprint": fp}).Error
}

// PermissionsOf lists what an actor may, in order.
func (q Queries) PermissionsOf(ctx context.Context, actor uuid.UUID) ([]Grant, error) {
	var out []Grant
	return out, q.g.WithContext(ctx).Table("grants").Where("actor_id = ?", actor).Order("permission, scope").Find(&out).Error
}
