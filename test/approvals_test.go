package test

import (
	"net/http"
	"strings"
	"sync"
	"testing"

	"dovrak/api/wire"
	"dovrak/client"
	"dovrak/standin/oidc"
	sim "dovrak/standin/registry"
)

// asks has somebody ask for a promotion to live, which then waits, and gives its number.
func (c caller) asks(t testing.TB, more ...string) int64 {
	t.Helper()
	args := append([]string{"promote", "snowpack-model", "--to", "live", "--because", "danger 3"}, more...)
	if r := c.run(args...); r.code != 4 || !strings.Contains(r.out, "approvals") {
		t.Fatalf("asking ended with %d:\n%s%s", r.code, r.out, r.err)
	}
	return int64(c.w.count("SELECT max(number) FROM promotions"))
}

// gateOf is what the last judgement says of a gate.
func (w *world) gateOf(n int64, name string) wire.Gate {
	w.t.Helper()
	for _, g := range w.promotion(n).Plan.Gates {
		if g.Gate == name {
			return g
		}
	}
	return wire.Gate{}
}

// TestWhoApproves: whoever is in a group that the environment names, and did not ask; what is said goes on the trail, and what is said
// by anybody else changes nothing.
func TestWhoApproves(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	ragna, tormod, ylva, isak := w.as(id, "Ragna"), w.as(id, "Tormod"), w.as(id, "Ylva"), w.as(id, "Isak")
	if r := ylva.run("promote", "snowpack-model", "--to", "live", "--because", "x"); r.code != 1 ||
		!strings.Contains(r.err, "permission promote") {
		t.Errorf("asked by someone of operations: %d\n%s", r.code, r.err)
	}
	if r := w.run("promote", "snowpack-model", "--to", "live", "--because", "x"); r.code != 1 ||
		!strings.Contains(r.err, "promote of live: release-desk") {
		t.Errorf("asked by a token in no group: %d\n%s", r.code, r.err)
	}
	n := tormod.asks(t)
	if mine := ylva.ok("promotions", "--waits-for-me"); !strings.Contains(mine, "snowpack-model") {
		t.Errorf("what waits for Ylva:\n%s", mine)
	}
	for _, tt := range []struct {
		name string
		who  caller
		args []string
		code int
		says string
	}{
		{"by who asked, though of the group", tormod, []string{"approve", "1", "--because", "fine"}, 3, "your own request"},
		{"declined by who asked", tormod, []string{"decline", "1", "--because", "no"}, 3, "your own request"},
		{"by the desk", ragna, []string{"approve", "1", "--because", "fine"}, 1, "permission approve"},
		{"by an auditor", isak, []string{"approve", "1", "--because", "fine"}, 1, "permission approve"},
		{"by the administrator's token", caller{w, w.token, ""}, []string{"approve", "1", "--because", "fine"}, 1, "permission approve"},
		{"without a word", ylva, []string{"approve", "1"}, 2, "why?"},
		{"of none", ylva, []string{"approve", "7", "--because", "fine"}, 1, "no such promotion"},
	} {
		if r := tt.who.run(tt.args...); r.code != tt.code || !strings.Contains(r.err, tt.says) {
			t.Errorf("%s: %d\n%s", tt.name, r.code, r.err)
		}
	}
	for who, c := range map[string]caller{"Tormod": tormod, "Ragna": ragna} {
		if mine := c.ok("promotions", "--waits-for-me"); strings.Contains(mine, "danger 3") {
			t.Errorf("what waits for %s:\n%s", who, mine)
		}
	}
	if p := w.promotion(n); p.State != "waiting" || w.count("SELECT count(*) FROM approvals") != 0 {
		t.Fatalf("it is %s", p.State)
	}
	seen := ylva.ok("approve", "1", "--because", "replayed the storm of February on it")
	for _, says := range []string{"would stand there", "2.14.0", "linux/amd64, linux/arm64", "asked by Tormod", "you agree to promotion 1"} {
		if !strings.Contains(seen, says) {
			t.Errorf("Ylva was not shown %q:\n%s", says, seen)
		}
	}
	w.until(wait, "it goes on", func() bool { return w.promotion(n).State == "verified" })
	if story := w.ok("trail"); !strings.Contains(story, "promotion approved") ||
		!strings.Contains(story, "by Ylva, promotion 1: replayed the storm of February on it") {
		t.Errorf("the trail:\n%s", story)
	}
	if r := ylva.run("decline", "1", "--because", "too late"); r.code != 3 || !strings.Contains(r.err, "it is verified") {
		t.Errorf("behind its end: %d\n%s", r.code, r.err)
	}

	w.onBench(build(t, 42, "2.14.1", both, 1<<10), "build-42")
	n = ragna.asks(t)
	if r := ylva.run("decline", "2", "--because", "not before the weekend"); r.code != 0 {
		t.Fatalf("declining: %s", r.err)
	}
	if p := w.promotion(n); p.State != "declined" || p.Problem == nil ||
		!strings.Contains(p.Problem.Seen, "Ylva: not before the weekend") {
		t.Errorf("%s: %+v", p.State, p.Problem)
	}
	if w.mountainShows("live/snowpack-model", "2.14.1") {
		t.Error("a tag was pointed")
	}
}

// TestOnePerson is one, by whatever account or token they come: nobody agrees to what they want themselves.
func TestOnePerson(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	id.Let(oidc.Person{Subject: "v9", Name: "Y Two", Email: "ylva@skarvind.example", Groups: []string{"desk"}})
	w.adopt(strings.NewReplacer("operations: {claims: [ops]}", "operations: {claims: [ops], may: [keep]}",
		"{claims: [desk], may", "{claims: [desk], members: [night-run], may").Replace(w.charterOfPeople(id, "")))
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	ylva, second, tormod := w.as(id, "Ylva"), w.as(id, "Y Two"), w.as(id, "Tormod")
	second.asks(t)
	if r := ylva.run("approve", "1", "--because", "fine"); r.code != 3 || !strings.Contains(r.err, "your own request") {
		t.Errorf("by another account of the same person: %d\n%s", r.code, r.err)
	}
	second.ok("stop", "1")
	bot := caller{w, strings.TrimSpace(ylva.ok("token", "issue", "night-run", "--kind", "pipeline", "--may", "read,promote")), ""}
	n := bot.asks(t)
	if r := ylva.run("approve", "2", "--because", "fine"); r.code != 3 || !strings.Contains(r.err, "bears a token that you issued") {
		t.Errorf("by who issued the token: %d\n%s", r.code, r.err)
	}
	tormod.ok("approve", "2", "--because", "fine")
	w.until(wait, "it goes on", func() bool { return w.promotion(n).State == "verified" })
}

// TestAnApprovalIsBound to the plan that was shown: what changes underneath asks for another, though the service dies meanwhile.
func TestAnApprovalIsBound(t *testing.T) {
	t.Parallel()
	const replay = "    gates: [{evidence: avalanche-replay}]\n"
	w, id := peopled(t, replay)
	first, second := build(t, 41, "2.14.0", both, 1<<10), build(t, 42, "2.14.1", both, 1<<10)
	w.onBench(first, "build-41")
	ragna, tormod, ylva := w.as(id, "Ragna"), w.as(id, "Tormod"), w.as(id, "Ylva")
	n := ragna.asks(t)
	binding := w.promotion(n).Plan.Binding
	agrees := func(who caller) {
		t.Helper()
		who.ok("approve", "1", "--because", "fine by me")
		w.until(wait, "the approval is seen", func() bool { return w.gateOf(n, "approvals").Verdict == "holds" })
	}
	anew := func(what, says string) {
		t.Helper()
		w.until(wait, what+" is judged anew", func() bool { return w.gateOf(n, "approvals").Verdict != "holds" })
		if g := w.gateOf(n, "approvals"); !strings.Contains(g.Seen, says) || w.promotion(n).State != "waiting" {
			t.Errorf("%s: %s, %+v", what, w.promotion(n).State, g)
		}
	}
	agrees(ylva)
	must(t, w.mountain().Push(t.Context(), second, "live")) // behind Dovrak's back
	w.kill()
	w.start()
	w.ok("vouch", "forge/bench/snowpack-model@"+first.Index.Digest.String(), "--claim", "another", "--verdict", "passed")
	anew("a tag that moved", "Ylva agreed to the plan before this one")
	c := client.Client{Server: w.front.URL, Token: ylva.token}
	if _, err := c.Say(t.Context(), n, true, wire.Word{Remark: "fine", Binding: binding}); err == nil ||
		!strings.Contains(err.Error(), "another than you were shown") {
		t.Errorf("an approval of the plan before: %v", err)
	}
	agrees(ylva)
	w.adopt(w.charterOfPeople(id, replay) + "# the same, said anew\n")
	anew("a new charter", "Ylva agreed to the plan before this one")
	agrees(ylva)
	w.ok("people", "withdraw", "Ylva")
	anew("a right that was withdrawn", "Ylva may not agree any more")
	if r := ylva.run("whoami"); r.code != 1 || !strings.Contains(r.err, "not signed in") {
		t.Errorf("Ylva is still in: %d\n%s", r.code, r.err)
	}
	raw, err := id.Token(id.Claims("Ylva", "dovrak"))
	must(t, err)
	if err := w.identity(raw); err == nil || !strings.Contains(err.Error(), "All rights were withdrawn") {
		t.Errorf("Ylva signs in anew: %v", err)
	}
	agrees(tormod)
	w.ok("vouch", "forge/bench/snowpack-model@"+first.Index.Digest.String(), "--claim", "avalanche-replay", "--verdict", "passed")
	w.until(wait, "it has gone on", func() bool { return w.promotion(n).State == "verified" })
	if story := w.ok("trail"); strings.Count(story, "promotion judged anew") < 2 || !strings.Contains(story, "rights withdrawn") {
		t.Errorf("the trail:\n%s", story)
	}
}

// TestRulesThatChange while a promotion waits end it where they have no room for it any more, with the reason.
func TestRulesThatChange(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		name   string
		change func(w *world, charter string)
		says   string
	}{
		{"the requester's right", func(w *world, _ string) { w.ok("people", "withdraw", "Ragna") }, "may not promote there any more"},
		{"the requester's group", func(w *world, doc string) {
			w.adopt(strings.Replace(doc, "promote: [release-desk]", "promote: [auditors]", 1))
		}, "may not promote there any more"},
		{"the environment", func(w *world, doc string) {
			w.adopt(strings.NewReplacer("mountain: [bench, live]", "mountain: [bench, valley]", "\n  live:\n", "\n  valley:\n").Replace(doc))
		},
			"not on the component's route"},
		{"the component", func(w *world, doc string) {
			w.adopt(strings.Replace(doc, "  snowpack-model: {", "  map-tiles: {", 1))
		}, "knows no such component"},
		{"a required platform", func(w *world, doc string) {
			w.adopt(strings.Replace(doc, "linux/arm64]", "linux/arm64, linux/arm/v7]", 1))
		}, "lacks a platform"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			w, id := peopled(t, "")
			w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
			n := w.as(id, "Ragna").asks(t)
			tt.change(w, w.charterOfPeople(id, ""))
			w.until(wait, "it has ended", func() bool { return w.promotion(n).Ended })
			if p := w.promotion(n); p.State != "refused" || p.Problem == nil || !strings.Contains(p.Problem.Title, tt.says) ||
				p.Problem.Remedy == "" {
				t.Errorf("%s: %+v", p.State, p.Problem)
			}
		})
	}
}

// TestTwoAskAtOnce for the same environment: one promotion is made, and the other is told of it.
func TestTwoAskAtOnce(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	who := []caller{w.as(id, "Ragna"), w.as(id, "Tormod")}
	results := make([]result, len(who))
	var group sync.WaitGroup
	for i, c := range who {
		group.Go(func() { results[i] = c.run("promote", "snowpack-model", "--to", "live", "--because", "danger 3") })
	}
	group.Wait()
	if results[0].code == 3 {
		results[0], results[1] = results[1], results[0]
	}
	if results[0].code != 4 || results[1].code != 3 || !strings.Contains(results[1].err, "promotion 1, waiting, asked by") {
		t.Errorf("%+v", results)
	}
	if n := w.count("SELECT count(*) FROM promotions"); n != 1 {
		t.Errorf("%d promotions", n)
	}
}

// TestAnEmergency passes freezes and the gates that it waives, and no other; others must agree; the trail is marked.
func TestAnEmergency(t *testing.T) {
	t.Parallel()
	const rules = `    gates:
      - {name: replay, evidence: avalanche-replay}
      - {branch: main}
    freezes: [{name: thaw, weekly: "sun 00:00 to sat 23:59"}, {name: thaw's end, weekly: "sat 23:59 to sun 00:00"}]
    emergency: {approvals: {count: 1, from: [auditors]}, waives: [replay]}
`
	w, id := peopled(t, rules)
	ragna, ylva, isak := w.as(id, "Ragna"), w.as(id, "Ylva"), w.as(id, "Isak")
	b := run(41, "2.14.0")
	b.Branch = "trial-of-hoar"
	w.ok("point", "forge/bench/snowpack-model@"+w.whole(b).Digest, "main", "--because", "by hand")
	if r := ragna.run("promote", "snowpack-model", "--to", "live", "--because", "x", "--emergency"); r.code != 3 ||
		!strings.Contains(r.err, "trial-of-hoar") ||
		strings.Contains(r.err, "thaw") {
		t.Errorf("a gate that is not waived: %d\n%s", r.code, r.err)
	}
	w.ok("point", "forge/bench/snowpack-model@"+w.whole(run(42, "2.14.1")).Digest, "main", "--because", "by hand")
	n := ragna.asks(t, "--emergency")
	if r := ylva.run("approve", "1", "--because", "fine"); r.code != 1 || !strings.Contains(r.err, "approvals of live: auditors") {
		t.Errorf("by who agrees to what is none: %d\n%s", r.code, r.err)
	}
	isak.ok("approve", "1", "--because", "the sirens are silent")
	w.until(wait, "it has gone on", func() bool { return w.promotion(n).Ended })
	if p := w.promotion(n); p.State != "verified" || !w.gateOf(n, "replay").Waived {
		t.Fatalf("%s: %+v", p.State, p.Problem)
	}
	if story := w.ok("trail"); strings.Count(story, "emergency") < 3 {
		t.Errorf("the trail does not mark it:\n%s", story)
	}
	w.adopt(w.charterOfPeople(id, strings.Replace(rules, ", waives: [replay]", "", 1)))
	w.ok("point", "forge/bench/snowpack-model@"+w.whole(run(43, "2.14.2")).Digest, "main", "--because", "by hand")
	plan := ragna.ok("promote", "snowpack-model", "--to", "live", "--emergency", "--plan")
	if strings.Count(plan, "waived") != 1 || !strings.Contains(plan, "nobody has vouched for avalanche-replay") {
		t.Errorf("an emergency that waives no gate, in a freeze:\n%s", plan)
	}
	w.adopt(w.charterOfPeople(id, ""))
	if r := ragna.run("promote", "snowpack-model", "--to", "live", "--because", "x", "--emergency"); r.code != 3 ||
		!strings.Contains(r.err, "No rule knows of emergencies") {
		t.Errorf("where there are none: %d\n%s", r.code, r.err)
	}
}

// TestAPromotionIsOf what stands in the environment before, or of an image there that is named one way.
func TestAPromotionIsOf(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first := w.whole(run(41, "2.14.0"))
	w.whole(run(42, "2.14.1")) // which stands on the bench
	for _, tt := range []struct {
		name string
		args []string
		code int
		says string
	}{
		{"what stands", nil, 0, "2.14.1"},
		{"a version", []string{"--version", "2.14.0"}, 0, first.Digest},
		{"a build", []string{"--build", "41"}, 0, first.Digest},
		{"a digest", []string{"--image", first.Digest}, 0, first.Digest},
		{"from where it comes anyway", []string{"--from", "bench"}, 0, "2.14.1"},
		{"a version that is not there", []string{"--version", "9.9.9"}, 1, "forge/bench/snowpack-model:9.9.9 means nothing"},
		{"a build that there is not", []string{"--build", "77"}, 1, "This build has no image"},
		{"a digest that there is not", []string{"--image", "sha256:" + strings.Repeat("0", 64)}, 1, "remedy"},
		{"two ways", []string{"--version", "2.14.0", "--build", "41"}, 2, "one way"},
		{"from nowhere", []string{"--from", "live"}, 3, "also-from of live"},
	} {
		r := w.run(append([]string{"promote", "snowpack-model", "--to", "live", "--plan"}, tt.args...)...)
		if r.code != tt.code || !strings.Contains(r.out+r.err, tt.says) {
			t.Errorf("%s: %d\n%s%s", tt.name, r.code, r.out, r.err)
		}
	}
	w.ok("promote", "snowpack-model", "--to", "live", "--version", "2.14.0", "--because", "the older one")
	if p := w.promotion(1); p.Digest != first.Digest || p.Version != "2.14.0" || p.Plan.From != "bench" {
		t.Errorf("%+v", p)
	}
}

// TestARightIsWithdrawn while bytes move: before the switch it is asked again, and no tag is pointed on a word that counts no more.
func TestARightIsWithdrawn(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	img := build(t, 41, "2.14.0", both, 1<<10)
	w.onBench(img, "build-41")
	hold, reached := make(chan struct{}), make(chan struct{}, 10)
	release := sync.OnceFunc(func() { close(hold) })
	t.Cleanup(release)
	w.hut.breaks(func(r *http.Request) sim.Fault {
		if r.Method == http.MethodPut && strings.HasSuffix(r.URL.Path, img.Index.Digest.String()) {
			reached <- struct{}{}
			return sim.Fault{Hold: hold}
		}
		return sim.Fault{}
	})
	n := w.as(id, "Ragna").asks(t)
	w.as(id, "Ylva").ok("approve", "1", "--because", "fine")
	<-reached
	w.ok("people", "withdraw", "Ylva")
	if r := w.as(id, "Tormod").run("decline", "1", "--because", "too late"); r.code != 3 || !strings.Contains(r.err, "it is moving") {
		t.Errorf("declined while it moves: %d\n%s", r.code, r.err)
	}
	release()
	w.until(wait, "it waits again", func() bool { return w.promotion(n).State == "waiting" })
	if g := w.gateOf(n, "approvals"); !strings.Contains(g.Seen, "Ylva may not agree any more") {
		t.Errorf("it waits for %+v", g)
	}
	if w.mountainShows("live/snowpack-model", "live") || w.mountainShows("live/snowpack-model", "2.14.0") {
		t.Error("a tag was pointed on a word that counts no more")
	}
	w.as(id, "Tormod").ok("approve", "1", "--because", "fine by me")
	w.until(wait, "it has gone on", func() bool { return w.promotion(n).State == "verified" })
}

// TestAllAtOnce: two who agree in one moment are two, and neither word is lost; two dozen wrong passwords in one moment are no more than
// those that are free.
func TestAllAtOnce(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	w.adopt(strings.Replace(w.charterOfPeople(id, ""), "{count: 1, from: [operations]}", "{count: 2, from: [operations, auditors]}", 1))
	w.onBench(build(t, 41, "2.14.0", both, 1<<10), "build-41")
	n := w.as(id, "Ragna").asks(t)
	var group sync.WaitGroup
	for _, who := range []caller{w.as(id, "Ylva"), w.as(id, "Isak")} {
		group.Go(func() {
			if r := who.run("approve", "1", "--because", "fine"); r.code != 0 {
				t.Errorf("%d: %s", r.code, r.err)
			}
		})
	}
	group.Wait()
	w.until(wait, "it has gone on", func() bool { return w.promotion(n).State == "verified" })

	w.ok("people", "add", "Sigrid")
	for range 24 {
		group.Go(func() {
			_, err := w.client().SignInTerminal(t.Context(), wire.TerminalSignIn{Name: "Sigrid", Password: "guessed, surely"})
			if err == nil || !strings.Contains(err.Error(), "do not count") && !strings.Contains(err.Error(), "Too many sign in") {
				t.Errorf("a guess: %v", err)
			}
		})
	}
	group.Wait()
	if tries := w.count("SELECT tries FROM accounts WHERE subject = 'sigrid'"); tries > 5 {
		t.Errorf("%d passwords were tried", tries)
	}
}
