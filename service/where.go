package service

import (
	"context"
	"regexp"
	"strings"

	"dovrak/core/compare"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/store"
)

// Where is everything that Dovrak knows under what was looked for.
type Where struct {
	Asked string
	As    []string // what it was taken for: digest, commit, tag, version, component, repository, image
	Items []WhereItem
	More  bool // there is more than is shown
}

// WhereItem is one tag, or a digest that no tag means, in one repository.
type WhereItem struct {
	store.Found
	Component, Environment string
	Stands                 bool // it is what stands in that environment
}

// maxFound bounds what is shown of one search.
const maxFound = 200

var (
	hexDigits  = regexp.MustCompile(`^[0-9a-f]{6,64}$`)
	commitText = regexp.MustCompile(`^[0-9a-f]{4,40}$`)
	buildText  = regexp.MustCompile(`^[0-9]{1,12}$`)
)

// Where finds a digest or its beginning, a commit, a tag, a build's number, a version, a component, a repository or an image,
// in what was seen before; no registry is asked.
func (s *Service) Where(ctx context.Context, by Actor, what string) (Where, error) {
	if err := by.Require(Read); err != nil {
		return Where{}, err
	}
	what = strings.TrimSpace(what)
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return Where{}, err
	}
	out := Where{Asked: what}
	l, err := s.lookup(ctx, law, what, &out)
	if err != nil {
		return out, err
	}
	l.Limit = maxFound + 1
	rows, err := s.db.Find(ctx, l)
	if err != nil {
		return out, err
	}
	if out.More = len(rows) > maxFound; out.More {
		rows = rows[:maxFound]
	}
	for _, r := range rows {
		ref := image.Reference{Registry: r.Registry, Repository: r.Repository}
		h := law.HomeOf(ref)
		item := WhereItem{Found: r, Component: h.Component, Environment: h.Environment}
		item.Stands = r.Tag != "" && h.Environment != "" && r.Tag == law.Environments[h.Environment].Standing
		out.Items = append(out.Items, item)
	}
	if len(out.Items) == 0 {
		return out, s.nowhere(ctx, law, what)
	}
	return out, nil
}

// lookup takes what was typed for all that it can be.
func (s *Service) lookup(ctx context.Context, law law, what string, out *Where) (l store.Lookup, err error) {
	as := func(kind string) { out.As = append(out.As, kind) }
	if strings.Contains(what, "/") {
		return s.lookupImage(ctx, what, out)
	}
	if _, ok := law.Components[what]; ok {
		as("component")
		for _, d := range law.destinations() {
			if d.Component != what {
				continue
			}
			at, err := s.spot(ctx, d.Ref)
			if err != nil {
				return l, err
			}
			l.Spots = append(l.Spots, at.at())
		}
	}
	if hex := strings.TrimPrefix(what, "sha256:"); hexDigits.MatchString(hex) {
		as("digest")
		l.Digest = "sha256:" + hex
	}
	if commitText.MatchString(what) {
		as("commit")
		l.Revision = what
	}
	if image.CheckTag(what) == nil {
		as("tag")
		l.Tag, l.Version = what, what
	}
	if buildText.MatchString(what) {
		as("build")
		l.Tag = "build-" + what
	}
	return l, nil
}

// lookupImage finds an image by its reference, or a repository whole.
func (s *Service) lookupImage(ctx context.Context, what string, out *Where) (l store.Lookup, err error) {
	ref, err := image.ParseReference(what)
	if err != nil {
		if ref, err = image.ParseRepository(what); err != nil {
			return l, err
		}
	}
	at, err := s.spot(ctx, ref)
	if err != nil {
		return l, err
	}
	switch {
	case ref.Digest != "":
		out.As, l.Digest = []string{"image"}, ref.Digest.String()
	case ref.Tag != "":
		out.As = []string{"image"}
		d, err := s.db.LastMeant(ctx, at.at(), ref.Tag)
		l.Digest = d.String()
		return l, err
	default:
		out.As, l.Spots = []string{"repository"}, []store.Spot{at.at()}
	}
	return l, nil
}

func (s *Service) nowhere(ctx context.Context, law law, what string) error {
	p := &problem.Problem{Kind: problem.NotFound, Title: "Dovrak knows nothing under this name", Asked: image.Printable(what),
		Seen:   "no digest, commit, tag, version, component or repository that begins or reads so",
		Remedy: "Dovrak knows what it has looked at: dovrak tags REPOSITORY, or dovrak show IMAGE"}
	var names []string
	for n := range law.Components {
		names = append(names, n)
	}
	if near := image.Nearest(what, names); near != "" {
		p.Remedy = "did you mean " + near + "?"
	}
	return p
}

// Comparison is two images side by side.
type Comparison struct {
	A, B Image
	compare.Images
}

// Compare looks at two images and sets them side by side.
func (s *Service) Compare(ctx context.Context, by Actor, a, b image.Reference) (Comparison, error) {
	left, err := s.Show(ctx, by, a)
	if err != nil {
		return Comparison{}, err
	}
	right, err := s.Show(ctx, by, b)
	if err != nil {
		return Comparison{}, err
	}
	return Comparison{left, right, compare.Compare(
		compare.Side{Description: left.Description, Attached: left.Referrers.All},
		compare.Side{Description: right.Description, Attached: right.Referrers.All})}, nil
}

// Mended adds to a mistake in a reference what was probably meant: a component's own name stands for its first place.
func (s *Service) Mended(ctx context.Context, text string, mistake error) error {
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	name := text
	if i := strings.IndexAny(text, ":@"); i >= 0 {
		name = text[:i]
	}
	for _, d := range law.destinations() {
		if d.Component == name {
			p := problem.From(mistake)
			p.Remedy = "did you mean " + d.Ref.In() + text[len(name):] + "?"
			return p
		}
	}
	return mistake
}
