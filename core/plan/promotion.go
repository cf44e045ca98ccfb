package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"time"

	"dovrak/core/gate"
	"dovrak/core/image"
	"dovrak/core/tagging"

	"github.com/opencontainers/go-digest"
)

// Promotion says what moving an image to an environment means, place by place. A roll back is one, too: to an image that stood
// there before.
type Promotion struct {
	Component   string        `json:"component"`
	Environment string        `json:"environment"`
	From        string        `json:"from,omitempty"`      // the environment that it comes from
	Emergency   bool          `json:"emergency,omitempty"` // freezes do not hold for it
	Skips       bool          `json:"skips,omitempty"`     // it comes from further back than the step before
	RollBack    bool          `json:"rollBack,omitempty"`
	Again       bool          `json:"again,omitempty"` // the image was rolled back there, and is meant all the same
	Source      string        `json:"source"`          // where the image is read, by digest
	Digest      digest.Digest `json:"digest"`
	Charter     int64         `json:"charter"`             // the version it was planned by
	Referrers   string        `json:"referrers,omitempty"` // what goes along of all that refers to it: all, none, or a type
	Places      []Place       `json:"places"`
	Gates       []gate.Result `json:"gates,omitempty"`  // as they were judged last
	Expires     time.Time     `json:"expires,omitzero"` // until when it waits for them
}

// Place is one destination of a promotion.
type Place struct {
	Repository string      `json:"repository"` // REGISTRY/REPOSITORY
	Checked    time.Time   `json:"checked"`    // when it was last seen that it may be pushed to
	Copy       Copy        `json:"copy"`
	Tags       []TagChange `json:"tags"` // in the order in which they are pointed: fixed first, the standing tag last
	Stays      []TagStays  `json:"stays,omitempty"`
}

// TagStays is a moving tag that the image would get, and its rule does not let move there.
type TagStays struct {
	Tag  string        `json:"tag"`
	From digest.Digest `json:"from,omitempty"`
	Why  string        `json:"why"`
}

// TagChange is from what to what a tag is pointed. From is empty where the tag means nothing yet.
type TagChange struct {
	Tag  string        `json:"tag"`
	Kind tagging.Kind  `json:"kind,omitempty"`
	From digest.Digest `json:"from,omitempty"`
	To   digest.Digest `json:"to"`
}

// changes is what the tag means before, as far as that is lost: where it means the image already, as little as where it means nothing.
func (t TagChange) changes() digest.Digest {
	if t.From == t.To {
		return ""
	}
	return t.From
}

// Binding is what an approval is bound to, as one hash: the image, its places, from what to what every tag goes, the charter. Where
// any of these is another, so is the hash.
func (p Promotion) Binding() string {
	h := sha256.New()
	word := func(words ...any) {
		for _, w := range words {
			fmt.Fprintf(h, "%q ", fmt.Sprint(w))
		}
	}
	word(p.Component, p.Environment, p.From, p.Emergency, p.Digest, p.Charter, p.Referrers, len(p.Places))
	if p.Again {
		word("again")
	}
	for _, place := range p.Places {
		word(place.Repository, len(place.Tags))
		for _, t := range place.Tags {
			word(t.Tag, t.changes(), t.To)
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Tags gives the tags that a promotion or a roll back points in a place, in order: what the image earns by the environment's rules,
// fixed tags first, so that what an environment ran stays reachable under a name that never moves; then the standing tag.
func Tags(rules tagging.Rules, f tagging.Facts, by tagging.Mover) []tagging.Earned {
	out := slices.DeleteFunc(rules.Earn(f, by), func(e tagging.Earned) bool {
		return e.Tag == "" || e.Tag == rules.Standing
	})
	return append(out, tagging.Earned{Rule: rules.Of(rules.Standing, f), Tag: rules.Standing})
}

// Mover is who points its tags.
func (p Promotion) Mover() tagging.Mover {
	if p.RollBack {
		return tagging.ByRollBack
	}
	return tagging.ByPromotion
}

// Undoes lists what a roll back takes from where it stands.
func (p Promotion) Undoes() []digest.Digest {
	out := []digest.Digest{}
	for _, at := range p.Places {
		if n := len(at.Tags); p.RollBack && n > 0 && at.Tags[n-1].From != "" && at.Tags[n-1].From != p.Digest {
			out = append(out, at.Tags[n-1].From)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Missing lists the required platforms that an index does not have, or the image of one platform, its own.
func Missing(required []string, root image.Manifest, own image.Platform) []string {
	return image.Lacking(required, append(platformsIn(root), own))
}

// platformsIn are those of an index's members, one for each.
func platformsIn(root image.Manifest) []image.Platform {
	out := make([]image.Platform, len(root.Members))
	for i, d := range root.Members {
		out[i] = image.PlatformOf(d)
	}
	return out
}
