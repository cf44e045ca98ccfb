package registry

import (
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

func (r *Repository) blobRequest(op, method string, d digest.Digest) request {
	return request{op: op + " blob " + d.String(), method: method, repository: r.name,
		path: "/v2/" + r.name + "/blobs/" + d.String(), scopes: []string{scope(r.name, "pull")}}
}

// HasBlob asks whether a blob is there, with its size. Where the registry tells the size, it must be the one
// expected, since a blob that was cut off is none.
func (r *Repository) HasBlob(ctx context.Context, d ocispec.Descriptor) (bool, error) {
	resp, err := r.c.send(ctx, r.blobRequest("look at", http.MethodHead, d.Digest))
	if problem.Is(err, problem.NotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return resp.ContentLength < 0 || resp.ContentLength == d.Size, drain(resp)
}

// Blob opens a blob for streaming. A stream that is cut is taken up again where it was cut (distribution specification,
// "Pulling blobs", by Range), a bounded number of times in a row; what was hashed of it stays hashed. The read that would give the last byte fails with a problem of kind Altered, and
// withholds what it read, unless all the bytes are those that the digest promises: whoever passes them on can never
// finish a wrong blob.
func (r *Repository) Blob(ctx context.Context, d ocispec.Descriptor) (io.ReadCloser, error) {
	rq := r.blobRequest("pull", http.MethodGet, d.Digest)
	resp, err := r.c.send(ctx, rq)
	if err != nil {
		return nil, err
	}
	if n := resp.ContentLength; n >= 0 && n != d.Size {
		return nil, errors.Join(r.wrongSize(d, n), resp.Body.Close())
	}
	v := r.verify(rq, resp.Body, d)
	v.again = func(from int64) (io.ReadCloser, error) { return r.blobFrom(ctx, d, from) }
	return v, nil
}

// blobFrom opens a blob behind so many bytes. From a registry that knows no ranges the bytes before are read and dropped.
func (r *Repository) blobFrom(ctx context.Context, d ocispec.Descriptor, from int64) (io.ReadCloser, error) {
	rq := r.blobRequest("pull the rest of", http.MethodGet, d.Digest)
	rq.header = http.Header{"Range": {fmt.Sprintf("bytes=%d-", from)}}
	rq.okay = []int{http.StatusOK, http.StatusPartialContent}
	resp, err := r.c.send(ctx, rq)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode == http.StatusOK {
		if _, err = io.CopyN(io.Discard, resp.Body, from); err != nil {
			err = r.c.broken(rq, err)
		}
	} else if want := fmt.Sprintf("bytes %d-%d/%d", from, d.Size-1, d.Size); resp.Header.Get("Content-Range") != want {
		err = &problem.Problem{Kind: problem.RegistryError, Title: "The registry gives another part of the blob than it was asked for",
			Asked: d.Digest.String() + ", " + want, Where: r.String(), Seen: image.Printable(resp.Header.Get("Content-Range")),
			Remedy: "copy again; if it stays, look at the registry's storage"}
	}
	if err != nil {
		return nil, errors.Join(err, resp.Body.Close())
	}
	return resp.Body, nil
}

// SmallBlob reads a whole blob of at most limit bytes, such as a config.
func (r *Repository) SmallBlob(ctx context.Context, d ocispec.Descriptor, limit int64) ([]byte, error) {
	if d.Size > limit {
		return nil, &problem.Problem{Kind: problem.Altered, Title: "This blob is too large for what it is", Asked: d.Digest.String(),
			Where: r.String(), Seen: fmt.Sprintf("%d bytes, more than %d", d.Size, limit), Remedy: "have whoever built the image look at it"}
	}
	var raw []byte
	rq := r.blobRequest("pull", http.MethodGet, d.Digest)
	rq.read = func(resp *http.Response) error {
		var err error
		raw, err = io.ReadAll(r.verify(rq, resp.Body, d))
		return err
	}
	_, err := r.c.send(ctx, rq)
	return raw, err
}

func (r *Repository) verify(rq request, body io.ReadCloser, d ocispec.Descriptor) *verified {
	return &verified{r: r, rq: rq, body: body, want: d, hash: d.Digest.Algorithm().Hash()}
}

// verified hashes what flows through it.
type verified struct {
	r     *Repository
	rq    request
	body  io.ReadCloser
	want  ocispec.Descriptor
	hash  hash.Hash
	n     int64
	again func(from int64) (io.ReadCloser, error) // opens the rest of it anew; nil: it is not taken up again
	cuts  int                                     // in all,
	idle  int                                     // and in a row, without a byte between them
}

// maxCuts is how often one stream is taken up again: each time at least a byte came, and that is no bound by itself.
const maxCuts = 100

func (v *verified) Read(p []byte) (int, error) {
	left := v.want.Size - v.n
	if left == 0 {
		return 0, v.end()
	}
	n, err := v.body.Read(p[:min(int64(len(p)), left)])
	v.n += int64(n)
	v.hash.Write(p[:n])
	if n > 0 {
		v.idle = 0
	}
	if err != nil && v.n < v.want.Size && v.takeUp() {
		return n, nil
	}
	switch {
	case v.n == v.want.Size:
		if err := v.end(); err != io.EOF {
			return 0, err
		}
		return n, io.EOF
	case err == io.EOF:
		return n, v.r.c.broken(v.rq, io.ErrUnexpectedEOF)
	case err != nil:
		return n, v.r.c.broken(v.rq, err)
	}
	return n, nil
}

// takeUp opens the rest of a stream that was cut, and reports whether there is one.
func (v *verified) takeUp() bool {
	v.cuts, v.idle = v.cuts+1, v.idle+1
	if v.again == nil || v.cuts > maxCuts || v.idle > v.r.c.cfg.Attempts {
		return false
	}
	rest, err := v.again(v.n)
	if err != nil {
		return false // the cut itself is told
	}
	_ = v.body.Close() // what was cut is gone, however it closes
	v.body = rest
	return true
}

// end is io.EOF if the bytes were the right ones.
func (v *verified) end() error {
	if got := digest.NewDigest(v.want.Digest.Algorithm(), v.hash); got != v.want.Digest {
		return mismatch(v.r.String(), "blob "+v.want.Digest.String(), v.want.Digest, got)
	}
	return io.EOF
}

func (v *verified) Close() error { return v.body.Close() }

func (r *Repository) wrongSize(d ocispec.Descriptor, n int64) error {
	return &problem.Problem{Kind: problem.Altered, Title: "The registry's bytes are not what their digest says",
		Asked: "blob " + d.Digest.String(), Where: r.String(), Seen: fmt.Sprintf("%d bytes in place of %d", n, d.Size),
		Remedy: "nothing was kept; push the image again"}
}

// Upload stores a blob from a stream that yields exactly d.Size bytes: POST opens a session, then one PUT, or, for a
// blob larger than a chunk, PATCHes and a closing PUT. The registry verifies the digest when it is closed. A failure
// leaves no session behind where the registry lets it be cancelled. The stream is spent either way.
func (r *Repository) Upload(ctx context.Context, d ocispec.Descriptor, body io.Reader) error {
	at, chunk, err := r.openUpload(ctx, d)
	if err != nil {
		return err
	}
	err = r.fill(ctx, at, chunk, d, body)
	if err != nil {
		r.cancel(ctx, at)
	}
	return err
}

// Mount makes a blob of a sibling repository of the same registry part of this one, without moving it. A registry
// may answer with an upload session in place of a mount: then false is returned and the session cancelled.
func (r *Repository) Mount(ctx context.Context, from *Repository, d ocispec.Descriptor) (bool, error) {
	rq := r.uploadRequest("mount", http.MethodPost, d.Digest)
	rq.path = "/v2/" + r.name + "/blobs/uploads/?" + url.Values{"mount": {d.Digest.String()}, "from": {from.name}}.Encode()
	rq.scopes = []string{scope(r.name, "pull,push"), scope(from.name, "pull")}
	rq.okay = []int{http.StatusCreated, http.StatusAccepted}
	resp, err := r.c.send(ctx, rq)
	if err != nil {
		return false, err
	}
	if err := drain(resp); err != nil {
		return false, err
	}
	if resp.StatusCode == http.StatusCreated {
		return true, nil
	}
	at, err := resp.Location()
	if err != nil {
		return false, nil // no session to cancel
	}
	r.cancel(ctx, at)
	return false, nil
}

func (r *Repository) uploadRequest(op, method string, d digest.Digest) request {
	return request{op: op + " blob " + d.String(), method: method, repository: r.name,
		path: "/v2/" + r.name + "/blobs/uploads/", scopes: []string{scope(r.name, "pull,push")}}
}

func (r *Repository) openUpload(ctx context.Context, d ocispec.Descriptor) (*url.URL, int64, error) {
	rq := r.uploadRequest("push", http.MethodPost, d.Digest)
	rq.okay = []int{http.StatusAccepted}
	resp, err := r.c.send(ctx, rq)
	if err != nil {
		return nil, 0, err
	}
	if err := drain(resp); err != nil {
		return nil, 0, r.c.explain(ctx, r.c.broken(rq, err))
	}
	at, err := r.location(resp)
	if err != nil {
		return nil, 0, err
	}
	chunk := r.c.cfg.Chunk
	if least, err := strconv.ParseInt(resp.Header.Get("OCI-Chunk-Min-Length"), 10, 64); err == nil && least > chunk {
		chunk = least
	}
	return at, chunk, nil
}

// location reads where an upload goes on; registries answer with relative and with absolute addresses.
func (r *Repository) location(resp *http.Response) (*url.URL, error) {
	at, err := resp.Location()
	if err != nil || (r.c.base.Scheme == "https" && at.Scheme != "https") {
		return nil, &problem.Problem{
			Kind:  problem.RegistryError,
			Title: "The registry does not say where an upload goes on",
			Where: r.String(),
			Seen: fmt.Sprintf(
				"the location %q",
				image.Printable(resp.Header.Get("Location")),
			),
			Remedy: "look at the registry's own address settings",
		}
	}
	return at, nil
}

func (r *Repository) fill(ctx context.Context, at *url.URL, chunk int64, d ocispec.Descriptor, body io.Reader) error {
	rq := r.uploadRequest("push", http.MethodPut, d.Digest)
	rq.okay = []int{http.StatusCreated, http.StatusNoContent}
	rq.header = http.Header{"Content-Type": {"application/octet-stream"}}
	if d.Size <= chunk {
		rq.stream, rq.length = body, d.Size
	} else {
		var err error
		if at, err = r.patch(ctx, at, chunk, d, body); err != nil {
			return err
		}
	}
	q := at.Query()
	q.Set("digest", d.Digest.String())
	closing := *at
	closing.RawQuery = q.Encode()
	rq.to = &closing
	resp, err := r.c.send(ctx, rq)
	if err != nil {
		return err
	}
	return drain(resp)
}

// patch sends the blob chunk by chunk, streamed: no chunk is ever held in memory.
func (r *Repository) patch(ctx context.Context, at *url.URL, chunk int64, d ocispec.Descriptor, body io.Reader) (*url.URL, error) {
	for off := int64(0); off < d.Size; {
		n := min(chunk, d.Size-off)
		rq := r.uploadRequest("push", http.MethodPatch, d.Digest)
		rq.to, rq.stream, rq.length = at, io.LimitReader(body, n), n
		rq.okay = []int{http.StatusAccepted, http.StatusNoContent}
		rq.header = http.Header{"Content-Type": {"application/octet-stream"}, "Content-Range": {fmt.Sprintf("%d-%d", off, off+n-1)}}
		resp, err := r.c.send(ctx, rq)
		if err != nil {
			return at, err
		}
		if err := drain(resp); err != nil {
			return at, r.c.explain(ctx, r.c.broken(rq, err))
		}
		if at, err = r.location(resp); err != nil {
			return at, err
		}
		off += n
	}
	return at, nil
}

// cancel ends an upload session, also when the reason for it was that the caller went away, and gives the status of the
// answer, 0 for none. A registry that knows no such session, or no cancelling, has nothing left to be cleaned up by us;
// where the connection is gone, what led here is told already, and the session lapses by itself.
func (r *Repository) cancel(ctx context.Context, at *url.URL) int {
	ctx, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer done()
	rq := r.uploadRequest("", http.MethodDelete, "")
	rq.op, rq.to = "cancel an upload", at
	resp, err := r.c.exchange(ctx, rq)
	if err != nil || drain(resp) != nil {
		return 0
	}
	return resp.StatusCode
}
