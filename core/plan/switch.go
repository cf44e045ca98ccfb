package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dovrak/core/image"
	"dovrak/core/tagging"

	"github.com/opencontainers/go-digest"
)

// Round is what a switch points in one go: for each place, in the order of the plan's, the tags in the order in which they are
// pointed there.
type Round [][]TagChange

// Rounds orders a switch. All places point at once, but what never moves first, then the moving tags, then the standing tag: while
// a round is not over in every place, no tag of the next is touched. So a place that cannot be written to is mostly found out before
// anything has changed its meaning.
func (p Promotion) Rounds() []Round {
	kinds := []func(TagChange, bool) bool{
		func(t TagChange, last bool) bool { return !last && t.Kind != tagging.MovingTag },
		func(t TagChange, last bool) bool { return !last && t.Kind == tagging.MovingTag },
		func(_ TagChange, last bool) bool { return last },
	}
	var out []Round
	for _, of := range kinds {
		round, any := make(Round, len(p.Places)), false
		for i, at := range p.Places {
			for j, t := range at.Tags {
				if of(t, j == len(at.Tags)-1) {
					round[i], any = append(round[i], t), true
				}
			}
		}
		if any {
			out = append(out, round)
		}
	}
	return out
}

// Stand is what a tag of a switch was seen to mean in a place when all was done, or when it could not be.
type Stand struct {
	Repository string        `json:"repository"` // REGISTRY/REPOSITORY
	Tag        string        `json:"tag"`
	Kind       tagging.Kind  `json:"kind,omitempty"`
	Before     digest.Digest `json:"before,omitempty"` // what it meant before the switch; empty: nothing
	Wanted     digest.Digest `json:"wanted"`
	Means      digest.Digest `json:"means,omitempty"` // empty: nothing
	Touched    bool          `json:"touched,omitempty"`
	At         time.Time     `json:"at,omitzero"`         // when it was seen; zero: the place could not be asked
	Why        string        `json:"why,omitempty"`       // it could not, or was not restored
	Platforms  []Resolved    `json:"platforms,omitempty"` // as their clients resolve the tag
}

// Resolved is the image that a client of a platform is given.
type Resolved struct {
	Platform string        `json:"platform"`
	Digest   digest.Digest `json:"digest"`
}

// Clients gives the image that a client of each platform is given by a tag that means root, of those platforms that it has.
func Clients(root image.Manifest, platforms []string) []Resolved {
	var out []Resolved
	have := platformsIn(root)
	for _, text := range platforms {
		p, err := image.ParsePlatform(text)
		if i := image.Choose(have, p); err == nil && i >= 0 {
			out = append(out, Resolved{text, root.Members[i].Digest})
		} else if !root.Index {
			out = append(out, Resolved{text, root.Digest})
		}
	}
	return out
}

// Restored reports that a tag is not as the switch made it: it was never touched, or is back, or someone else's by now.
func (s Stand) Restored() bool { return !s.Touched || !s.At.IsZero() && s.Means != s.Wanted }

// New reports that the switch made a tag which meant nothing before. There is nothing to restore, and nothing is deleted.
func (s Stand) New() bool { return s.Before == "" && s.Means == s.Wanted && !s.At.IsZero() }

// Split lists what keeps a switch that went back from being over: a moving tag that is not restored, or could not be asked; and a
// standing tag that is new in one place and not there in another, for then the places disagree on what stands.
func Split(stands []Stand) []Stand {
	differ := false
	for _, s := range stands {
		differ = differ || s.Kind == tagging.Standing && (s.At.IsZero() || s.Means != s.Wanted)
	}
	return slices.DeleteFunc(slices.Clone(stands), func(s Stand) bool {
		switch {
		case s.Kind == tagging.Fixed || s.Restored():
			return true
		case s.New():
			return s.Kind != tagging.Standing || !differ
		}
		return false
	})
}

// inShort is a digest by as many digits as people compare.
func inShort(d digest.Digest) string {
	if d == "" {
		return "nothing"
	}
	return d.Encoded()[:12]
}

// Says tells what every tag was seen to mean, those alone that move, alike places together.
func Says(stands []Stand) string {
	var tags []string
	said := map[string][]string{}
	for _, s := range stands {
		if s.Kind == tagging.Fixed {
			continue
		}
		means := "means " + inShort(s.Means)
		switch {
		case s.Why != "" && !s.At.IsZero():
			means += " (not restored: " + s.Why + ")"
		case s.At.IsZero():
			means = "could not be asked (" + s.Why + "), and may mean " + inShort(s.Wanted)
		}
		key := fmt.Sprintf("%s %s", s.Tag, means)
		if _, ok := said[key]; !ok {
			tags = append(tags, key)
		}
		said[key] = append(said[key], s.Repository)
	}
	out := make([]string, len(tags))
	for i, key := range tags {
		out[i] = key + " in " + strings.Join(said[key], " and ")
	}
	return strings.Join(out, "; ")
}
