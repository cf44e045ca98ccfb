package plan

import (
	"fmt"
	"slices"
	"strings"

	"github.com/opencontainers/go-digest"
)

// Changed says in words what of a plan is another than before: what an approval would be bound to.
func Changed(old, now Promotion) string {
	var out []string
	if old.Charter != now.Charter {
		out = append(out, fmt.Sprintf("charter %d in place of %d", now.Charter, old.Charter))
	}
	if !slices.EqualFunc(old.Places, now.Places, func(a, b Place) bool { return a.Repository == b.Repository }) {
		out = append(out, "other places")
	}
	for _, p := range now.Places {
		was, ok := old.place(p.Repository)
		if !ok {
			continue
		}
		for _, t := range p.Tags {
			o, had := was.change(t.Tag)
			switch {
			case !had:
				out = append(out, p.Repository+":"+t.Tag+" is pointed, too")
			case o.changes() != t.changes():
				out = append(out, fmt.Sprintf("%s:%s means %s in place of %s", p.Repository, t.Tag, orNothing(t.From), orNothing(o.From)))
			}
		}
		for _, t := range was.Tags {
			if _, has := p.change(t.Tag); !has {
				out = append(out, p.Repository+":"+t.Tag+" is not pointed any more")
			}
		}
	}
	return strings.Join(out, "; ")
}

func orNothing(d digest.Digest) string {
	if d == "" {
		return "nothing"
	}
	return d.String()
}

// KeepCopies is the new plan with what was to be moved by the old one: what has moved since is no news.
func KeepCopies(old, now Promotion) Promotion {
	for i, p := range now.Places {
		if was, ok := old.place(p.Repository); ok {
			now.Places[i].Copy = was.Copy
		}
	}
	return now
}

func (p Promotion) place(repository string) (Place, bool) {
	i := slices.IndexFunc(p.Places, func(at Place) bool { return at.Repository == repository })
	if i < 0 {
		return Place{}, false
	}
	return p.Places[i], true
}

func (p Place) change(tag string) (TagChange, bool) {
	i := slices.IndexFunc(p.Tags, func(c TagChange) bool { return c.Tag == tag })
	if i < 0 {
		return TagChange{}, false
	}
	return p.Tags[i], true
}
