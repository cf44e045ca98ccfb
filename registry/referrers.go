package registry

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// maxReferrers bounds what is listed of one image: whoever may push can attach without end.
const maxReferrers = 1000

// Referrers lists what is attached to a digest: signatures, attestations, bills of materials (distribution specification
// 1.1, "Listing Referrers"). A registry without that list answers 404; there the index under the fallback tag says it. A
// client that has learned so does not ask for the list again.
func (r *Repository) Referrers(ctx context.Context, d digest.Digest) ([]ocispec.Descriptor, error) {
	if !r.c.noReferrers.Load() {
		all, offered, err := r.listReferrers(ctx, d)
		if err != nil || offered {
			return all, err
		}
		r.c.noReferrers.Store(true)
	}
	m, err := r.Manifest(ctx, FallbackTag(d))
	if problem.Is(err, problem.NotFound) {
		return nil, nil
	}
	return m.Members, err
}

// FallbackTag is the tag under which attachments are listed where a registry has no list of its own.
func FallbackTag(d digest.Digest) string { return strings.Replace(d.String(), ":", "-", 1) }

var fallbackTag = regexp.MustCompile(`^sha(256-[0-9a-f]{64}|512-[0-9a-f]{128})$`)

// IsFallbackTag reports a tag that is a list of referrers and names no image.
func IsFallbackTag(tag string) bool { return fallbackTag.MatchString(tag) }

func (r *Repository) listReferrers(ctx context.Context, d digest.Digest) (all []ocispec.Descriptor, offered bool, err error) {
	rq := request{op: "list referrers", method: http.MethodGet, repository: r.name, scopes: []string{scope(r.name, "pull")},
		path: "/v2/" + r.name + "/referrers/" + d.String(), header: http.Header{"Accept": {image.MediaIndex}}}
	err = r.c.pages(ctx, rq, r.String(), func(resp *http.Response) error {
		raw, err := io.ReadAll(io.LimitReader(resp.Body, image.MaxManifest+1))
		if err != nil {
			return r.c.broken(rq, err)
		}
		page, err := image.Read(resp.Header.Get("Content-Type"), raw)
		if err != nil {
			return r.in(err)
		}
		if all = append(all, page.Members...); len(all) > maxReferrers {
			return endless(r.String(), "more than 1000 referrers of "+d.String())
		}
		return nil
	})
	switch Status(err) {
	case http.StatusNotFound, http.StatusMethodNotAllowed, http.StatusNotImplemented, http.StatusBadRequest:
		return nil, false, nil // by the specification 404; others do not know the address at all
	}
	return all, err == nil, err
}

// PutReferrer stores a manifest that refers to another, by its digest, and makes it known as attached to that. A registry with
// a list of referrers says that it took note (OCI-Subject); elsewhere the index under the fallback tag is the list, and as the
// entry in it (distribution specification 1.1, "Pushing Manifests with Subject").
func (r *Repository) PutReferrer(ctx context.Context, m image.Manifest, as ocispec.Descriptor) error {
	noted, err := r.putManifest(ctx, m.Digest.String(), m)
	if err != nil || m.Subject == nil || noted == m.Subject.Digest.String() {
		return err
	}
	var all []ocispec.Descriptor
	list, err := r.Manifest(ctx, FallbackTag(m.Subject.Digest))
	if err == nil {
		all = list.Members
	} else if !problem.Is(err, problem.NotFound) {
		return err
	}
	if slices.ContainsFunc(all, func(d ocispec.Descriptor) bool { return d.Digest == as.Digest }) {
		return nil
	}
	raw, err := json.Marshal(ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageIndex,
		Manifests: append(all, as)})
	if err != nil {
		return err
	}
	if list, err = image.Read(image.MediaIndex, raw); err != nil {
		return err
	}
	return r.PutManifest(ctx, FallbackTag(m.Subject.Digest), list)
}
