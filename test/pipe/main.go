// Command pipe is the measure that copies are held against: it pipes the blobs of an image from one plain registry to
// another, GET to upload, with nothing but net/http: no hashing, no records, no second look. With -hash it hashes what flows,
// which tells how much of a difference is the price of verifying. With -disk it does what people do by hand: it pulls all to a
// directory, then pushes all. It prints bytes and seconds.
package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"
)

// accept is every media type of a manifest.
const accept = "application/vnd.oci.image.index.v1+json, application/vnd.oci.image.manifest.v1+json"

func main() {
	p := pipe{http: &http.Client{Transport: &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 64}}}
	flag.StringVar(&p.from, "from", "", "scheme, host and port of the source")
	flag.StringVar(&p.to, "to", "", "and of the destination")
	flag.StringVar(&p.source, "source", "", "repository there")
	flag.StringVar(&p.target, "target", "", "repository there")
	flag.StringVar(&p.tag, "tag", "", "tag to read, and to write")
	flag.IntVar(&p.atOnce, "at-once", 4, "blobs at once")
	flag.BoolVar(&p.hash, "hash", false, "hash what flows")
	flag.StringVar(&p.disk, "disk", "", "pull to this directory, then push")
	flag.Parse()
	began := time.Now()
	n, err := p.run(context.Background())
	if err != nil {
		fmt.Fprintln(os.Stderr, "pipe:", err)
		os.Exit(1)
	}
	fmt.Printf("%d bytes %.4f s\n", n, time.Since(began).Seconds())
}

type pipe struct {
	http           *http.Client
	from, to       string
	source, target string
	tag, disk      string
	atOnce         int
	hash           bool
}

type descriptor struct {
	MediaType string       `json:"mediaType"`
	Digest    string       `json:"digest"`
	Size      int64        `json:"size"`
	Config    *descriptor  `json:"config"`
	Layers    []descriptor `json:"layers"`
	Manifests []descriptor `json:"manifests"`
}

type manifest struct {
	ref, media string
	raw        []byte
}

// run reads the manifests, moves the blobs, and writes the manifests, the index last.
func (p *pipe) run(ctx context.Context) (int64, error) {
	manifests, blobs, err := p.read(ctx, p.tag)
	if err != nil {
		return 0, err
	}
	moves := []func(context.Context, descriptor) error{p.move}
	if p.disk != "" {
		moves = []func(context.Context, descriptor) error{p.pull, p.push}
	}
	for _, move := range moves {
		g, ctx := errgroup.WithContext(ctx)
		g.SetLimit(p.atOnce)
		for _, b := range blobs {
			g.Go(func() error { return move(ctx, b) })
		}
		if err := g.Wait(); err != nil {
			return 0, err
		}
	}
	total := int64(0)
	for _, b := range blobs {
		total += b.Size
	}
	for _, m := range manifests {
		header := http.Header{"Content-Type": {m.media}}
		_, err := p.ask(ctx, http.MethodPut, p.to+"/v2/"+p.target+"/manifests/"+m.ref, header, bytes.NewReader(m.raw), int64(len(m.raw)))
		if err != nil {
			return 0, err
		}
	}
	return total, nil
}

// read gives the manifests below ref, children first, and the blobs that they speak of, each once.
func (p *pipe) read(ctx context.Context, ref string) (manifests []manifest, blobs []descriptor, err error) {
	resp, err := p.open(ctx, http.MethodGet, p.from+"/v2/"+p.source+"/manifests/"+ref, http.Header{"Accept": {accept}}, nil, 0)
	if err != nil {
		return nil, nil, err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(resp.Body, 8<<20))
	if err != nil {
		return nil, nil, err
	}
	var d descriptor
	if err := json.Unmarshal(raw, &d); err != nil {
		return nil, nil, err
	}
	for _, m := range d.Manifests {
		below, more, err := p.read(ctx, m.Digest)
		if err != nil {
			return nil, nil, err
		}
		manifests, blobs = append(manifests, below...), append(blobs, more...)
	}
	if d.Config != nil {
		blobs = append(append(blobs, d.Layers...), *d.Config)
	}
	return append(manifests, manifest{ref, resp.Header.Get("Content-Type"), raw}), blobs, nil
}

// move pipes one blob.
func (p *pipe) move(ctx context.Context, b descriptor) error {
	resp, err := p.open(ctx, http.MethodGet, p.from+"/v2/"+p.source+"/blobs/"+b.Digest, nil, nil, 0)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if !p.hash {
		return p.upload(ctx, b, resp.Body)
	}
	h := sha256.New()
	if err := p.upload(ctx, b, io.TeeReader(resp.Body, h)); err != nil {
		return err
	}
	if got := fmt.Sprintf("sha256:%x", h.Sum(nil)); got != b.Digest {
		return fmt.Errorf("%s in place of %s", got, b.Digest)
	}
	return nil
}

func (p *pipe) pull(ctx context.Context, b descriptor) error {
	resp, err := p.open(ctx, http.MethodGet, p.from+"/v2/"+p.source+"/blobs/"+b.Digest, nil, nil, 0)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	f, err := os.Create(filepath.Join(p.disk, b.Digest))
	if err != nil {
		return err
	}
	if _, err := io.Copy(f, resp.Body); err != nil {
		return err
	}
	return f.Close()
}

func (p *pipe) push(ctx context.Context, b descriptor) error {
	f, err := os.Open(filepath.Join(p.disk, b.Digest))
	if err != nil {
		return err
	}
	defer f.Close()
	return p.upload(ctx, b, f)
}

// upload opens an upload and closes it with the blob.
func (p *pipe) upload(ctx context.Context, b descriptor, body io.Reader) error {
	at, err := p.ask(ctx, http.MethodPost, p.to+"/v2/"+p.target+"/blobs/uploads/", nil, nil, 0)
	if err != nil {
		return err
	}
	to, err := url.Parse(at)
	if err != nil {
		return err
	}
	q := to.Query()
	q.Set("digest", b.Digest)
	to.RawQuery = q.Encode()
	_, err = p.ask(ctx, http.MethodPut, to.String(), http.Header{"Content-Type": {"application/octet-stream"}}, body, b.Size)
	return err
}

// ask sends a request and gives the location of its answer.
func (p *pipe) ask(ctx context.Context, method, to string, header http.Header, body io.Reader, size int64) (string, error) {
	resp, err := p.open(ctx, method, to, header, body, size)
	if err != nil {
		return "", err
	}
	if _, err := io.Copy(io.Discard, resp.Body); err != nil {
		return "", err
	}
	if at, err := resp.Location(); err == nil {
		return at.String(), resp.Body.Close()
	}
	return "", resp.Body.Close()
}

func (p *pipe) open(ctx context.Context, method, to string, header http.Header, body io.Reader, size int64) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, to, body)
	if err != nil {
		return nil, err
	}
	if header != nil {
		req.Header = header
	}
	req.ContentLength = size
	resp, err := p.http.Do(req)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode >= 300 {
		return nil, fmt.Errorf("%s %s: %s", method, to, resp.Status)
	}
	return resp, nil
}
