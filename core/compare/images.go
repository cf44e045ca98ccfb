// Package compare sets things side by side: two images, platform by platform, and one component's tags in all the places
// where they should mean the same. It asks nobody; what it compares was looked at before.
package compare

import (
	"maps"
	"slices"
	"strings"

	"dovrak/core/image"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Side is an image with what is attached to it.
type Side struct {
	image.Description
	Attached []image.Beside
}

// Images is what two images have in common and in what they differ. B is seen as what came after A.
type Images struct {
	Same      bool // the very same digest
	Platforms []Platform
	Labels    []Change // of the index: its annotations
	Attached  []Attachment
}

// Platform is one platform of two images. A or B is empty where it has no such platform.
type Platform struct {
	Platform               image.Platform
	A, B                   digest.Digest
	SizeA, SizeB           int64
	Shared, Removed, Added []ocispec.Descriptor // layers
	Config                 []Change
	Labels                 []Change
}

// SharedBytes is how much of the layers both have.
func (p Platform) SharedBytes() int64 { return sum(p.Shared) }

// AddedBytes is how much of B's layers is new: what a machine that has A must pull.
func (p Platform) AddedBytes() int64 { return sum(p.Added) }

func sum(ds []ocispec.Descriptor) (n int64) {
	for _, d := range ds {
		n += d.Size
	}
	return n
}

// Change is one value that is not the same. A or B is empty where there is none.
type Change struct{ Name, A, B string }

// Attachment is what is attached to one of the images or to both, by kind and type.
type Attachment struct {
	Kind image.Kind
	Type string
	A, B int // how many
}

// Compare sets two images side by side.
func Compare(a, b Side) Images {
	out := Images{Same: a.Digest == b.Digest, Labels: changes(a.Annotations, b.Annotations)}
	by := map[image.Platform]image.Member{}
	for _, m := range b.Members {
		by[m.Platform] = m
	}
	for _, m := range a.Members {
		other, ok := by[m.Platform]
		if !ok {
			out.Platforms = append(out.Platforms, Platform{Platform: m.Platform, A: m.Digest, SizeA: m.Size, Removed: m.Layers})
			continue
		}
		delete(by, m.Platform)
		out.Platforms = append(out.Platforms, members(m, other))
	}
	for _, m := range b.Members {
		if _, left := by[m.Platform]; left {
			out.Platforms = append(out.Platforms, Platform{Platform: m.Platform, B: m.Digest, SizeB: m.Size, Added: m.Layers})
		}
	}
	out.Attached = attached(a, b)
	return out
}

func members(a, b image.Member) Platform {
	p := Platform{
		Platform: a.Platform,
		A:        a.Digest,
		B:        b.Digest,
		SizeA:    a.Size,
		SizeB:    b.Size,
		Labels:   changes(a.Config.Labels, b.Config.Labels),
	}
	p.Config = changes(facts(a.Config), facts(b.Config))
	for _, l := range a.Layers {
		if has(b.Layers, l.Digest) {
			p.Shared = append(p.Shared, l)
		} else {
			p.Removed = append(p.Removed, l)
		}
	}
	for _, l := range b.Layers {
		if !has(a.Layers, l.Digest) {
			p.Added = append(p.Added, l)
		}
	}
	return p
}

func has(ls []ocispec.Descriptor, d digest.Digest) bool {
	return slices.ContainsFunc(ls, func(l ocispec.Descriptor) bool { return l.Digest == d })
}

// facts are a config's values by name. Each variable of the environment is one of its own.
func facts(c image.Config) map[string]string {
	out := map[string]string{
		"entrypoint": strings.Join(c.Entrypoint, " "), "command": strings.Join(c.Command, " "), "user": c.User,
		"working directory": c.WorkingDir, "ports": strings.Join(c.Ports, ", "), "os version": c.OSVersion, "author": c.Author,
	}
	for _, e := range c.Env {
		name, value, _ := strings.Cut(e, "=")
		out["environment "+name] = value
	}
	return out
}

// changes lists the names whose values are not the same, by name.
func changes(a, b map[string]string) []Change {
	names := maps.Clone(a)
	if names == nil {
		names = map[string]string{}
	}
	maps.Copy(names, b)
	var out []Change
	for _, n := range slices.Sorted(maps.Keys(names)) {
		if a[n] != b[n] {
			out = append(out, Change{n, a[n], b[n]})
		}
	}
	return out
}

// attached counts what lies beside the images and what refers to them.
func attached(a, b Side) []Attachment {
	var out []Attachment
	count := func(all []image.Beside, add func(*Attachment)) {
		for _, x := range all {
			i := slices.IndexFunc(out, func(h Attachment) bool { return h.Kind == x.Kind && h.Type == x.Type })
			if i < 0 {
				i, out = len(out), append(out, Attachment{Kind: x.Kind, Type: x.Type})
			}
			add(&out[i])
		}
	}
	for _, all := range [][]image.Beside{a.Beside, a.Attached} {
		count(all, func(h *Attachment) { h.A++ })
	}
	for _, all := range [][]image.Beside{b.Beside, b.Attached} {
		count(all, func(h *Attachment) { h.B++ })
	}
	return out
}
