package life

import (
	"testing"
	"time"

	"github.com/opencontainers/go-digest"
)

var nine = time.Date(2026, 3, 3, 9, 0, 0, 0, time.UTC)

func at(minutes int) time.Time { return nine.Add(time.Duration(minutes) * time.Minute) }

// TestOf: two builds go to trial and live; the second is rolled back there, and the first stands again.
func TestOf(t *testing.T) {
	const first, second, third = digest.Digest("sha256:aa"), digest.Digest("sha256:bb"), digest.Digest("sha256:cc")
	images, leads := Of([]string{"bench", "trial", "live"},
		[]Made{{first, "2.13.2", 39, at(0)}, {second, "2.14.0", 41, at(60)}, {third, "2.14.1", 42, at(200)}},
		[]Passage{
			{
				Environment: "bench",
				Digest:      first,
				Asked:       at(2),
				Verified:    at(2),
			}, {Environment: "bench", Digest: second, Asked: at(64), Verified: at(64)},
			{Number: 4, Environment: "live", Digest: first, RollBack: true, Asked: at(120), Verified: at(121)},
			{Number: 3, Environment: "live", Digest: second, Asked: at(80), Approved: at(90), Verified: at(100)},
			{Number: 1, Environment: "trial", Digest: first, Asked: at(10), Verified: at(20)},
			{Number: 2, Environment: "live", Digest: first, Asked: at(20), Approved: at(24), Verified: at(30)},
			{Number: 9, Environment: "elsewhere", Digest: first, Asked: at(20), Verified: at(30)},
		})
	if len(images) != 3 || images[0].Digest != third || images[1].Digest != second || images[2].Digest != first {
		t.Fatalf("images %+v", images)
	}
	for _, tt := range []struct {
		name           string
		step           Step
		number, rolled int64
		since, until   time.Time
		lead           time.Duration
	}{
		{"the first on the bench", images[2].Steps[0], 0, 0, at(2), at(64), 2 * time.Minute},
		{"the first on trial", images[2].Steps[1], 1, 0, at(20), time.Time{}, 20 * time.Minute},
		{"the first is live again", images[2].Steps[2], 2, 0, at(30), time.Time{}, 30 * time.Minute},
		{"the second was rolled back", images[1].Steps[2], 3, 4, at(100), at(121), 40 * time.Minute},
		{"the second was never on trial", images[1].Steps[1], 0, 0, time.Time{}, time.Time{}, 0},
		{"the third is being built", images[0].Steps[0], 0, 0, time.Time{}, time.Time{}, 0},
	} {
		s := tt.step
		if s.Number != tt.number || s.RolledBack != tt.rolled || !s.Since.Equal(tt.since) || !s.Until.Equal(tt.until) ||
			s.Lead != tt.lead {
			t.Errorf("%s: %+v", tt.name, s)
		}
	}
	for i, want := range []Lead{
		{"bench", 2, 3 * time.Minute, 0, 0}, {"trial", 1, 20 * time.Minute, 0, 10 * time.Minute},
		{"live", 2, 35 * time.Minute, 7 * time.Minute, 8 * time.Minute},
	} {
		if leads[i] != want {
			t.Errorf("to %s: %+v, want %+v", want.Environment, leads[i], want)
		}
	}
}
