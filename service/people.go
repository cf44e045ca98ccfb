package service

import (
	"context"
	"net/mail"
	"strings"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"
)

// Person is someone who signs in, with what the charter in force lets them do.
type Person struct {
	store.Person
	May Actor
}

// People lists everyone who has signed in or may, by name.
func (s *Service) People(ctx context.Context, by Actor) ([]Person, error) {
	if err := by.Require(Read); err != nil {
		return nil, err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return nil, err
	}
	all, err := s.db.People(ctx)
	out := make([]Person, len(all))
	for i, p := range all {
		a := Actor{ID: p.Actor.ID, Kind: p.Actor.Kind, Name: p.Actor.Name, Own: true}
		if p.Withdraw == nil {
			a.May, a.For = held(p.Grants)
			a.join(law.Charter, groupsIn(law.Charter, p.Actor, p.Accounts))
		}
		out[i] = Person{p, a}
	}
	return out, err
}

// Invitation is a secret by which someone sets the password of their account; it is shown this once.
type Invitation struct {
	Name, Secret string
	Expires      time.Time
}

// AddPerson gives someone an account of Dovrak's own. Their address, where there is one, makes them known as the same person when they
// come by an issuer.
func (s *Service) AddPerson(ctx context.Context, by Actor, name, email string) (Invitation, error) {
	if err := by.Require(Keep); err != nil {
		return Invitation{}, err
	}
	email, err := address(email)
	if err == nil && !actorName.MatchString(name) {
		err = &problem.Problem{Kind: problem.Malformed, Title: "This account cannot be made", Asked: image.Printable(name),
			Seen: "a name that is none", Remedy: "use 2 to 64 letters, digits, spaces and . _ -"}
	}
	if err != nil {
		return Invitation{}, err
	}
	var out Invitation
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		actor, err := s.toBeMember(ctx, tx, name, email)
		if err != nil {
			return err
		}
		if err := tx.AddAccount(ctx, store.Account{Subject: accountOf(name), ActorID: actor.ID}); err != nil {
			return err
		}
		out, err = s.invite(ctx, tx, by, actor, trail.PersonAdded)
		out.Name = name
		return err
	})
	return out, err
}

// toBeMember finds or makes the person that an account is for.
func (s *Service) toBeMember(ctx context.Context, tx store.Tx, name, email string) (store.Actor, error) {
	if err := tx.Lock(ctx, "account "+accountOf(name)); err != nil {
		return store.Actor{}, err
	}
	if _, taken, err := tx.AccountOf(ctx, "", accountOf(name)); err != nil || taken {
		return store.Actor{}, firstOf(err, &problem.Problem{Kind: problem.Refused, Title: "This account is there already",
			Asked: image.Printable(name), Rule: "a name means one",
			Remedy: "invite them anew: dovrak people invite NAME; or take another name"})
	}
	same, ok, err := tx.PersonByEmail(ctx, email)
	if err != nil || ok {
		return same, err
	}
	actor, known, err := tx.ActorNamed(ctx, name)
	if err != nil || !known {
		if err == nil {
			actor, err = newPerson(ctx, tx, name, email)
		}
		return actor, err
	}
	accounts, err := tx.AccountsOf(ctx, actor.ID)
	if err == nil && (actor.Kind != "person" || len(accounts) > 0) {
		err = &problem.Problem{Kind: problem.Refused, Title: "This name is another's", Asked: image.Printable(name),
			Seen: name + " is a " + actor.Kind + " that signs in already", Rule: "a name means one", Remedy: "take another name"}
	}
	if err != nil || email == "" {
		return actor, err
	}
	return actor, tx.SetEmail(ctx, actor.ID, email)
}

// EditPerson gives someone an address, by which they are known as the same person when they come by another account.
func (s *Service) EditPerson(ctx context.Context, by Actor, name, email string) error {
	if err := by.Require(Keep); err != nil {
		return err
	}
	email, err := address(email)
	if err != nil {
		return err
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		actor, ok, err := tx.ActorNamed(ctx, name)
		if err != nil || !ok {
			return firstOf(err, noPerson(name, "nobody of this name"))
		}
		if other, taken, err := tx.PersonByEmail(ctx, email); err != nil || taken && other.ID != actor.ID {
			return firstOf(err, &problem.Problem{Kind: problem.Refused, Title: "This address is another's", Asked: email, Seen: "it is " +
				other.Name + "'s", Rule: "an address means one person", Remedy: "give the other one another address first"})
		}
		if err := tx.SetEmail(ctx, actor.ID, email); err != nil {
			return err
		}
		return s.record(ctx, tx, entry{act: trail.PersonEdited, actor: by.Name,
			sealed: map[string]string{"person": actor.Name, "email": email}})
	})
}

// address reads an e-mail address; none is none.
func address(email string) (string, error) {
	email = strings.ToLower(strings.TrimSpace(email))
	if a, err := mail.ParseAddress(email); email != "" && (err != nil || a.Address != email) {
		return "", &problem.Problem{Kind: problem.Malformed, Title: "This is no address", Asked: image.Printable(email),
			Remedy: "write it bare: name@host"}
	}
	return email, nil
}

// Invite lets someone set the password of their account anew, which ends what they were signed in with when they do.
func (s *Service) Invite(ctx context.Context, by Actor, name string) (Invitation, error) {
	if err := by.Require(Keep); err != nil {
		return Invitation{}, err
	}
	var out Invitation
	err := s.db.Tx(ctx, func(tx store.Tx) error {
		acc, ok, err := tx.AccountOf(ctx, "", accountOf(name))
		if err != nil {
			return err
		}
		if !ok {
			return noPerson(name, "no account of Dovrak's own")
		}
		actor, _, err := tx.ActorByID(ctx, acc.ActorID)
		if err == nil {
			out, err = s.invite(ctx, tx, by, actor, trail.PersonInvited)
		}
		return err
	})
	return out, err
}

func (s *Service) invite(ctx context.Context, tx store.Tx, by Actor, actor store.Actor, act trail.Act) (Invitation, error) {
	secret, hash := newToken()
	if err := tx.Invite(ctx, actor.ID, hash, invitationLife); err != nil {
		return Invitation{}, err
	}
	now, err := tx.Now(ctx)
	if err != nil {
		return Invitation{}, err
	}
	if err := tx.Tell(ctx, store.TopicPeople, map[string]string{}); err != nil {
		return Invitation{}, err
	}
	return Invitation{actor.Name, secret, now.Add(invitationLife)},
		s.record(ctx, tx, entry{act: act, actor: by.Name, sealed: map[string]string{"person": actor.Name}})
}

// WithdrawRights takes everything that someone may, at once: their tokens and sessions end, and what they have agreed to counts no
// more. With restore they get it back; they sign in anew.
func (s *Service) WithdrawRights(ctx context.Context, by Actor, name string, restore bool) error {
	if err := by.Require(Keep); err != nil {
		return err
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		actor, ok, err := tx.ActorNamed(ctx, name)
		if err != nil {
			return err
		}
		if !ok {
			return noPerson(name, "nobody of this name")
		}
		if actor.ID == by.ID {
			return &problem.Problem{Kind: problem.Refused, Title: "You cannot withdraw your own rights", Asked: name,
				Rule: "somebody is left who may give them back", Remedy: "have another with the permission keep do it"}
		}
		changed, err := tx.Withdraw(ctx, actor.ID, !restore)
		if err != nil || !changed {
			return err
		}
		if !restore {
			if err := tx.EndTokens(ctx, actor.ID, false); err != nil {
				return err
			}
		}
		if err := tx.Tell(ctx, store.TopicPeople, map[string]string{}); err != nil {
			return err
		}
		if err := s.wakeWaiting(ctx, tx, store.WaitingFor{}); err != nil {
			return err
		}
		act := trail.RightsWithdrawn
		if restore {
			act = trail.RightsRestored
		}
		return s.record(ctx, tx, entry{act: act, actor: by.Name, sealed: map[string]string{"person": actor.Name}})
	})
}

func noPerson(name, seen string) error {
	return &problem.Problem{Kind: problem.NotFound, Title: "There is no such person", Asked: image.Printable(name), Seen: seen,
		Remedy: "dovrak people lists them"}
}
