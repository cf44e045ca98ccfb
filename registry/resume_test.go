package registry_test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"dovrak/core/problem"
	"dovrak/registry"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// TestABlobIsTakenUpWhereItWasCut: the bytes are the right ones however often the stream is cut, with registries that know
// ranges and those that do not; one that gives another part, or goes on cutting without a byte, fails.
func TestABlobIsTakenUpWhereItWasCut(t *testing.T) {
	whole := bytes.Repeat([]byte("snow on snow "), 8<<10)
	want := ocispec.Descriptor{Digest: digest.FromBytes(whole), Size: int64(len(whole))}
	for _, tt := range []struct {
		name   string
		ranges bool
		shift  int // of what is given, against what was asked for
		piece  int // bytes before each cut; 0: the first answer is cut at once, and so are all others
		gets   int
		fails  string
	}{
		{"by ranges", true, 0, 30 << 10, 4, ""},
		{"without ranges", false, 0, 30 << 10, 4, ""},
		{"by another part", true, 1, 30 << 10, 2, "unexpected EOF"},
		{"never again", true, 0, 0, 5, "unexpected EOF"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			gets := 0
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				gets++
				from, piece := 0, tt.piece
				if _, err := fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-", &from); err == nil && tt.ranges {
					from += tt.shift
					w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, len(whole)-1, len(whole)))
					w.Header().Set("Content-Length", fmt.Sprint(len(whole)-from))
					w.WriteHeader(http.StatusPartialContent)
				} else {
					if !tt.ranges { // each answer holds on a little longer
						piece *= gets
					}
					w.Header().Set("Content-Length", fmt.Sprint(len(whole)))
					from = 0
				}
				_, _ = w.Write(whole[from:min(len(whole), from+piece)]) // the reader may be gone
				if from+piece < len(whole) {
					http.NewResponseController(w).Flush()
					panic(http.ErrAbortHandler)
				}
			}))
			defer srv.Close()
			srv.Config.ErrorLog = nil
			c := dial(t, registry.Config{Name: "forge", Address: srv.URL, FirstWait: time.Millisecond})
			body, err := c.Repository("x").Blob(t.Context(), want, registry.Mark{})
			if err != nil {
				t.Fatal(err)
			}
			defer body.Close()
			got, err := io.ReadAll(body)
			if tt.fails != "" {
				if err == nil || !strings.Contains(err.Error(), tt.fails) || problem.Is(err, problem.Altered) || gets != tt.gets {
					t.Fatalf("%d requests, %v", gets, err)
				}
				return
			}
			if err != nil || !bytes.Equal(got, whole) || gets != tt.gets {
				t.Errorf("%d bytes of %d in %d requests, %v", len(got), len(whole), gets, err)
			}
		})
	}
}
