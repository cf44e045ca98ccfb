package registry

import (
	"encoding/json"
	"net/http"
	"os"
	"strconv"
	"strings"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Quirks are ways in which registries met in the field differ from the specification's happy path, or from one another
// within it. The zero Quirks are none.
type Quirks struct {
	NoDigestHeader    bool   // manifests are answered without Docker-Content-Digest
	NoHead            bool   // HEAD of a manifest is not allowed
	AbsoluteLocations bool   // uploads go on at absolute addresses
	MinChunk          int64  // chunks but the last must be at least so long; told by OCI-Chunk-Min-Length
	NoMount           bool   // asked to mount, it opens an upload
	BlobsAt           string // blobs are given by redirect to this address, see [Server.Elsewhere]
	RefreshTokens     bool   // tokens come with a refresh token that is not asked for
	NarrowScopes      bool   // tokens permit pulling alone, whatever was asked
	NoReferrers       bool   // no list of referrers, and no OCI-Subject
	NoPaging          bool   // a list is given whole, whatever was asked
	EndlessPaging     bool   // the next page is always the first
	KeepsTags         bool   // a tag cannot be deleted, only a digest with all its tags
	TagTakesAll       bool   // deleting a tag deletes its digest with all its tags, and says nothing of it
	NoResuming        bool   // it does not tell how much of an upload has arrived
	NoCatalog         bool   // repositories are not listed
}

// Elsewhere serves the blobs that BlobsAt redirects to. It refuses an Authorization header, as storage behind signed
// addresses does.
func (s *Server) Elsewhere() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			http.Error(w, "two ways to sign in", http.StatusBadRequest)
			return
		}
		http.ServeFile(w, r, s.store.path("blobs", strings.TrimPrefix(r.URL.Path, "/")))
	})
}

// at is where an upload goes on.
func (s *Server) at(r *http.Request, path string) string {
	if s.opt.Quirks.AbsoluteLocations {
		return self(r) + path
	}
	return path
}

// referrers lists the manifests of a repository whose subject is a digest.
func (s *Server) referrers(w http.ResponseWriter, repository, subject string) {
	if s.opt.Quirks.NoReferrers {
		refuse(w, http.StatusNotFound, "UNSUPPORTED", "no list of referrers")
		return
	}
	index := ocispec.Index{MediaType: ocispec.MediaTypeImageIndex, Manifests: []ocispec.Descriptor{}}
	index.SchemaVersion = 2
	entries, err := os.ReadDir(s.store.path("repos", repository, "_manifests"))
	if err != nil && !os.IsNotExist(err) {
		refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
		return
	}
	for _, e := range entries {
		d := digest.NewDigestFromEncoded(digest.SHA256, e.Name())
		raw, err := os.ReadFile(s.store.blobPath(d))
		var m ocispec.Manifest
		if err != nil || json.Unmarshal(raw, &m) != nil || m.Subject == nil || m.Subject.Digest.String() != subject {
			continue
		}
		kind := m.ArtifactType
		if kind == "" {
			kind = m.Config.MediaType
		}
		index.Manifests = append(index.Manifests, ocispec.Descriptor{MediaType: m.MediaType, Digest: d, Size: int64(len(raw)),
			ArtifactType: kind, Annotations: m.Annotations})
	}
	w.Header().Set("Content-Type", ocispec.MediaTypeImageIndex)
	answer(w, index)
}

// catalog lists the repositories that hold a manifest, page by page.
func (s *Server) catalog(w http.ResponseWriter, r *http.Request) {
	if s.opt.Quirks.NoCatalog {
		refuse(w, http.StatusNotFound, "UNSUPPORTED", "repositories are not listed")
		return
	}
	names, err := s.store.repositories()
	if err != nil {
		refuse(w, http.StatusInternalServerError, "UNKNOWN", "the storage fails")
		return
	}
	answer(w, map[string]any{"repositories": s.page(w, r, "/v2/_catalog", names)})
}

// page cuts one page of a sorted list, and says where the next one is.
func (s *Server) page(w http.ResponseWriter, r *http.Request, path string, all []string) []string {
	w.Header().Set("Content-Type", "application/json")
	if s.opt.Quirks.NoPaging {
		return all
	}
	q := r.URL.Query()
	for len(all) > 0 && q.Get("last") != "" && all[0] <= q.Get("last") && !s.opt.Quirks.EndlessPaging {
		all = all[1:]
	}
	n, err := strconv.Atoi(q.Get("n"))
	if err != nil || n <= 0 || n >= len(all) {
		return all
	}
	w.Header().Set("Link", "<"+path+"?n="+strconv.Itoa(n)+"&last="+all[n-1]+`>; rel="next"`)
	return all[:n]
}
