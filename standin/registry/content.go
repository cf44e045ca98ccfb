package registry

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"

	"github.com/opencontainers/go-digest"
	"golang.org/x/time/rate"
)

const maxManifest = 4 << 20

func (s *Server) manifest(w http.ResponseWriter, r *http.Request, repository, ref string) {
	if r.Method == http.MethodPut {
		s.putManifest(w, r, repository, ref)
		return
	}
	d := digest.Digest(ref)
	if d.Validate() != nil {
		d, _ = s.store.tag(repository, ref)
	}
	media, ok := s.store.holds(repository, "_manifests", d)
	switch {
	case d == "" || !ok:
		refuse(w, http.StatusNotFound, "MANIFEST_UNKNOWN", "no manifest under "+ref)
	case r.Method == http.MethodHead && s.opt.Quirks.NoHead:
		refuse(w, http.StatusMethodNotAllowed, "UNSUPPORTED", "no HEAD here")
	case r.Method == http.MethodDelete:
		s.deleteManifest(w, repository, ref, d)
	default:
		raw, err := os.ReadFile(s.store.blobPath(d))
		if err != nil {
			refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
			return
		}
		w.Header().Set("Content-Type", media)
		if !s.opt.Quirks.NoDigestHeader {
			w.Header().Set("Docker-Content-Digest", d.String())
		}
		w.Header().Set("Content-Length", strconv.Itoa(len(raw)))
		w.WriteHeader(http.StatusOK)
		if r.Method == http.MethodGet {
			_, _ = w.Write(raw) // a reader that went away is its own problem
		}
	}
}

func (s *Server) putManifest(w http.ResponseWriter, r *http.Request, repository, ref string) {
	raw, err := io.ReadAll(io.LimitReader(r.Body, maxManifest+1))
	if err != nil || len(raw) > maxManifest {
		refuse(w, http.StatusBadRequest, "MANIFEST_INVALID", "too large, or cut off")
		return
	}
	d := digest.FromBytes(raw)
	if want := digest.Digest(ref); want.Validate() == nil && want != d {
		refuse(w, http.StatusBadRequest, "DIGEST_INVALID", "the bytes are not those of the digest")
		return
	}
	if missing := s.missing(repository, raw); missing != "" {
		refuse(w, http.StatusBadRequest, "MANIFEST_BLOB_UNKNOWN", "the repository lacks "+missing)
		return
	}
	err = writeWhole(s.store.blobPath(d), raw)
	if err == nil {
		err = s.store.link(repository, "_manifests", d.Encoded(), r.Header.Get("Content-Type"))
	}
	if err == nil && digest.Digest(ref).Validate() != nil {
		err = s.store.link(repository, "_tags", ref, d.String())
	}
	if err != nil {
		refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
		return
	}
	if subject := subjectOf(raw); subject != "" && !s.opt.Quirks.NoReferrers {
		w.Header().Set("OCI-Subject", subject)
	}
	w.Header().Set("Location", "/v2/"+repository+"/manifests/"+d.String())
	w.Header().Set("Docker-Content-Digest", d.String())
	w.WriteHeader(http.StatusCreated)
}

func subjectOf(raw []byte) string {
	var m struct{ Subject *struct{ Digest string } }
	if json.Unmarshal(raw, &m) != nil || m.Subject == nil {
		return ""
	}
	return m.Subject.Digest
}

// missing names what a manifest speaks of and the repository does not hold.
func (s *Server) missing(repository string, raw []byte) string {
	type descriptor struct{ Digest digest.Digest }
	var m struct {
		Config    *descriptor
		Layers    []descriptor
		Manifests []descriptor
	}
	if json.Unmarshal(raw, &m) != nil {
		return "a readable manifest"
	}
	if m.Config != nil {
		m.Layers = append(m.Layers, *m.Config)
	}
	for _, l := range m.Layers {
		if _, ok := s.store.holds(repository, "_blobs", l.Digest); !ok {
			return l.Digest.String()
		}
	}
	for _, c := range m.Manifests {
		if _, ok := s.store.holds(repository, "_manifests", c.Digest); !ok {
			return c.Digest.String()
		}
	}
	return ""
}

func (s *Server) deleteManifest(w http.ResponseWriter, repository, ref string, d digest.Digest) {
	byTag := digest.Digest(ref).Validate() != nil
	if byTag && s.opt.Quirks.KeepsTags {
		refuse(w, http.StatusMethodNotAllowed, "UNSUPPORTED", "delete by digest")
		return
	}
	if byTag && !s.opt.Quirks.TagTakesAll { // the tag alone
		if err := os.Remove(s.store.path("repos", repository, "_tags", ref)); err != nil {
			refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
			return
		}
		w.WriteHeader(http.StatusAccepted)
		return
	}
	err := os.Remove(s.store.path("repos", repository, "_manifests", d.Encoded()))
	tags, terr := s.store.tags(repository)
	for _, t := range tags {
		if at, _ := s.store.tag(repository, t); at == d && terr == nil {
			terr = os.Remove(s.store.path("repos", repository, "_tags", t))
		}
	}
	if err != nil || terr != nil {
		refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
		return
	}
	w.WriteHeader(http.StatusAccepted)
}

func (s *Server) tags(w http.ResponseWriter, r *http.Request, repository string) {
	if !s.store.known(repository) {
		refuse(w, http.StatusNotFound, "NAME_UNKNOWN", "no repository "+repository)
		return
	}
	tags, err := s.store.tags(repository)
	if err != nil {
		refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
		return
	}
	answer(w, map[string]any{"name": repository, "tags": s.page(w, r, "/v2/"+repository+"/tags/list", tags)})
}

func (s *Server) blob(w http.ResponseWriter, r *http.Request, repository, ref string) {
	d := digest.Digest(ref)
	if _, ok := s.store.holds(repository, "_blobs", d); d.Validate() != nil || !ok {
		refuse(w, http.StatusNotFound, "BLOB_UNKNOWN", "no blob "+ref)
		return
	}
	if at := s.opt.Quirks.BlobsAt; at != "" {
		http.Redirect(w, r, at+"/"+d.Encoded(), http.StatusTemporaryRedirect)
		return
	}
	f, err := os.Open(s.store.blobPath(d))
	if err != nil {
		refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Docker-Content-Digest", d.String())
	http.ServeContent(&slowly{ResponseWriter: w, line: s.line(r)}, r, "", info.ModTime(), f)
}

func (s *Server) openUpload(w http.ResponseWriter, r *http.Request, repository string) {
	q := r.URL.Query()
	if d := digest.Digest(q.Get("mount")); d != "" && q.Get("from") != "" && d.Validate() == nil && !s.opt.Quirks.NoMount {
		if _, ok := s.store.holds(q.Get("from"), "_blobs", d); ok && s.store.link(repository, "_blobs", d.Encoded(), "") == nil {
			w.Header().Set("Location", "/v2/"+repository+"/blobs/"+d.String())
			w.WriteHeader(http.StatusCreated)
			return
		}
	}
	id := rand.Text()
	if err := os.WriteFile(s.store.path("uploads", id), nil, 0o600); err != nil {
		refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
		return
	}
	if s.opt.Quirks.MinChunk > 0 {
		w.Header().Set("OCI-Chunk-Min-Length", strconv.FormatInt(s.opt.Quirks.MinChunk, 10))
	}
	w.Header().Set("Location", s.at(r, "/v2/"+repository+"/blobs/uploads/"+id))
	w.WriteHeader(http.StatusAccepted)
}

func (s *Server) upload(w http.ResponseWriter, r *http.Request, repository, id string) {
	path := s.store.path("uploads", id)
	info, err := os.Stat(path)
	if err != nil {
		refuse(w, http.StatusNotFound, "BLOB_UPLOAD_UNKNOWN", "no such upload")
		return
	}
	switch r.Method {
	case http.MethodGet:
		if s.opt.Quirks.NoResuming {
			refuse(w, http.StatusMethodNotAllowed, "UNSUPPORTED", "no such operation")
			return
		}
		w.Header().Set("Location", s.at(r, r.URL.Path))
		w.Header().Set("Range", fmt.Sprintf("0-%d", max(info.Size()-1, 0)))
		w.WriteHeader(http.StatusNoContent)
	case http.MethodDelete:
		if err := os.Remove(path); err != nil {
			refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
			return
		}
		w.WriteHeader(http.StatusNoContent)
	case http.MethodPatch, http.MethodPut:
		begin, _, ranged := strings.Cut(r.Header.Get("Content-Range"), "-")
		if off, err := strconv.ParseInt(begin, 10, 64); ranged && (err != nil || off != info.Size()) {
			refuse(w, http.StatusRequestedRangeNotSatisfiable, "BLOB_UPLOAD_INVALID", "a chunk out of order")
			return
		}
		if _, short := s.short.Load(id); short && r.Method == http.MethodPatch {
			refuse(w, http.StatusRequestedRangeNotSatisfiable, "SIZE_INVALID", "the chunk before was too short, and not the last")
			return
		}
		if r.Method == http.MethodPatch && r.ContentLength < s.opt.Quirks.MinChunk {
			s.short.Store(id, true)
		}
		size, err := s.appendTo(path, r)
		if err != nil {
			cut()
		}
		s.goOn(w, r, repository, path, size)
	default:
		refuse(w, http.StatusMethodNotAllowed, "UNSUPPORTED", "no such operation")
	}
}

// goOn answers a chunk, or closes the upload if it was the last.
func (s *Server) goOn(w http.ResponseWriter, r *http.Request, repository, path string, size int64) {
	if r.Method == http.MethodPatch {
		w.Header().Set("Location", s.at(r, r.URL.Path))
		w.Header().Set("Range", fmt.Sprintf("0-%d", max(size-1, 0)))
		w.WriteHeader(http.StatusAccepted)
		return
	}
	want := digest.Digest(r.URL.Query().Get("digest"))
	got, err := digestOf(path)
	if err != nil || want.Validate() != nil || got != want {
		refuse(w, http.StatusBadRequest, "DIGEST_INVALID", "the bytes are not those of the digest")
		return
	}
	if err = os.Rename(path, s.store.blobPath(got)); err == nil {
		err = s.store.link(repository, "_blobs", got.Encoded(), "")
	}
	if err != nil {
		refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
		return
	}
	w.Header().Set("Location", "/v2/"+repository+"/blobs/"+got.String())
	w.Header().Set("Docker-Content-Digest", got.String())
	w.WriteHeader(http.StatusCreated)
}

func (s *Server) appendTo(path string, r *http.Request) (int64, error) {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	if _, err := io.Copy(f, &slowReader{r.Body, s.line(r)}); err != nil {
		return 0, err
	}
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// line makes the slow line of one request, or one without a limit.
func (s *Server) line(r *http.Request) func(int) {
	if s.opt.BytesPerSecond == 0 {
		return func(int) {}
	}
	limit := rate.NewLimiter(rate.Limit(s.opt.BytesPerSecond), step)
	return func(n int) { _ = limit.WaitN(r.Context(), n) } // its only error is that the reader went away
}

// step is how many bytes the slow line moves at once.
const step = 16 << 10

type slowly struct {
	http.ResponseWriter
	line func(int)
}

func (w *slowly) Write(p []byte) (int, error) {
	sent := 0
	for len(p) > 0 {
		n := min(len(p), step)
		w.line(n)
		m, err := w.ResponseWriter.Write(p[:n])
		sent += m
		if err != nil {
			return sent, err
		}
		p = p[n:]
	}
	return sent, nil
}

type slowReader struct {
	r    io.Reader
	line func(int)
}

func (s *slowReader) Read(p []byte) (int, error) {
	n, err := s.r.Read(p[:min(len(p), step)])
	if n > 0 {
		s.line(n)
	}
	return n, err
}
