package compare

import (
	"slices"
	"time"

	"dovrak/core/tagging"

	"github.com/opencontainers/go-digest"
)

// Cell is what a tag means in one place. No digest: nothing.
type Cell struct {
	Digest    digest.Digest
	Platforms []string
	Attached  []digest.Digest // what refers to it there; nil: not looked at
	Since     time.Time       // since when it means this
}

// Place is one repository with its tags, and the rules of the environment that it belongs to.
type Place struct {
	Repository string // REGISTRY/REPOSITORY
	Rules      tagging.Rules
	Tags       map[string]Cell
}

// expected tells in which places a tag belongs: in those whose rules speak of it or, if none do, in all.
func expected(tag string, places []Place) []bool {
	out := make([]bool, len(places))
	any := slices.ContainsFunc(places, func(p Place) bool { return p.Rules.Names(tag) })
	for i, p := range places {
		out[i] = !any || p.Rules.Names(tag)
	}
	return out
}

// Verdict says how a tag stands over all places.
type Verdict string

// The verdicts there are.
const (
	Same     Verdict = "same"      // everywhere the same digest
	Differs  Verdict = "differs"   // two places mean different digests by it
	OnlyHere Verdict = "only here" // one place has it, and others should
	Lacking  Verdict = "lacking"   // those that have it agree, and some that should have it do not
	Attached Verdict = "attached"  // the same digest everywhere, with other things attached
)

// Row is one tag over all places. Cells are in the order of the places.
type Row struct {
	Tag       string
	Cells     []Cell
	Verdict   Verdict
	Platforms []string  // those that some place's image has and another's lacks
	Since     time.Time // since when it has not been the same; zero where it is
	Exception int64     // the number of the exception by which it is meant to be so; 0: none
}

// Exception says that a gap is meant: tags of a pattern need not be the same in a place.
type Exception struct {
	Number  int64
	Pattern tagging.Glob
	Place   string // REGISTRY/REPOSITORY; empty is every place
}

// Across sets the tags of places side by side, in the order of versions, the highest first.
func Across(places []Place, exceptions []Exception) []Row {
	seen := map[string]bool{}
	var tags []string
	for _, p := range places {
		for t := range p.Tags {
			if !seen[t] {
				seen[t] = true
				tags = append(tags, t)
			}
		}
	}
	slices.SortFunc(tags, func(a, b string) int { return -tagging.Compare(a, b) })
	rows := make([]Row, len(tags))
	for i, t := range tags {
		rows[i] = row(t, places, exceptions)
	}
	return rows
}

func row(tag string, places []Place, exceptions []Exception) Row {
	r := Row{Tag: tag}
	var have []Cell
	lacking := 0
	belongs := expected(tag, places)
	for i, p := range places {
		c := p.Tags[tag]
		r.Cells = append(r.Cells, c)
		if c.Digest != "" {
			have = append(have, c)
		} else if belongs[i] {
			lacking++
		}
	}
	r.Verdict = verdict(have, lacking)
	if r.Verdict == Same {
		return r
	}
	for _, c := range have { // it has not been the same since the last change of any
		if c.Since.After(r.Since) {
			r.Since = c.Since
		}
	}
	r.Platforms = lackingPlatforms(have)
	r.Exception = excepted(r, places, belongs, exceptions)
	return r
}

func verdict(have []Cell, lacking int) Verdict {
	for _, c := range have {
		if c.Digest != have[0].Digest {
			return Differs
		}
	}
	switch {
	case len(have) == 1 && lacking > 0:
		return OnlyHere
	case lacking > 0:
		return Lacking
	}
	for _, c := range have {
		if c.Attached != nil && have[0].Attached != nil && !slices.Equal(sorted(c.Attached), sorted(have[0].Attached)) {
			return Attached
		}
	}
	return Same
}

func sorted(ds []digest.Digest) []digest.Digest { return slices.Sorted(slices.Values(ds)) }

func lackingPlatforms(have []Cell) []string {
	count := map[string]int{}
	var all []string
	for _, c := range have {
		for _, p := range c.Platforms {
			if count[p]++; count[p] == 1 {
				all = append(all, p)
			}
		}
	}
	return slices.DeleteFunc(all, func(p string) bool { return count[p] == len(have) })
}

// excepted finds the exception that covers a gap: one for the tag in every place that is not as the first that has it.
func excepted(r Row, places []Place, belongs []bool, exceptions []Exception) int64 {
	var by int64
	first := slices.IndexFunc(r.Cells, func(c Cell) bool { return c.Digest != "" })
	for i, c := range r.Cells {
		if c.Digest == r.Cells[first].Digest || c.Digest == "" && !belongs[i] {
			continue
		}
		at := slices.IndexFunc(exceptions, func(e Exception) bool {
			return e.Pattern.Matches(r.Tag) && (e.Place == "" || e.Place == places[i].Repository)
		})
		if at < 0 {
			return 0
		}
		by = exceptions[at].Number
	}
	return by
}
