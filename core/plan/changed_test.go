package plan

import "testing"

// TestChanged: what a promotion is bound to, and nothing else, is told where it is another.
func TestChanged(t *testing.T) {
	of := func(charter int64, repository string, tags ...TagChange) Promotion {
		return Promotion{Charter: charter, Places: []Place{{Repository: repository, Tags: tags}}}
	}
	old := of(1, "hut/live", TagChange{Tag: "live", From: "sha256:a"}, TagChange{Tag: "2.14"})
	for name, tt := range map[string]struct {
		now  Promotion
		want string
	}{
		"nothing":      {old, ""},
		"the charter":  {of(2, "hut/live", old.Places[0].Tags...), "charter 2 in place of 1"},
		"the place":    {of(1, "ridge/live", old.Places[0].Tags...), "other places"},
		"a tag's past": {of(1, "hut/live", TagChange{Tag: "live"}, TagChange{Tag: "2.14"}), "hut/live:live means nothing in place of sha256:a"},
		"one tag less": {of(1, "hut/live", old.Places[0].Tags[0]), "hut/live:2.14 is not pointed any more"},
		"one tag more": {of(1, "hut/live", append(old.Places[0].Tags[:2:2], TagChange{Tag: "2"})...), "hut/live:2 is pointed, too"},
	} {
		if got := Changed(old, tt.now); got != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
	old.Places[0].Copy = Copy{Root: "sha256:b"}
	if kept := KeepCopies(old, of(2, "hut/live")); kept.Places[0].Copy.Root != "sha256:b" {
		t.Errorf("what was to be moved is lost: %+v", kept)
	}
}
