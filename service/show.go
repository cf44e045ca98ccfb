package service

import (
	"context"
	"fmt"
	"time"

	"dovrak/core/image"
	"dovrak/core/plan"
	"dovrak/core/problem"
	"dovrak/registry"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Image is what a reference means, looked at.
type Image struct {
	image.Description
	Ref       image.Reference // with the digest
	SeenAt    time.Time       // when the registry said what the reference means
	Referrers Referrers
	Tags      []string // of the same repository, last seen to mean the same
	Mark      Mark
	Evidence  Evidence
	Builds    []store.BuildWork // that made it, newest first
}

// Referrers is what is attached to a digest, as a repository lists it.
type Referrers struct {
	All     []image.Beside
	SeenAt  time.Time
	Problem string // why they could not be listed; empty: they were
}

// Mark is what to know of a registry wherever it is named: its newest check, and its exception while that counts.
type Mark struct {
	Registry  string
	Checked   *Check
	Exception *store.Registry
}

// referrersFor is how long a list of referrers is shown, with its age, before it is asked for again.
const referrersFor = time.Minute

// Show looks at an image. Manifests and configs seen before cost no request: a known image costs one HEAD, and one
// request for what is attached to it.
func (s *Service) Show(ctx context.Context, by Actor, ref image.Reference) (Image, error) {
	if err := by.Require(Read); err != nil {
		return Image{}, err
	}
	at, err := s.spot(ctx, ref)
	if err != nil {
		return Image{}, err
	}
	root, seen, err := s.resolve(ctx, at, ref)
	if err != nil {
		return Image{}, when(err, seen)
	}
	out := Image{Ref: at.ref, SeenAt: seen}
	out.Ref.Tag, out.Ref.Digest = ref.Tag, root
	if out.Description, err = s.describe(ctx, at, root); err != nil {
		return Image{}, when(err, seen)
	}
	if err := s.db.Hold(ctx, at.at(), root, false); err != nil {
		return Image{}, err
	}
	if out.Referrers, err = s.referrers(ctx, at, root); err != nil {
		return Image{}, err
	}
	if out.Tags, err = s.db.TagsMeaning(ctx, at.at(), root); err != nil {
		return Image{}, err
	}
	if out.Evidence, err = s.evidenceOf(ctx, at, out); err != nil {
		return Image{}, err
	}
	if out.Builds, err = s.db.BuildsMaking(ctx, []digest.Digest{root}); err != nil {
		return Image{}, err
	}
	out.Mark, err = s.mark(ctx, at.conn.Registry)
	return out, err
}

// when says with a problem of what is at a registry at what time it was so.
func when(err error, seen time.Time) error {
	switch p := problem.From(err); p.Kind {
	case problem.NotFound, problem.Removed, problem.Denied, problem.Altered, problem.Unreachable, problem.RegistryError:
		if p.Seen != "" {
			p.Seen += "; "
		}
		p.Seen += "asked at " + seen.UTC().Format("2006-01-02 15:04:05") + " UTC"
		return p
	}
	return err
}

// describe reads a digest with everything below it, and keeps what was worked out of it.
func (s *Service) describe(ctx context.Context, at spot, root digest.Digest) (image.Description, error) {
	tree, err := transfer.ReadTree(ctx, at.Repository, contents{s.db}, root)
	if err != nil {
		return image.Description{}, err
	}
	d, err := s.describeTree(ctx, at, tree)
	if err != nil {
		return d, err
	}
	return d, s.db.Summarise(ctx, summaryOf(d))
}

func (s *Service) describeTree(ctx context.Context, at spot, tree plan.Tree) (image.Description, error) {
	return image.Describe(tree, func(d ocispec.Descriptor) (image.Config, error) {
		return transfer.Config(ctx, at.Repository, contents{s.db}, d)
	})
}

func summaryOf(d image.Description) store.Summary {
	out := store.Summary{Digest: d.Digest, Kind: string(d.Kind), Size: d.Size, Platforms: []string{}, Version: image.Printable(d.Version),
		Revision: image.Printable(d.Revision), CreatedAt: d.Created, Problem: d.Contradiction()}
	for _, p := range d.Platforms() {
		out.Platforms = append(out.Platforms, image.Printable(p.String()))
	}
	return out
}

// referrers lists what is attached to a digest. A registry that does not say is no reason to show nothing else.
func (s *Service) referrers(ctx context.Context, at spot, d digest.Digest) (Referrers, error) {
	list, seen, err := s.referrersOf(ctx, at, d)
	if err != nil {
		if ctx.Err() != nil || seen.IsZero() {
			return Referrers{}, err
		}
		p := problem.From(err)
		return Referrers{SeenAt: seen, Problem: p.Title + ": " + p.Seen}, nil
	}
	return Referrers{All: besides(list, d), SeenAt: seen}, nil
}

func besides(list []ocispec.Descriptor, of digest.Digest) []image.Beside {
	out := make([]image.Beside, len(list))
	for i, d := range list {
		out[i] = image.BesideOf(d, of)
	}
	return out
}

func (s *Service) mark(ctx context.Context, r store.Registry) (Mark, error) {
	m := Mark{Registry: r.Name}
	if r.Unverified {
		m.Exception = &r
	}
	rows, err := s.db.LastChecks(ctx, r.ID)
	if err != nil || len(rows) == 0 {
		return m, err
	}
	c, err := readCheck(r.Name, rows[0])
	m.Checked = &c
	return m, err
}

// As tells which member of an image a client of a platform gets.
func (i Image) As(client image.Platform) (image.Member, error) {
	n := image.Choose(i.Platforms(), client)
	if n < 0 {
		return image.Member{}, i.noMember("A client of this platform gets nothing from this image", client)
	}
	if c := i.Members[n].Contradiction; c != "" {
		return image.Member{}, &problem.Problem{Kind: problem.Altered, Title: "Nobody can say what a client of this platform gets",
			Asked: i.Ref.String() + " as " + client.String(), Seen: c, Where: i.Ref.In(), Remedy: "have whoever built the image push it again"}
	}
	return i.Members[n], nil
}

// Member finds the image of exactly one platform.
func (i Image) Member(p image.Platform) (image.Member, error) {
	for _, m := range i.Members {
		if m.Platform == p {
			return m, nil
		}
	}
	return image.Member{}, i.noMember("The image has no such platform", p)
}

func (i Image) noMember(title string, p image.Platform) error {
	seen := "the platforms"
	for n, have := range i.Platforms() {
		if n > 0 {
			seen += ","
		}
		seen += " " + have.String()
	}
	if len(i.Members) == 0 {
		seen = "no image to run: " + string(i.Kind)
	}
	return &problem.Problem{
		Kind:   problem.NotFound,
		Title:  title,
		Asked:  i.Ref.String() + " as " + p.String(),
		Seen:   seen,
		Where:  i.Ref.In(),
		Remedy: "name one of them, or build the image for it",
	}
}

// Raw gives the very bytes of a manifest or, for an image of one platform, of its config, with their media type.
func (s *Service) Raw(ctx context.Context, by Actor, ref image.Reference, platform *image.Platform, config bool) (string, []byte, error) {
	if err := by.Require(Read); err != nil {
		return "", nil, err
	}
	at, err := s.spot(ctx, ref)
	if err != nil {
		return "", nil, err
	}
	root, seen, err := s.resolve(ctx, at, ref)
	if err != nil {
		return "", nil, when(err, seen)
	}
	d := root
	if platform != nil {
		whole, err := s.describe(ctx, at, root)
		if err != nil {
			return "", nil, err
		}
		m, err := Image{Description: whole, Ref: at.ref}.Member(*platform)
		if err != nil {
			return "", nil, err
		}
		d = m.Digest
	}
	m, err := transfer.Manifest(ctx, at.Repository, contents{s.db}, d)
	if err != nil || !config {
		return m.MediaType, m.Bytes, err
	}
	if m.Index {
		return "", nil, &problem.Problem{Kind: problem.Malformed, Title: "An index has no config", Asked: ref.String(),
			Remedy: "name one of its platforms: --platform linux/amd64"}
	}
	raw, err := transfer.ConfigBytes(ctx, at.Repository, contents{s.db}, m.Config)
	return m.Config.MediaType, raw, err
}

// resolve asks the registry what a reference means, and records what it said. Nothing there yet is of kind NotFound; what
// was there, and is no more, of kind Removed.
func (s *Service) resolve(ctx context.Context, at spot, ref image.Reference) (digest.Digest, time.Time, error) {
	seen, err := s.db.Now(ctx)
	if err != nil {
		return "", seen, err
	}
	d, err := at.Head(ctx, ref.Name())
	switch {
	case problem.Is(err, problem.NotFound):
		return "", seen, s.nothing(ctx, at, ref, seen, err)
	case err != nil:
		p := problem.From(err)
		p.Asked = ref.String()
		return "", seen, p
	case ref.Digest == "":
		return d.Digest, seen, s.sight(ctx, at, ref.Tag, d.Digest, seen)
	}
	return ref.Digest, seen, nil
}

// nothing records that a reference means nothing now, and tells whether it ever did.
func (s *Service) nothing(ctx context.Context, at spot, ref image.Reference, seen time.Time, found error) error {
	p := problem.From(found)
	p.Title, p.Asked, p.Remedy = "Nothing is there yet under this name", ref.String(), "see what is there: dovrak tags "+at.ref.In()
	gone := func(what string, last time.Time) error {
		p.Kind, p.Title = problem.Removed, "This was there and has been removed"
		p.Seen = fmt.Sprintf("%s, last seen at %s UTC", what, last.UTC().Format("2006-01-02 15:04:05"))
		p.Remedy = "dovrak trail " + ref.In()
		if ref.Tag != "" {
			p.Remedy += ":" + ref.Tag
		}
		p.Remedy += " tells what Dovrak knows of it"
		return p
	}
	if ref.Digest != "" {
		if err := s.db.Forget(ctx, at.at(), ref.Digest); err != nil {
			return err
		}
		if last, ok, err := s.db.HeldUntil(ctx, at.at(), ref.Digest); err != nil || ok {
			return firstOf(err, gone("it was held here", last))
		}
		return p
	}
	if err := s.sight(ctx, at, ref.Tag, "", seen); err != nil {
		return err
	}
	was, _, err := s.db.Sighting(ctx, at.at(), ref.Tag)
	if err == nil && was.WasDigest != nil {
		err = gone("it meant "+was.WasDigest.String(), *was.WasSeenAt)
	}
	return firstOf(err, p)
}

// absent reports that there is nothing, whether or not there ever was.
func absent(err error) bool {
	return problem.Is(err, problem.NotFound) || problem.Is(err, problem.Removed)
}

// sight records what a tag was seen to mean; no digest is nothing.
func (s *Service) sight(ctx context.Context, at spot, tag string, d digest.Digest, seen time.Time) error {
	row := store.Sighting{RegistryID: at.conn.ID, Repository: at.ref.Repository, Tag: tag, SeenAt: seen}
	if d != "" {
		row.Digest = &d
	}
	return s.db.See(ctx, row)
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// contents keeps what transfer reads.
type contents struct{ db *store.Store }

func (c contents) Content(ctx context.Context, d digest.Digest) (string, []byte, bool, error) {
	got, ok, err := c.db.Content(ctx, d)
	return got.MediaType, got.Bytes, ok, err
}

func (c contents) Keep(ctx context.Context, d digest.Digest, mediaType string, raw []byte) error {
	return c.db.KeepContent(ctx, store.Content{Digest: d, MediaType: mediaType, Bytes: raw})
}

var _ transfer.Contents = contents{}
var _ registry.Pace = (*budget)(nil)
