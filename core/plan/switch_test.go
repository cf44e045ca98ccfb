package plan

import (
	"slices"
	"strings"
	"testing"
	"time"

	"dovrak/core/tagging"

	"github.com/opencontainers/go-digest"
)

const (
	was  = digest.Digest("sha256:aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa")
	next = digest.Digest("sha256:bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb")
)

func TestRounds(t *testing.T) {
	fixed, moving := TagChange{Tag: "2.14.0", Kind: tagging.Fixed}, TagChange{Tag: "2.14", Kind: tagging.MovingTag}
	standing := TagChange{Tag: "live", Kind: tagging.Standing}
	kindless := []TagChange{{Tag: "2.14.0"}, {Tag: "live"}} // of a plan from before kinds were kept
	for name, tt := range map[string]struct {
		places [][]TagChange
		want   string
	}{
		"each kind in a round of its own": {[][]TagChange{{fixed, moving, standing}, {fixed, standing}}, "2.14.0 2.14.0 | 2.14 | live live"},
		"the standing tag alone":          {[][]TagChange{{standing}, {standing}}, "live live"},
		"of a plan without kinds":         {[][]TagChange{kindless}, "2.14.0 | live"},
		"no place":                        {nil, ""},
	} {
		var p Promotion
		for _, tags := range tt.places {
			p.Places = append(p.Places, Place{Tags: tags})
		}
		var rounds []string
		for _, r := range p.Rounds() {
			var tags []string
			for _, place := range r {
				for _, c := range place {
					tags = append(tags, c.Tag)
				}
			}
			rounds = append(rounds, strings.Join(tags, " "))
		}
		if got := strings.Join(rounds, " | "); got != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
}

// TestSplit: what is restored, someone else's, or new and alike everywhere is over; what could not be asked or not go back is not.
func TestSplit(t *testing.T) {
	now := time.Date(2026, 3, 3, 9, 0, 0, 0, time.UTC)
	live := func(before, means digest.Digest, at time.Time) Stand {
		return Stand{
			Repository: "hut/live/x",
			Tag:        "live",
			Kind:       tagging.Standing,
			Before:     before,
			Wanted:     next,
			Means:      means,
			Touched:    true,
			At:         at,
		}
	}
	untouched := live(was, was, now)
	untouched.Touched = false
	fixed := Stand{Tag: "2.14.0", Kind: tagging.Fixed, Wanted: next, Means: next, Touched: true, At: now}
	moving := live("", next, now)
	moving.Kind = tagging.MovingTag
	for name, tt := range map[string]struct {
		stands []Stand
		left   int
	}{
		"all is restored":                     {[]Stand{live(was, was, now), untouched, fixed}, 0},
		"someone else has moved it since":     {[]Stand{live(was, "sha256:cc", now)}, 0},
		"one could not go back":               {[]Stand{live(was, next, now), untouched}, 1},
		"one could not be asked":              {[]Stand{live(was, "", time.Time{}), untouched}, 1},
		"new, and the other place has it not": {[]Stand{live("", next, now), {Kind: tagging.Standing, Wanted: next, At: now}}, 1},
		"new, in every place":                 {[]Stand{live("", next, now), live("", next, now)}, 0},
		"a new moving tag":                    {[]Stand{moving, untouched}, 0},
	} {
		if left := Split(tt.stands); len(left) != tt.left {
			t.Errorf("%s: %+v is left, want %d", name, left, tt.left)
		}
	}
	says := Says(
		[]Stand{
			live(was, next, now),
			{Repository: "ridge/live/x", Tag: "live", Kind: tagging.Standing, Wanted: next, Means: next, At: now},
			{Repository: "valley/x", Tag: "live", Wanted: next, Why: "it cannot be reached"},
			{Repository: "forge/x", Tag: "live", Wanted: next, Means: next, At: now, Why: "it is full"},
			fixed,
		},
	)
	want := "live means bbbbbbbbbbbb in hut/live/x and ridge/live/x; live could not be asked (it cannot be reached), and may mean bbbbbbbbbbbb in valley/x; " +
		"live means bbbbbbbbbbbb (not restored: it is full) in forge/x"
	if says != want {
		t.Errorf("it says %q, want %q", says, want)
	}
}

func TestBefore(t *testing.T) {
	stood := func(letters string) (out []Stood) { // a capital is a roll back
		for i, l := range letters {
			low := strings.ToLower(string(l))
			out = append(out, Stood{Digest: digest.Digest("sha256:" + strings.Repeat(low, 64)), Version: low,
				From: time.Unix(int64(i), 0), ByRollBack: low != string(l)})
		}
		return out
	}
	d := func(l byte) digest.Digest { return digest.Digest("sha256:" + strings.Repeat(string(l), 64)) }
	for _, tt := range []struct {
		history string
		now     byte
		undone  string
		want    string
	}{
		{"ab", 'b', "", "a"}, {"abA", 'a', "b", ""}, {"zabA", 'a', "b", "z"}, {"abcB", 'b', "c", "a"},
		{"abcA", 'a', "c", ""}, {"aba", 'a', "", "b"}, {"a", 'a', "", ""}, {"", 'a', "", ""},
		{"ab", 'f', "", "b"}, {"abcBA", 'a', "cb", ""}, {"abcbc", 'c', "", "b"},
	} {
		var undone []digest.Digest
		for _, u := range []byte(tt.undone) {
			undone = append(undone, d(u))
		}
		got, ok := Before(stood(tt.history), d(tt.now), undone)
		if ok != (tt.want != "") || got.Version != tt.want {
			t.Errorf("%s, now %c, undone %q: %q, want %q", tt.history, tt.now, tt.undone, got.Version, tt.want)
		}
	}
	history := stood("abca")
	if got, ok := At(history, time.Unix(2, 5)); !ok || got.Version != "c" {
		t.Errorf("at 2: %+v", got)
	}
	if _, ok := At(history, time.Unix(-1, 0)); ok {
		t.Error("something stood before anything did")
	}
	for name, want := range map[string]string{"b": "b", string(d('b')): "b", "bbbbbbb": "b", "sha256:bbbbbbbb": "b", "bbb": "", "9.9.9": ""} {
		if got, ok, _ := Named(history, name); ok != (want != "") || got.Version != want {
			t.Errorf("%s: %q, want %q", name, got.Version, want)
		}
	}
	twins := []Stood{{Digest: d('b')}, {Digest: digest.Digest("sha256:" + strings.Repeat("b", 63) + "c")}}
	if _, _, ambiguous := Named(twins, "bbbbbbbb"); !ambiguous {
		t.Error("two digests begin alike, and nobody says so")
	}
	if !slices.Equal(Promotion{RollBack: true, Digest: was, Places: []Place{{Tags: []TagChange{{From: next, To: was}}},
		{Tags: []TagChange{{From: was, To: was}}}, {Tags: []TagChange{{From: next, To: was}}}}}.Undoes(), []digest.Digest{next}) {
		t.Error("what a roll back undoes")
	}
}
