package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// Charter is one adopted version of the governance document.
type Charter struct {
	Version   int64 `gorm:"->"`
	Document  string
	AdoptedBy uuid.UUID
	AdoptedAt time.Time `gorm:"->"`
}

// CurrentCharter is the newest version; false if none was adopted yet.
func (q Queries) CurrentCharter(ctx context.Context) (Charter, bool, error) {
	return first[Charter](q.g.WithContext(ctx).Table("charters").Order("version DESC"))
}

// CharterVersion finds a version.
func (q Queries) CharterVersion(ctx context.Context, version int64) (Charter, bool, error) {
	return first[Charter](q.g.WithContext(ctx).Table("charters").Where("version = ?", version))
}

// AddCharter keeps a new version and gives its number.
func (t Tx) AddCharter(ctx context.Context, c Charter) (Charter, error) {
	err := t.g.WithContext(ctx).
		Raw("INSERT INTO charters (document, adopted_by) VALUES (?, ?) RETURNING *", c.Document, c.AdoptedBy).
		Scan(&c).
		Error
	return c, err
}

// CharterBefore is the version before one.
func (q Queries) CharterBefore(ctx context.Context, version int64) (Charter, bool, error) {
	return first[Charter](q.g.WithContext(ctx).Table("charters").Where("version < ?", version).Order("version DESC"))
}

// AdoptedCharter is a version with who adopted it.
type AdoptedCharter struct {
	Version   int64
	AdoptedAt time.Time
	Name      string
}

// Charters lists versions, newest first.
func (q Queries) Charters(ctx context.Context, p Page) ([]AdoptedCharter, error) {
	g := q.g.WithContext(ctx).Table("charters c").Joins("JOIN actors a ON a.id = c.adopted_by").
		Select("c.version, c.adopted_at, a.name").Order("c.version DESC").Limit(p.Limit)
	if p.Before > 0 {
		g = g.Where("c.version < ?", p.Before)
	}
	var out []AdoptedCharter
	return out, g.Scan(&out).Error
}

// Proposal is a charter that waits for people to agree to it.
type Proposal struct {
	Number   int64 `gorm:"->"`
	Document string
	Base     int64 // the version in force when it was proposed
	AskedBy  uuid.UUID
	Because  string
	State    string
	AskedAt  time.Time  `gorm:"->"`
	EndedAt  *time.Time `gorm:"->"`
	Version  *int64     // it became
	Name     string     `gorm:"->"` // of who proposed it
}

// StateAdopted is that of a proposal which has become the charter; StateOvertaken of one that another charter came before.
const (
	StateAdopted   = "adopted"
	StateOvertaken = "overtaken"
)

// AddProposal keeps a proposal and gives its number.
func (t Tx) AddProposal(ctx context.Context, p Proposal) (Proposal, error) {
	err := t.g.WithContext(ctx).Raw(`INSERT INTO charter_proposals (document, base, asked_by, because, state)
		VALUES (?, ?, ?, ?, ?) RETURNING *`, p.Document, p.Base, p.AskedBy, p.Because, StateWaiting).Scan(&p).Error
	return p, err
}

// Proposals lists proposals, newest first.
func (q Queries) Proposals(ctx context.Context, p Page) ([]Proposal, error) {
	g := q.g.WithContext(ctx).Table("charter_proposals p").Joins("JOIN actors a ON a.id = p.asked_by").
		Select("p.*, a.name").Order("p.number DESC").Limit(p.Limit)
	if p.Before > 0 {
		g = g.Where("p.number < ?", p.Before)
	}
	var out []Proposal
	return out, g.Scan(&out).Error
}

// ProposalNumbered finds a proposal.
func (q Queries) ProposalNumbered(ctx context.Context, n int64) (Proposal, bool, error) {
	return first[Proposal](q.g.WithContext(ctx).Table("charter_proposals p").Joins("JOIN actors a ON a.id = p.asked_by").
		Select("p.*, a.name").Where("p.number = ?", n))
}

// EndProposal ends a proposal that waits.
func (t Tx) EndProposal(ctx context.Context, n int64, state string) error {
	return t.g.WithContext(ctx).Exec("UPDATE charter_proposals SET state = ?, ended_at = now() WHERE number = ? AND state = ?",
		state, n, StateWaiting).Error
}

// SetProposalVersion notes which version a proposal became.
func (t Tx) SetProposalVersion(ctx context.Context, n, version int64) error {
	return t.g.WithContext(ctx).Exec("UPDATE charter_proposals SET version = ? WHERE number = ?", version, n).Error
}

// Overtake ends the proposals that were made on an earlier charter than this.
func (t Tx) Overtake(ctx context.Context, version int64) error {
	return t.g.WithContext(ctx).Exec("UPDATE charter_proposals SET state = ?, ended_at = now() WHERE state = ? AND base < ?",
		StateOvertaken, StateWaiting, version).Error
}

// SayOfProposal keeps what someone has said of a proposal.
func (t Tx) SayOfProposal(ctx context.Context, n int64, a Approval) error {
	return t.g.WithContext(ctx).Exec("INSERT INTO charter_approvals (id, proposal, actor_id, agreed, remark) VALUES (?, ?, ?, ?, ?)",
		a.ID, n, a.ActorID, a.Agreed, a.Remark).Error
}

// SaidOfProposal lists what was said of a proposal, in the order in which it was said.
func (q Queries) SaidOfProposal(ctx context.Context, n int64) ([]Approval, error) {
	var out []Approval
	return out, q.g.WithContext(ctx).Table("charter_approvals p").Joins("JOIN actors a ON a.id = p.actor_id").
		Select("p.*, a.name, a.withdrawn_at").Where("p.proposal = ?", n).Order("p.at, p.id").Find(&out).Error
}
