// Package plan turns what is here and what is there into what must move. A plan is data: it is printed, stored, and
// followed; making one asks nobody.
package plan

import (
	"dovrak/core/image"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Tree is an image with everything below it, children before parents, the root last: the order in which a registry
// can take its manifests, since it may refuse one whose content it lacks.
type Tree []image.Manifest

// Root is the manifest or index that the image is known by.
func (t Tree) Root() image.Manifest { return t[len(t)-1] }

// Presence is what a destination has. A digest that is not in it is absent.
type Presence map[digest.Digest]bool

// Copy says what must move to one destination.
type Copy struct {
	Root      digest.Digest `json:"root"`
	MediaType string        `json:"mediaType"`
	Manifests []Piece       `json:"manifests"` // children first, the root last
	Blobs     []Piece       `json:"blobs"`     // configs and layers, in the order of first mention
}

// Piece is a manifest or a blob. Size is in bytes.
type Piece struct {
	Digest    digest.Digest `json:"digest"`
	MediaType string        `json:"mediaType"`
	Size      int64         `json:"size"`
	Present   bool          `json:"present"`
	Foreign   bool          `json:"foreign,omitempty"` // may lie elsewhere by its media type, and is left there
}

// NewCopy plans a copy. The cost is linear in the number of descriptors.
func NewCopy(tree Tree, have Presence) Copy {
	root := tree.Root()
	c := Copy{Root: root.Digest, MediaType: root.MediaType}
	planned := map[digest.Digest]bool{}
	for _, m := range tree {
		for _, d := range m.Blobs() {
			if planned[d.Digest] {
				continue
			}
			planned[d.Digest] = true
			c.Blobs = append(c.Blobs, Piece{d.Digest, d.MediaType, d.Size, have[d.Digest], image.Foreign(d)})
		}
		c.Manifests = append(c.Manifests, Piece{m.Digest, m.MediaType, m.Size(), have[m.Digest], false})
	}
	return c
}

// Totals sums a plan up, in bytes and pieces. Foreign pieces are in neither sum.
type Totals struct {
	Move         int   `json:"move"`
	MoveBytes    int64 `json:"moveBytes"`
	Present      int   `json:"present"`
	PresentBytes int64 `json:"presentBytes"`
}

// Totals of the plan.
func (c Copy) Totals() Totals {
	var t Totals
	for _, p := range append(append([]Piece{}, c.Blobs...), c.Manifests...) {
		switch {
		case p.Foreign:
		case p.Present:
			t.Present, t.PresentBytes = t.Present+1, t.PresentBytes+p.Size
		default:
			t.Move, t.MoveBytes = t.Move+1, t.MoveBytes+p.Size
		}
	}
	return t
}

// Descriptor of the piece, as a registry is asked for it.
func (p Piece) Descriptor() ocispec.Descriptor {
	return ocispec.Descriptor{MediaType: p.MediaType, Digest: p.Digest, Size: p.Size}
}
