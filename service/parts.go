package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dovrak/core/image"
	"dovrak/core/join"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// NewPart reports the image of one platform. What a runner does not say is nil.
type NewPart struct {
	Platform image.Platform
	Image    image.Reference // by digest
	Emulated *bool
	Seconds  *float64
	Key      string // Idempotency-Key
}

// ReportPart takes a part of a build. The same part again is fine; another digest for its platform is refused. The part that
// completes the build closes it.
func (s *Service) ReportPart(ctx context.Context, by Actor, component string, run int64, n NewPart) (BuildView, error) {
	if err := by.reportsFor(component); err != nil {
		return BuildView{}, err
	}
	b, err := s.buildFor(ctx, component, run)
	if err != nil {
		return BuildView{}, err
	}
	a := ask{n.Key, hashOf("part", component, run, n.Platform, n.Image)}
	if _, ok, err := s.before(ctx, by, a); err != nil || ok {
		return s.viewIf(ctx, b, err)
	}
	law, err := s.law(ctx)
	if err != nil {
		return BuildView{}, err
	}
	p := store.Part{WorkID: b.Work.ID, Platform: spelled(law.Components[component].Platforms, n.Platform), Repository: n.Image.In(),
		Digest: n.Image.Digest, ReportedBy: by.ID, Emulated: n.Emulated, Seconds: n.Seconds}
	if known, err := knownPart(ctx, s.db.Queries, b, p); err != nil || known {
		return s.viewIf(ctx, b, err)
	}
	if err := s.checkPart(ctx, law, b, n, &p); err != nil {
		return BuildView{}, err
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error { return s.keepPart(ctx, tx, by, a, law, b, p) })
	if err != nil {
		return BuildView{}, err
	}
	return s.buildByWork(ctx, b.Work.ID)
}

func (s *Service) viewIf(ctx context.Context, b store.BuildWork, err error) (BuildView, error) {
	if err != nil {
		return BuildView{}, err
	}
	return s.viewBuild(ctx, b)
}

// spelled writes a platform as the charter does, so that linux/arm64 and linux/arm64/v8 are one.
func spelled(platforms []string, p image.Platform) string {
	for _, text := range platforms {
		if own, err := image.ParsePlatform(text); err == nil && own.Same(p) {
			return text
		}
	}
	return p.String()
}

// knownPart reports a part that is there already, and refuses one that contradicts it or comes too late.
func knownPart(ctx context.Context, db store.Queries, b store.BuildWork, p store.Part) (bool, error) {
	parts, err := db.Parts(ctx, b.Work.ID)
	if err != nil {
		return false, err
	}
	for _, have := range parts {
		if have.Platform == p.Platform {
			return have.Digest == p.Digest, otherDigest(b, have, p)
		}
	}
	return false, stillOpen(b, p.Platform)
}

func otherDigest(b store.BuildWork, have, want store.Part) error {
	if have.Digest == want.Digest {
		return nil
	}
	return &problem.Problem{Kind: problem.Refused, Title: "Another image was reported for this platform",
		Asked: fmt.Sprintf("%s %s: %s@%s", buildName(b.Build), want.Platform, want.Repository, want.Digest),
		Seen:  fmt.Sprintf("%s@%s, reported by %s at %s", have.Repository, have.Digest, have.Reporter, stamp(have.ReportedAt)),
		Rule:  "one image a platform", Remedy: "a new image is a new build: report it under the number of its own run"}
}

func stillOpen(b store.BuildWork, platform string) error {
	if b.Work.State == store.StateOpen || b.Work.State == store.StateIncomplete {
		return nil
	}
	return &problem.Problem{Kind: problem.Refused, Title: "This build is closed", Asked: buildName(b.Build) + " " + platform,
		Seen: "it is " + b.Work.State, Rule: "a closed build takes no part", Remedy: "report the part to the build of its own run"}
}

// checkPart reads the part, in three requests at most, and holds it against the build.
func (s *Service) checkPart(ctx context.Context, law law, b store.BuildWork, n NewPart, p *store.Part) error {
	if n.Image.Digest == "" {
		return &problem.Problem{Kind: problem.Malformed, Title: "A part is reported by its digest", Asked: n.Image.String(),
			Seen: "a tag, which may mean another image by now", Remedy: "give what the push printed: " + n.Image.In() + "@sha256:…"}
	}
	if err := ownPart(law, b.Build.Component, n.Image); err != nil {
		return err
	}
	at, err := s.spot(ctx, n.Image)
	if err != nil {
		return err
	}
	part, err := s.readPart(ctx, at, n.Platform, n.Image.Digest)
	if err != nil {
		return err
	}
	if p.Warnings, err = law.wanted(b.Build).Check(part); err != nil {
		return err
	}
	fillPart(p, part)
	return s.db.Hold(ctx, at.at(), n.Image.Digest, false)
}

func fillPart(p *store.Part, part join.Part) {
	base := image.BaseOf(part.Image)
	p.Base, p.BaseDigest = base.Name, base.Digest.String()
	p.Size = part.Image.Size()
	for _, blob := range part.Image.Blobs() {
		p.Size += blob.Size
	}
}

// ownPart refuses a part from another component's home: who reports for one component has no say over another's images.
func ownPart(law law, component string, ref image.Reference) error {
	if h := law.HomeOf(ref); h.Component != "" && h.Component != component {
		return &problem.Problem{Kind: problem.Refused, Title: "This image is another component's", Asked: ref.String(),
			Seen: "the home of " + h.Component + " in " + h.Environment, Rule: "parts of " + component,
			Remedy: "push the part to a repository of " + component}
	}
	return nil
}

// readPart reads what was reported, from what is kept or else from the registry.
func (s *Service) readPart(ctx context.Context, at spot, claimed image.Platform, d digest.Digest) (join.Part, error) {
	root, err := transfer.Manifest(ctx, at.Repository, contents{s.db}, d)
	if err != nil {
		if problem.Is(err, problem.NotFound) {
			p := problem.From(err)
			p.Title, p.Asked = "The part is not in the registry", at.ref.In()+"@"+d.String()
			p.Remedy = "push it before it is reported, and report the digest that the push printed"
		}
		return join.Part{}, err
	}
	return join.NewPart(claimed, root,
		func(c ocispec.Descriptor) (image.Manifest, error) {
			return transfer.Manifest(ctx, at.Repository, contents{s.db}, c.Digest)
		},
		func(c ocispec.Descriptor) (image.Config, error) {
			return transfer.Config(ctx, at.Repository, contents{s.db}, c)
		})
}

// keepPart writes a part down, and closes the build when it was the last.
func (s *Service) keepPart(ctx context.Context, tx store.Tx, by Actor, a ask, law law, b store.BuildWork, p store.Part) error {
	if err := tx.Lock(ctx, "build "+b.Work.ID.String()); err != nil {
		return err
	}
	now, _, err := tx.BuildByWork(ctx, b.Work.ID)
	if err != nil {
		return err
	}
	if known, err := knownPart(ctx, tx.Queries, now, p); err != nil || known { // another runner was quicker
		return err
	}
	if err := tx.AddPart(ctx, p); err != nil {
		return err
	}
	if err := s.keepAnswer(ctx, tx, by, a, b.Work.ID, "build "+buildName(b.Build)); err != nil {
		return err
	}
	parts, err := tx.Parts(ctx, b.Work.ID)
	if err != nil {
		return err
	}
	comp := law.Components[b.Build.Component]
	all := join.Wanted{Required: append(slices.Clone(comp.Platforms), comp.Optional...)}
	if len(all.Missing(platformsOf(parts))) == 0 {
		return s.closeNow(ctx, tx, b.Build)
	}
	what := buildSubject(b.Build)
	return what.tell(ctx, tx, "")
}

func platformsOf(parts []store.Part) []image.Platform {
	var out []image.Platform
	for _, p := range parts {
		if own, err := image.ParsePlatform(p.Platform); err == nil { // it was parsed when it was reported
			out = append(out, own)
		}
	}
	return out
}

// givenParts reads an index that the pipeline pushed itself as the parts of its build, and holds it against the build whole.
func (s *Service) givenParts(ctx context.Context, r report) ([]store.Part, error) {
	if err := ownPart(r.law, r.Component, r.Image); err != nil {
		return nil, err
	}
	at, err := s.spot(ctx, r.Image)
	if err != nil {
		return nil, err
	}
	root, err := s.present(ctx, at, r.Image)
	if err != nil {
		return nil, err
	}
	read, err := s.readGiven(ctx, at, root)
	if err != nil {
		return nil, err
	}
	b := store.Build{Component: r.Component, Revision: r.Commit, Version: r.Version}
	if _, _, err := r.law.wanted(b).Join(read); err != nil {
		return nil, err
	}
	var out []store.Part
	for _, part := range read {
		p := store.Part{
			Platform:   spelled(r.law.Components[r.Component].Platforms, part.Claimed),
			Repository: at.ref.In(),
			Digest:     part.Image.Digest,
			ReportedBy: r.by.ID,
		}
		if p.Warnings, err = r.law.wanted(b).Check(part); err != nil {
			return nil, err
		}
		fillPart(&p, part)
		out = append(out, p)
	}
	return out, nil
}

// readGiven takes an index apart: each image in it is a part that claims what the index says.
func (s *Service) readGiven(ctx context.Context, at spot, root image.Manifest) ([]join.Part, error) {
	if !root.Index {
		part, err := s.readPart(ctx, at, image.Platform{}, root.Digest)
		part.Claimed = part.Config.Platform
		return []join.Part{part}, err
	}
	var out []join.Part
	for _, m := range root.Members {
		if !join.Runs(m) {
			continue
		}
		part, err := s.readPart(ctx, at, image.PlatformOf(m), m.Digest)
		if err != nil {
			return nil, err
		}
		if part.Claimed == (image.Platform{}) {
			part.Claimed = part.Config.Platform
		}
		out = append(out, part)
	}
	return out, nil
}

// MarkDue marks a build whose time is over and whose parts are not all in.
func (s *Service) MarkDue(ctx context.Context, work uuid.UUID) error {
	b, ok, err := s.db.BuildByWork(ctx, work)
	if err != nil || !ok || b.Work.State != store.StateOpen {
		return err
	}
	now, err := s.db.Now(ctx)
	if err != nil {
		return err
	}
	law, err := s.law(ctx)
	if err != nil {
		return err
	}
	return s.db.Tx(ctx, func(tx store.Tx) error {
		if now.Before(b.Build.DueAt) { // the queue's clock is ahead of the database's
			return s.queue.InsertAt(ctx, tx.PGX, DueJob{work}, b.Build.DueAt)
		}
		moved, err := tx.MoveBuild(ctx, work, store.StateIncomplete, store.StateOpen)
		if err != nil || !moved {
			return err
		}
		parts, err := tx.Parts(ctx, work)
		if err != nil {
			return err
		}
		what := buildSubject(b.Build)
		if err := what.tell(ctx, tx, store.StateIncomplete); err != nil {
			return err
		}
		missing := law.wanted(b.Build).Missing(platformsOf(parts))
		return s.record(
			ctx,
			tx,
			buildEntry(trail.BuildIncomplete, "dovrak", b.Build, map[string]string{"missing": strings.Join(missing, ", ")}),
		)
	})
}
