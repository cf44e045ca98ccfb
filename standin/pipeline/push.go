package pipeline

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"

	godigest "github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Target is where a pipeline pushes to, with the account it has there.
type Target struct {
	Address    string // scheme://host:port
	Repository string
	Name       string
	Secret     string
	HTTP       *http.Client // nil is http.DefaultClient

	token string
}

// Push pushes an image under tags: content first, then the index under each.
func (t *Target) Push(ctx context.Context, img Image, tags ...string) error {
	for _, b := range img.Blobs {
		if err := t.blob(ctx, b); err != nil {
			return err
		}
	}
	for _, m := range img.Manifests {
		if err := t.manifest(ctx, m, m.Digest.String()); err != nil {
			return err
		}
	}
	for _, tag := range tags {
		if err := t.manifest(ctx, img.Index, tag); err != nil {
			return err
		}
	}
	return nil
}

// Point pushes only the index again, under a tag: what a hand at the registry does behind Dovrak's back.
func (t *Target) Point(ctx context.Context, img Image, tag string) error {
	return t.manifest(ctx, img.Index, tag)
}

// Index finds an index that is there, to attach something to it.
func (t *Target) Index(ctx context.Context, digest string) (Image, error) {
	resp, err := t.do(ctx, http.MethodHead, "/v2/"+t.Repository+"/manifests/"+digest, "", nil)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("pipeline: looking at %s: %s", digest, resp.Status)
	}
	if err != nil {
		return Image{}, err
	}
	d := ocispec.Descriptor{MediaType: resp.Header.Get("Content-Type"), Digest: godigest.Digest(digest), Size: resp.ContentLength}
	return Image{Index: Content{Descriptor: d}}, nil
}

func (t *Target) blob(ctx context.Context, b Content) error {
	base := "/v2/" + t.Repository + "/blobs/"
	resp, err := t.do(ctx, http.MethodHead, base+b.Digest.String(), "", nil)
	if err != nil {
		return err
	}
	if resp.StatusCode == http.StatusOK {
		return nil
	}
	if resp, err = t.do(ctx, http.MethodPost, base+"uploads/", "", nil); err != nil {
		return err
	}
	at, err := resp.Location()
	if err != nil {
		return fmt.Errorf("pipeline: opening an upload: %s: %w", resp.Status, err)
	}
	q := at.Query()
	q.Set("digest", b.Digest.String())
	at.RawQuery = q.Encode()
	resp, err = t.do(ctx, http.MethodPut, at.RequestURI(), "application/octet-stream", b.Bytes)
	return created(resp, err)
}

func (t *Target) manifest(ctx context.Context, m Content, ref string) error {
	resp, err := t.do(ctx, http.MethodPut, "/v2/"+t.Repository+"/manifests/"+ref, m.MediaType, m.Bytes)
	return created(resp, err)
}

func created(resp *http.Response, err error) error {
	if err == nil && resp.StatusCode != http.StatusCreated {
		err = fmt.Errorf("pipeline: %s %s: %s", resp.Request.Method, resp.Request.URL.Path, resp.Status)
	}
	return err
}

var challenge = regexp.MustCompile(`realm="([^"]*)",service="([^"]*)"`)

// do sends one request, signing in when asked to; the answer's body is read and gone.
func (t *Target) do(ctx context.Context, method, path, media string, body []byte) (*http.Response, error) {
	resp, err := t.once(ctx, method, path, media, body)
	if err != nil || resp.StatusCode != http.StatusUnauthorized {
		return resp, err
	}
	m := challenge.FindStringSubmatch(resp.Header.Get("WWW-Authenticate"))
	if m == nil {
		return resp, nil
	}
	if err := t.signIn(ctx, m[1], m[2]); err != nil {
		return nil, err
	}
	return t.once(ctx, method, path, media, body)
}

func (t *Target) signIn(ctx context.Context, realm, service string) error {
	q := url.Values{"service": {service}, "scope": {"repository:" + t.Repository + ":pull,push"}}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, realm+"?"+q.Encode(), nil)
	if err != nil {
		return err
	}
	req.SetBasicAuth(t.Name, t.Secret)
	resp, err := t.client().Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var answer struct{ Token string }
	if err := json.NewDecoder(resp.Body).Decode(&answer); err != nil {
		return err
	}
	t.token = answer.Token
	return nil
}

func (t *Target) once(ctx context.Context, method, path, media string, body []byte) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, t.Address+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if media != "" {
		req.Header.Set("Content-Type", media)
	}
	if t.token != "" {
		req.Header.Set("Authorization", "Bearer "+t.token)
	} else if t.Name != "" {
		req.SetBasicAuth(t.Name, t.Secret)
	}
	resp, err := t.client().Do(req)
	if err != nil {
		return nil, err
	}
	_, err = io.Copy(io.Discard, resp.Body)
	if cerr := resp.Body.Close(); err == nil {
		err = cerr
	}
	return resp, err
}

func (t *Target) client() *http.Client {
	if t.HTTP != nil {
		return t.HTTP
	}
	return http.DefaultClient
}
