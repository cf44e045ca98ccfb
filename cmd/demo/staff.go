package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/standin/oidc"
)

// staff are those whom the organisation's issuer knows. Isak, the auditor, comes from outside and has an account of Dovrak's own.
var staff = []oidc.Person{
	{Subject: "ragna", Name: "Ragna", Email: "ragna@skarvind.example", Groups: []string{"release-desk"}},
	{Subject: "tormod", Name: "Tormod", Email: "tormod@skarvind.example", Groups: []string{"model-team"}},
	{Subject: "ylva", Name: "Ylva", Email: "ylva@skarvind.example", Groups: []string{"operations"}},
}

// isaksPassword is made up, as he is.
const isaksPassword = "count every avalanche"

func (w *world) client(as string) (*client.Client, error) {
	token, err := os.ReadFile(w.tokenFile(as))
	if errors.Is(err, os.ErrNotExist) {
		err = nil // nobody yet
	}
	return &client.Client{Server: "http://" + w.listen, Token: strings.TrimSpace(string(token))}, err
}

// arrive signs everyone in, as a terminal does, and keeps their tokens for the commands of the day.
func (w *world) arrive(ctx context.Context) error {
	c := &client.Client{Server: "http://" + w.listen}
	for _, p := range staff {
		raw, err := w.people.Token(w.people.Claims(p.Name, "dovrak"))
		if err != nil {
			return err
		}
		if err := w.enters(ctx, c, p.Name, wire.TerminalSignIn{Identity: raw}); err != nil {
			return err
		}
	}
	invitation, err := w.command(ctx, "administrator", "", "people", "add", "Isak", "--email", "isak@audit.example")
	if err == nil {
		err = c.SetPassword(ctx, wire.NewPassword{Name: "Isak", Invitation: strings.TrimSpace(invitation), Password: isaksPassword})
	} else if strings.Contains(err.Error(), "there already") {
		err = nil
	}
	if err != nil {
		return err
	}
	return w.enters(ctx, c, "Isak", wire.TerminalSignIn{Name: "Isak", Password: isaksPassword})
}

func (w *world) enters(ctx context.Context, c *client.Client, name string, how wire.TerminalSignIn) error {
	s, err := c.SignInTerminal(ctx, how)
	if err != nil {
		return err
	}
	return os.WriteFile(w.tokenFile(name), []byte(s.Token+"\n"), 0o600)
}

// contested is the promotion of a build to trial that is asked for before its bench run has ended: it waits for that, for its time on the
// bench, and for Ylva. She agrees; somebody moves the tag underneath, at the registry itself; when the bench run has passed it is judged
// anew, and she agrees to what it is then.
func (w *world) contested(ctx context.Context, r pipelineRun) error {
	n, err := w.asked(ctx, "Tormod", r.component, "trial", r.because)
	if err != nil {
		return err
	}
	if err := w.agrees(ctx, "Tormod", n, "it is mine"); err == nil {
		return fmt.Errorf("promotion %s: Tormod agreed to what he has asked for", n)
	}
	if err := w.agrees(ctx, "Ylva", n, "replayed the storm of February on it"); err != nil {
		return err
	}
	fmt.Fprintf(w.said, "  asked      %s %s to trial, by Tormod; Ylva agrees, it waits for its bench run\n", r.component, r.version)
	if err := w.meddle(ctx, "trial"); err != nil {
		return err
	}
	if err := w.evidence(ctx, r); err != nil {
		return err
	}
	anew, err := w.judgedAnew(ctx, n)
	if err != nil {
		return err
	}
	fmt.Fprintf(w.said, "  judged     anew, since a hand moved the tag underneath: %s\n", anew)
	if err := w.agrees(ctx, "Ylva", n, "looked again: only the tag was touched"); err != nil {
		return err
	}
	out, err := w.command(ctx, "Tormod", "", "promotions", "watch", n)
	if err == nil {
		fmt.Fprintf(w.said, "  %-10s %s %s to trial: %s\n", "promoted", r.component, r.version, lastLine(out))
	}
	return err
}

// judgedAnew waits until an approval of a promotion counts no more, and says why.
func (w *world) judgedAnew(ctx context.Context, n string) (string, error) {
	c, err := w.client("Tormod")
	if err != nil {
		return "", err
	}
	var number int64
	if _, err := fmt.Sscan(n, &number); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	why := ""
	_, err = client.Follow(ctx, c, "promotion", number, c.PromotionNumbered, func(p wire.Promotion) wire.Work {
		for _, g := range p.Plan.Gates {
			if g.Gate == "approvals" && strings.Contains(g.Seen, "the plan before") {
				why, p.Ended = g.Seen, true
			}
		}
		return p.Work
	}, func(wire.Promotion) {})
	return why, err
}

// refusals is a promotion that a rule forbids: of an image that lacks a platform.
func (w *world) refusals(ctx context.Context) error {
	img, err := build(pipelineRun{component: "alert-relay", version: "3.2.2", number: 89, platforms: desktops}, "hotfix").Make()
	if err != nil {
		return err
	}
	if err := w.bench("alert-relay").Push(ctx, img, "hotfix"); err != nil {
		return err
	}
	_, err = w.asked(ctx, "Ragna", "alert-relay", "trial", "quick fix for the siren", "--image", img.Index.Digest.String())
	if err := w.mustRefuse(err, "lacks a platform"); err != nil {
		return err
	}
	return nil
}

// storm is what happens in one, when nothing goes live: a promotion is refused, what was promoted in the morning is rolled back, and what
// mends it goes live as an emergency.
func (w *world) storm(ctx context.Context) error {
	storm := filepath.Join(w.dir, "storm.yaml")
	frozen := strings.Replace(string(w.charterHere()), "    freezes:\n      - {name: the line", fmt.Sprintf(
		"    freezes:\n      - {name: storm over the ridge, from: %s, to: %s, zone: Europe/Oslo}\n      - {name: the line",
		time.Now().AddDate(0, 0, -1).Format(time.DateOnly), time.Now().AddDate(0, 0, 4).Format(time.DateOnly)), 1)
	if err := os.WriteFile(storm, []byte(frozen), 0o644); err != nil {
		return err
	}
	if _, err := w.command(ctx, "administrator", "", "charter", "adopt", storm); err != nil {
		return err
	}
	_, err := w.asked(ctx, "Ragna", "alert-relay", "live", "longer siren for the lower valley")
	if err := w.mustRefuse(err, "the freeze storm over the ridge holds until"); err != nil {
		return err
	}
	out, err := w.command(ctx, "Ragna", "", "rollback", "snowpack-model", "--in", "live", "--because", "2.14.0 takes slabs for powder")
	if err != nil {
		return err
	}
	fmt.Fprintf(w.said, "  went back  snowpack-model in live to 2.13.2, rolled back: %s\n", lastLine(out))
	if err := w.emergency(ctx); err != nil {
		return err
	}
	_, err = w.command(ctx, "administrator", "", "charter", "adopt", filepath.Join(w.dir, "charter.yaml"))
	return err
}

// emergency brings the build that mends 2.14.0 to trial as ever, and live past the freeze, which others must agree to.
func (w *world) emergency(ctx context.Context) error {
	if err := errors.Join(w.build(ctx, mended, nil), w.evidence(ctx, mended)); err != nil {
		return err
	}
	out, err := w.promoted(ctx, mended.component, "trial", "slabs are told from powder again")
	if err != nil {
		return err
	}
	fmt.Fprintf(w.said, "  promoted   snowpack-model 2.14.1 to trial: %s\n", lastLine(out))
	n, err := w.asked(ctx, "Ragna", mended.component, "live", mended.because, "--emergency")
	if err != nil {
		return err
	}
	if err := w.agrees(ctx, "Ylva", n, "the hut needs it tonight; we look at it together on Monday"); err != nil {
		return err
	}
	if out, err = w.command(ctx, "Ragna", "", "promotions", "watch", n); err == nil {
		fmt.Fprintf(w.said, "  promoted   snowpack-model 2.14.1 to live, an emergency past the storm's freeze: %s\n", lastLine(out))
	}
	return err
}

// mustRefuse reads a refusal, and says why.
func (w *world) mustRefuse(err error, why string) error {
	if err == nil || !strings.Contains(err.Error(), why) {
		return fmt.Errorf("wanted a refusal with %q, got %w", why, err)
	}
	for line := range strings.Lines(err.Error()) {
		if seen, ok := strings.CutPrefix(strings.TrimSpace(line), "seen"); ok {
			fmt.Fprintf(w.said, "  refused    alert-relay: %s\n", strings.TrimSpace(seen))
		}
	}
	return nil
}
