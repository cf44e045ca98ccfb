package test

import (
	"crypto/sha256"
	endian "encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// flood is a registry of layers larger than any disk here: it gives bytes that are made as they are read, and of those that it is
// given it keeps only how many there were. What a real one would refuse it takes: it measures, it proves nothing.
type flood struct {
	layers    map[string]uint64 // digest → what its bytes are made from
	documents map[string][]byte // manifests and configs
	size      int64
	mu        sync.Mutex
	taken     int64
	there     map[string]bool
}

// made is a layer that is made as it is read, a block at a time: each block differs from the others.
type made struct {
	seed, at uint64
	left     int64
	buf      [block]byte
	have     []byte
}

const block = 32 << 10

func (m *made) Read(p []byte) (int, error) {
	if len(m.have) == 0 {
		if m.left == 0 {
			return 0, io.EOF
		}
		m.at++
		endian.LittleEndian.PutUint64(m.buf[:], m.seed<<32+m.at)
		m.have = m.buf[:min(block, m.left)]
		m.left -= int64(len(m.have))
	}
	n := copy(p, m.have)
	m.have = m.have[n:]
	return n, nil
}

// newFlood makes an image of one platform with layers of a size, and gives its digest.
func newFlood(t testing.TB, layers int, size int64) (*flood, string) {
	t.Helper()
	f := &flood{layers: map[string]uint64{}, documents: map[string][]byte{}, size: size, there: map[string]bool{}}
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest}
	digests := make([]string, layers)
	var all sync.WaitGroup
	for i := range layers {
		all.Go(func() {
			h := sha256.New()
			_, err := io.CopyBuffer(h, &made{seed: uint64(i), left: size}, make([]byte, block))
			digests[i] = fmt.Sprintf("sha256:%x", h.Sum(nil))
			if err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	for i, d := range digests {
		f.layers[d] = uint64(i)
		m.Layers = append(m.Layers, ocispec.Descriptor{MediaType: ocispec.MediaTypeImageLayer, Digest: digest.Digest(d), Size: size})
	}
	m.Config = f.document(t, ocispec.MediaTypeImageConfig, ocispec.Image{Platform: ocispec.Platform{OS: "linux", Architecture: "arm64"}})
	return f, f.document(t, ocispec.MediaTypeImageManifest, m).Digest.String()
}

func (f *flood) document(t testing.TB, media string, v any) ocispec.Descriptor {
	t.Helper()
	raw, err := json.Marshal(v)
	must(t, err)
	d := ocispec.Descriptor{MediaType: media, Digest: digest.FromBytes(raw), Size: int64(len(raw))}
	f.documents[d.Digest.String()] = raw
	return d
}

func (f *flood) start(t testing.TB) string {
	srv := httptest.NewServer(f)
	t.Cleanup(srv.Close)
	return srv.URL
}

// ServeHTTP speaks as much of the protocol as a copy needs.
func (f *flood) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name := r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:]
	f.mu.Lock()
	raw, known := f.documents[name]
	seed, layer := f.layers[name]
	there := f.there[name]
	f.mu.Unlock()
	switch {
	case r.URL.Path == "/v2/":
	case r.Method == http.MethodPost:
		w.Header().Set("Location", "/v2/x/blobs/uploads/one")
		w.WriteHeader(http.StatusAccepted)
	case r.Method == http.MethodPut || r.Method == http.MethodPatch:
		f.take(w, r, name)
	case there:
		w.Header().Set("Docker-Content-Digest", name)
		w.WriteHeader(http.StatusOK)
	case known:
		w.Header().Set("Content-Type", ocispec.MediaTypeImageManifest)
		_, _ = w.Write(raw)
	case layer:
		w.Header().Set("Content-Length", strconv.FormatInt(f.size, 10))
		if r.Method == http.MethodGet {
			_, _ = io.Copy(w, &made{seed: seed, left: f.size})
		}
	default:
		http.NotFound(w, r)
	}
}

func (f *flood) take(w http.ResponseWriter, r *http.Request, name string) {
	n, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, r.Body, make([]byte, block))
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	if d := r.URL.Query().Get("digest"); d != "" {
		name = d
	}
	f.mu.Lock()
	f.taken += n
	f.there[name] = f.there[name] || r.Method == http.MethodPut
	f.mu.Unlock()
	w.Header().Set("Location", "/v2/x/blobs/uploads/one")
	w.WriteHeader(map[string]int{http.MethodPut: http.StatusCreated, http.MethodPatch: http.StatusAccepted}[r.Method])
}
