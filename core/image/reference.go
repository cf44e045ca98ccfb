// Package image knows what an image is: references, digests, platforms, and the documents that make an image up.
//
// An image is a tree. An index lists manifests, one a platform; a manifest names a config and layers; every arrow is
// a descriptor: media type, digest, size (OCI image specification 1.1). Bytes are kept as they were received, since
// the digest is of the bytes: nothing here ever writes a document out again.
package image

import (
	"regexp"
	"strings"

	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
)

// Reference names an image in full: REGISTRY/REPOSITORY:TAG or REGISTRY/REPOSITORY@DIGEST. Registry is the short
// name under which a registry was connected. At least one of Tag and Digest is set, unless it came from
// [ParseRepository]; nothing ever means "latest" silently.
type Reference struct {
	Registry   string
	Repository string
	Tag        string
	Digest     digest.Digest
}

// The grammars of the OCI distribution specification 1.1, section "Pulling manifests".
var (
	registryName   = regexp.MustCompile(`^[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?$`)
	repositoryName = regexp.MustCompile(`^[a-z0-9]+(?:(?:\.|_|__|-+)[a-z0-9]+)*(?:/[a-z0-9]+(?:(?:\.|_|__|-+)[a-z0-9]+)*)*$`)
	tagName        = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._-]{0,127}$`)
)

// MaxRepository is the longest repository name, in bytes. The specification sets none, but advises that host name
// and repository together stay within 255.
const MaxRepository = 255

const shape = "REGISTRY/REPOSITORY:TAG or REGISTRY/REPOSITORY@sha256:DIGEST, e.g. forge/bench/snowpack-model:build-41"

// ParseReference reads a full reference. The error is a problem of kind Malformed that shows the shape expected and,
// where it can be guessed, the mended reference.
func ParseReference(s string) (Reference, error) {
	r, err := parse(s)
	if err != nil {
		return Reference{}, err
	}
	if r.Tag == "" && r.Digest == "" {
		return Reference{}, malformed(s, "neither a tag nor a digest", "name one: "+shape)
	}
	return r, nil
}

// ParseRepository reads REGISTRY/REPOSITORY, and refuses a tag or a digest behind it.
func ParseRepository(s string) (Reference, error) {
	r, err := parse(s)
	if err != nil {
		return Reference{}, err
	}
	if r.Tag != "" || r.Digest != "" {
		return Reference{}, malformed(s, "a tag or a digest where a repository was meant", "write "+r.In())
	}
	return r, nil
}

// ParseDestination reads REGISTRY/REPOSITORY, perhaps with the tag that an image is to have there, and refuses a digest: that of
// the image is its own.
func ParseDestination(s string) (Reference, error) {
	r, err := parse(s)
	if err == nil && r.Digest != "" {
		return Reference{}, malformed(s, "a digest where a destination was meant", "write "+r.In())
	}
	return r, err
}

func parse(s string) (Reference, error) {
	var r Reference
	name, dig, hasDigest := strings.Cut(s, "@")
	if hasDigest {
		d, err := ParseDigest(dig)
		if err != nil {
			p := problem.From(err)
			p.Asked = Printable(s)
			return r, p
		}
		r.Digest = d
	}
	if i := strings.LastIndexByte(name, ':'); i > strings.LastIndexByte(name, '/') {
		name, r.Tag = name[:i], name[i+1:]
		if err := CheckTag(r.Tag); err != nil {
			p := problem.From(err)
			p.Asked = Printable(s)
			return r, p
		}
	}
	var slash bool
	r.Registry, r.Repository, slash = strings.Cut(name, "/")
	switch {
	case !slash || r.Repository == "":
		return r, malformed(s, "no registry before the repository", "write "+shape)
	case !IsRegistryName(r.Registry):
		return r, malformed(s, "the registry's name "+quote(r.Registry)+" is not one under which a registry can be connected",
			lowered(s, "write the short name of a connected registry, as `dovrak registry list` shows it"))
	case len(r.Repository) > MaxRepository:
		return r, malformed(s, "a repository name of more than 255 bytes", "write "+shape)
	case !repositoryName.MatchString(r.Repository):
		return r, malformed(s, "the repository's name "+quote(r.Repository)+" has characters that a repository may not have",
			lowered(s, "use lower case letters, digits, and single . _ - / between them"))
	}
	return r, nil
}

// ParseDigest reads sha256:… or sha512:… with all its digits.
func ParseDigest(s string) (digest.Digest, error) {
	d := digest.Digest(s)
	if err := d.Validate(); err != nil || (d.Algorithm() != digest.SHA256 && d.Algorithm() != digest.SHA512) {
		seen := quote(s) + " is not a whole digest"
		if alg, hex, ok := strings.Cut(s, ":"); ok && alg == "sha256" && len(hex) != 64 {
			seen = "a sha256 digest with " + count(len(hex), "digit") + " in place of 64"
		}
		return "", malformed(s, seen, "write sha256: and all 64 hexadecimal digits, as `dovrak show` prints them")
	}
	return d, nil
}

// CheckTag reports a tag that no registry would take.
func CheckTag(tag string) error {
	if tagName.MatchString(tag) {
		return nil
	}
	if mended := strings.ReplaceAll(tag, "+", "_"); mended != tag && tagName.MatchString(mended) {
		return malformed(tag, quote(tag)+" is not a tag: no tag has a +", "the + of a version is written _ in a tag: "+mended)
	}
	return malformed(tag, quote(tag)+" is not a tag",
		"a tag has 1 to 128 letters, digits, _ . or -, and begins with none of . and -")
}

// IsRegistryName reports whether a registry can be connected under a name.
func IsRegistryName(s string) bool { return registryName.MatchString(s) }

// String writes the reference out in full.
func (r Reference) String() string {
	s := r.In()
	if r.Tag != "" {
		s += ":" + r.Tag
	}
	if r.Digest != "" {
		s += "@" + r.Digest.String()
	}
	return s
}

// In is the registry and repository alone.
func (r Reference) In() string { return r.Registry + "/" + r.Repository }

// Name is what a registry is asked for: the digest if there is one, since it says more than the tag.
func (r Reference) Name() string {
	if r.Digest != "" {
		return r.Digest.String()
	}
	return r.Tag
}

func malformed(asked, seen, remedy string) *problem.Problem {
	return &problem.Problem{Kind: problem.Malformed, Title: "This is not a full reference",
		Asked: Printable(asked), Seen: seen, Remedy: remedy}
}

// lowered adds the reference in lower case to a remedy, where that alone would mend it.
func lowered(s, remedy string) string {
	low := strings.ToLower(s)
	if low == s {
		return remedy
	}
	if _, err := parse(low); err != nil {
		return remedy
	}
	return remedy + "; did you mean " + low + "?"
}
