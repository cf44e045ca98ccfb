package service

import (
	"context"
	"errors"
	"slices"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/tagging"
	"dovrak/failpoint"
	"dovrak/registry"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// Pointed is what came of pointing a tag. Changed is false where it meant the digest already.
type Pointed struct {
	Tag      image.Reference
	From, To digest.Digest
	Changed  bool
	Number   int64 // of the tag change
	At       time.Time
}

// Point makes tags of a repository mean a digest that is there, in the order given, each by the charter's rules. All
// rules are asked before the first tag is pointed.
func (s *Service) Point(ctx context.Context, by Actor, img image.Reference, tags []string, because string) ([]Pointed, error) {
	if err := firstOf(by.Require(Point), reason(because), pointable(img, tags)); err != nil {
		return nil, s.withDigest(ctx, img, err)
	}
	at, err := s.spot(ctx, img)
	if err != nil {
		return nil, err
	}
	if err := s.mayWrite(ctx, at); err != nil {
		return nil, err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return nil, err
	}
	rules, err := s.rulesOf(ctx, law, at)
	if err != nil {
		return nil, err
	}
	m, err := s.present(ctx, at, img)
	if err != nil {
		return nil, err
	}
	var facts tagging.Facts
	if rules.Environment != "" {
		if facts, err = s.factsOf(ctx, at, m.Digest); err != nil {
			return nil, err
		}
	}
	w := wish{at: at, to: m, by: by, because: because, rules: rules, facts: facts}
	if by.Kind == "pipeline" { // bound to the order of its builds, as a build is
		w.mover = tagging.ByBuild
	}
	if len(tags) > 1 {
		together := store.NewID()
		w.together = &together
	}
	return s.pointAll(ctx, w, tags)
}

// pointAll points several tags as one change: all rules are asked before the first is pointed, and fixed tags come first.
func (s *Service) pointAll(ctx context.Context, w wish, tags []string) ([]Pointed, error) {
	tags = slices.Clone(tags)
	slices.SortStableFunc(tags, func(a, b string) int { return w.rules.Of(a, w.facts).Kind.Before(w.rules.Of(b, w.facts).Kind) })
	tags = slices.Compact(tags)
	for _, t := range tags {
		w.tag = t
		if err := s.mayPoint(ctx, w); err != nil {
			return nil, err
		}
	}
	var out []Pointed
	for _, t := range tags {
		w.tag = t
		p, err := s.point(ctx, w)
		if err != nil {
			return out, err
		}
		out = append(out, p)
	}
	return out, nil
}

const (
	ruleOneWriter = "one writer a tag"
	ruleAsDecided = "a switch points what was decided on, from what it meant then"
)

// maxTags bounds the tags of one change.
const maxTags = 20

func pointable(img image.Reference, tags []string) error {
	if img.Digest == "" {
		return &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "A tag is pointed at a digest",
			Asked:  img.String(),
			Seen:   "a tag in place of a digest",
			Remedy: "name the image by digest: dovrak show " + img.String() + " prints it",
		}
	}
	if len(tags) == 0 || len(tags) > maxTags {
		return &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "No tag to point, or too many",
			Asked:  img.String(),
			Remedy: "name 1 to 20 tags behind the image",
		}
	}
	for _, t := range tags {
		if err := image.CheckTag(t); err != nil {
			return err
		}
	}
	return nil
}

// withDigest adds to the refusal of a tag in place of a digest what that tag was last seen to mean.
func (s *Service) withDigest(ctx context.Context, img image.Reference, err error) error {
	if img.Digest != "" || !problem.Is(err, problem.Malformed) {
		return err
	}
	at, serr := s.spot(ctx, img)
	if serr != nil {
		return err
	}
	if d, lerr := s.db.LastMeant(ctx, at.at(), img.Tag); lerr == nil && d != "" {
		p := problem.From(err)
		p.Remedy = "it was last seen to mean " + at.ref.In() + "@" + d.String() + "; if that is the one, name it so"
	}
	return err
}

// present reads a manifest that is asked to be in a repository, where the repository says that it is: by a HEAD for one
// that is kept, else by the GET itself.
func (s *Service) present(ctx context.Context, at spot, img image.Reference) (image.Manifest, error) {
	d := img.Digest
	_, kept, err := s.db.Content(ctx, d)
	if err != nil {
		return image.Manifest{}, err
	}
	if d == "" || kept {
		if d, _, err = s.resolve(ctx, at, img); err != nil {
			return image.Manifest{}, err
		}
	}
	m, err := transfer.Manifest(ctx, at.Repository, contents{s.db}, d)
	if problem.Is(err, problem.NotFound) {
		now, nerr := s.db.Now(ctx)
		err = firstOf(nerr, s.nothing(ctx, at, img, now, err))
	}
	return m, err
}

// wish is a tag to be pointed.
type wish struct {
	at       spot
	tag      string
	to       image.Manifest
	by       Actor
	because  string
	rules    tagging.Rules
	facts    tagging.Facts // of the image
	mover    tagging.Mover
	remove   bool            // in place of to: the tag is taken away
	under    *store.Lease    // of the work that it is part of; nil by hand
	together *uuid.UUID      // several tags that are pointed as one change
	believes []digest.Digest // one of these it must mean now, if any are named; the empty digest is nothing
	restores bool            // a switch goes back: what it meant before is no new meaning, and no rule is asked
	seat     *seat           // among the places that point it at the same moment; nil: it is pointed in one place alone
}

func (w wish) ref() image.Reference {
	r := w.at.ref
	r.Tag = w.tag
	return r
}

// believed refuses to point a tag that means something else than whoever decided on it was shown.
func (w wish) believed(from digest.Digest) error {
	if len(w.believes) == 0 || from == w.to.Digest || slices.Contains(w.believes, from) {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.Refused,
		Title:  "This tag means something else than when it was decided on",
		Asked:  w.ref().String() + " to " + w.to.Digest.String(),
		Seen:   orNothing(from) + " in place of " + orNothing(w.believes[0]),
		Where:  w.at.String(),
		Rule:   ruleAsDecided,
		Remedy: "look at who writes there (dovrak trail " + w.ref().String() + "), and decide anew",
	}
}

func orNothing(d digest.Digest) string {
	if d == "" {
		return "nothing"
	}
	return d.String()
}

// judge asks the rules. What a tag that means nothing now meant before counts for a fixed one.
func (s *Service) judge(ctx context.Context, w wish, from digest.Digest) error {
	if w.restores {
		return nil
	}
	c := tagging.Change{Tag: w.ref(), From: from, To: w.to.Digest, Mover: w.mover, Image: w.facts}
	var err error
	if from == "" {
		if c.Was, err = s.db.LastMeant(ctx, w.at.at(), w.tag); err != nil {
			return err
		}
	}
	if w.rules.Environment != "" && !w.remove {
		if c.CacheOnly, err = s.cacheOnly(ctx, w); err != nil {
			return err
		}
		moves := w.rules.Of(w.tag, w.facts).Moves
		compared := moves == tagging.MovesForward || moves == tagging.MovesAny && w.mover == tagging.ByBuild
		if from != "" && from != w.to.Digest && compared {
			if c.Means, err = s.factsOf(ctx, w.at, from); err != nil && !absent(err) { // what it means may be gone
				return err
			}
		}
	}
	return w.rules.Judge(c)
}

func (s *Service) mayPoint(ctx context.Context, w wish) error {
	from, _, err := s.means(ctx, w.at, w.tag)
	if err != nil {
		return err
	}
	return s.judge(ctx, w, from)
}

// means asks what a tag means now; nothing is no error.
func (s *Service) means(ctx context.Context, at spot, tag string) (digest.Digest, time.Time, error) {
	ref := at.ref
	ref.Tag = tag
	d, seen, err := s.resolve(ctx, at, ref)
	if absent(err) {
		return "", seen, nil
	}
	return d, seen, err
}

// glance asks what a tag means now, a bounded time.
func (s *Service) glance(ctx context.Context, at spot, tag string) (digest.Digest, time.Time, error) {
	ctx, cancel := context.WithTimeout(ctx, lookDeadline)
	defer cancel()
	return s.means(ctx, at, tag)
}

// point is the one way in which Dovrak changes a tag: lease, look, judge, intent, PUT, look again, outcome.
func (s *Service) point(ctx context.Context, w wish) (Pointed, error) {
	lease, done, err := s.leaseTag(ctx, w.at, w.tag)
	if err != nil {
		return Pointed{}, err
	}
	defer done()
	out, keep, err := s.pointLeased(ctx, w, lease)
	if !keep {
		err = errors.Join(err, s.db.FreeTag(context.WithoutCancel(ctx), lease))
	}
	return out, err
}

// pointLeased does it under the lease. keep is true where the lease must run out by itself, since a request may still
// be on its way.
func (s *Service) pointLeased(ctx context.Context, w wish, lease store.TagLease) (out Pointed, keep bool, err error) {
	if open, ok, err := s.db.OpenChange(ctx, w.at.at(), w.tag); err != nil {
		return out, false, err
	} else if ok {
		if err := s.settleLeased(ctx, w.at, open, lease); err != nil {
			return out, false, err
		}
	}
	from, seen, err := s.glance(ctx, w.at, w.tag)
	if err != nil {
		return out, false, err
	}
	out = Pointed{Tag: w.ref(), From: from, To: w.to.Digest, At: seen}
	if err := firstOf(w.believed(from), s.judge(ctx, w, from)); err != nil || from == w.to.Digest {
		return out, false, err
	}
	change, err := s.intend(ctx, w, from, seen, lease)
	if err != nil {
		return out, false, err
	}
	// From here on it is carried through, whoever goes away.
	ctx = context.WithoutCancel(ctx)
	if err := failpoint.At(ctx, "intent-written"); err != nil {
		return out, true, err
	}
	put, cancel := context.WithTimeout(ctx, putDeadline)
	putErr := s.send(put, w, from)
	cancel()
	w.seat.meet(ctx)
	if err := failpoint.At(ctx, "tag-put"); err != nil {
		return out, true, err
	}
	outcome, err := s.conclude(ctx, w.at, change, answered(putErr), lease)
	out.Number, out.Changed, out.At = change.Number, outcome == tagging.Done, change.IntendedAt.UTC()
	switch {
	case err != nil:
		return out, true, err
	case outcome == tagging.Done:
		return out, false, nil
	}
	return out, outcome == tagging.Open, notPointed(w, outcome, putErr)
}

// send asks the registry for the change itself.
func (s *Service) send(ctx context.Context, w wish, from digest.Digest) error {
	if w.remove {
		return s.takeAway(ctx, w, from)
	}
	return w.at.PutManifest(ctx, w.tag, w.to)
}

// answered tells how a PUT ended. A 4xx is a no; anything else that is not a yes may have been done all the same.
func answered(err error) tagging.Answer {
	status := registry.Status(err)
	switch {
	case err == nil:
		return tagging.Accepted
	case status >= 400 && status < 500:
		return tagging.Refused
	}
	return tagging.NoAnswer
}

func notPointed(w wish, o tagging.Outcome, putErr error) error {
	switch o {
	case tagging.NotDone:
		return putErr
	case tagging.Overtaken:
		return (&problem.Problem{
			Kind:   problem.Refused,
			Title:  "Someone else pointed this tag at the same moment",
			Asked:  w.ref().String() + " to " + w.to.Digest.String(),
			Seen:   "it means something else now",
			Rule:   ruleOneWriter,
			Remedy: "look at what it means (dovrak show " + w.ref().String() + ") and ask again",
		}).Because(putErr)
	}
	return (&problem.Problem{
		Kind:  problem.Unreachable,
		Title: "It cannot be told yet whether the tag was pointed",
		Asked: w.ref().String() + " to " + w.to.Digest.String(),
		Seen:  "no answer to the request",
		Where: w.at.String(),
		Remedy: "the tag is blocked until the registry has been asked again, which is done within " + tagLease.String() +
			"; dovrak trail " + w.ref().String() + " then tells",
	}).Because(putErr)
}

// leaseTag waits for the tag's lease, a bounded time; first for the turn among those of this process. Call what it gives when
// the lease was given back, or is left to run out.
func (s *Service) leaseTag(ctx context.Context, at spot, tag string) (store.TagLease, func(), error) {
	ctx, cancel := context.WithTimeout(ctx, leaseWait)
	defer cancel()
	notice := store.TagNotice(at.at(), tag)
	done, err := s.turns.take(ctx, notice)
	if err != nil {
		return store.TagLease{}, nil, tagBusy(at, tag)
	}
	freed, stop := s.link.Subscribe(notice)
	defer stop()
	owner := store.NewID()
	for {
		l, ok, err := s.db.LeaseTag(ctx, at.at(), tag, owner, tagLease)
		if ok && err == nil {
			return l, done, nil
		}
		var left time.Duration
		if err == nil {
			left, err = s.db.TagLeaseLeft(ctx, at.at(), tag)
		}
		if err == nil && waitOr(ctx, left+20*time.Millisecond, freed) != nil {
			err = tagBusy(at, tag)
		}
		if err != nil {
			done()
			return l, nil, err
		}
	}
}

func tagBusy(at spot, tag string) error {
	return &problem.Problem{
		Kind:   problem.Busy,
		Title:  "Another change of this tag is under way",
		Asked:  at.ref.In() + ":" + tag,
		Seen:   "its lease is held by another writer",
		Rule:   ruleOneWriter,
		Remedy: "ask again in a few seconds",
	}
}

func waitFor(ctx context.Context, d time.Duration) error { return waitOr(ctx, d, nil) }

// waitOr waits for a while, or until woken.
func waitOr(ctx context.Context, d time.Duration, wake <-chan struct{}) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-wake:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// intend writes the change down and begins the lease anew, so that the PUT has all of it.
func (s *Service) intend(ctx context.Context, w wish, from digest.Digest, seen time.Time, lease store.TagLease) (store.TagChange, error) {
	c := store.TagChange{ID: store.NewID(), RegistryID: w.at.conn.ID, Repository: w.at.ref.Repository, Tag: w.tag,
		ToDigest: w.to.Digest, ActorID: w.by.ID, Because: w.because, Together: w.together, Back: w.restores, Fence: lease.Fence, SeenBeforeAt: seen}
	if from != "" {
		c.FromDigest = &from
	}
	if w.under != nil {
		c.WorkID = &w.under.Work
	}
	err := s.db.Tx(ctx, func(tx store.Tx) error {
		_, mine, err := tx.LeaseTag(ctx, w.at.at(), w.tag, lease.Owner, tagLease)
		if err != nil {
			return err
		}
		if !mine {
			return store.ErrLost
		}
		if w.under != nil { // a process that slept must not point what another has long gone on from
			if err := tx.Renew(ctx, *w.under, workLease); err != nil {
				return err
			}
		}
		c, err = tx.Intend(ctx, c)
		return err
	})
	return c, err
}
