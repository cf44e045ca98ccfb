package service

import (
	"context"
	"regexp"
	"strconv"
	"strings"

	"dovrak/core/compare"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/store"
)

// Where is everything that Dovrak knows under what was looked for.
type Where struct {
	Asked  string
	Builds []store.BuildWork
	As     []string // what it was taken for: digest, commit, tag, version, component, repository, image
	Items  []WhereItem
	More   bool // there is more than is shown
}

// WhereItem is one tag, or a digest that no tag means, in one repository.
type WhereItem struct {
	store.Found
	Component, Environment string
	Stands                 bool // it is what stands in that environment
}

// Bounds of what is shown of one search.
const (
	maxFound  = 200
	maxBuilds = 20
)

// buildNumber is the number that a search may mean a build by: 41, build-41 or snowpack-model/41; 0: none.
func buildNumber(what string) int64 {
	what = strings.TrimPrefix(what[strings.LastIndexByte(what, '/')+1:], "build-")
	n, err := strconv.ParseInt(what, 10, 64)
	if err != nil || n < 0 {
		return 0
	}
	return n
}

// revision is the beginning of a commit that a search may mean.
func revision(what string) string {
	if commitText.MatchString(what) {
		return what
	}
	return ""
}

var (
	hexDigits  = regexp.MustCompile(`^[0-9a-f]{6,64}$`)
	commitText = regexp.MustCompile(`^[0-9a-f]{4,40}$`)
	numberText = regexp.MustCompile(`^[0-9]{1,12}$`)
	buildText  = regexp.MustCompile(`^([a-z][a-z0-9-]*)/([0-9]{1,12})$`)
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
	if m := buildText.FindStringSubmatch(what); m != nil && m[1] != "" {
		return s.whereBuild(ctx, law, out, m[1])
	}
	l, err := s.lookup(ctx, law, what, &out)
	if err != nil {
		return out, err
	}
	if out.Builds, err = s.db.BuildsNamed(ctx, buildNumber(what), revision(what), maxBuilds); err != nil {
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
		out.Items = append(out.Items, found(law, r))
	}
	if len(out.Items) == 0 && len(out.Builds) == 0 {
		return out, s.nowhere(ctx, law, what)
	}
	return out, nil
}

// whereBuild finds a build by component and number, and everything that its image is.
func (s *Service) whereBuild(ctx context.Context, law law, out Where, component string) (Where, error) {
	b, err := s.buildFor(ctx, component, buildNumber(out.Asked))
	if err != nil {
		return out, err
	}
	out.As, out.Builds = []string{"build"}, []store.BuildWork{b}
	if b.Build.Digest == "" {
		return out, nil
	}
	rows, err := s.db.Find(ctx, store.Lookup{Digest: b.Build.Digest.String(), Limit: maxFound})
	for _, r := range rows {
		out.Items = append(out.Items, found(law, r))
	}
	return out, err
}

func found(law law, r store.Found) WhereItem {
	h := law.HomeOf(image.Reference{Registry: r.Registry, Repository: r.Repository})
	item := WhereItem{Found: r, Component: h.Component, Environment: h.Environment}
	item.Stands = r.Tag != "" && h.Environment != "" && r.Tag == law.Environments[h.Environment].Standing
	return item
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
	if numberText.MatchString(what) {
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
	Between *Between // by the builds that made both; nil where there are none
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
	between, err := s.between(ctx, left.Digest, right.Digest)
	return Comparison{left, right, compare.Compare(
		compare.Side{Description: left.Description, Attached: left.Referrers.All},
		compare.Side{Description: right.Description, Attached: right.Referrers.All}), between}, err
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
