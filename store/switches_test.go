package store_test

import (
	"errors"
	"testing"
	"time"

	"dovrak/core/plan"
	"dovrak/store"
	"dovrak/test/pgtest"

	"github.com/opencontainers/go-digest"
)

// TestOneSwitchAtATime: while a promotion's tags are pointed, or it is split, no other begins at the same home. Whoever takes a split one up
// goes on; what was rolled back is known until it is promoted again.
func TestOneSwitchAtATime(t *testing.T) {
	t.Parallel()
	s := pgtest.Open(t)
	ctx := t.Context()
	p, _ := process(t, s)
	const image = digest.Digest("sha256:aa")
	begun := func(component string, rollBack bool, undoes ...digest.Digest) (store.Lease, store.Promotion) {
		w := store.Work{ID: store.NewID(), Kind: store.KindPromotion, State: store.StateReady, RequestedBy: actor(t, s), Because: "x"}
		pr := store.Promotion{WorkID: w.ID, Component: component, Environment: "live", Digest: image, RollBack: rollBack, Undoes: undoes,
			Plan: plan.Promotion{Component: component, Environment: "live"}}
		must(t, s.Tx(ctx, func(tx store.Tx) error {
			_, err := tx.AddPromotion(ctx, w, pr)
			return err
		}))
		l, ok, err := s.Claim(ctx, w.ID, p.Process, time.Minute)
		if err != nil || !ok {
			t.Fatalf("%v, %v", ok, err)
		}
		return l, pr
	}
	first, of := begun("snowpack-model", false)
	second, other := begun("snowpack-model", true)
	elsewhere, another := begun("alert-relay", false)
	must(t, s.BeginSwitch(ctx, first, of))
	must(t, s.BeginSwitch(ctx, first, of)) // again, after a death
	must(t, s.BeginSwitch(ctx, elsewhere, another))
	if err := s.BeginSwitch(ctx, second, other); !errors.Is(err, store.ErrSwitching) {
		t.Errorf("a second switch at one home: %v", err)
	}
	must(t, s.Leave(ctx, first, store.StateSplit, []byte(`{"title":"split"}`)))
	if err := s.BeginSwitch(ctx, second, other); !errors.Is(err, store.ErrSwitching) {
		t.Errorf("a switch beside a split: %v", err)
	}
	if _, ok, err := s.Claim(ctx, first.Work, p.Process, time.Minute); err != nil || ok {
		t.Errorf("a split is taken up by itself: %v", err)
	}
	if got, ok, err := s.Switching(ctx, "snowpack-model", "live"); err != nil || !ok || got.Work.ID != first.Work {
		t.Errorf("who switches: %v, %v", got.Work.ID, err)
	}
	must(t, s.Tx(ctx, func(tx store.Tx) error {
		if stopped, err := tx.EndBeforeSwitch(ctx, first.Work); err != nil || stopped {
			t.Errorf("a split was stopped: %v", err)
		}
		taken, err := tx.TakeUpSplit(ctx, first.Work, store.StateGoingBack)
		if !taken {
			t.Error("a split was not taken up")
		}
		return err
	}))
	again, ok, err := s.Claim(ctx, first.Work, p.Process, time.Minute)
	if err != nil || !ok {
		t.Fatalf("%v, %v", ok, err)
	}
	must(t, s.End(ctx, again, store.StateTakenBack, nil))
	must(t, s.BeginSwitch(ctx, second, other))
	must(t, s.SetUndoes(ctx, second, []digest.Digest{image}))
	must(t, s.End(ctx, second, store.StateVerified, nil))
	for _, where := range []string{"snowpack-model", ""} {
		if undone, err := s.Undone(ctx, where, map[string]string{"snowpack-model": "live"}[where]); err != nil || len(undone) != 1 ||
			undone[0].Digest != image {
			t.Errorf("undone in %q: %+v, %v", where, undone, err)
		}
	}
	third, last := begun("snowpack-model", false)
	must(t, s.BeginSwitch(ctx, third, last))
	must(t, s.End(ctx, third, store.StateVerified, nil))
	if undone, err := s.Undone(ctx, "snowpack-model", "live"); err != nil || len(undone) != 0 {
		t.Errorf("undone still: %+v, %v", undone, err)
	}
}
