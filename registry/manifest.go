package registry

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

func (r *Repository) manifestRequest(op, method, name string) request {
	return request{op: op, method: method, repository: r.name, path: "/v2/" + r.name + "/manifests/" + name,
		scopes: []string{scope(r.name, "pull")}, header: http.Header{"Accept": image.Accept}}
}

// Manifest fetches a manifest by tag or digest, verified: by digest against that digest, by tag against the digest
// that the registry tells with it.
func (r *Repository) Manifest(ctx context.Context, name string) (image.Manifest, error) {
	var m image.Manifest
	rq := r.manifestRequest("pull manifest "+name, http.MethodGet, name)
	rq.read = func(resp *http.Response) error {
		raw, err := io.ReadAll(io.LimitReader(resp.Body, image.MaxManifest+1))
		if err != nil {
			return r.c.broken(rq, err)
		}
		if m, err = image.Read(resp.Header.Get("Content-Type"), raw); err != nil {
			return r.in(err)
		}
		want := digest.Digest(name)
		if !strings.Contains(name, ":") {
			want = digest.Digest(resp.Header.Get("Docker-Content-Digest"))
		}
		if want == "" || want == m.Digest {
			return nil
		}
		return r.altered("manifest "+name, want, raw)
	}
	_, err := r.c.send(ctx, rq)
	return m, err
}

// altered tells of bytes that are not what their digest says. A digest of another algorithm is computed anew.
func (r *Repository) altered(what string, want digest.Digest, raw []byte) error {
	if want.Validate() == nil && want.Algorithm().FromBytes(raw) == want {
		return nil
	}
	return mismatch(r.String(), what, want, digest.FromBytes(raw))
}

func mismatch(where, what string, want, got digest.Digest) error {
	return &problem.Problem{
		Kind:   problem.Altered,
		Title:  "The registry's bytes are not what their digest says",
		Asked:  what,
		Where:  where,
		Seen:   fmt.Sprintf("%s in place of %s", got, image.Printable(want.String())),
		Rule:   "bytes are verified against their digest on the way in",
		Remedy: "nothing was kept; look at the registry's storage and what lies between, then push the image again",
	}
}

// in names the repository in a problem from core.
func (r *Repository) in(err error) error {
	p := problem.From(err)
	p.Where = r.String()
	return p
}

// Head asks what a tag means, or whether a digest is there, without its bytes. The error is of kind NotFound where
// there is nothing. A registry that tells no digest, or knows no HEAD, is asked for the manifest itself.
func (r *Repository) Head(ctx context.Context, name string) (ocispec.Descriptor, error) {
	var d digest.Digest
	resp, err := r.c.send(ctx, r.manifestRequest("look at manifest "+name, http.MethodHead, name))
	if err == nil {
		if err := drain(resp); err != nil {
			return ocispec.Descriptor{}, err
		}
		d, err = image.ParseDigest(resp.Header.Get("Docker-Content-Digest"))
	} else if Status(err) != http.StatusMethodNotAllowed {
		return ocispec.Descriptor{}, err
	}
	if err != nil {
		m, err := r.Manifest(ctx, name)
		return ocispec.Descriptor{MediaType: m.MediaType, Digest: m.Digest, Size: m.Size()}, err
	}
	return ocispec.Descriptor{MediaType: resp.Header.Get("Content-Type"), Digest: d, Size: max(resp.ContentLength, 0)}, nil
}

// PutManifest stores a manifest's own bytes under a tag or its digest.
func (r *Repository) PutManifest(ctx context.Context, name string, m image.Manifest) error {
	_, err := r.putManifest(ctx, name, m)
	return err
}

// putManifest gives the subject that the registry says it took note of, if any.
func (r *Repository) putManifest(ctx context.Context, name string, m image.Manifest) (subject string, err error) {
	rq := r.manifestRequest("push manifest "+name, http.MethodPut, name)
	rq.scopes = []string{scope(r.name, "pull,push")}
	rq.header = http.Header{"Content-Type": {m.MediaType}}
	rq.body = m.Bytes
	rq.okay = []int{http.StatusCreated, http.StatusOK}
	resp, err := r.c.send(ctx, rq)
	if err != nil {
		return "", err
	}
	if err := drain(resp); err != nil {
		return "", r.c.explain(ctx, r.c.broken(rq, err))
	}
	if told := resp.Header.Get("Docker-Content-Digest"); told != "" && told != m.Digest.String() {
		return "", mismatch(r.String(), "manifest "+name, m.Digest, digest.Digest(told))
	}
	return resp.Header.Get("OCI-Subject"), nil
}

// DeleteManifest removes a manifest by digest, and with it every tag on it, or by tag where the registry knows how.
func (r *Repository) DeleteManifest(ctx context.Context, name string) error {
	rq := r.manifestRequest("delete manifest "+name, http.MethodDelete, name)
	rq.scopes = []string{scope(r.name, "pull,delete")}
	rq.okay = []int{http.StatusAccepted, http.StatusOK, http.StatusNoContent}
	resp, err := r.c.send(ctx, rq)
	if err != nil {
		return err
	}
	return drain(resp)
}
