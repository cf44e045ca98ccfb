package service

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"dovrak/core/charter"
	"dovrak/core/image"
	"dovrak/core/join"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/failpoint"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// CloseBuild joins what is there, once every required platform is in. A build whose closing failed is tried again.
func (s *Service) CloseBuild(ctx context.Context, by Actor, component string, run int64) (BuildView, error) {
	if err := by.reportsFor(component); err != nil {
		return BuildView{}, err
	}
	b, err := s.buildFor(ctx, component, run)
	if err != nil {
		return BuildView{}, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return BuildView{}, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.Lock(ctx, "build "+b.Work.ID.String()); err != nil {
			return err
		}
		if b, _, err = tx.BuildByWork(ctx, b.Work.ID); err != nil {
			return err
		}
		switch b.Work.State {
		case store.StateGivenUp:
			return stillOpen(b, "")
		case store.StateOpen, store.StateIncomplete, store.StateFailed:
		default: // it is being closed, or was
			return nil
		}
		parts, err := tx.Parts(ctx, b.Work.ID)
		if err != nil {
			return err
		}
		if missing := law.wanted(b.Build).Missing(platformsOf(parts)); len(missing) > 0 {
			return missingParts(b.Build, missing, law.Components[component].Platforms)
		}
		return s.closeNow(ctx, tx, b.Build)
	})
	if err != nil {
		return BuildView{}, err
	}
	return s.buildByWork(ctx, b.Work.ID)
}

func missingParts(b store.Build, missing, required []string) error {
	return &problem.Problem{Kind: problem.Refused, Title: "Platforms are missing", Asked: "to close " + buildName(b),
		Seen:   "no part for " + strings.Join(missing, ", "),
		Rule:   "required platforms of " + b.Component + ": " + strings.Join(required, ", "),
		Remedy: "report them: dovrak build part " + buildName(b) + " --platform " + missing[0] + " --image …"}
}

// closeNow queues the closing of a build in the transaction that decides it.
func (s *Service) closeNow(ctx context.Context, tx store.Tx, b store.Build) error {
	moved, err := tx.MoveBuild(ctx, b.WorkID, store.StateAsked, store.StateOpen, store.StateIncomplete, store.StateFailed)
	if err != nil || !moved {
		return err
	}
	what := buildSubject(b)
	if err := what.tell(ctx, tx, store.StateAsked); err != nil {
		return err
	}
	return s.queue.Insert(ctx, tx.PGX, BuildJob{b.WorkID})
}

// RunBuild closes a build, unless another process does: parts are brought to every place, joined, and tagged by rule.
func (s *Service) RunBuild(ctx context.Context, work uuid.UUID) error {
	b, ok, err := s.db.BuildByWork(ctx, work)
	if err != nil || !ok || b.Work.State == store.StateOpen || b.Work.State == store.StateIncomplete {
		return err
	}
	return s.underLease(ctx, work, buildSubject(b.Build),
		func(ctx context.Context, sh *shift) error { return s.runBuild(ctx, sh, b) },
		func(ctx context.Context, tx store.Tx, p *problem.Problem) error {
			if err := tx.CountTry(ctx, work); err != nil {
				return err
			}
			return s.record(
				ctx,
				tx,
				buildEntry(trail.BuildFailed, b.RequesterName, b.Build, map[string]string{"problem": p.Title, "rule": p.Rule}),
			)
		})
}

func (s *Service) runBuild(ctx context.Context, sh *shift, b store.BuildWork) error {
	if err := sh.state(ctx, store.StateReading); err != nil {
		return err
	}
	law, err := s.law(ctx)
	if err != nil {
		return err
	}
	parts, err := s.gather(ctx, b)
	if err != nil {
		return err
	}
	index, warnings, err := s.indexOf(ctx, law, b.Build, parts)
	if err != nil {
		return err
	}
	var places []spot
	for _, p := range law.Environments[b.Build.Environment].Places {
		at, err := s.spot(ctx, p.At(b.Build.Component))
		if err != nil {
			return err
		}
		places = append(places, at)
	}
	if len(places) == 0 {
		return &problem.Problem{Kind: problem.Refused, Title: "The build has nowhere to go", Asked: buildName(b.Build),
			Seen: "the charter has no place in " + b.Build.Environment + " any more", Rule: "builds go to the first environment of their route",
			Remedy: "have the charter name one, and close the build again"}
	}
	if err := s.assemble(ctx, sh, parts, index, places); err != nil {
		return err
	}
	// From here on the image can be told by its build, which the rules of moving tags need.
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.Renew(ctx, sh.lease, workLease); err != nil {
			return err
		}
		return tx.SetBuildImage(ctx, b.Work.ID, index.Digest, warnings)
	})
	if err != nil {
		return err
	}
	b.Build.Digest = index.Digest
	if err := failpoint.At(ctx, "index-put"); err != nil {
		return err
	}
	if err := sh.state(ctx, store.StateSwitching); err != nil {
		return err
	}
	for _, at := range places {
		if err := s.tagBuild(ctx, sh, law, b, at, index); err != nil {
			return err
		}
	}
	return sh.end(ctx, func(tx store.Tx) error {
		facts := map[string]string{}
		for _, p := range parts {
			facts["part "+p.Claimed.String()] = p.Root.Digest.String()
		}
		return s.record(ctx, tx, buildEntry(trail.BuildJoined, b.RequesterName, b.Build, facts))
	})
}

// placed is a part with the repository that it was pushed to.
type placed struct {
	join.Part
	at spot
}

// gather reads the parts of a build again: their manifests and configs are kept, and cost no request.
func (s *Service) gather(ctx context.Context, b store.BuildWork) ([]placed, error) {
	rows, err := s.db.Parts(ctx, b.Work.ID)
	if err != nil {
		return nil, err
	}
	var out []placed
	for _, row := range rows {
		p, err := s.placedPart(ctx, row.Repository, row.Platform, row.Digest)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

func (s *Service) placedPart(ctx context.Context, repository, platform string, d digest.Digest) (placed, error) {
	ref, err := image.ParseRepository(repository)
	if err != nil {
		return placed{}, err
	}
	at, err := s.spot(ctx, ref)
	if err != nil {
		return placed{}, err
	}
	claimed, err := image.ParsePlatform(platform)
	if err != nil {
		return placed{}, err
	}
	part, err := s.readPart(ctx, at, claimed, d)
	return placed{part, at}, err
}

// indexOf is the index of a build: the one that the pipeline pushed or, of its parts, the canonical one.
func (s *Service) indexOf(ctx context.Context, law law, b store.Build, parts []placed) (image.Manifest, []string, error) {
	index, warnings, err := law.wanted(b).Join(bare(parts))
	if err != nil || b.Given == "" {
		return index, warnings, err
	}
	ref, err := image.ParseReference(b.Given)
	if err != nil {
		return index, nil, err
	}
	at, err := s.spot(ctx, ref)
	if err != nil {
		return index, nil, err
	}
	index, err = transfer.Manifest(ctx, at.Repository, contents{s.db}, ref.Digest)
	return index, warnings, err
}

func bare(parts []placed) []join.Part {
	out := make([]join.Part, len(parts))
	for i, p := range parts {
		out[i] = p.Part
	}
	return out
}

// assemble brings every part to every place, whole, and puts the index there, which it then asks for again.
func (s *Service) assemble(ctx context.Context, sh *shift, parts []placed, index image.Manifest, places []spot) error {
	if err := s.db.KeepContent(ctx, store.Content{Digest: index.Digest, MediaType: index.MediaType, Bytes: index.Bytes}); err != nil {
		return err
	}
	if err := sh.state(ctx, store.StateMoving); err != nil {
		return err
	}
	for _, to := range places {
		for _, p := range parts {
			if err := s.bring(ctx, sh, p, to); err != nil {
				return err
			}
		}
	}
	if err := failpoint.At(ctx, "parts-in-place"); err != nil {
		return err
	}
	if err := sh.state(ctx, store.StateJoining); err != nil {
		return err
	}
	for _, to := range places {
		if err := s.putIndex(ctx, to, index); err != nil {
			return err
		}
		if _, err := s.describe(ctx, to, index.Digest); err != nil { // so that it is known in few words from now on
			return err
		}
	}
	return nil
}

// putIndex puts an index whose members are there, and reads its digest back.
func (s *Service) putIndex(ctx context.Context, to spot, index image.Manifest) error {
	there, err := transfer.Has(ctx, to.Repository, index.Digest)
	if err != nil {
		return err
	}
	if !there {
		if err := to.PutManifest(ctx, index.Digest.String(), index); err != nil {
			return err
		}
		if there, err = transfer.Has(ctx, to.Repository, index.Digest); err != nil {
			return err
		}
	}
	if !there {
		return &problem.Problem{
			Kind:   problem.RegistryError,
			Title:  "The registry took the index and does not have it",
			Asked:  index.Digest.String(),
			Where:  to.ref.In(),
			Remedy: "close the build again; if it stays, look at the registry's storage",
		}
	}
	return s.db.Hold(ctx, to.at(), index.Digest, true)
}

// bring sees to it that a part is whole in a place: where it was pushed there, every piece is asked for; else what is
// missing is copied, with what refers to it.
func (s *Service) bring(ctx context.Context, sh *shift, p placed, to spot) error {
	if p.at.ref.In() == to.ref.In() {
		return s.wholeThere(ctx, p, to)
	}
	cargo, err := s.load(ctx, p.at, p.Root.Digest, AllReferrers)
	if err != nil {
		return err
	}
	return s.carry(ctx, sh, freight{from: p.at, to: []spot{to}, cargo: cargo})
}

func (s *Service) wholeThere(ctx context.Context, p placed, to spot) error {
	whole, err := s.db.WholeWithin(ctx, to.at(), p.Root.Digest, wholeFor)
	if err != nil || whole {
		return err
	}
	cargo, err := s.load(ctx, to, p.Root.Digest, NoReferrers)
	if err != nil {
		return err
	}
	have, err := transfer.Look(ctx, to.Repository, cargo)
	if err != nil {
		return err
	}
	var lacking []string
	c := plan.NewCopy(cargo, have)
	for _, piece := range append(c.Blobs, c.Manifests...) {
		if !piece.Present && !piece.Foreign {
			lacking = append(lacking, piece.Digest.String())
		}
	}
	if len(lacking) == 0 {
		return s.db.Hold(ctx, to.at(), p.Root.Digest, true)
	}
	return &problem.Problem{
		Kind:   problem.Refused,
		Title:  "A part is not whole in the registry",
		Asked:  p.Root.Digest.String() + " for " + p.Claimed.String(),
		Seen:   fmt.Sprintf("%d pieces are not there: %s", len(lacking), lacking[0]),
		Where:  to.ref.In(),
		Rule:   "content first, tags last",
		Remedy: "push the part again, and close the build again",
	}
}

// tagBuild points what the build earned in a place, fixed tags first. A moving tag whose rule does not let it move to this
// build stays, and the trail says so.
func (s *Service) tagBuild(ctx context.Context, sh *shift, law law, b store.BuildWork, at spot, index image.Manifest) error {
	rules, err := s.homeRules(ctx, law, charter.Home{Component: b.Build.Component, Environment: b.Build.Environment})
	if err != nil {
		return err
	}
	w := wish{at: at, to: index, by: Actor{ID: b.Work.RequestedBy, Name: b.RequesterName}, mover: tagging.ByBuild, rules: rules,
		facts: buildFacts(b), under: &sh.lease}
	together := store.NewID()
	w.together = &together
	tags := earnedTags(rules, w.facts, at.ref)
	for i := range tags {
		tags[i].WorkID = b.Work.ID
	}
	if err := s.db.Tx(ctx, func(tx store.Tx) error { return tx.SetBuildTags(ctx, b.Work.ID, tags) }); err != nil {
		return err
	}
	for _, t := range tags {
		w.tag, w.because = t.Tag, fmt.Sprintf("%s tag %s in %s", t.Kind, t.Rule, b.Build.Environment)
		p, err := s.point(ctx, w)
		if problem.Is(err, problem.Refused) && t.Kind != string(tagging.Fixed) && !overtaken(err) {
			err = s.stays(ctx, sh, b, w, t, err)
		} else if err == nil {
			t.Outcome = "points"
			if p.Number > 0 {
				t.Change = &p.Number
			}
			err = s.settleBuildTag(ctx, sh, b, t)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// overtaken reports that someone outside pointed the tag at the same moment, which is no word of a rule.
func overtaken(err error) bool {
	p, ok := errors.AsType[*problem.Problem](err)
	return ok && p.Rule == ruleOneWriter
}

func (s *Service) settleBuildTag(ctx context.Context, sh *shift, b store.BuildWork, t store.BuildTag) error {
	return s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.SettleBuildTag(ctx, t); err != nil {
			return err
		}
		return sh.what.tell(ctx, tx, "")
	})
}

// stays keeps that a tag did not move to a build, and why.
func (s *Service) stays(ctx context.Context, sh *shift, b store.BuildWork, w wish, t store.BuildTag, why error) error {
	t.Outcome, t.Why = "stays", problem.From(why).Seen
	means, _, err := s.means(ctx, w.at, w.tag)
	if err != nil {
		return err
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		if err := tx.SettleBuildTag(ctx, t); err != nil {
			return err
		}
		if err := sh.what.tell(ctx, tx, ""); err != nil {
			return err
		}
		return s.record(
			ctx,
			tx,
			entry{act: trail.TagStays, actor: b.RequesterName, subject: w.ref().String(), component: b.Build.Component,
				work: &b.Work.ID, facts: map[string]string{"build": buildName(b.Build), "digest": w.to.Digest.String(), "means": means.String(),
					"rule": problem.From(why).Rule, "why": t.Why}},
		)
	})
}
