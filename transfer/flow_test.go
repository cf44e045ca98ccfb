package transfer

import (
	"context"
	"testing"

	"dovrak/core/plan"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// TestWhoComesTooLate: who asks for a blob when its first bytes may be written over does not take part; who kept others waiting once is
// not waited for again.
func TestWhoComesTooLate(t *testing.T) {
	d := ocispec.Descriptor{Digest: digest.FromString("a layer"), Size: 4 * window}
	for head, takesPart := range map[int64]bool{0: true, window - 1: true, window: false, window + 1: false} {
		f := newFlow(t.Context(), nil, d)
		f.head = head
		if got := f.tap(t.Context(), &Reader{}) != nil; got != takesPart {
			t.Errorf("behind %d bytes of a window of %d: takes part %t", head, window, got)
		}
		f.cancel()
	}
	src := NewSource(nil, nil)
	c := plan.Copy{Blobs: []plan.Piece{{Digest: d.Digest, Size: d.Size}, {Digest: digest.FromString("mounted"), Mount: "x"}}}
	quick, slow := src.Reader(c), src.Reader(c)
	if len(src.wanted) != 1 || !src.more(d.Digest) {
		t.Fatalf("wanted: %v", src.wanted)
	}
	quick.pass(d.Digest)
	src.late(d.Digest)
	if src.more(d.Digest) || !slow.slow.Load() || quick.slow.Load() {
		t.Error("the slow one is waited for again, or the quick one is not")
	}
	slow.pass(d.Digest)
	if len(src.wanted) != 0 {
		t.Errorf("it still waits for %v", src.wanted)
	}
	if _, err := (&tap{f: newFlow(context.Background(), src, d), ctx: t.Context(), left: true}).drink(nil); err != errLeft {
		t.Errorf("one that was left behind: %v", err)
	}
}
