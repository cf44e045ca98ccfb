// Package join assembles the images of single platforms into one index, after it has checked that each is what it claims.
//
// The index is canonical: the same parts give the same bytes and so the same digest, in whatever order and whenever they
// arrive. Its order is that of the platforms, its time that of the newest part, and nothing in it comes from the clock.
// Attestations that lie in a part's own index are carried along behind the images, as their builder described them (OCI
// image specification 1.1, sections "Image Index" and "Annotations").
package join

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Part is the image of one platform, as it was read from a registry.
type Part struct {
	Claimed image.Platform
	Root    image.Manifest       // an image, or an index of one image and its attestations
	Image   image.Manifest       // the image itself
	Config  image.Config         // of the image
	Beside  []ocispec.Descriptor // attestations from the part's own index
}

// Wanted is what the parts are held against. The zero Wanted asks only that they are what they claim, each once.
type Wanted struct {
	Component string
	Required  []string // platforms
	Optional  []string // platforms that there may be besides; with neither, any
	Facts     Facts
	WarnOnly  bool // of labels that contradict
}

// Facts go into the index as annotations, where they are known.
type Facts struct{ Version, Revision, Source string }

// NewPart finds the one image in what was reported as a part. manifest and config read what lies below it: the image and
// its config, and nothing else. An index of several images is refused, and so is what has no image to run.
func NewPart(claimed image.Platform, root image.Manifest, manifest func(ocispec.Descriptor) (image.Manifest, error),
	config func(ocispec.Descriptor) (image.Config, error)) (Part, error) {
	p := Part{Claimed: claimed, Root: root, Image: root}
	of := ocispec.Descriptor{MediaType: root.MediaType, Digest: root.Digest, Size: root.Size()}
	if root.Index {
		var images []ocispec.Descriptor
		for _, m := range root.Members {
			if Runs(m) {
				images = append(images, m)
			} else {
				p.Beside = append(p.Beside, m)
			}
		}
		if len(images) != 1 {
			return p, notOne(p, images)
		}
		of = images[0]
		var err error
		if p.Image, err = manifest(of); err != nil {
			return p, err
		}
	}
	if p.Image.Index || image.KindOf(of, p.Image) != image.KindImage {
		return p, notOne(p, nil)
	}
	for _, d := range p.Beside {
		if about := image.AboutOf(d); about != "" && about != p.Image.Digest {
			return p, refused(
				"Something in the part belongs to another image",
				p.Root.Digest.String()+" for "+claimed.String(),
				d.Digest.String()+" is about "+about.String(),
				"what lies beside an image is about it",
				"have the runner push the part again",
			)
		}
	}
	var err error
	p.Config, err = config(p.Image.Config)
	return p, err
}

// Runs reports whether a member of an index is an image to run, or an index of such; all else lies beside them.
func Runs(d ocispec.Descriptor) bool {
	kind := image.KindOf(d, image.Manifest{})
	return kind == image.KindImage || kind == image.KindIndex
}

func notOne(p Part, images []ocispec.Descriptor) error {
	var names []string
	for _, d := range images {
		names = append(names, cmp.Or(image.PlatformOf(d).String(), d.Digest.String()))
	}
	seen := "an index of several images: " + image.Printable(strings.Join(names, ", "))
	if len(images) == 0 {
		seen = "no image to run"
	}
	return refused("A part is the image of one platform", p.Root.Digest.String()+" for "+p.Claimed.String(), seen, "one image a part",
		"report each image by its own digest, with its platform; an index that is whole is reported as one: build start --image")
}

// Check holds one part against what is wanted, and gives what is only warned of.
func (w Wanted) Check(p Part) ([]string, error) {
	asked := p.Root.Digest.String() + " for " + p.Claimed.String()
	if !p.Claimed.Same(p.Config.Platform) {
		return nil, refused("The part is not the platform it claims", asked, "its config says "+called(p.Config.Platform),
			"a part is what it claims", "report it as "+called(p.Config.Platform)+", or have the runner build for "+p.Claimed.String())
	}
	if len(w.Required)+len(w.Optional) > 0 && !p.Claimed.Named(w.Required) && !p.Claimed.Named(w.Optional) {
		return nil, refused(
			"The component is not built for this platform",
			asked,
			"the platforms "+strings.Join(append(slices.Clone(w.Required),
				w.Optional...), ", "),
			"platforms of "+w.Component,
			"leave it out; or name it in the charter, under platforms or optional",
		)
	}
	return w.labels(p, asked)
}

// labels holds what the part says of itself against the build.
func (w Wanted) labels(p Part, asked string) (warnings []string, err error) {
	for _, l := range []struct{ what, key, want string }{
		{"commit", ocispec.AnnotationRevision, w.Facts.Revision}, {"version", ocispec.AnnotationVersion, w.Facts.Version},
	} {
		have := cmp.Or(p.Config.Labels[l.key], p.Image.Annotations[l.key])
		switch {
		case l.want == "" || have == l.want || l.key == ocispec.AnnotationRevision && sameCommit(have, l.want):
			continue
		case have == "":
			warnings = append(warnings, "no label says its "+l.what)
			continue
		}
		seen := fmt.Sprintf("the label says the %s %s, the build %s", l.what, image.Printable(have), l.want)
		if !w.WarnOnly {
			return nil, refused("The part is from another "+l.what, asked, seen, "labels agree with the build",
				"build the part from the build's own "+l.what+"; the charter can have this warned of: labels: warned")
		}
		warnings = append(warnings, seen)
	}
	return warnings, nil
}

// sameCommit reports whether one is the other or its beginning, of seven digits at least.
func sameCommit(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	return len(a) >= 7 && strings.HasPrefix(b, a)
}

// Missing lists the required platforms that no part has.
func (w Wanted) Missing(have []image.Platform) []string { return image.Lacking(w.Required, have) }

// Join checks all parts and writes the index. No byte of it is written before every check holds.
func (w Wanted) Join(parts []Part) (image.Manifest, []string, error) {
	var warnings []string
	var have []image.Platform
	parts = slices.Clone(parts)
	for _, p := range parts {
		if slices.ContainsFunc(have, p.Claimed.Same) {
			return image.Manifest{}, nil, refused("Two parts are for one platform", p.Claimed.String(),
				twins(parts, p.Claimed), "each platform once", "join one of them")
		}
		have = append(have, p.Claimed)
		more, err := w.Check(p)
		if err != nil {
			return image.Manifest{}, nil, err
		}
		for _, m := range more {
			warnings = append(warnings, p.Claimed.String()+": "+m)
		}
	}
	if missing := w.Missing(have); len(missing) > 0 || len(parts) == 0 {
		return image.Manifest{}, nil, refused("Platforms are missing", w.Component, "no part for "+strings.Join(missing, ", "),
			"required platforms of "+w.Component, "report the missing parts")
	}
	slices.Sort(warnings)
	m, err := w.write(parts)
	return m, warnings, err
}

// write makes the canonical index.
func (w Wanted) write(parts []Part) (image.Manifest, error) {
	slices.SortFunc(parts, func(a, b Part) int { return strings.Compare(a.Claimed.String(), b.Claimed.String()) })
	index := ocispec.Index{
		Versioned:   specs.Versioned{SchemaVersion: 2},
		MediaType:   ocispec.MediaTypeImageIndex,
		Annotations: w.annotations(parts),
	}
	var beside []ocispec.Descriptor
	for _, p := range parts {
		index.Manifests = append(
			index.Manifests,
			ocispec.Descriptor{MediaType: p.Image.MediaType, Digest: p.Image.Digest, Size: p.Image.Size(),
				Platform: &ocispec.Platform{OS: p.Claimed.OS, Architecture: p.Claimed.Architecture, Variant: p.Claimed.Variant,
					OSVersion: p.Config.OSVersion}},
		)
		beside = append(beside, p.Beside...)
	}
	slices.SortFunc(beside, func(a, b ocispec.Descriptor) int { return strings.Compare(a.Digest.String(), b.Digest.String()) })
	beside = slices.CompactFunc(beside, func(a, b ocispec.Descriptor) bool { return a.Digest == b.Digest })
	index.Manifests = append(index.Manifests, beside...)
	raw, err := json.Marshal(index)
	if err != nil {
		return image.Manifest{}, err
	}
	return image.Read(ocispec.MediaTypeImageIndex, raw)
}

func (w Wanted) annotations(parts []Part) map[string]string {
	out := map[string]string{}
	var newest time.Time
	for _, p := range parts {
		if c := p.Config.Created; c != nil && c.After(newest) {
			newest = *c
		}
	}
	if !newest.IsZero() {
		out[ocispec.AnnotationCreated] = newest.UTC().Format(time.RFC3339)
	}
	for k, v := range map[string]string{ocispec.AnnotationRevision: w.Facts.Revision, ocispec.AnnotationVersion: w.Facts.Version,
		ocispec.AnnotationSource: w.Facts.Source} {
		if v != "" {
			out[k] = v
		}
	}
	return out
}

func twins(parts []Part, of image.Platform) string {
	var ds []string
	for _, p := range parts {
		if p.Claimed.Same(of) {
			ds = append(ds, p.Root.Digest.String())
		}
	}
	return strings.Join(ds, " and ")
}

func called(p image.Platform) string {
	if s := p.String(); s != "/" && s != "" {
		return image.Printable(s)
	}
	return "no platform"
}

func refused(title, asked, seen, rule, remedy string) error {
	return &problem.Problem{Kind: problem.Refused, Title: title, Asked: asked, Seen: seen, Rule: rule, Remedy: remedy}
}
