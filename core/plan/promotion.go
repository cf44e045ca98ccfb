package plan

import (
	"strings"
	"time"

	"dovrak/core/charter"
	"dovrak/core/image"

	"github.com/opencontainers/go-digest"
)

// Promotion says what moving an image to an environment means, place by place.
type Promotion struct {
	Component   string        `json:"component"`
	Environment string        `json:"environment"`
	Source      string        `json:"source"` // where the image is read, by digest
	Digest      digest.Digest `json:"digest"`
	Charter     int64         `json:"charter"` // the version it was planned by
	Places      []Place       `json:"places"`
}

// Place is one destination of a promotion.
type Place struct {
	Repository string      `json:"repository"` // REGISTRY/REPOSITORY
	Checked    time.Time   `json:"checked"`    // when it was last seen that it may be pushed to
	Copy       Copy        `json:"copy"`
	Tags       []TagChange `json:"tags"` // in the order in which they are pointed: fixed first, the standing tag last
}

// TagChange is from what to what a tag is pointed. From is empty where the tag means nothing yet.
type TagChange struct {
	Tag  string        `json:"tag"`
	From digest.Digest `json:"from,omitempty"`
	To   digest.Digest `json:"to"`
}

// Tags gives the tags that a promotion points in a place: the image's own version where the environment's rules make
// that a fixed tag, so that what an environment ran stays reachable under a name that never moves; then the standing tag.
func Tags(env charter.Environment, name, version string) []string {
	var tags []string
	fixed := strings.ReplaceAll(version, "+", "_") // a tag has no +
	if _, ok := env.Rules(name).FixedBy(fixed); ok {
		tags = append(tags, fixed)
	}
	return append(tags, env.Standing)
}

// Missing lists the required platforms that an index does not have.
func Missing(required []string, root image.Manifest, own image.Platform) []string {
	have := map[string]bool{own.String(): true}
	for _, d := range root.Members {
		have[image.PlatformOf(d).String()] = true
	}
	var out []string
	for _, p := range required {
		if !have[p] {
			out = append(out, p)
		}
	}
	return out
}
