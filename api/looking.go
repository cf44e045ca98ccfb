package api

import (
	"context"
	"net/http"
	"slices"

	"dovrak/api/wire"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/service"

	"github.com/labstack/echo/v5"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

type (
	imageQuery struct {
		Reference string `query:"reference" json:"-" required:"true" description:"a full reference"`
		Platform  string `query:"platform"  json:"-"                 description:"only the image of this platform"`
		As        string `query:"as"        json:"-"                 description:"which member a client of this platform gets"`
	}
	contentQuery struct {
		Reference string `query:"reference" json:"-" required:"true" description:"a full reference"`
		Platform  string `query:"platform"  json:"-"                 description:"of the image of this platform"`
		Part      string `query:"part"      json:"-" required:"true"                                             enum:"manifest,config"`
	}
)

func showImage(ctx context.Context, a *API, by service.Actor, in imageQuery) (wire.Image, error) {
	ref, err := a.reference(ctx, in.Reference)
	if err != nil {
		return wire.Image{}, err
	}
	img, err := a.service.Show(ctx, by, ref)
	if err != nil {
		return wire.Image{}, err
	}
	if in.Platform != "" {
		p, err := image.ParsePlatform(in.Platform)
		if err != nil {
			return wire.Image{}, err
		}
		only, err := img.Member(p)
		if err != nil {
			return wire.Image{}, err
		}
		img.Members = []image.Member{only}
		img.Beside = slices.DeleteFunc(img.Beside, func(b image.Beside) bool { return b.Of != only.Digest })
	}
	out := viewImage(img)
	if in.As != "" {
		p, err := image.ParsePlatform(in.As)
		if err != nil {
			return wire.Image{}, err
		}
		m, err := img.As(p)
		if err != nil {
			return wire.Image{}, err
		}
		out.Client = &wire.Client{As: p.String(), Platform: m.Platform.String(), Digest: m.Digest.String()}
	}
	return out, nil
}

// content answers with the very bytes of a manifest or config. Their media type is a registry's word, and not for a
// browser to act on: it stands in a header of its own.
func (a *API) content(c *echo.Context, by service.Actor) error {
	var in contentQuery
	if err := take(c, &in); err != nil {
		return err
	}
	ref, err := a.reference(c.Request().Context(), in.Reference)
	if err != nil {
		return err
	}
	if in.Part != "manifest" && in.Part != "config" {
		return &problem.Problem{
			Kind:   problem.Malformed,
			Title:  "There is no such part",
			Asked:  image.Printable(in.Part),
			Remedy: "say manifest or config",
		}
	}
	var platform *image.Platform
	if in.Platform != "" {
		p, err := image.ParsePlatform(in.Platform)
		if err != nil {
			return err
		}
		platform = &p
	}
	media, raw, err := a.service.Raw(c.Request().Context(), by, ref, platform, in.Part == "config")
	if err != nil {
		return err
	}
	c.Response().Header().Set("X-Content-Type-Options", "nosniff")
	c.Response().Header().Set("Dovrak-Media-Type", image.Printable(media))
	return c.Blob(http.StatusOK, "application/octet-stream", raw)
}

func viewImage(i service.Image) wire.Image {
	exact := i.Ref
	exact.Tag = "" // a digest says it all
	out := wire.Image{
		Reference: exact.String(), Digest: i.Ref.Digest.String(), MediaType: i.MediaType, Kind: string(i.Kind), Seen: i.SeenAt,
		Created: utc(i.Created), Version: i.Version, Revision: i.Revision, Size: i.Size, Annotations: i.Annotations, Tags: i.Tags,
		Platforms: each(i.Members, viewMember), Beside: each(i.Beside, viewBeside), Referrers: each(i.Referrers.All, viewBeside),
		ReferrersSeen: i.Referrers.SeenAt, ReferrersProblem: i.Referrers.Problem, Registry: viewMark(i.Mark),
		Evidence: each(i.Evidence.Vouches, viewVouch), Attestations: each(i.Evidence.Attestations, viewAttestation),
		Builds: each(i.Builds, viewBuildRef),
	}
	if out.Tags == nil {
		out.Tags = []string{}
	}
	return out
}

func viewMember(m image.Member) wire.PlatformImage {
	c := m.Config
	return wire.PlatformImage{
		Platform: m.Platform.String(), OSVersion: c.OSVersion, Digest: m.Digest.String(), Size: m.Size, Created: utc(c.Created),
		Author: c.Author, Labels: c.Labels, Annotations: m.Annotations, Config: m.ConfigBlob.Digest.String(), Entrypoint: c.Entrypoint,
		Command: c.Command, Env: c.Env, User: c.User, WorkingDir: c.WorkingDir, Ports: c.Ports, Contradiction: m.Contradiction,
		History: slices.Clip(each(c.History, func(h image.HistoryStep) wire.HistoryStep {
			return wire.HistoryStep{Created: utc(h.Created), By: h.By, Comment: h.Comment, Empty: h.Empty}
		})),
		Layers: each(m.Layers, func(l ocispec.Descriptor) wire.Layer {
			return wire.Layer{Digest: l.Digest.String(), Size: l.Size, MediaType: l.MediaType}
		}),
	}
}

func viewBeside(b image.Beside) wire.Beside {
	return wire.Beside{
		Digest:      b.Digest.String(),
		Kind:        string(b.Kind),
		Type:        b.Type,
		Size:        b.Size,
		Of:          b.Of.String(),
		Annotations: b.Annotations,
	}
}

func viewMark(m service.Mark) wire.RegistryMark {
	out := wire.RegistryMark{Name: m.Registry}
	if m.Checked != nil {
		out.Checked = &m.Checked.At
		if s, fails := m.Checked.Fails(); fails {
			out.Fails = s.Name
		}
	}
	if e := m.Exception; e != nil {
		out.Exception = &wire.Exception{Owner: e.UnverifiedOwner, Until: e.UnverifiedUntil.UTC(), Counts: true}
	}
	return out
}
