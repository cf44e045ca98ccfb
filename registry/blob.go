package registry

import (
	"context"
	"encoding"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"

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

// Mark is a place in a blob that is read from front to back: so many bytes are behind it, and the state of their hash is
// this. The zero Mark is the beginning. Kept, it lets another process go on where this one was.
type Mark struct {
	Offset int64  `json:"offset"`
	State  []byte `json:"state"`
}

// Blob opens a blob for streaming from a mark on. A stream that is cut is taken up again where it was cut (distribution specification,
// "Pulling blobs", by Range), a bounded number of times in a row; what was hashed of it stays hashed. The read that would
// give the last byte fails with a problem of kind Altered, and withholds what it read, unless all the bytes are those that
// the digest promises: whoever passes them on can never finish a wrong blob.
func (r *Repository) Blob(ctx context.Context, d ocispec.Descriptor, from Mark) (*Stream, error) {
	rq := r.blobRequest("pull", http.MethodGet, d.Digest)
	v := r.verify(rq, nil, d)
	v.again = func(from int64) (io.ReadCloser, error) { return r.blobFrom(ctx, d, from) }
	if from.Offset > 0 {
		state, ok := v.hash.(encoding.BinaryUnmarshaler)
		if !ok || from.Offset > d.Size || state.UnmarshalBinary(from.State) != nil {
			return nil, fmt.Errorf("registry: this is no place in the blob %s", d.Digest)
		}
		v.n = from.Offset
		if v.n == d.Size { // there is nothing left to ask for
			v.body = http.NoBody
			return v, nil
		}
		body, err := v.again(v.n)
		if err != nil {
			return nil, err
		}
		v.body = body
		return v, nil
	}
	resp, err := r.c.send(ctx, rq)
	if err != nil {
		return nil, err
	}
	if n := resp.ContentLength; n >= 0 && n != d.Size {
		return nil, errors.Join(r.wrongSize(d, n), resp.Body.Close())
	}
	v.body = resp.Body
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

func (r *Repository) verify(rq request, body io.ReadCloser, d ocispec.Descriptor) *Stream {
	return &Stream{r: r, rq: rq, body: body, want: d, hash: d.Digest.Algorithm().Hash()}
}

// Stream is a blob that is being read. It hashes what flows through it.
type Stream struct {
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

// Read gives the next bytes.
func (v *Stream) Read(p []byte) (int, error) {
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
func (v *Stream) takeUp() bool {
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
func (v *Stream) end() error {
	if got := digest.NewDigest(v.want.Digest.Algorithm(), v.hash); got != v.want.Digest {
		return mismatch(v.r.String(), "blob "+v.want.Digest.String(), v.want.Digest, got)
	}
	return io.EOF
}

// Mark is where the stream is. Call it between reads.
func (v *Stream) Mark() (Mark, error) {
	state, ok := v.hash.(encoding.BinaryMarshaler)
	if !ok {
		return Mark{}, fmt.Errorf("registry: the state of %s cannot be kept", v.want.Digest.Algorithm())
	}
	raw, err := state.MarshalBinary()
	return Mark{v.n, raw}, err
}

// Close ends the stream.
func (v *Stream) Close() error { return v.body.Close() }

func (r *Repository) wrongSize(d ocispec.Descriptor, n int64) error {
	return &problem.Problem{Kind: problem.Altered, Title: "The registry's bytes are not what their digest says",
		Asked: "blob " + d.Digest.String(), Where: r.String(), Seen: fmt.Sprintf("%d bytes in place of %d", n, d.Size),
		Remedy: "nothing was kept; push the image again"}
}
