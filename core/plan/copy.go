// Package plan turns what is here and what is there into what must move. A plan is data: it is printed, stored, and
// followed; making one asks nobody.
package plan

import (
	"slices"

	"dovrak/core/image"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Tree is an image with everything below it, children before parents, the root last: the order in which a registry
// can take its manifests, since it may refuse one whose content it lacks.
type Tree []image.Manifest

// Root is the manifest or index that the image is known by.
func (t Tree) Root() image.Manifest { return t[len(t)-1] }

// Cargo is what a copy carries: an image, and what refers to it.
type Cargo struct {
	Image    Tree
	Attached []Attached // each behind what it refers to
}

// Attached is something that refers to a manifest of the image, or to another that does: a signature, an attestation, a bill
// of materials.
type Attached struct {
	Subject digest.Digest
	As      ocispec.Descriptor // as it was listed
	Tree    Tree
}

// Root is the manifest or index that the image is known by.
func (c Cargo) Root() image.Manifest { return c.Image.Root() }

// Manifests are all there are, in the order in which a registry can take them.
func (c Cargo) Manifests() []image.Manifest {
	out := slices.Clone([]image.Manifest(c.Image))
	for _, a := range c.Attached {
		out = append(out, a.Tree...)
	}
	return out
}

// Roots are the digests by which its parts are known: the image's, and those of what refers to it.
func (c Cargo) Roots() []digest.Digest {
	out := []digest.Digest{c.Root().Digest}
	for _, a := range c.Attached {
		out = append(out, a.Tree.Root().Digest)
	}
	return out
}

// Presence is what a destination has. A digest that is not in it is absent.
type Presence map[digest.Digest]bool

// Copy says what must move to one destination.
type Copy struct {
	Root      digest.Digest `json:"root"`
	MediaType string        `json:"mediaType"`
	Manifests []Piece       `json:"manifests"` // children first, then the root, then what refers to it
	Blobs     []Piece       `json:"blobs"`     // configs and layers, in the order of first mention
	Referrers []Referrer    `json:"referrers,omitempty"`
}

// Referrer is something that goes along because it refers to the image, or to what does.
type Referrer struct {
	Digest  digest.Digest `json:"digest"`
	Subject digest.Digest `json:"subject"`
	Type    string        `json:"type,omitempty"` // of the artifact
}

// Piece is a manifest or a blob. Size is in bytes.
type Piece struct {
	Digest    digest.Digest `json:"digest"`
	MediaType string        `json:"mediaType"`
	Size      int64         `json:"size"`
	Present   bool          `json:"present"`
	Foreign   bool          `json:"foreign,omitempty"` // may lie elsewhere by its media type, and is left there
	Mount     string        `json:"mount,omitempty"`   // the sibling repository from which it is asked for first
}

// NewCopy plans a copy. The cost is linear in the number of descriptors.
func NewCopy(cargo Cargo, have Presence) Copy {
	root := cargo.Root()
	c := Copy{Root: root.Digest, MediaType: root.MediaType}
	for _, a := range cargo.Attached {
		c.Referrers = append(c.Referrers, Referrer{a.Tree.Root().Digest, a.Subject, a.As.ArtifactType})
	}
	planned := map[digest.Digest]bool{}
	for _, m := range cargo.Manifests() {
		if planned[m.Digest] {
			continue
		}
		planned[m.Digest] = true
		for _, d := range m.Blobs() {
			if planned[d.Digest] {
				continue
			}
			planned[d.Digest] = true
			c.Blobs = append(c.Blobs, Piece{d.Digest, d.MediaType, d.Size, have[d.Digest], image.Foreign(d), ""})
		}
		c.Manifests = append(c.Manifests, Piece{m.Digest, m.MediaType, m.Size(), have[m.Digest], false, ""})
	}
	return c
}

// Totals sums a plan up, in bytes and pieces. Foreign pieces are in no sum. What is to be mounted counts as moving, too, until
// it is: a registry may refuse to.
type Totals struct {
	Move         int   `json:"move"`
	MoveBytes    int64 `json:"moveBytes"`
	Mount        int   `json:"mount"`
	MountBytes   int64 `json:"mountBytes"`
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
			if p.Mount != "" {
				t.Mount, t.MountBytes = t.Mount+1, t.MountBytes+p.Size
			}
		}
	}
	return t
}

// Descriptor of the piece, as a registry is asked for it.
func (p Piece) Descriptor() ocispec.Descriptor {
	return ocispec.Descriptor{MediaType: p.MediaType, Digest: p.Digest, Size: p.Size}
}
