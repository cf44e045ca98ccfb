package image

import (
	"strings"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Base is the image that another is built on. Its name is written as its builder wrote it: it may lie anywhere.
type Base struct {
	Name   string
	Digest digest.Digest
}

// ParseBase reads NAME or NAME@DIGEST; nothing is the zero Base.
func ParseBase(s string) (Base, error) {
	name, dig, pinned := strings.Cut(s, "@")
	if len(name) > 400 || Visible(name) != name || strings.ContainsAny(name, " \n") || name == "" && pinned {
		return Base{}, malformed(s, "a base that is no name", "write NAME@sha256:…, as the build itself names it")
	}
	if !pinned {
		return Base{Name: name}, nil
	}
	d, err := ParseDigest(dig)
	return Base{name, d}, err
}

// BaseOf reads what a manifest says of its base (OCI image specification, annotations org.opencontainers.image.base.*).
func BaseOf(m Manifest) Base {
	b := Base{Name: Printable(m.Annotations[ocispec.AnnotationBaseImageName])}
	if d, err := ParseDigest(m.Annotations[ocispec.AnnotationBaseImageDigest]); err == nil {
		b.Digest = d
	}
	return b
}
