package store_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"dovrak/core/tagging"
	"dovrak/core/trail"
	"dovrak/store"
	"dovrak/test/pgtest"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/opencontainers/go-digest"
	"golang.org/x/mod/sumdb/tlog"
)

func TestMain(m *testing.M) { os.Exit(pgtest.Run(m)) }

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// actor makes someone to whom records can belong.
func actor(t *testing.T, s *store.Store) uuid.UUID {
	t.Helper()
	a := store.Actor{ID: store.NewID(), Kind: "person", Name: "Ragna " + store.NewID().String()}
	must(t, s.Tx(t.Context(), func(tx store.Tx) error { return tx.AddActor(t.Context(), a, []store.Grant{{Permission: "read"}}) }))
	return a.ID
}

func registryOf(t *testing.T, s *store.Store) uuid.UUID {
	t.Helper()
	r := store.Registry{
		ID:                store.NewID(),
		Name:              "hut-" + store.NewID().String()[30:],
		Address:           "http://127.0.0.1:1",
		RequestsPerSecond: 10,
		TransfersAtOnce:   2,
	}
	must(t, s.Tx(t.Context(), func(tx store.Tx) error { return tx.AddRegistry(t.Context(), r) }))
	return r.ID
}

// process is a living one: its link stands until end is called.
func process(t *testing.T, s *store.Store) (l *store.Link, end func()) {
	t.Helper()
	l = store.NewLink(s, slog.New(slog.DiscardHandler))
	ctx, cancel := context.WithCancel(context.Background())
	ready, gone := make(chan struct{}), make(chan error, 1)
	go func() { gone <- l.Run(ctx, ready) }()
	<-ready
	var once sync.Once
	end = func() {
		once.Do(func() {
			cancel()
			if err := <-gone; err != nil {
				t.Error(err)
			}
			unlocked(t, s, l.Process)
		})
	}
	t.Cleanup(end)
	return l, end
}

// unlocked waits until the database has seen the end of a process: its server closes a connection in its own time. Who
// asks for the process's lock is told when it is free.
func unlocked(t *testing.T, s *store.Store, process uuid.UUID) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	must(t, pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(8620, lock_key) FROM processes WHERE id = $1", process)
		return err
	}))
}

func work(t *testing.T, s *store.Store) uuid.UUID {
	t.Helper()
	w := store.Work{ID: store.NewID(), Kind: store.KindCopy, State: store.StateAsked, RequestedBy: actor(t, s)}
	reg := registryOf(t, s)
	must(t, s.Tx(t.Context(), func(tx store.Tx) error {
		_, err := tx.AddCopy(
			t.Context(),
			w,
			store.Copy{WorkID: w.ID, SourceID: reg, Source: "a", Digest: "sha256:x", Places: []store.CopyPlace{{RegistryID: reg, Repository: "b"}}},
		)
		return err
	}))
	return w.ID
}

func TestAWorkHasOneOwner(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	one, endOne := process(t, s)
	two, _ := process(t, s)
	w := work(t, s)
	first, ok, err := s.Claim(ctx, w, one.Process, time.Minute)
	if err != nil || !ok {
		t.Fatalf("the first claim: %v, %v", ok, err)
	}
	if _, ok, err := s.Claim(ctx, w, two.Process, time.Minute); err != nil || ok {
		t.Fatalf("a second owner beside the first: %v", err)
	}
	if left, err := s.Abandoned(ctx, 10); err != nil || len(left) != 0 {
		t.Fatalf("abandoned while its owner lives: %v, %v", left, err)
	}
	endOne() // long before the lease runs out
	left, err := s.Abandoned(ctx, 10)
	if err != nil || len(left) != 1 {
		t.Fatalf("a dead owner's work is not seen: %v, %v", left, err)
	}
	second, ok, err := s.Claim(ctx, w, two.Process, time.Minute)
	if err != nil || !ok || second.Fence <= first.Fence {
		t.Fatalf("taking over: %+v, %v, %v", second, ok, err)
	}
	for name, write := range map[string]func() error{
		"renew":    func() error { return s.Renew(ctx, first, time.Minute) },
		"state":    func() error { return s.SetState(ctx, first, store.StateMoving) },
		"progress": func() error { return s.SetProgress(ctx, first, nil, 0) },
		"end":      func() error { return s.End(ctx, first, store.StateVerified, nil) },
		"give":     func() error { return s.GiveBack(ctx, first) },
	} {
		if err := write(); !errors.Is(err, store.ErrLost) {
			t.Errorf("%s by the first owner, who was thought dead: %v", name, err)
		}
	}
	must(t, s.End(ctx, second, store.StateVerified, nil))
	if _, ok, err := s.Claim(ctx, w, two.Process, time.Minute); err != nil || ok {
		t.Errorf("an ended work is claimed: %v", err)
	}
}

func TestALeaseRunsOut(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	one, _ := process(t, s)
	two, _ := process(t, s)
	w := work(t, s)
	if _, ok, err := s.Claim(ctx, w, one.Process, -time.Second); err != nil || !ok {
		t.Fatal(ok, err)
	}
	if _, ok, err := s.Claim(ctx, w, two.Process, time.Minute); err != nil || !ok {
		t.Errorf("a process that lives but does not renew keeps its work: %v", err)
	}
}

func TestATagHasOneWriter(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	at := store.Spot{RegistryID: registryOf(t, s), Repository: "live/snowpack-model"}
	var wg sync.WaitGroup
	var won atomic.Int32
	for range 8 {
		wg.Go(func() {
			if _, ok, err := s.LeaseTag(ctx, at, "live", store.NewID(), time.Minute); err != nil {
				t.Error(err)
			} else if ok {
				won.Add(1)
			}
		})
	}
	wg.Wait()
	if won.Load() != 1 {
		t.Fatalf("%d writers at once", won.Load())
	}
	other := store.Spot{RegistryID: registryOf(t, s), Repository: "live/map-tiles"}
	l, ok, err := s.LeaseTag(ctx, other, "live", store.NewID(), time.Minute)
	if err != nil || !ok {
		t.Fatal(ok, err)
	}
	c := store.TagChange{
		ID:           store.NewID(),
		RegistryID:   other.RegistryID,
		Repository:   other.Repository,
		Tag:          "live",
		ToDigest:     "sha256:x",
		ActorID:      actor(t, s),
		Fence:        l.Fence,
		SeenBeforeAt: time.Now(),
	}
	intend := func(c store.TagChange) error {
		return s.Tx(ctx, func(tx store.Tx) error { _, err := tx.Intend(ctx, c); return err })
	}
	must(t, intend(c))
	c2 := c
	c2.ID = store.NewID()
	if err := intend(c2); !store.IsDuplicate(err) {
		t.Errorf("a second intent beside an open one: %v", err)
	}
	must(t, s.FreeTag(ctx, l))
	later, ok, err := s.LeaseTag(ctx, other, "live", store.NewID(), time.Minute)
	if err != nil || !ok || later.Fence <= l.Fence {
		t.Fatalf("%+v, %v, %v", later, ok, err)
	}
	settle := func(fence int64, outcome tagging.Outcome) (written bool) {
		must(t, s.Tx(ctx, func(tx store.Tx) (err error) {
			written, err = tx.SettleChange(ctx, c, outcome, time.Now(), fence)
			return err
		}))
		return written
	}
	if settle(l.Fence, tagging.Done) {
		t.Error("a writer whose lease went to another still writes its outcome")
	}
	if !settle(later.Fence, tagging.Unknown) || !settle(later.Fence, tagging.Done) || settle(later.Fence, tagging.NotDone) {
		t.Error("an outcome is written once, and unknown is none yet")
	}
}

func entryNumbered(t *testing.T, s *store.Store, n int) store.TrailEntry {
	t.Helper()
	e := trail.Entry{
		ID:    store.NewID().String(),
		At:    time.Now().UTC(),
		Act:   trail.TagPointed,
		Facts: map[string]string{"n": fmt.Sprint(n)},
	}
	raw, err := e.Bytes()
	must(t, err)
	row := store.TrailEntry{ID: uuid.MustParse(e.ID), Bytes: raw, Act: string(e.Act), At: e.At}
	must(t, s.Tx(t.Context(), func(tx store.Tx) error { return tx.AddEntry(t.Context(), row, nil) }))
	return row
}

func TestTheTrailIsAppendOnly(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	e := entryNumbered(t, s, 0)
	if n, err := s.Sequence(ctx, 10); err != nil || n != 1 {
		t.Fatal(n, err)
	}
	for _, sql := range []string{
		"UPDATE trail_entries SET bytes = 'x'", "UPDATE trail_entries SET seq = 7", "UPDATE trail_entries SET seq = NULL",
		"UPDATE trail_entries SET at = now()",
		"DELETE FROM trail_entries", "TRUNCATE trail_entries CASCADE", "UPDATE trail_hashes SET hash = hash",
		"DELETE FROM trail_hashes", "TRUNCATE trail_hashes",
	} {
		if _, err := s.Pool.Exec(ctx, sql); !refusedByGuard(err) {
			t.Errorf("%s: %v", sql, err)
		}
	}
	if got, ok, err := s.Entry(ctx, e.ID); err != nil || !ok || string(got.Bytes) != string(e.Bytes) || *got.Seq != 0 {
		t.Errorf("the entry became %+v, %v", got, err)
	}
}

func refusedByGuard(err error) bool {
	pg, ok := errors.AsType[*pgconn.PgError](err)
	return ok && pg.Code == "55000"
}

// TestSequencersTogether: entries written at the same time, numbered by several at the same time, come out numbered
// without a gap, and their hashes make the tree of exactly those bytes in that order.
func TestSequencersTogether(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	const writers, each = 6, 10
	var wg sync.WaitGroup
	for w := range writers {
		wg.Go(func() {
			for i := range each {
				entryNumbered(t, s, w*each+i)
				if _, err := s.Sequence(ctx, 3); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	for n := 1; n > 0; {
		var err error
		n, err = s.Sequence(ctx, 7)
		must(t, err)
	}
	rows, _, err := s.Trail(ctx, store.TrailQuery{Limit: 1000})
	must(t, err)
	slices.SortFunc(rows, func(a, b store.TrailEntry) int { return int(*a.Seq - *b.Seq) })
	var kept memory
	for i, r := range rows {
		if *r.Seq != int64(i) {
			t.Fatalf("entry %d has the number %d", i, *r.Seq)
		}
		hashes, err := tlog.StoredHashes(int64(i), r.Bytes, kept)
		must(t, err)
		kept = append(kept, hashes...)
	}
	want, err := tlog.TreeHash(writers*each, kept)
	must(t, err)
	if got, err := s.TreeHash(ctx, writers*each); err != nil || got != want {
		t.Errorf("the tree is %v, want %v: %v", got, want, err)
	}
}

type memory []tlog.Hash

func (m memory) ReadHashes(at []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(at))
	for i, p := range at {
		out[i] = m[p]
	}
	return out, nil
}

// TestNoEventIsMissed: a transaction that began first and commits last is not skipped by a reader who goes on from the
// last id it saw.
func TestNoEventIsMissed(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	from, err := s.LastEvent(ctx)
	must(t, err)
	tell := func(tx store.Tx, n int) error { return tx.Tell(ctx, store.TopicTag, map[string]int{"n": n}) }
	written, commit, done := make(chan struct{}), make(chan struct{}), make(chan error, 1)
	go func() {
		done <- s.Tx(ctx, func(tx store.Tx) error {
			err := tell(tx, 1)
			close(written)
			<-commit
			return err
		})
	}()
	<-written
	must(t, s.Tx(ctx, func(tx store.Tx) error { return tell(tx, 2) }))
	events, waits, err := s.EventsAfter(ctx, from, 10)
	if err != nil || len(events) != 0 || !waits {
		t.Errorf("while an earlier one is open: %v, waits %v, %v", events, waits, err)
	}
	close(commit)
	must(t, <-done)
	events, waits, err = s.EventsAfter(ctx, from, 10)
	if err != nil || len(events) != 2 || waits {
		t.Fatalf("when both are there: %v, waits %v, %v", events, waits, err)
	}
	rest, _, err := s.EventsAfter(ctx, events[0].ID, 10)
	if err != nil || len(rest) != 1 || rest[0].ID != events[1].ID {
		t.Errorf("behind the first: %v, %v", rest, err)
	}
}

func TestContentGoneBadIsNotGiven(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	c := store.Content{Digest: digest.FromString("right"), MediaType: "m", Bytes: []byte("right")}
	must(t, s.KeepContent(ctx, c))
	if _, err := s.Pool.Exec(ctx, "UPDATE contents SET bytes = 'wrong'"); err != nil {
		t.Fatal(err)
	}
	if _, ok, err := s.Content(ctx, c.Digest); err != nil || ok {
		t.Errorf("bytes that are not their digest's were given: %v", err)
	}
	must(t, s.KeepContent(ctx, c))
	if got, ok, err := s.Content(ctx, c.Digest); err != nil || !ok || string(got.Bytes) != "right" {
		t.Errorf("not mended by keeping it again: %v", err)
	}
}

// TestMigrationsWait: processes that start together on an empty database all find it whole.
func TestMigrationsWait(t *testing.T) {
	s := pgtest.Open(t)
	if _, err := s.Pool.Exec(t.Context(), "DROP SCHEMA public CASCADE; CREATE SCHEMA public"); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for range 3 {
		wg.Go(func() {
			if err := s.Migrate(t.Context()); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if _, err := s.TrailSize(t.Context()); err != nil {
		t.Error(err)
	}
}

// TestSharesOfABudget: the shares of all processes are never more than the whole, and become even.
func TestSharesOfABudget(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	reg := registryOf(t, s)
	living := func() uuid.UUID {
		l, _ := process(t, s)
		return l.Process
	}
	a, b, c := living(), living(), living()
	d, die := process(t, s)
	for i, tt := range []struct {
		process uuid.UUID
		life    time.Duration
		want    float64
	}{
		{a, time.Minute, 1},       // alone
		{b, time.Minute, 0},       // a newcomer finds nothing left,
		{a, time.Minute, 1.0 / 2}, // until the first renews,
		{b, time.Minute, 1.0 / 2}, // and then has its part
		{c, -time.Second, 0},      // a third comes, and its lease is over at once
		{a, time.Minute, 1.0 / 2},
		{c, time.Minute, 0},
		{b, time.Minute, 1.0 / 3},
		{c, time.Minute, 1 - 1.0/2 - 1.0/3},
		{a, time.Minute, 1.0 / 3},
		{c, time.Minute, 1.0 / 3},
		{d.Process, time.Minute, 0},
		{a, time.Minute, 1.0 / 4},
		{d.Process, time.Minute, 1 - 1.0/4 - 2.0/3}, // which dies with it
		{a, time.Minute, 1.0 / 3},
	} {
		if i == 14 {
			die()
		}
		got, err := s.ShareBudget(ctx, reg, tt.process, tt.life)
		if err != nil || math.Abs(got-tt.want) > 1e-9 {
			t.Errorf("step %d: a share of %v, want %v: %v", i, got, tt.want, err)
		}
	}
}

// TestSightings: what a tag means, since when, and what it meant before it was gone, by what was seen and in which order.
func TestSightings(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	at := store.Spot{RegistryID: registryOf(t, s), Repository: "live/snowpack-model"}
	now, err := s.Now(ctx)
	must(t, err)
	minute := func(n int) time.Time { return now.Add(time.Duration(n) * time.Minute) }
	one, two := digest.FromString("one"), digest.FromString("two")
	see := func(n int, d *digest.Digest) {
		t.Helper()
		must(
			t,
			s.See(ctx, store.Sighting{RegistryID: at.RegistryID, Repository: at.Repository, Tag: "live", Digest: d, SeenAt: minute(n)}),
		)
	}
	for i, step := range []struct {
		at     int
		digest *digest.Digest
		means  *digest.Digest // after it
		since  int
		was    *digest.Digest
		wasAt  int
	}{
		{1, &one, &one, 1, nil, 0},
		{3, &one, &one, 1, nil, 0}, // the same still
		{2, &two, &one, 1, nil, 0}, // older than what is known
		{4, nil, nil, 0, &one, 3},  // gone: it meant one, last seen at 3
		{5, nil, nil, 0, &one, 3},
		{6, &two, &two, 6, nil, 0}, // back, with another meaning
	} {
		see(step.at, step.digest)
		got, _, err := s.Sighting(ctx, at, "live")
		must(t, err)
		if !same(got.Digest, step.means) || !same(got.WasDigest, step.was) ||
			step.was != nil && !got.WasSeenAt.Equal(minute(step.wasAt)) {
			t.Errorf("step %d: %+v", i, got)
		}
		rows, err := s.Tags(ctx, at, store.TagQuery{Order: "version", Limit: 10})
		must(t, err)
		if (len(rows) == 1) != (step.means != nil) || len(rows) == 1 && !rows[0].Since.Equal(minute(step.since)) {
			t.Errorf("step %d is listed as %+v", i, rows)
		}
	}
}

func same(a, b *digest.Digest) bool { return (a == nil) == (b == nil) && (a == nil || *a == *b) }

// TestTagLists: each order is paged through to its end without a gap, and a survey's end forgets what it did not see.
func TestTagLists(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	at := store.Spot{RegistryID: registryOf(t, s), Repository: "bench/snowpack-model"}
	began, err := s.Now(ctx)
	must(t, err)
	var rows []store.Sighting
	for i := range 25 {
		d := digest.FromString(fmt.Sprint(i / 2)) // two tags an image
		must(t, s.Summarise(ctx, store.Summary{Digest: d, Kind: "image", Size: int64(i / 2 * 10), Platforms: []string{}}))
		rows = append(
			rows,
			store.Sighting{RegistryID: at.RegistryID, Repository: at.Repository, Tag: fmt.Sprintf("build-%d", i), Digest: &d,
				SeenAt: began.Add(time.Second)},
		)
	}
	must(t, s.SeeAll(ctx, rows))
	for _, q := range []store.TagQuery{{Order: "version"}, {Order: "name"}, {Order: "size"}, {Order: "age"}, {Order: "version", Ascending: true},
		{Order: "size", Ascending: true}} {
		var seen []string
		q.Limit = 4
		for {
			page, err := s.Tags(ctx, at, q)
			must(t, err)
			for _, r := range page {
				seen = append(seen, r.Tag)
			}
			if len(page) < q.Limit {
				break
			}
			q.After = page[len(page)-1].Tag
		}
		first := map[bool]string{false: "build-24", true: "build-0"}[q.Ascending]
		if q.Order == "name" {
			first = "build-9"
		}
		if distinct := slices.Compact(slices.Sorted(slices.Values(seen))); len(seen) != 25 || len(distinct) != 25 ||
			q.Order != "age" && seen[0] != first {
			t.Errorf("%+v: %d tags, %d of them once, the first %s", q, len(seen), len(distinct), seen[0])
		}
	}
	page, err := s.Tags(ctx, at, store.TagQuery{Order: "version", Like: `build-1\_%`, Limit: 10})
	if err != nil || len(page) != 0 {
		t.Errorf("a letter that SQL would take for any: %v, %v", page, err)
	}
	if _, err := s.Tags(ctx, at, store.TagQuery{Order: "tag; DROP TABLE sightings", Limit: 1}); err == nil {
		t.Error("an order that is none")
	}
	must(
		t,
		s.See(
			ctx,
			store.Sighting{
				RegistryID: at.RegistryID,
				Repository: at.Repository,
				Tag:        "build-3",
				Digest:     rows[3].Digest,
				SeenAt:     began.Add(time.Hour),
			},
		),
	)
	must(t, s.Tx(ctx, func(tx store.Tx) error {
		return tx.EndSurvey(
			ctx,
			store.Survey{RegistryID: at.RegistryID, Repository: at.Repository, BeganAt: began.Add(time.Minute), Tags: 1},
		)
	}))
	if tags, images, err := s.CountTags(ctx, at, ""); err != nil || tags != 1 || images != 1 {
		t.Errorf("after a survey that saw one: %d tags, %d images, %v", tags, images, err)
	}
}

// TestHoldings: what a repository held, and until when; and a blob that two repositories share.
func TestHoldings(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	id := registryOf(t, s)
	here, there := store.Spot{RegistryID: id, Repository: "live/x"}, store.Spot{RegistryID: id, Repository: "live/y"}
	layer, manifest := digest.FromString("layer"), digest.FromString("manifest")
	must(
		t,
		s.KeepContent(
			ctx,
			store.Content{Digest: manifest, MediaType: "application/vnd.oci.image.manifest.v1+json", Bytes: []byte("manifest")},
		),
	)
	for _, at := range []store.Spot{here, there} {
		must(t, s.Hold(ctx, at, manifest, true))
		must(t, s.Hold(ctx, at, layer, false))
	}
	if sibling, d, ok, err := s.SharedBlob(ctx, here); err != nil || !ok || d != layer || sibling != "live/y" {
		t.Errorf("a shared blob: %s %s %v %v", sibling, d, ok, err)
	}
	must(t, s.Forget(ctx, here, manifest))
	if held, err := s.Holds(ctx, here, manifest); err != nil || held {
		t.Errorf("it is held still: %v", err)
	}
	if _, ok, err := s.HeldUntil(ctx, here, manifest); err != nil || !ok {
		t.Errorf("it was never held: %v", err)
	}
	if whole, err := s.WholeWithin(ctx, here, manifest, time.Hour); err != nil || whole {
		t.Errorf("it is whole still: %v", err)
	}
	must(t, s.Hold(ctx, here, manifest, false))
	if _, ok, err := s.HeldUntil(ctx, here, manifest); err != nil || ok {
		t.Errorf("what is back counts as gone: %v", err)
	}
}

// TestADroppedRegistryFreesItsName, and keeps its history; what is under way there is counted.
func TestADroppedRegistryFreesItsName(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	row := store.Registry{
		ID:                store.NewID(),
		Name:              "spare",
		Address:           "http://127.0.0.1:1",
		CredentialName:    "desk",
		CredentialSealed:  []byte("x"),
		RequestsPerSecond: 1,
		TransfersAtOnce:   1,
		Labels:            map[string]string{"region": "valley"},
		SignInHosts:       []string{"sign-in.example"},
	}
	add := func(r store.Registry) error {
		return s.Tx(ctx, func(tx store.Tx) error { return tx.AddRegistry(ctx, r) })
	}
	must(t, add(row))
	got, _, err := s.RegistryNamed(ctx, "spare")
	if err != nil || got.Labels["region"] != "valley" || got.SignInHosts[0] != "sign-in.example" || string(got.CredentialSealed) != "x" {
		t.Errorf("read back as %+v, %v", got, err)
	}
	again := row
	again.ID = store.NewID()
	if err := add(again); !store.IsDuplicate(err) {
		t.Errorf("a name twice: %v", err)
	}
	must(t, s.Tx(ctx, func(tx store.Tx) error {
		now, ok, err := tx.LockRegistry(ctx, "spare")
		if err != nil || !ok {
			t.Fatal(ok, err)
		}
		now.Labels, now.CredentialSealed = nil, []byte("y")
		if err := tx.EditRegistry(ctx, now); err != nil {
			return err
		}
		return tx.DropRegistry(ctx, now.ID)
	}))
	must(t, add(again))
	old, ok, err := s.RegistryByID(ctx, row.ID)
	if err != nil || !ok || old.CredentialSealed != nil || old.DroppedAt == nil || len(old.Labels) != 0 {
		t.Errorf("the dropped one: %+v, %v", old, err)
	}
	w := work(t, s)
	c, _, err := s.CopyByWork(ctx, w)
	must(t, err)
	if n, err := s.OpenIn(ctx, c.Copy.SourceID, "nobody"); err != nil || n != 1 {
		t.Errorf("%d under way, %v", n, err)
	}
}

// TestPruning keeps the newest check of each repository, however old, and what a tag once meant.
func TestPruning(t *testing.T) {
	s, ctx := pgtest.Open(t), t.Context()
	id, by := registryOf(t, s), actor(t, s)
	exec := func(sql string) {
		t.Helper()
		if _, err := s.Pool.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	for _, repository := range []string{"a", "a", "b"} {
		_, err := s.AddCheck(
			ctx,
			store.Check{ID: store.NewID(), RegistryID: id, Repository: repository, AskedBy: by, Steps: []byte("[]")},
		)
		must(t, err)
		exec("UPDATE registry_checks SET at = at - interval '100 days'")
	}
	one := digest.FromString("one")
	now, err := s.Now(ctx)
	must(t, err)
	for i, d := range []*digest.Digest{&one, nil} { // it meant something once
		must(
			t,
			s.See(
				ctx,
				store.Sighting{RegistryID: id, Repository: "a", Tag: "gone", Digest: d, SeenAt: now.Add(time.Duration(i) * time.Minute)},
			),
		)
	}
	must(t, s.See(ctx, store.Sighting{RegistryID: id, Repository: "a", Tag: "never", SeenAt: now}))
	must(t, s.KeepReferrers(ctx, store.Spot{RegistryID: id, Repository: "a"}, one, []byte("[]")))
	exec("UPDATE sightings SET seen_at = seen_at - interval '2 days'")
	exec("UPDATE referrers SET seen_at = seen_at - interval '2 days'")
	must(t, s.Prune(ctx))
	for table, want := range map[string]int{"registry_checks": 2, "sightings": 1, "referrers": 0} {
		var n int
		must(t, s.Pool.QueryRow(ctx, "SELECT count(*) FROM "+table).Scan(&n))
		if n != want {
			t.Errorf("%d of %s are left, want %d", n, table, want)
		}
	}
}
