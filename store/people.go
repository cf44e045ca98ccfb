package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
)

// Account is what someone signs in by: at an issuer, or, where that is empty, Dovrak's own.
type Account struct {
	Issuer, Subject string
	ActorID         uuid.UUID
	Claims          []string `gorm:"serializer:json"` // groups, as the issuer said at the last sign-in
	Password        string
	InvitedUntil    *time.Time
	SeenAt          *time.Time
}

// Person is someone who signs in, with their accounts.
type Person struct {
	Actor    Actor `gorm:"embedded"`
	Email    string
	Withdraw *time.Time `gorm:"column:withdrawn_at"`
	Accounts []Account  `gorm:"-"`
	Grants   []Grant    `gorm:"-"`
}

// AccountsOf lists someone's accounts.
func (q Queries) AccountsOf(ctx context.Context, actor uuid.UUID) ([]Account, error) {
	var out []Account
	return out, q.g.WithContext(ctx).Table("accounts").Where("actor_id = ?", actor).Order("issuer, subject").Find(&out).Error
}

// AccountOf finds an account.
func (q Queries) AccountOf(ctx context.Context, issuer, subject string) (Account, bool, error) {
	return first[Account](q.g.WithContext(ctx).Table("accounts").Where("issuer = ? AND subject = ?", issuer, subject))
}

// AddAccount keeps a new account.
func (t Tx) AddAccount(ctx context.Context, a Account) error {
	return t.g.WithContext(ctx).Exec("INSERT INTO accounts (issuer, subject, actor_id) VALUES (?, ?, ?)",
		a.Issuer, a.Subject, a.ActorID).Error
}

// SeeAccount notes a sign-in, and the groups that the issuer told of.
func (t Tx) SeeAccount(ctx context.Context, issuer, subject string, claims []string) error {
	raw, err := json.Marshal(claims)
	if err != nil {
		return err
	}
	return t.g.WithContext(ctx).Exec("UPDATE accounts SET claims = ?, tries = 0, blocked_until = NULL, seen_at = now() "+
		"WHERE issuer = ? AND subject = ?", string(raw), issuer, subject).Error
}

// Invite lets a password be set for one of Dovrak's own accounts, once, by a secret with this hash.
func (t Tx) Invite(ctx context.Context, actor uuid.UUID, hash []byte, life time.Duration) error {
	return t.g.WithContext(ctx).Exec(`UPDATE accounts SET invitation = ?, invited_until = now() + make_interval(secs => ?)
		WHERE issuer = '' AND actor_id = ?`, hash, life.Seconds(), actor).Error
}

// SetPassword uses an invitation up; false if it does not count.
func (t Tx) SetPassword(ctx context.Context, subject string, invitation []byte, password string) (bool, error) {
	r := t.g.WithContext(ctx).
		Exec(`UPDATE accounts SET password = ?, invitation = NULL, invited_until = NULL, tries = 0, blocked_until = NULL
		WHERE issuer = '' AND subject = ? AND invitation = ? AND invited_until > now()`, password, subject, invitation)
	return r.RowsAffected == 1, r.Error
}

// TryPassword counts a try before it is made, so that tries at the same time are counted, too. From the last free one on, each
// blocks the account for a while. False: it is blocked now, or there is none.
func (t Tx) TryPassword(ctx context.Context, subject string, free int, block time.Duration) (bool, error) {
	r := t.g.WithContext(ctx).Exec(`UPDATE accounts SET tries = tries + 1,
			blocked_until = CASE WHEN tries + 1 >= ? THEN now() + make_interval(secs => ?) END
		WHERE issuer = '' AND subject = ? AND (blocked_until IS NULL OR blocked_until <= now())`, free, block.Seconds(), subject)
	return r.RowsAffected == 1, r.Error
}

// PersonByEmail finds who has an address.
func (q Queries) PersonByEmail(ctx context.Context, email string) (Actor, bool, error) {
	if email == "" {
		return Actor{}, false, nil
	}
	return first[Actor](q.g.WithContext(ctx).Table("actors").Where("email = ?", email))
}

// SetEmail gives someone an address.
func (t Tx) SetEmail(ctx context.Context, actor uuid.UUID, email string) error {
	return t.g.WithContext(ctx).Exec("UPDATE actors SET email = ? WHERE id = ?", email, actor).Error
}

// Withdraw takes all rights of an actor, or gives them back; false if that was so already.
func (t Tx) Withdraw(ctx context.Context, actor uuid.UUID, withdrawn bool) (bool, error) {
	r := t.g.WithContext(ctx).Exec(`UPDATE actors SET withdrawn_at = CASE WHEN CAST(? AS boolean) THEN now() END
		WHERE id = ? AND (withdrawn_at IS NULL) = CAST(? AS boolean)`, withdrawn, actor, withdrawn)
	return r.RowsAffected == 1, r.Error
}

// EndTokens ends all of an actor's tokens and sessions, or those alone that they got by an account of their own.
func (t Tx) EndTokens(ctx context.Context, actor uuid.UUID, own bool) error {
	return t.g.WithContext(ctx).Exec("UPDATE tokens SET revoked_at = now() WHERE actor_id = ? AND revoked_at IS NULL AND (own OR NOT ?)",
		actor, own).Error
}

// Withdrawn reports whether an actor's rights were withdrawn.
func (q Queries) Withdrawn(ctx context.Context, actor uuid.UUID) (bool, error) {
	type row struct{ Withdrawn bool }
	r, _, err := first[row](q.g.WithContext(ctx).Table("actors").Select("withdrawn_at IS NOT NULL AS withdrawn").Where("id = ?", actor))
	return r.Withdrawn, err
}

// People lists everyone who has an account, by name.
func (q Queries) People(ctx context.Context) ([]Person, error) {
	var people []Person
	err := q.g.WithContext(ctx).Table("actors a").Where("EXISTS (SELECT FROM accounts c WHERE c.actor_id = a.id)").
		Order("a.name").Find(&people).Error
	if err != nil {
		return nil, err
	}
	var accounts []Account
	if err := q.g.WithContext(ctx).Table("accounts").Order("issuer, subject").Find(&accounts).Error; err != nil {
		return nil, err
	}
	by := map[uuid.UUID][]Account{}
	for _, a := range accounts {
		by[a.ActorID] = append(by[a.ActorID], a)
	}
	for i := range people {
		people[i].Accounts = by[people[i].Actor.ID]
		if people[i].Grants, err = q.PermissionsOf(ctx, people[i].Actor.ID); err != nil {
			return nil, err
		}
	}
	return people, nil
}

// Begun is a sign-in at an issuer that was begun in a browser.
type Begun struct {
	State, Browser            []byte // hashes
	Nonce, Verifier, ReturnTo string
}

// BeginSignIn keeps a sign-in for so long, and forgets those that came to nothing.
func (t Tx) BeginSignIn(ctx context.Context, b Begun, life time.Duration) error {
	if err := t.g.WithContext(ctx).Exec("DELETE FROM sign_ins WHERE expires_at <= now()").Error; err != nil {
		return err
	}
	return t.g.WithContext(ctx).Exec(`INSERT INTO sign_ins (nonce, verifier, return_to, state, browser, expires_at)
		VALUES (?, ?, ?, ?, ?, now() + make_interval(secs => ?))`,
		b.Nonce, b.Verifier, b.ReturnTo, b.State, b.Browser, life.Seconds()).Error
}

// TakeSignIn takes a sign-in that was begun in this browser, which uses it up.
func (t Tx) TakeSignIn(ctx context.Context, state, browser []byte) (Begun, bool, error) {
	var rows []Begun
	err := t.g.WithContext(ctx).Raw("DELETE FROM sign_ins WHERE state = ? AND browser = ? AND expires_at > now() RETURNING *",
		state, browser).Scan(&rows).Error
	return one(rows, err)
}

// Approval is what someone has said of a promotion.
type Approval struct {
	ID, WorkID, ActorID uuid.UUID
	Agreed              bool
	Remark, Bound       string
	At                  time.Time  `gorm:"->"`
	Name                string     `gorm:"->"` // of who said it
	WithdrawnAt         *time.Time `gorm:"->"` // their rights
}

// AddApproval keeps what someone has said.
func (t Tx) AddApproval(ctx context.Context, a Approval) error {
	return t.g.WithContext(ctx).Exec("INSERT INTO approvals (id, work_id, actor_id, agreed, remark, bound) VALUES (?, ?, ?, ?, ?, ?)",
		a.ID, a.WorkID, a.ActorID, a.Agreed, a.Remark, a.Bound).Error
}

// Approvals lists what was said of a promotion, in the order in which it was said.
func (q Queries) Approvals(ctx context.Context, work uuid.UUID) ([]Approval, error) {
	var out []Approval
	return out, q.g.WithContext(ctx).Table("approvals p").Joins("JOIN actors a ON a.id = p.actor_id").
		Select("p.*, a.name, a.withdrawn_at").Where("p.work_id = ?", work).Order("p.at, p.id").Find(&out).Error
}

// IssuersFor lists who issued tokens to an actor: what it asks for, they may have asked for.
func (q Queries) IssuersFor(ctx context.Context, actor uuid.UUID) ([]uuid.UUID, error) {
	var out []uuid.UUID
	return out, q.g.WithContext(ctx).Raw("SELECT DISTINCT issued_by FROM tokens WHERE actor_id = ? AND issued_by IS NOT NULL", actor).
		Scan(&out).Error
}
