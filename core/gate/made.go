package gate

import (
	"fmt"
	"path"
	"strconv"
	"strings"
	"time"

	"dovrak/core/image"

	"github.com/Masterminds/semver/v3"
)

// kinds are the ready-made conditions, and the one that is written as an expression.
var kinds = []kind{
	{"been-in", func(g Gate) bool { return g.BeenIn != "" },
		func(g Gate) error { _, err := span(g.For); return err },
		func(g Gate) string { return "has been in " + g.BeenIn + " for " + g.For }, beenIn},
	{"platforms", func(g Gate) bool { return g.Platforms != "" },
		func(g Gate) error { return oneOf("platforms", g.Platforms, "required") },
		func(Gate) string { return "has all required platforms" }, platforms},
	{"branch", func(g Gate) bool { return g.Branch != "" },
		func(g Gate) error { _, err := path.Match(g.Branch, ""); return err },
		func(g Gate) string { return "was built from " + g.Branch }, branch},
	{"version", func(g Gate) bool { return g.Version != "" },
		func(g Gate) error { return oneOf("version", g.Version, "not-lower") },
		func(Gate) string { return "version is not lower than what stands there" }, version},
	{"evidence", func(g Gate) bool { return g.Evidence != "" },
		func(g Gate) error {
			if g.Within == "" {
				return nil
			}
			_, err := span(g.Within)
			return err
		},
		func(g Gate) string {
			if g.Within == "" {
				return g.Evidence + " has passed"
			}
			return g.Evidence + " has passed within " + g.Within
		}, vouched},
	{"base-within", func(g Gate) bool { return g.BaseWithin != "" },
		func(g Gate) error { _, err := span(g.BaseWithin); return err },
		func(g Gate) string { return "base was made within " + g.BaseWithin }, base},
	{"grows-at-most", func(g Gate) bool { return g.GrowsAtMost != "" },
		func(g Gate) error { _, err := percent(g.GrowsAtMost); return err },
		func(g Gate) string { return "grows by no more than " + g.GrowsAtMost }, growth},
	{"labels", func(g Gate) bool { return len(g.Labels) > 0 }, always,
		func(g Gate) string { return "has the labels " + strings.Join(g.Labels, ", ") },
		func(g Gate, f Facts) Result { return named("label", g.Labels, f.Image.Labels) }},
	{"annotations", func(g Gate) bool { return len(g.Annotations) > 0 }, always,
		func(g Gate) string { return "has the annotations " + strings.Join(g.Annotations, ", ") },
		func(g Gate, f Facts) Result { return named("annotation", g.Annotations, f.Image.Annotations) }},
	{"attested", func(g Gate) bool { return g.Attested }, always,
		func(Gate) string { return "its build is attested" }, attested},
	{"holds", func(g Gate) bool { return g.Holds != "" }, refusal,
		func(g Gate) string { return g.Holds }, nil},
}

func always(Gate) error { return nil }

func refusal(g Gate) error {
	if g.Name == "" || g.Refusal == "" {
		return fmt.Errorf("a gate with holds needs a name, and a refusal: the sentence that people read where it does not hold")
	}
	return nil
}

func oneOf(key, value, word string) error {
	if value != word {
		return fmt.Errorf("%s: %q is not known: write %s", key, value, word)
	}
	return nil
}

func beenIn(g Gate, f Facts) Result {
	since, ok := f.Stood[g.BeenIn]
	if !ok {
		return doesNot("promote it to "+g.BeenIn+" first", "it does not stand in %s", g.BeenIn)
	}
	ripe := since.Add(lasting(g.For))
	if f.Now.Before(ripe) {
		r := doesNot("wait until "+clock(ripe), "it has stood in %s since %s", g.BeenIn, clock(since))
		r.Comes, r.At = ByTime, ripe
		return r
	}
	return holds("it has stood in %s since %s", g.BeenIn, clock(since))
}

func clock(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

func platforms(_ Gate, f Facts) Result {
	var have []image.Platform
	for _, text := range f.Image.Platforms {
		if p, err := image.ParsePlatform(text); err == nil { // what cannot be read is none of those required
			have = append(have, p)
		}
	}
	if missing := image.Lacking(f.Required, have); len(missing) > 0 {
		return doesNot("build it for every platform", "it lacks %s", strings.Join(missing, ", "))
	}
	return holds("%s", strings.Join(f.Image.Platforms, ", "))
}

func branch(g Gate, f Facts) Result {
	if !f.Build.Known {
		return cannotTell("have its pipeline report the build", "no build of this image was reported")
	}
	if ok, err := path.Match(g.Branch, f.Build.Branch); err == nil && ok {
		return holds("build %d from %s", f.Build.Number, f.Build.Branch)
	}
	return doesNot("build it from "+g.Branch, "build %d from %s", f.Build.Number, f.Build.Branch)
}

func version(_ Gate, f Facts) Result {
	if f.Standing.Digest == "" {
		return holds("nothing stands there yet")
	}
	next, err := semver.NewVersion(f.Image.Version)
	if err != nil {
		return cannotTell("give it a semantic version", "the version %q", f.Image.Version)
	}
	now, err := semver.NewVersion(f.Standing.Version)
	if err != nil {
		return cannotTell("find out what stands there", "%s stands there, with the version %q", f.Standing.Digest, f.Standing.Version)
	}
	if next.LessThan(now) {
		return doesNot("to go back is a roll back; else build a version above "+now.String(), "%s, and %s stands there", next, now)
	}
	return holds("%s, and %s stands there", next, now)
}

// vouched asks the newest word on a claim: what was said later counts.
func vouched(g Gate, f Facts) Result {
	var last *Evidence
	for i, e := range f.Evidence {
		if e.Claim == g.Evidence && e.valid(f.Now) && (last == nil || e.At.After(last.At)) {
			last = &f.Evidence[i]
		}
	}
	wants := "vouch for it: dovrak vouch IMAGE --claim " + g.Evidence + " --verdict passed"
	switch {
	case last == nil:
		r := doesNot(wants, "nobody has vouched for %s", g.Evidence)
		r.Comes = ByEvidence
		return r
	case !last.Passed:
		r := doesNot(wants, "%s has failed, by %s at %s", g.Evidence, last.By, clock(last.At))
		r.Comes = ByEvidence
		return r
	case g.Within != "" && f.Now.Sub(last.At) > lasting(g.Within):
		r := doesNot(wants, "%s passed at %s, more than %s ago", g.Evidence, clock(last.At), g.Within)
		r.Comes = ByEvidence
		return r
	}
	return holds("%s passed, by %s at %s", g.Evidence, last.By, clock(last.At))
}

func base(g Gate, f Facts) Result {
	switch {
	case f.Image.Base == "":
		return cannotTell("have the build report its base", "what it is built on is not known")
	case f.Image.BaseMade.IsZero():
		return cannotTell("have the base name when it was made", "when %s was made is not known", f.Image.Base)
	case f.Now.Sub(f.Image.BaseMade) > lasting(g.BaseWithin):
		return doesNot("build it on a newer base", "%s was made at %s", f.Image.Base, clock(f.Image.BaseMade))
	}
	return holds("%s was made at %s", f.Image.Base, clock(f.Image.BaseMade))
}

func percent(s string) (int64, error) {
	n, err := strconv.ParseInt(strings.TrimSuffix(s, "%"), 10, 32)
	if err != nil || n < 0 || !strings.HasSuffix(s, "%") {
		return 0, fmt.Errorf("grows-at-most: %q is not a share: write e.g. 20%%", s)
	}
	return n, nil
}

func growth(g Gate, f Facts) Result {
	if f.Standing.Digest == "" {
		return holds("nothing stands there yet")
	}
	if f.Standing.Size <= 0 || f.Image.Size <= 0 {
		return cannotTell("have both images looked at", "the size of one of them is not known")
	}
	most, err := percent(g.GrowsAtMost)
	grown := 100 * (f.Image.Size - f.Standing.Size) / f.Standing.Size
	seen := fmt.Sprintf("%s, and %s stand there: %+d %%", bytesOf(f.Image.Size), bytesOf(f.Standing.Size), grown)
	if err != nil || 100*(f.Image.Size-f.Standing.Size) > most*f.Standing.Size {
		return doesNot("make it smaller", "%s", seen)
	}
	return holds("%s", seen)
}

func named(what string, wanted []string, has map[string]string) Result {
	var missing []string
	for _, n := range wanted {
		if has[n] == "" {
			missing = append(missing, n)
		}
	}
	if len(missing) > 0 {
		return doesNot("build it with that "+what, "no %s %s", what, strings.Join(missing, ", "))
	}
	return holds("all are there")
}

func attested(_ Gate, f Facts) Result {
	if f.Build.Attested {
		return holds("a verified attestation tells how it was built")
	}
	r := doesNot("attach an attestation that a key of the charter has signed", "no verified attestation of its build")
	r.Comes = ByEvidence
	return r
}
