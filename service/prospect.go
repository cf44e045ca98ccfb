package service

import (
	"cmp"
	"context"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/store"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Prospect is what somebody looks at before they agree to a promotion: what stands there beside what would, and what lies between.
type Prospect struct {
	Now, Next ImageInView // Now is empty where nothing stands there
	Between   *Between    // by the builds that made both; nil where there are none
	Elsewhere []StandingCell
	Said      []store.Approval
	MaySay    error // why the one who asks can say nothing of it now; nil: they can
}

// ImageInView is an image with what it is built on.
type ImageInView struct {
	Image
	Base string
}

// Prospect shows what a promotion would change, as its plan says. What is known costs no request.
func (s *Service) Prospect(ctx context.Context, by Actor, n int64) (Prospect, error) {
	if err := by.Require(Read); err != nil {
		return Prospect{}, err
	}
	p, err := s.promotionNumbered(ctx, n)
	if err != nil {
		return Prospect{}, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return Prospect{}, err
	}
	out := Prospect{MaySay: s.maySay(ctx, by, law, p)}
	if !problem.Is(out.MaySay, problem.Refused) && !problem.Is(out.MaySay, problem.NotPermitted) && out.MaySay != nil {
		return out, out.MaySay
	}
	if out.Next, err = s.inView(ctx, by, p.Promotion.Plan.Source, p.Promotion.Digest); err != nil {
		return out, err
	}
	if out.Said, err = s.db.Approvals(ctx, p.Work.ID); err != nil {
		return out, err
	}
	if out.Elsewhere, err = s.standsElsewhere(ctx, by, p.Promotion); err != nil || len(p.Promotion.Plan.Places) == 0 {
		return out, err
	}
	place := p.Promotion.Plan.Places[0]
	if len(place.Tags) == 0 || place.Tags[len(place.Tags)-1].From == "" {
		return out, nil
	}
	now := place.Tags[len(place.Tags)-1].From // the standing tag is the last
	if out.Now, err = s.inView(ctx, by, place.Repository, now); err != nil {
		return out, err
	}
	out.Between, err = s.between(ctx, now, p.Promotion.Digest)
	return out, err
}

func (s *Service) inView(ctx context.Context, by Actor, repository string, d digest.Digest) (ImageInView, error) {
	ref, err := image.ParseRepository(repository)
	if err != nil {
		return ImageInView{}, err
	}
	ref.Digest = d
	img, err := s.Show(ctx, by, ref)
	if err != nil {
		return ImageInView{}, err
	}
	out := ImageInView{Image: img, Base: img.Annotations[ocispec.AnnotationBaseImageName]}
	for _, b := range img.Builds {
		out.Base = cmp.Or(b.Build.Base, out.Base)
	}
	return out, nil
}

// standsElsewhere is where the image that is to be promoted stands already.
func (s *Service) standsElsewhere(ctx context.Context, by Actor, p store.Promotion) ([]StandingCell, error) {
	st, err := s.Standing(ctx, by)
	var out []StandingCell
	for _, r := range st.Rows {
		for _, c := range r.Cells {
			if c.Digest == p.Digest && c.Environment != p.Environment {
				out = append(out, c)
			}
		}
	}
	return out, err
}
