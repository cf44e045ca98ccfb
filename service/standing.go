package service

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Standing is what runs where, as last seen, held against what Dovrak decided.
type Standing struct {
	At           time.Time
	Charter      int64
	Organisation string
	TrailSize    int64
	Environments []StandingEnvironment
	Rows         []StandingRow
}

// StandingEnvironment heads one column, with one place or more below it.
type StandingEnvironment struct {
	Name, Tag string
	Places    []string // registries
}

// StandingRow is one component.
type StandingRow struct {
	Component string
	Platforms []string
	Cells     []StandingCell // in the order of the component's route, place by place
	Gaps      []StandingGap  // between each environment and the next on its route
	Open      []store.PromotionWork
}

// StandingGap is what lies between an environment and the next: what stands in the one and not in the other.
type StandingGap struct {
	From, To   string
	Same       bool          // in every place
	Builds     int           // that made an image, from what stands there up to what stands here; negative: it is the newer one there
	Behind     time.Duration // between the reports of the two builds; negative likewise
	Since      *time.Time    // since when it stands here and waits
	RolledBack *store.Undone // what stands here was rolled back there
}

// StandingCell is one component in one place. SeenAt is zero where the registry was not asked yet. Digest is empty
// where nothing was seen there; Decided is empty where Dovrak has pointed nothing.
type StandingCell struct {
	Environment, Registry, Repository, Tag string
	Digest, Decided                        digest.Digest
	Version                                string
	SeenAt                                 time.Time
	Since                                  *time.Time // since when it stands, where Dovrak pointed it
	By                                     string
	Promotion                              *int64
	RollBack, Unreviewed                   bool  // of the promotion
	Build                                  int64 // the run that made it; 0: none is known
	Built                                  time.Time
}

// Drifted reports a difference between what Dovrak decided and what the registry said.
func (c StandingCell) Drifted() bool {
	return c.Decided != "" && !c.SeenAt.IsZero() && c.Digest != c.Decided
}

// Standing gives the whole picture from the records: it asks no registry, see [Service.Watch].
func (s *Service) Standing(ctx context.Context, by Actor) (Standing, error) {
	if err := by.Require(Read); err != nil {
		return Standing{}, err
	}
	law, err := s.law(ctx)
	if err != nil {
		return Standing{}, err
	}
	out := Standing{Charter: law.Version, Organisation: law.Organisation, Rows: []StandingRow{}}
	if out.At, err = s.db.Now(ctx); err != nil {
		return out, err
	}
	if out.TrailSize, err = s.db.TrailSize(ctx); err != nil {
		return out, err
	}
	for _, name := range law.Order() {
		env := law.Environments[name]
		col := StandingEnvironment{Name: name, Tag: env.Standing}
		for _, p := range env.Places {
			col.Places = append(col.Places, p.Registry)
		}
		out.Environments = append(out.Environments, col)
	}
	v, err := s.sightings(ctx, law)
	if err != nil {
		return out, err
	}
	open, err := s.db.OpenPromotions(ctx, "", "")
	if err != nil {
		return out, err
	}
	for _, name := range slices.Sorted(maps.Keys(law.Components)) {
		row := StandingRow{Component: name, Platforms: law.Components[name].Platforms}
		for _, env := range law.Routes[law.Components[name].Route] {
			for _, p := range law.Environments[env].Places {
				row.Cells = append(row.Cells, v.cell(env, law.Environments[env].Standing, p.At(name)))
			}
		}
		for _, w := range open {
			if w.Promotion.Component == name {
				row.Open = append(row.Open, w)
			}
		}
		out.Rows = append(out.Rows, row)
	}
	if err := s.versions(ctx, &out); err != nil {
		return out, err
	}
	return out, s.gaps(ctx, law, &out)
}

// view is what was seen and what was decided, by tag.
type view struct {
	seen    map[string]store.SeenTag
	decided map[string]store.DecidedTag
}

func (s *Service) sightings(ctx context.Context, law law) (view, error) {
	v := view{map[string]store.SeenTag{}, map[string]store.DecidedTag{}}
	var tags []string
	for _, env := range law.Environments {
		tags = append(tags, env.Standing)
	}
	seen, err := s.db.SeenTags(ctx, tags)
	if err != nil {
		return v, err
	}
	for _, t := range seen {
		v.seen[image.Reference{Registry: t.Registry, Repository: t.Repository, Tag: t.Tag}.String()] = t
	}
	decided, err := s.db.DecidedTags(ctx, tags)
	for _, t := range decided {
		v.decided[image.Reference{Registry: t.Registry, Repository: t.Repository, Tag: t.Tag}.String()] = t
	}
	return v, err
}

func (v view) cell(env, tag string, at image.Reference) StandingCell {
	c := StandingCell{Environment: env, Registry: at.Registry, Repository: at.Repository, Tag: tag}
	at.Tag = tag
	if seen, ok := v.seen[at.String()]; ok {
		c.SeenAt = seen.SeenAt.UTC()
		if seen.Digest != nil {
			c.Digest = *seen.Digest
		}
	}
	if d, ok := v.decided[at.String()]; ok {
		c.Decided = d.ToDigest
		if d.ToDigest == c.Digest {
			t := d.SettledAt.UTC()
			c.Since, c.By, c.Promotion = &t, d.ActorName, d.PromotionNo
			c.RollBack, c.Unreviewed = d.RollBack, d.Unreviewed
		}
	}
	return c
}

// versions fills in what each digest's own manifest says of its version.
func (s *Service) versions(ctx context.Context, st *Standing) error {
	var ds []digest.Digest
	for _, r := range st.Rows {
		for _, c := range r.Cells {
			if c.Digest != "" {
				ds = append(ds, c.Digest)
			}
		}
	}
	v, err := s.versionsOf(ctx, ds)
	for _, r := range st.Rows {
		for i := range r.Cells {
			r.Cells[i].Version = v[r.Cells[i].Digest]
		}
	}
	return err
}

// gaps tells how far apart the environments of each component are, in builds and in time.
func (s *Service) gaps(ctx context.Context, law law, st *Standing) error {
	if err := s.builds(ctx, st); err != nil {
		return err
	}
	undone, err := s.db.Undone(ctx, "", "")
	if err != nil {
		return err
	}
	var spans []store.Span
	var counted []*StandingGap
	for i := range st.Rows {
		row := &st.Rows[i]
		route := law.Routes[law.Components[row.Component].Route]
		row.Gaps = make([]StandingGap, 0, len(route))
		for j, to := range route[1:] {
			gap, span := gapBetween(row, route[j], to)
			if k := slices.IndexFunc(undone, func(u store.Undone) bool {
				return u.Component == row.Component && u.Environment == to && u.Digest == row.first(route[j]).Digest
			}); k >= 0 {
				gap.RolledBack = &undone[k]
			}
			row.Gaps = append(row.Gaps, gap)
			if span.High > span.Low {
				spans, counted = append(spans, span), append(counted, &row.Gaps[j])
			}
		}
	}
	counts, err := s.db.BuildsWithin(ctx, spans)
	for i, n := range counts {
		if counted[i].Behind < 0 {
			n = -n
		}
		counted[i].Builds = n
	}
	return err
}

// first is the cell of an environment's first place.
func (r StandingRow) first(environment string) StandingCell {
	c, _ := find(r.Cells, func(c StandingCell) bool { return c.Environment == environment })
	return c
}

// gapBetween is what lies between two environments, but for the number of builds, which is to be counted over a span of runs.
func gapBetween(row *StandingRow, from, to string) (StandingGap, store.Span) {
	here, there := row.first(from), row.first(to)
	gap := StandingGap{From: from, To: to, Since: here.Since, Same: true}
	for _, c := range row.Cells {
		gap.Same = gap.Same && (c.Environment != to || c.Digest == here.Digest)
	}
	if gap.Same || here.Build == 0 || there.Build == 0 {
		return gap, store.Span{}
	}
	gap.Behind = here.Built.Sub(there.Built)
	if here.Build < there.Build {
		gap.Behind = -gap.Behind.Abs()
	}
	return gap, store.Span{Component: row.Component, Low: min(here.Build, there.Build), High: max(here.Build, there.Build)}
}

// builds fills in which run made what stands.
func (s *Service) builds(ctx context.Context, st *Standing) error {
	var ds []digest.Digest
	for _, r := range st.Rows {
		for _, c := range r.Cells {
			if c.Digest != "" {
				ds = append(ds, c.Digest)
			}
		}
	}
	slices.Sort(ds)
	made, err := s.db.BuildsMaking(ctx, slices.Compact(ds))
	type key struct {
		component string
		digest    digest.Digest
	}
	by := map[key]store.BuildWork{}
	for _, b := range made {
		by[key{b.Build.Component, b.Build.Digest}] = b
	}
	for _, r := range st.Rows {
		for i, c := range r.Cells {
			if b, ok := by[key{r.Component, c.Digest}]; ok {
				r.Cells[i].Build, r.Cells[i].Built = b.Build.Run, b.Work.AskedAt.UTC()
			}
		}
	}
	return err
}

func (s *Service) versionsOf(ctx context.Context, ds []digest.Digest) (map[digest.Digest]string, error) {
	slices.Sort(ds)
	kept, err := s.db.Contents(ctx, slices.Compact(ds))
	out := map[digest.Digest]string{}
	for _, c := range kept {
		if m, err := image.Read(c.MediaType, c.Bytes); err == nil { // what cannot be read has no version to show
			out[c.Digest] = m.Annotations[ocispec.AnnotationVersion]
		}
	}
	return out, err
}

// Watch asks every place what its standing tags mean now, and tells of what changed. One process at a time does so. A
// registry that does not answer is left for the next round; what was last seen keeps its time.
func (s *Service) Watch(ctx context.Context) error {
	_, err := s.db.Alone(ctx, "watch", func() error { return s.watch(ctx) })
	return err
}

func (s *Service) watch(ctx context.Context) error {
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return err
	}
	away := map[string]bool{} // registries that did not answer in this round
	for component, comp := range law.Components {
		for _, name := range law.Routes[comp.Route] {
			env := law.Environments[name]
			for _, p := range env.Places {
				if away[p.Registry] {
					continue
				}
				err := s.watchPlace(ctx, p.At(component), env.Standing, component)
				if ctx.Err() != nil {
					return ctx.Err()
				}
				if err != nil {
					away[p.Registry] = problem.Is(err, problem.Unreachable) || errors.Is(err, context.DeadlineExceeded)
					s.log.WarnContext(ctx, "a place could not be looked at", "place", p.At(component).In(), "error", err)
				}
			}
		}
	}
	return nil
}

func (s *Service) watchPlace(ctx context.Context, ref image.Reference, tag, component string) error {
	at, err := s.spot(ctx, ref)
	if err != nil {
		return err
	}
	was, known, err := s.db.Sighting(ctx, at.at(), tag)
	if err != nil {
		return err
	}
	look, cancel := context.WithTimeout(ctx, lookDeadline)
	defer cancel()
	now, _, err := s.means(look, at, tag)
	if err != nil {
		return err
	}
	if now != "" {
		if _, err := transfer.Manifest(look, at.Repository, contents{s.db}, now); err != nil { // for its version; kept from then on
			return err
		}
	}
	if same := was.Digest == nil && now == "" || was.Digest != nil && *was.Digest == now; known && same {
		return nil
	}
	ref.Tag = tag
	return s.db.Tx(ctx, func(tx store.Tx) error {
		return tx.Tell(ctx, store.TopicTag, map[string]string{"tag": ref.String(), "component": component, "outcome": "seen"})
	})
}
