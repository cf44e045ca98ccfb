package service

import (
	"context"
	"slices"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/store"

	"github.com/opencontainers/go-digest"
)

// History is what a component's tags meant over a time, place by place.
type History struct {
	Component    string
	Since, Until time.Time
	Lanes        []Lane
}

// Lane is one tag in one place.
type Lane struct {
	Environment string
	Tag         image.Reference
	Fixed       bool
	Stretches   []Stretch
}

// rank orders the lanes of a place: the standing tag, other moving tags, then fixed ones.
func (l Lane) rank(standing string) int {
	switch {
	case l.Tag.Tag == standing:
		return 0
	case !l.Fixed:
		return 1
	}
	return 2
}

// Stretch is a time in which a tag meant one digest. Until is nil where it still does. By and Because tell of its
// beginning; a promotion's number is there where one pointed it.
type Stretch struct {
	Digest    digest.Digest
	Version   string
	From      time.Time
	Until     *time.Time
	By        string
	Because   string
	Promotion *int64
	RollBack  bool // the promotion is one
	Back      bool // it was a switch that went back
	Change    int64
}

// maxStretches bounds what one place gives; the newest are kept.
const maxStretches = 2000

// History reads what a component's tags meant from since on. The first stretch of a lane may have begun earlier.
func (s *Service) History(ctx context.Context, by Actor, component string, since time.Time) (History, error) {
	if err := by.Require(Read); err != nil {
		return History{}, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return History{}, err
	}
	comp, err := law.Component(component)
	if err != nil {
		return History{}, err
	}
	out := History{Component: component, Since: since, Lanes: []Lane{}}
	if out.Until, err = s.db.Now(ctx); err != nil {
		return out, err
	}
	for _, name := range law.Routes[comp.Route] {
		env := law.Environments[name]
		for _, p := range env.Places {
			lanes, err := s.lanes(ctx, p.At(component), since)
			if err != nil {
				return out, err
			}
			var here []Lane
			for _, l := range lanes {
				l.Environment = name
				_, l.Fixed = env.Rules(name).FixedBy(l.Tag.Tag)
				here = append(here, l)
			}
			slices.SortStableFunc(here, func(a, b Lane) int { return a.rank(env.Standing) - b.rank(env.Standing) })
			out.Lanes = append(out.Lanes, here...)
		}
	}
	return out, s.nameVersions(ctx, out.Lanes)
}

func (s *Service) lanes(ctx context.Context, ref image.Reference, since time.Time) ([]Lane, error) {
	at, err := s.spot(ctx, ref)
	if err != nil {
		return nil, err
	}
	ms, err := s.db.Meanings(ctx, at.at(), "", since, maxStretches)
	if err != nil {
		return nil, err
	}
	var lanes []Lane
	index := map[string]int{}
	for _, m := range ms {
		i, ok := index[m.Tag]
		if !ok {
			i = len(lanes)
			index[m.Tag] = i
			tag := ref
			tag.Tag = m.Tag
			lanes = append(lanes, Lane{Tag: tag})
		}
		l := &lanes[i]
		if n := len(l.Stretches); n > 0 && l.Stretches[n-1].Until == nil {
			until := m.SettledAt.UTC()
			l.Stretches[n-1].Until = &until
		}
		if m.ToDigest != "" { // else it was taken away
			l.Stretches = append(l.Stretches, stretch(m))
		}
	}
	return lanes, nil
}

func stretch(m store.Meaning) Stretch {
	return Stretch{
		Digest:    m.ToDigest,
		From:      m.SettledAt.UTC(),
		By:        m.ActorName,
		Because:   m.Because,
		Promotion: m.PromotionNo,
		RollBack:  m.RollBack,
		Back:      m.Back,
		Change:    m.Number,
	}
}

func (s *Service) nameVersions(ctx context.Context, lanes []Lane) error {
	var ds []digest.Digest
	for _, l := range lanes {
		for _, st := range l.Stretches {
			ds = append(ds, st.Digest)
		}
	}
	v, err := s.versionsOf(ctx, ds)
	for _, l := range lanes {
		for i := range l.Stretches {
			l.Stretches[i].Version = v[l.Stretches[i].Digest]
		}
	}
	return err
}

// MeantAt tells what a tag meant at a time, by the changes that Dovrak made.
func (s *Service) MeantAt(ctx context.Context, by Actor, tag image.Reference, at time.Time) (Stretch, error) {
	if err := by.Require(Read); err != nil {
		return Stretch{}, err
	}
	if tag.Tag == "" {
		return Stretch{}, &problem.Problem{Kind: problem.Malformed, Title: "Only a tag meant something else before", Asked: tag.String(),
			Seen: "a digest, which always means itself", Remedy: "name a tag: " + tag.In() + ":TAG"}
	}
	in, err := s.spot(ctx, tag)
	if err != nil {
		return Stretch{}, err
	}
	now, err := s.db.Now(ctx)
	if err != nil {
		return Stretch{}, err
	}
	if at.After(now) {
		return Stretch{}, &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "That time has not come yet",
			Asked:  stamp(at),
			Seen:   "it is " + stamp(now),
			Remedy: "ask for a time that has been",
		}
	}
	ms, err := s.db.Meanings(ctx, in.at(), tag.Tag, at, maxStretches)
	if err != nil {
		return Stretch{}, err
	}
	if len(ms) == 0 || ms[0].SettledAt.After(at) {
		return Stretch{}, &problem.Problem{
			Kind:   problem.NotFound,
			Title:  "Dovrak had not pointed this tag then",
			Asked:  tag.String() + " at " + stamp(at),
			Seen:   firstPointed(ms),
			Remedy: "ask for a later time; what a tag meant before Dovrak knew it, only the registry could tell",
		}
	}
	if ms[0].ToDigest == "" {
		return Stretch{}, &problem.Problem{
			Kind:   problem.Removed,
			Title:  "This tag meant nothing then",
			Asked:  tag.String() + " at " + stamp(at),
			Seen:   "taken away at " + stamp(*ms[0].SettledAt) + " by " + ms[0].ActorName + ": " + ms[0].Because,
			Remedy: "ask for an earlier time",
		}
	}
	st := stretch(ms[0])
	if len(ms) > 1 {
		until := ms[1].SettledAt.UTC()
		st.Until = &until
	}
	v, err := s.versionsOf(ctx, []digest.Digest{st.Digest})
	st.Version = v[st.Digest]
	return st, err
}

func firstPointed(ms []store.Meaning) string {
	if len(ms) == 0 {
		return "no change of it ever"
	}
	return "its first change at " + stamp(*ms[0].SettledAt)
}

// Moment reads a time given by a user.
func Moment(text string) (time.Time, error) {
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, text, time.UTC); err == nil {
			return t, nil
		}
	}
	return time.Time{}, &problem.Problem{Kind: problem.Malformed, Title: "This is not a time", Asked: image.Printable(text),
		Remedy: "write 2026-03-03T09:15:00Z, or 2026-03-03 09:15 (UTC)"}
}
