package store_test

import (
	"encoding/json"
	"errors"
	"testing"
	"time"

	"dovrak/store"
	"dovrak/test/pgtest"

	"github.com/google/uuid"
	"github.com/opencontainers/go-digest"
)

// TestABlobIsHeldOnce: who has a blob is its work for as long as that has its lease; the next one gets what was left of it.
func TestABlobIsHeldOnce(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	one, endOne := process(t, s)
	two, _ := process(t, s)
	at := store.Spot{RegistryID: registryOf(t, s), Repository: "live/snowpack-model"}
	const d = digest.Digest("sha256:5f70bf18a086007016e948b04aed3b82103a36bea41755b6cddfaf10ace3c6ef")
	claim := func(w uuid.UUID, p *store.Link) store.Lease {
		t.Helper()
		l, ok, err := s.Claim(ctx, w, p.Process, time.Minute)
		if err != nil || !ok {
			t.Fatalf("claim: %v, %v", ok, err)
		}
		return l
	}
	held := func(l store.Lease, want bool) store.Upload {
		t.Helper()
		u, ok, err := s.HoldBlob(ctx, at, d, l)
		if err != nil || ok != want {
			t.Fatalf("held: %t, %v", ok, err)
		}
		return u
	}
	copying, other := work(t, s), work(t, s)
	first, second := claim(copying, one), claim(other, two)
	u := held(first, true)
	held(second, false)
	held(first, false) // another part of the same work
	u.Location, u.Marks = "http://hut.example/v2/x/blobs/uploads/7", json.RawMessage(`[{"offset": 4}]`)
	must(t, s.KeepUpload(ctx, u, first))
	endOne() // it is dead
	got := held(second, true)
	if got.Location != u.Location || string(got.Marks) != string(u.Marks) {
		t.Errorf("left was %+v", got)
	}
	if err := s.KeepUpload(ctx, u, first); !errors.Is(err, store.ErrLost) {
		t.Errorf("the dead one writes: %v", err)
	}
	again := claim(copying, two)
	held(again, false)
	must(t, s.Tx(ctx, func(tx store.Tx) error { return tx.LeaveBlob(ctx, got, second, true) }))
	if got = held(again, true); got.Location != u.Location {
		t.Errorf("left was %+v", got)
	}
	must(t, s.Tx(ctx, func(tx store.Tx) error { return tx.LeaveBlob(ctx, got, again, false) }))
	if got = held(second, true); got.Location != "" {
		t.Errorf("what was done is still kept: %+v", got)
	}
}
