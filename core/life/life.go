// Package life tells how images of a component get along its route: when each came to stand where, until when, and how long that takes as
// a rule. It reads what was promoted and rolled back, and asks nobody.
package life

import (
	"cmp"
	"slices"
	"time"

	"github.com/opencontainers/go-digest"
)

// Made is an image that a build made. Reported is when its pipeline began to tell of it.
type Made struct {
	Digest   digest.Digest
	Version  string
	Build    int64
	Reported time.Time
}

// Passage is a promotion or a roll back that was done or, without a number, what else made an image stand somewhere. Approved is
// when the last of those agreed who had to; zero: nobody was asked.
type Passage struct {
	Number                    int64
	Environment               string
	Digest                    digest.Digest
	Version                   string
	RollBack                  bool
	Asked, Approved, Verified time.Time
}

// Image is one image's way.
type Image struct {
	Digest  digest.Digest
	Version string
	Build   int64     // 0: no build of it is known
	Built   time.Time // reported; zero likewise
	Steps   []Step    // one for each environment of the route
}

// Step is how an image came to stand in an environment for the first time, and how that ended. The zero Since means that it never did.
type Step struct {
	Environment            string
	Number                 int64 // of the promotion; 0 in the first environment
	Asked, Approved, Since time.Time
	Until                  time.Time     // zero where it stands there still
	RolledBack             int64         // the roll back that ended it; 0: something newer did, or nothing
	Lead                   time.Duration // from the report of its build; 0 where that is not known
}

// Lead is how long it takes to an environment, each the median of those images that came there by a promotion.
type Lead struct {
	Environment string
	Images      int
	Built       time.Duration // from the build's report until it stands there
	Agreed      time.Duration // from asking until the last has agreed; of those where somebody had to
	Moved       time.Duration // from there until it was verified in every place
}

// Of tells the ways of all images, the newest first, and how long they take to each environment of a route.
func Of(route []string, made []Made, passed []Passage) ([]Image, []Lead) {
	passed = slices.SortedFunc(slices.Values(passed), func(a, b Passage) int { return a.Verified.Compare(b.Verified) })
	l := lives{route: route, by: map[digest.Digest]*Image{}}
	for _, m := range made {
		l.make(m)
	}
	for i, p := range passed {
		l.pass(p, following(passed[i+1:], p.Environment))
	}
	images := make([]Image, 0, len(l.by))
	for _, img := range l.by {
		images = append(images, *img)
	}
	slices.SortFunc(images, func(a, b Image) int {
		return cmp.Or(b.first().Compare(a.first()), cmp.Compare(b.Build, a.Build), cmp.Compare(a.Digest, b.Digest))
	})
	return images, leads(route, images)
}

// following is the next passage to the same environment, if there was one.
func following(later []Passage, environment string) *Passage {
	i := slices.IndexFunc(later, func(p Passage) bool { return p.Environment == environment })
	if i < 0 {
		return nil
	}
	return &later[i]
}

// first is when anything was heard of an image.
func (i Image) first() time.Time {
	first := i.Built
	for _, s := range i.Steps {
		if first.IsZero() {
			first = s.Since
		}
	}
	return first
}

type lives struct {
	route []string
	by    map[digest.Digest]*Image
}

func (l *lives) image(d digest.Digest, version string) *Image {
	img, ok := l.by[d]
	if !ok {
		img = &Image{Digest: d, Steps: make([]Step, len(l.route))}
		for i, env := range l.route {
			img.Steps[i].Environment = env
		}
		l.by[d] = img
	}
	img.Version = cmp.Or(img.Version, version)
	return img
}

func (l *lives) make(m Made) {
	img := l.image(m.Digest, m.Version)
	img.Build, img.Built = m.Build, m.Reported
}

// pass notes that an image came to stand somewhere. Only the first time counts; the end is that of the last.
func (l *lives) pass(p Passage, next *Passage) {
	img := l.image(p.Digest, p.Version)
	at := slices.Index(l.route, p.Environment)
	if at < 0 {
		return // of a route that it had before
	}
	s := &img.Steps[at]
	if s.Since.IsZero() {
		s.Number, s.Asked, s.Approved, s.Since = p.Number, p.Asked, p.Approved, p.Verified
		if !img.Built.IsZero() && !p.RollBack {
			s.Lead = p.Verified.Sub(img.Built)
		}
	}
	s.Until, s.RolledBack = time.Time{}, 0
	if next != nil && next.Digest != p.Digest {
		s.Until = next.Verified
		if next.RollBack {
			s.RolledBack = next.Number
		}
	}
}

func leads(route []string, images []Image) []Lead {
	out := make([]Lead, len(route))
	for i, env := range route {
		var built, agreed, moved []time.Duration
		for _, img := range images {
			s := img.Steps[i]
			if s.Lead > 0 {
				built = append(built, s.Lead)
			}
			if s.Number == 0 || s.Since.IsZero() {
				continue
			}
			from := s.Asked
			if !s.Approved.IsZero() {
				agreed, from = append(agreed, s.Approved.Sub(s.Asked)), s.Approved
			}
			moved = append(moved, s.Since.Sub(from))
		}
		out[i] = Lead{Environment: env, Images: len(built), Built: median(built), Agreed: median(agreed), Moved: median(moved)}
	}
	return out
}

// median is the middle one, or the mean of the two in the middle; 0 of none.
func median(d []time.Duration) time.Duration {
	if len(d) == 0 {
		return 0
	}
	slices.Sort(d)
	return (d[(len(d)-1)/2] + d[len(d)/2]) / 2
}
