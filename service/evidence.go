package service

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"dovrak/core/evidence"
	"dovrak/core/image"
	"dovrak/core/problem"
	"dovrak/core/trail"
	"dovrak/store"
	"dovrak/transfer"

	"github.com/opencontainers/go-digest"
)

// NewVouch puts evidence on record for an image, or for its image of one platform.
type NewVouch struct {
	Image      image.Reference // by digest
	Platform   *image.Platform
	Claim      string
	Verdict    evidence.Verdict
	Link, Note string
	Report     []byte
	ReportName string
	Life       time.Duration // 0: for ever
}

// maxVouchLife is the longest that evidence counts, where it ends at all.
const maxVouchLife = 10 * 366 * 24 * time.Hour

func (n NewVouch) check() error {
	p := &problem.Problem{Kind: problem.Malformed, Title: "This cannot be put on record", Asked: n.Image.String()}
	bad := func(seen, remedy string) error { p.Seen, p.Remedy = seen, remedy; return p }
	switch {
	case n.Image.Digest == "":
		return bad("a tag in place of a digest", "vouch for the very image: "+n.Image.In()+"@sha256:…")
	case !evidence.IsClaim(n.Claim):
		return bad("the claim "+image.Printable(n.Claim), "name it in lower case letters, digits and hyphens, e.g. --claim scan")
	case !slices.Contains(evidence.Verdicts, n.Verdict):
		return bad("the verdict "+image.Printable(string(n.Verdict)), "say passed, failed or noted")
	case !isLink(n.Link):
		return bad("a link that is none", "give the whole address, https://…")
	case len(n.Note) > maxBecause || image.Visible(n.Note) != n.Note:
		return bad("a note that is too long, or not text", "say it in 2000 bytes, and link to the rest")
	case len(n.Report) > evidence.MaxReport:
		return bad(
			fmt.Sprintf("a report of %d bytes", len(n.Report)),
			"a report has at most 4 MiB; keep it elsewhere, and link to it: --link",
		)
	case n.ReportName != "" && (len(n.ReportName) > maxWord || path.Base(n.ReportName) != n.ReportName || image.Printable(n.ReportName) != n.ReportName):
		return bad("the report's name "+image.Printable(n.ReportName), "give a file's name without its path")
	case n.Life < 0 || n.Life > maxVouchLife || n.Life > 0 && n.Life < time.Minute:
		return bad("a life of "+n.Life.String(), "between a minute and ten years, or none")
	}
	return nil
}

// Vouch puts evidence on record for a digest that is there.
func (s *Service) Vouch(ctx context.Context, by Actor, n NewVouch) (store.Vouch, error) {
	if err := by.Require(Report); err != nil {
		return store.Vouch{}, err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return store.Vouch{}, err
	}
	home := law.HomeOf(n.Image)
	if err := firstOf(by.reportsFor(home.Component), n.check()); err != nil {
		return store.Vouch{}, err
	}
	at, err := s.spot(ctx, n.Image)
	if err != nil {
		return store.Vouch{}, err
	}
	if _, err := s.present(ctx, at, n.Image); err != nil {
		return store.Vouch{}, err
	}
	v := store.Vouch{
		Digest:     n.Image.Digest,
		Repository: at.ref.In(),
		Claim:      n.Claim,
		Verdict:    string(n.Verdict),
		Link:       n.Link,
		Note:       n.Note,
		Report:     n.Report,
		ReportName: n.ReportName,
		ActorID:    by.ID,
	}
	if n.Platform != nil {
		whole, err := s.describe(ctx, at, n.Image.Digest)
		if err != nil {
			return store.Vouch{}, err
		}
		if _, err := (Image{Description: whole, Ref: at.ref}).Member(*n.Platform); err != nil {
			return store.Vouch{}, err
		}
		v.Platform = n.Platform.String()
	}
	err = s.db.Tx(ctx, func(tx store.Tx) error {
		if v, err = tx.AddVouch(ctx, v, n.Life); err != nil {
			return err
		}
		if err := tx.Tell(ctx, store.TopicEvidence, map[string]string{"digest": v.Digest.String(), "component": home.Component}); err != nil {
			return err
		}
		if err := s.wakeWaiting(ctx, tx, store.WaitingFor{Digest: v.Digest}); err != nil {
			return err
		}
		return s.record(ctx, tx, vouchEntry(by, v, home.Component))
	})
	return v, err
}

func vouchEntry(by Actor, v store.Vouch, component string) entry {
	facts := map[string]string{"evidence": number(v.Number), "claim": v.Claim, "verdict": v.Verdict, "digest": v.Digest.String(),
		"platform": v.Platform, "link": v.Link}
	if v.ReportSize > 0 {
		facts["report"] = number(v.ReportSize) + " bytes"
	}
	return entry{act: trail.Vouched, actor: by.Name, sealed: map[string]string{"because": v.Note}, facts: facts, subject: v.Repository,
		component: component}
}

// ReportOf gives the report of a piece of evidence, with its name.
func (s *Service) ReportOf(ctx context.Context, by Actor, n int64) (string, []byte, error) {
	if err := by.Require(Read); err != nil {
		return "", nil, err
	}
	v, ok, err := s.db.VouchNumbered(ctx, n)
	if err == nil && (!ok || v.ReportSize == 0) {
		err = &problem.Problem{Kind: problem.NotFound, Title: "There is no such report", Asked: "evidence " + number(n),
			Remedy: "dovrak show IMAGE lists the evidence of an image"}
	}
	if err != nil {
		return "", nil, err
	}
	raw, err := s.db.Report(ctx, n)
	return v.ReportName, raw, err
}

// Evidence is what is on record for an image, and what its builders left beside it.
type Evidence struct {
	Vouches      []store.Vouch
	Attestations []Attestation
}

// Attestation is an in-toto statement that was found as a referrer, or in the index.
type Attestation struct {
	evidence.Statement
	Digest  digest.Digest // its own
	Of      digest.Digest // what it was found attached to
	Fits    bool          // it names that as its subject
	Problem string        // why it cannot be read
}

// maxAttestations bounds those that are read of one image.
const maxAttestations = 50

// evidenceOf finds the evidence for an image. What was read before costs no request.
func (s *Service) evidenceOf(ctx context.Context, at spot, img Image) (Evidence, error) {
	ds := []digest.Digest{img.Digest}
	for _, m := range img.Members {
		ds = append(ds, m.Digest)
	}
	var out Evidence
	var err error
	if out.Vouches, err = s.db.Vouches(ctx, ds); err != nil {
		return out, err
	}
	law, err := s.lawIfAny(ctx)
	if err != nil {
		return out, err
	}
	keys := law.attestationKeys()
	for _, b := range append(slices.Clone(img.Beside), img.Referrers.All...) {
		if b.Kind != image.KindAttestation || len(out.Attestations) == maxAttestations {
			continue
		}
		a := s.attestation(ctx, at, b, keys)
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		out.Attestations = append(out.Attestations, a)
	}
	return out, nil
}

func (l law) attestationKeys() []evidence.Key {
	if l.Charter == nil {
		return nil
	}
	var out []evidence.Key
	for name, text := range l.Keys {
		if k, err := evidence.ParseKey(text); err == nil { // checked when the charter was adopted
			out = append(out, evidence.Key{Name: name, Public: k})
		}
	}
	slices.SortFunc(out, func(a, b evidence.Key) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// attestation reads one. That it cannot be read is no reason to show nothing else.
func (s *Service) attestation(ctx context.Context, at spot, b image.Beside, keys []evidence.Key) Attestation {
	out := Attestation{Digest: b.Digest, Of: b.Of}
	m, err := transfer.Manifest(ctx, at.Repository, contents{s.db}, b.Digest)
	if err != nil {
		out.Problem = problem.From(err).Title
		return out
	}
	out.Problem = "no statement that can be read"
	for _, l := range m.Layers {
		if !evidence.Readable(l.MediaType) || l.Size > evidence.MaxStatement {
			continue
		}
		raw, err := transfer.ConfigBytes(ctx, at.Repository, contents{s.db}, l)
		if err != nil {
			out.Problem = problem.From(err).Title
			return out
		}
		if out.Statement, err = evidence.Read(l.MediaType, raw, keys); err != nil {
			out.Problem = err.Error()
			continue
		}
		out.Problem, out.Fits = "", out.About(b.Of)
		return out
	}
	return out
}
