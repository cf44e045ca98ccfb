package registry

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Upload is a blob on its way into a repository: an upload session of the registry (distribution specification, "Pushing
// a blob in chunks"). Sending goes chunk by chunk, and where it broke, [Upload.Ask] tells how much has arrived. Only
// Location may be called beside the others.
type Upload struct {
	r      *Repository
	blob   ocispec.Descriptor
	chunk  int64
	offset int64

	mu sync.Mutex
	at *url.URL
}

// OpenUpload begins an upload: a POST. One that was sent is waited for a little longer than ctx: an upload that began
// and was never heard of could not be cancelled.
func (r *Repository) OpenUpload(ctx context.Context, d ocispec.Descriptor) (*Upload, error) {
	if err := ctx.Err(); err != nil {
		return nil, context.Cause(ctx)
	}
	ctx, done := outlive(ctx, lastWait)
	defer done()
	rq := r.uploadRequest("push", http.MethodPost, d.Digest)
	rq.okay = []int{http.StatusAccepted}
	resp, err := r.c.send(ctx, rq)
	if err != nil {
		return nil, err
	}
	if err := drain(resp); err != nil {
		return nil, r.c.explain(ctx, r.c.broken(rq, err))
	}
	u := &Upload{r: r, blob: d, chunk: r.c.cfg.Chunk}
	if least, err := strconv.ParseInt(resp.Header.Get("OCI-Chunk-Min-Length"), 10, 64); err == nil && least > u.chunk {
		u.chunk = least
	}
	if err := u.moved(resp); err != nil {
		return nil, err
	}
	return u, nil
}

// lastWait is how long an exchange is waited for whose caller has gone.
const lastWait = 5 * time.Second

// outlive gives a context that ends a while after ctx does.
func outlive(ctx context.Context, by time.Duration) (context.Context, func()) {
	longer, cancel := context.WithCancel(context.WithoutCancel(ctx))
	var late *time.Timer
	var mu sync.Mutex
	stop := context.AfterFunc(ctx, func() {
		mu.Lock()
		defer mu.Unlock()
		late = time.AfterFunc(by, cancel)
	})
	return longer, func() {
		stop()
		cancel()
		mu.Lock()
		defer mu.Unlock()
		if late != nil {
			late.Stop()
		}
	}
}

// ReopenUpload goes on with an upload that was begun earlier, perhaps by another process, where the registry still knows
// it. Its least length of a chunk is not known any more; ours is long enough for all that are known.
func (r *Repository) ReopenUpload(ctx context.Context, d ocispec.Descriptor, location string) (*Upload, error) {
	at, err := url.Parse(location)
	if err != nil || at.Host == "" {
		return nil, fmt.Errorf("registry: %q is not where an upload goes on", location)
	}
	u := &Upload{r: r, blob: d, chunk: r.c.cfg.Chunk, at: at}
	if err := u.Ask(ctx); err != nil {
		return nil, err
	}
	return u, nil
}

// Offset is how many bytes the registry has, as far as it has said.
func (u *Upload) Offset() int64 { return u.offset }

// Location is where the upload goes on. It may carry what lets anyone go on with it.
func (u *Upload) Location() string {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.at.String()
}

// Ask asks how much has arrived. After an error the upload is not to be gone on with.
func (u *Upload) Ask(ctx context.Context) error {
	rq := u.request(http.MethodGet)
	rq.op = "ask for the upload of blob " + u.blob.Digest.String()
	rq.okay = []int{http.StatusNoContent}
	resp, err := u.r.c.send(ctx, rq)
	if err != nil {
		return err
	}
	if err := drain(resp); err != nil {
		return u.r.c.explain(ctx, u.r.c.broken(rq, err))
	}
	var last int64
	if _, err := fmt.Sscanf(resp.Header.Get("Range"), "0-%d", &last); err != nil || last < 0 || last >= u.blob.Size {
		return &problem.Problem{Kind: problem.RegistryError, Title: "The registry does not say how much of an upload has arrived",
			Asked: u.blob.Digest.String(), Where: u.r.String(), Seen: "the range " + image.Printable(resp.Header.Get("Range")),
			Remedy: "copy again: the upload is begun anew"}
	}
	u.offset = 0
	if last > 0 { // "0-0" is also said where there is nothing
		u.offset = last + 1
	}
	if resp.Header.Get("Location") == "" {
		return nil
	}
	return u.moved(resp)
}

// Send sends the next chunk from body, which stands at Offset, and reports whether the blob is whole there. A blob no
// larger than a chunk goes with the one PUT that closes the upload; of a larger one each chunk is a PATCH, and the PUT
// carries none. Nothing is held in memory. The registry verifies the digest when it is closed.
func (u *Upload) Send(ctx context.Context, body io.Reader) (whole bool, err error) {
	left := u.blob.Size - u.offset
	if left > 0 && (u.offset > 0 || left > u.chunk) {
		return false, u.patch(ctx, min(u.chunk, left), body)
	}
	rq := u.request(http.MethodPut)
	rq.okay = []int{http.StatusCreated, http.StatusNoContent}
	rq.header = http.Header{"Content-Type": {"application/octet-stream"}}
	if left > 0 {
		rq.stream, rq.length = body, left
	}
	closing := *rq.to
	q := closing.Query()
	q.Set("digest", u.blob.Digest.String())
	closing.RawQuery = q.Encode()
	rq.to = &closing
	resp, err := u.r.c.send(ctx, rq)
	if err != nil {
		return false, err
	}
	return true, drain(resp)
}

func (u *Upload) patch(ctx context.Context, n int64, body io.Reader) error {
	rq := u.request(http.MethodPatch)
	rq.stream, rq.length = io.LimitReader(body, n), n
	rq.okay = []int{http.StatusAccepted, http.StatusNoContent}
	rq.header = http.Header{"Content-Type": {"application/octet-stream"}, "Content-Range": {fmt.Sprintf("%d-%d", u.offset, u.offset+n-1)}}
	resp, err := u.r.c.send(ctx, rq)
	if err != nil {
		return err
	}
	if err := drain(resp); err != nil {
		return u.r.c.explain(ctx, u.r.c.broken(rq, err))
	}
	u.offset += n
	return u.moved(resp)
}

func (u *Upload) request(method string) request {
	rq := u.r.uploadRequest("push", method, u.blob.Digest)
	u.mu.Lock()
	defer u.mu.Unlock()
	rq.to = u.at
	return rq
}

// moved takes note of where the upload goes on.
func (u *Upload) moved(resp *http.Response) error {
	at, err := u.r.location(resp)
	if err != nil {
		return err
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.at = at
	return nil
}

// Cancel ends the upload, where the registry lets it be, and gives the status of the answer, 0 for none.
func (u *Upload) Cancel(ctx context.Context) int {
	return u.r.cancel(ctx, u.request(http.MethodDelete).to)
}

// CancelUpload ends an upload that was begun earlier, and reports whether the registry answered: with another answer than yes it has
// nothing left that could be ended.
func (r *Repository) CancelUpload(ctx context.Context, location string) bool {
	at, err := url.Parse(location)
	return err != nil || at.Host == "" || r.cancel(ctx, at) != 0
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

func (r *Repository) uploadRequest(op, method string, d digest.Digest) request {
	return request{op: op + " blob " + d.String(), method: method, repository: r.name,
		path: "/v2/" + r.name + "/blobs/uploads/", scopes: []string{scope(r.name, "pull,push")}}
}

// cancel ends an upload session, also when the reason for it was that the caller went away, and gives the status of the
// answer, 0 for none. A registry that knows no such session, or no cancelling, has nothing left to be cleaned up by us;
// where the connection is gone, what led here is told already, and the session lapses by itself.
func (r *Repository) cancel(ctx context.Context, at *url.URL) int {
	ctx, done := context.WithTimeout(context.WithoutCancel(ctx), lastWait)
	defer done()
	rq := r.uploadRequest("", http.MethodDelete, "")
	rq.op, rq.to, rq.okay = "cancel an upload", at, []int{http.StatusNoContent, http.StatusOK, http.StatusAccepted}
	resp, err := r.c.once(ctx, rq) // who begins with this must sign in first
	if err != nil {
		return Status(err)
	}
	if drain(resp) != nil {
		return 0
	}
	return resp.StatusCode
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
