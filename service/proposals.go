package service

import (
	"context"
	"strings"

	"dovrak/core/charter"
	"dovrak/core/gate"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"

	"github.com/opencontainers/go-digest"
)

// propose keeps a charter for those who must agree to it.
func (s *Service) propose(ctx context.Context, tx store.Tx, by Actor, p store.Proposal, changes []string) (Adopted, error) {
	p, err := tx.AddProposal(ctx, p)
	if err != nil {
		return Adopted{}, err
	}
	if err := tx.Tell(ctx, store.TopicCharter, map[string]int64{"proposal": p.Number}); err != nil {
		return Adopted{}, err
	}
	return Adopted{
			Proposal: p.Number,
			Changes:  changes,
		}, s.record(
			ctx,
			tx,
			proposalEntry(trail.CharterProposed, by.Name, p.Because, p, changes),
		)
}

func proposalEntry(act trail.Act, actor, because string, p store.Proposal, changes []string) entry {
	facts := map[string]string{
		"proposal": number(p.Number),
		"document": digest.FromString(p.Document).String(),
		"charter":  number(p.Base),
	}
	if len(changes) > 0 {
		facts["changes"] = shortened(strings.Join(changes, "; "))
	}
	return entry{act: act, actor: actor, sealed: map[string]string{"because": because}, facts: facts}
}

// ProposalView is a proposed charter, with what it changes and what was said of it.
type ProposalView struct {
	store.Proposal
	Changes []string
	Said    []store.Approval
	Verdict gate.Result // of those who must agree
	MaySay  error       // why the one who asks can say nothing of it; nil: they can
}

// Proposals lists proposed charters, newest first.
func (s *Service) Proposals(ctx context.Context, by Actor, p store.Page) ([]store.Proposal, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	return s.db.Proposals(ctx, p)
}

// Proposal gives one proposed charter.
func (s *Service) Proposal(ctx context.Context, by Actor, n int64) (ProposalView, error) {
	if err := by.Require(Read); err != nil {
		return ProposalView{}, err
	}
	p, err := s.proposalNumbered(ctx, s.db.Queries, n)
	if err != nil {
		return ProposalView{}, err
	}
	out := ProposalView{Proposal: p}
	base, err := s.chartered(ctx, p.Base)
	if err != nil {
		return out, err
	}
	parsed, err := charter.Parse([]byte(p.Document))
	if err != nil {
		return out, err
	}
	out.Changes = charter.Difference(base, parsed)
	if out.Said, err = s.db.SaidOfProposal(ctx, n); err != nil {
		return out, err
	}
	if out.Verdict, err = s.agreedTo(ctx, s.db.Queries, base, p); err != nil {
		return out, err
	}
	out.MaySay = s.maySayOfCharter(ctx, by, base, p)
	if k := problem.From(out.MaySay).Kind; out.MaySay != nil && k != problem.Refused && k != problem.NotPermitted {
		return out, out.MaySay
	}
	return out, nil
}

// chartered reads a version of the charter.
func (s *Service) chartered(ctx context.Context, version int64) (*charter.Charter, error) {
	c, _, err := s.db.CharterVersion(ctx, version)
	if err != nil {
		return nil, err
	}
	return charter.Parse([]byte(c.Document))
}

func (s *Service) proposalNumbered(ctx context.Context, q store.Queries, n int64) (store.Proposal, error) {
	p, ok, err := q.ProposalNumbered(ctx, n)
	if err == nil && !ok {
		err = &problem.Problem{Kind: problem.NotFound, Title: "There is no such proposal", Asked: "proposal " + number(n),
			Remedy: "dovrak charter proposals lists them"}
	}
	return p, err
}

// maySayOfCharter is nil if an actor may agree to a proposed charter or decline it now.
func (s *Service) maySayOfCharter(ctx context.Context, by Actor, base *charter.Charter, p store.Proposal) error {
	if err := by.approvesFor("the charter", base.Adoption.From); err != nil {
		return err
	}
	if p.State != store.StateWaiting {
		return &problem.Problem{Kind: problem.Refused, Title: "This charter does not wait for you", Asked: "proposal " + number(p.Number),
			Seen: "it is " + p.State, Rule: "adoption", Remedy: "dovrak charter proposals shows how it stands"}
	}
	requesters, err := s.requestersOf(ctx, p.AskedBy)
	for _, r := range requesters {
		if r == by.ID.String() {
			return &problem.Problem{Kind: problem.Refused, Title: "You cannot say that of your own proposal",
				Asked: "proposal " + number(p.Number), Seen: p.Name + " has proposed it, which is you or bears a token that you issued",
				Rule: "adoption: never who proposes", Remedy: "have another of " + orNone(base.Adoption.From) + " look at it"}
		}
	}
	return err
}

// agreedTo judges whether enough have agreed to a proposed charter, by the one in force when it was proposed.
func (s *Service) agreedTo(ctx context.Context, q store.Queries, base *charter.Charter, p store.Proposal) (gate.Result, error) {
	now, err := q.Now(ctx)
	if err != nil {
		return gate.Result{}, err
	}
	requesters, err := s.requestersOf(ctx, p.AskedBy)
	if err != nil {
		return gate.Result{}, err
	}
	words, err := q.SaidOfProposal(ctx, p.Number)
	if err != nil {
		return gate.Result{}, err
	}
	said, err := s.weighed(ctx, q, base, words)
	return gate.Agreement(gate.Wanted{Rule: base.Adoption, Requesters: requesters, Now: now}, said), err
}

// SayOfCharter keeps what someone says of a proposed charter. When enough agree it is in force; who declines ends it.
func (s *Service) SayOfCharter(ctx context.Context, by Actor, n int64, agreed bool, remark string) (ProposalView, error) {
	if err := firstOf(by.Require(Approve), reason(remark)); err != nil {
		return ProposalView{}, err
	}
	p, err := s.proposalNumbered(ctx, s.db.Queries, n)
	if err != nil {
		return ProposalView{}, err
	}
	base, err := s.chartered(ctx, p.Base)
	if err != nil {
		return ProposalView{}, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.Lock(ctx, "charter"); err != nil {
			return err
		}
		if p, err = s.proposalNumbered(ctx, tx.Queries, n); err != nil {
			return err
		}
		if err := s.maySayOfCharter(ctx, by, base, p); err != nil {
			return err
		}
		if err := tx.SayOfProposal(ctx, n, store.Approval{ID: store.NewID(), ActorID: by.ID, Agreed: agreed, Remark: remark}); err != nil {
			return err
		}
		if err := tx.Tell(ctx, store.TopicCharter, map[string]int64{"proposal": n}); err != nil {
			return err
		}
		if agreed {
			return s.agreeToCharter(ctx, tx, by, base, p, remark)
		}
		if err := tx.EndProposal(ctx, n, store.StateDeclined); err != nil {
			return err
		}
		return s.record(ctx, tx, proposalEntry(trail.CharterDeclined, by.Name, remark, p, nil))
	})
	if err != nil {
		return ProposalView{}, err
	}
	return s.Proposal(ctx, by, n)
}

func (s *Service) agreeToCharter(
	ctx context.Context,
	tx store.Tx,
	by Actor,
	base *charter.Charter,
	p store.Proposal,
	remark string,
) error {
	if err := s.record(ctx, tx, proposalEntry(trail.CharterApproved, by.Name, remark, p, nil)); err != nil {
		return err
	}
	verdict, err := s.agreedTo(ctx, tx.Queries, base, p)
	if err != nil || verdict.Open() {
		return err
	}
	parsed, err := charter.ParseNew([]byte(p.Document))
	if err != nil {
		return err
	}
	// It ends as adopted before the others on its base are overtaken.
	if err := tx.EndProposal(ctx, p.Number, store.StateAdopted); err != nil {
		return err
	}
	out, err := s.adopt(ctx, tx, Actor{ID: p.AskedBy, Name: p.Name}, p.Document, parsed, base)
	if err != nil {
		return err
	}
	return tx.SetProposalVersion(ctx, p.Number, out.Version)
}
