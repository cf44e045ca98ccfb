package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"dovrak/standin/pipeline"
	sim "dovrak/standin/registry"
	"dovrak/test/browser"
)

// page is the console in a browser, signed in to a world.
func page(t *testing.T, w *world) *browser.Browser {
	t.Helper()
	if _, err := os.Stat("../console/dist/index.html"); err != nil {
		t.Fatal("the console is not built: make build")
	}
	b, end, err := browser.Start(context.Background())
	must(t, err)
	t.Cleanup(func() {
		if err := end(); err != nil {
			t.Error(err)
		}
	})
	return b
}

// TestConsole drives the console as a person does who decides under pressure.
func TestConsole(t *testing.T) {
	w := newWorld(t)
	img := build(t, 41, "2.14.0", both, 64<<10)
	w.onBench(img, "build-41")
	b := page(t, w)
	dig := img.Index.Digest.String()

	must(t, b.Open(w.front.URL+"/history/snowpack-model")) // a link from a ticket, before signing in
	must(t, b.Until("location.pathname === '/signin'"))
	axe(t, b, "sign-in")
	must(t, b.HandIn("dovrak_wrong"))
	must(t, b.Shows("You are not signed in"))
	must(t, b.Shows("a token that this service did not issue"))
	must(t, b.SignIn(w.front.URL, w.token))

	must(t, b.Shows("Live: this page changes as things do"))
	must(t, b.Shows("not promoted"))
	must(t, b.Until("document.querySelectorAll('.ledger .plate').length === 1"))
	if cookie, err := browser.Eval[string](b, "document.cookie"); err != nil || cookie != "" {
		t.Errorf("a script can read %q: %v", cookie, err)
	}
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "new snow layer")
	must(t, b.Until("document.querySelectorAll('.ledger .plate').length === 2")) // without a reload
	must(t, b.Shows("same"))
	must(t, b.Until("document.querySelector('.below').innerText.includes('2.14.0 to live, done')"))
	axe(t, b, "Standing")
	must(t, b.Night(true))
	axe(t, b, "Standing by night")
	must(t, b.Night(false))

	_, err := browser.Eval[bool](b, "document.body.dispatchEvent(new KeyboardEvent('keydown', { key: '/', bubbles: true }))")
	must(t, err)
	must(t, b.Until("document.activeElement.matches('[data-find]')"))
	must(t, b.Press("glacier\r"))
	must(t, b.Shows("Dovrak knows nothing under this name"))
	must(t, b.Open(w.front.URL+"/"))
	must(t, b.Type("[data-filter]", "glacier"))
	must(t, b.Shows("No component like “glacier”"))
	must(t, b.Until("location.search === '?find=glacier'"))
	must(t, b.Open(w.front.URL+"/"))
	must(t, b.Until("document.querySelector('.ledger')"))

	must(t, b.Press("g"))
	must(t, b.Press("h"))
	must(t, b.Until("location.pathname === '/history/snowpack-model' && document.querySelectorAll('.lane').length === 3"))
	must(t, b.Shows("promotion 1, asked by administrator: new snow layer"))
	must(t, b.Until("document.querySelector('.answer code').textContent === '"+dig[7:19]+"'"))
	axe(t, b, "History")
	must(t, b.Click(".reader"))
	must(t, b.Until("new URLSearchParams(location.search).get('at')"))
	must(t, b.Until("document.activeElement.getAttribute('role') === 'slider'"))
	before, err := browser.Eval[string](b, "location.search")
	must(t, err)
	must(t, b.Press("\u0302")) // the left arrow, in chromedp's alphabet
	must(t, b.Until("location.search !== "+quoted(before)))
	must(t, b.Press("?"))
	must(t, b.Shows("in History: read an earlier or a later instant"))
	axe(t, b, "the keys")
	must(t, b.Press("\u001b"))
	must(t, b.Until("!document.querySelector('[role=dialog]')"))
	must(t, b.Press("g"))
	must(t, b.Press("s"))
	must(t, b.Until("location.pathname === '/'"))
	_, err = browser.Eval[any](b, "history.back()")
	must(t, err)
	must(t, b.Until("location.pathname === '/history/snowpack-model'"))
	must(t, b.Open(w.front.URL+"/nowhere"))
	must(t, b.Shows("There is nothing at this address"))

	must(t, b.Open(w.front.URL+"/"))
	must(t, b.Shows("Live: this page changes as things do"))
	w.kill()
	must(t, b.Shows("Connection lost"))
	w.start()
	must(t, b.Shows("Live: this page changes as things do"))
	must(t, b.Size(390, 800))
	wide, err := browser.Eval[string](
		b,
		"[...document.querySelectorAll('body *')].filter((e) => e.getBoundingClientRect().right > 390 && !e.closest('.scroll')).map((e) => e.tagName + '.' + e.className).join(' ')",
	)
	if err != nil || wide != "" {
		t.Errorf("wider than a phone: %s %v", wide, err)
	}
	axe(t, b, "Standing on a phone")
	must(t, b.Click(".who button"))
	must(t, b.Until("location.pathname === '/signin'"))
	must(t, b.Open(w.front.URL+"/"))
	must(t, b.Until("location.pathname === '/signin'"))
}

// TestConsoleLooking: a pasted digest lands on its image, whose tags, places and attachments are there; tags are listed as they
// are seen, side by side and compared.
func TestConsoleLooking(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	old := build(t, 40, "2.13.2", both, 1<<10)
	w.onBench(old, "build-40")
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x")
	img := build(t, 41, "2.14.0", []string{"linux/amd64"}, 2<<10)
	w.onBench(img, "build-41")
	b := page(t, w)
	must(t, b.SignIn(w.front.URL, w.token))
	must(t, b.Until("document.querySelector('[data-find]')"))
	must(t, b.Type("[data-find]", old.Index.Digest.Encoded()[:10]+"\r"))
	must(t, b.Until("location.pathname.startsWith('/image/') && document.querySelectorAll('.platform').length === 2"))
	must(t, b.Shows("stands in live"))
	must(t, b.Shows("Nothing is attached."))
	must(t, b.Until("document.querySelectorAll('.layers li').length === 5")) // the settings' layer is both platforms' own
	axe(t, b, "an image")
	must(t, b.Open(w.front.URL+"/image/forge/bench/snowpack-model:never"))
	must(t, b.Shows("Nothing is there yet under this name"))

	must(t, b.Open(w.front.URL+"/tags/forge/bench/snowpack-model"))
	must(t, b.Until("document.querySelectorAll('.lines tbody tr').length === 3"))
	axe(t, b, "tags")
	must(t, b.Type("input[type=search].field", "build-*"))
	must(t, b.Until("document.querySelectorAll('.lines tbody tr').length === 2 && location.search.includes('build')"))
	must(t, b.Click("tbody tr:nth-child(1) .text-btn"))
	must(t, b.Until("document.querySelector('tbody tr:nth-child(2) td:last-child a')?.textContent === 'with this'"))
	must(t, b.Click("tbody tr:nth-child(2) td:last-child a"))
	must(t, b.Until("location.pathname === '/compare' && document.querySelectorAll('.platform').length === 2"))
	must(t, b.Shows("not in A"))
	axe(t, b, "two images")
	must(t, b.Open(w.front.URL+"/find?what=snowpack-model"))
	must(t, b.Until("location.pathname === '/components/snowpack-model'"))
	must(t, b.Click("a[href='/across/snowpack-model']"))
	must(t, b.Until("location.pathname === '/across/snowpack-model' && document.querySelectorAll('.lines tbody tr').length > 4"))
	must(t, b.Shows("only here"))
	axe(t, b, "tags across")
	must(t, b.Size(390, 800))
	must(t, b.Open(w.front.URL+"/image/forge/bench/snowpack-model:build-41"))
	must(t, b.Until("document.querySelector('.platform')"))
	wide, err := browser.Eval[string](b, `[...document.querySelectorAll('main *')].filter((e) => e.getBoundingClientRect().right > 390 &&
		!e.closest('.scroll')).map((e) => e.tagName + '.' + e.className).join(' ')`)
	if err != nil || wide != "" {
		t.Errorf("wider than a phone: %s %v", wide, err)
	}
}

// TestConsoleRegistries: a registry is connected, checked and dropped; its secret is never in the page.
func TestConsoleBuilds(t *testing.T) {
	w := newWorld(t)
	before := w.whole(run(41, "2.14.0"))
	b := run(42, "2.14.1")
	w.started(b, "--link", "https://pipeline.skarvind.example/42", "--trigger", "push", "--changes", "testdata/changes.json")
	p := page(t, w)
	must(t, p.Open(w.front.URL+"/signin"))
	must(t, p.SignIn(w.front.URL, w.token))
	must(t, p.Open(w.front.URL+"/builds/snowpack-model"))
	must(t, p.Shows("parts arrive"))
	must(t, p.Shows("made once, and never pointed elsewhere"))
	must(
		t,
		p.Until(
			"document.querySelectorAll('.builds tbody tr').length === 2 && document.querySelectorAll('.arrivals .waits').length === 2",
		),
	)
	w.ok("build", "part", name(b), "--platform", both[0], "--image", w.part(b, both[0]), "--seconds", "41")
	must(t, p.Until("document.querySelectorAll('.arrivals .waits').length === 1")) // without a reload
	axe(t, p, "builds of a component")
	must(t, p.Open(w.front.URL+"/find?what=snowpack-model/42")) // lands on its page
	must(t, p.Until("location.pathname === '/builds/snowpack-model/42' && document.querySelectorAll('.took').length === 1"))
	must(t, p.Shows("open: no image keeps it yet"))
	must(t, p.Shows("Lower the alarm for wet slabs"))
	axe(t, p, "a build whose parts arrive")
	w.ok("build", "part", name(b), "--platform", both[1], "--image", w.part(b, both[1]), "--emulated", "--seconds", "300")
	must(t, p.Shows("kept by this build"))
	must(t, p.Until("document.body.innerText.includes('means this build') && document.querySelector('.hero')"))
	axe(t, p, "a build that is tagged")
	must(t, p.Night(true))
	axe(t, p, "a build by night")
	w.ok("vouch", "forge/bench/snowpack-model@"+before.Digest, "--claim", "scan", "--verdict", "failed")
	must(t, p.Open(w.front.URL+"/image/forge/bench/snowpack-model@"+before.Digest))
	must(t, p.Shows("snowpack-model build 41"))
	must(t, p.Shows("scan failed"))
	axe(t, p, "an image with evidence")
	must(t, p.Open(w.front.URL+"/compare?a=forge/bench/snowpack-model:build-41&b=forge/bench/snowpack-model:build-42"))
	must(t, p.Shows("Changes between their builds"))
	must(t, p.Open(w.front.URL+"/builds?promised"))
	must(t, p.Shows("No promise is open"))
	must(t, p.Open(w.front.URL+"/builds/snowpack-model/99"))
	must(t, p.Shows("There is no such build"))
	must(t, p.Open(w.front.URL+"/builds"))
	must(t, p.Until("document.querySelectorAll('.builds tbody tr').length === 2"))
	axe(t, p, "all builds")
}

func TestConsoleCopies(t *testing.T) {
	w := newWorld(t)
	ref := w.push(build(t, 41, "2.14.0", both, 64<<10), "build-41")
	p := page(t, w)
	must(t, p.Open(w.front.URL+"/signin"))
	must(t, p.SignIn(w.front.URL, w.token))
	must(t, p.Open(w.front.URL+"/copies"))
	must(t, p.Shows("Nothing was copied yet"))
	axe(t, p, "no copies")
	hold := make(chan struct{})
	release := sync.OnceFunc(func() { close(hold) })
	t.Cleanup(release) // else a failure would leave the registry waiting for ever
	w.hut.breaks(func(r *http.Request) (f sim.Fault) {
		if r.Method == http.MethodPut && strings.Contains(r.URL.Path, "/manifests/") {
			<-hold
		}
		return f
	})
	w.ok("copy", ref, "hut/live/snowpack-model", "--detach")
	must(t, p.Until("document.querySelectorAll('.lines tbody tr').length === 1")) // without a reload
	w.until(wait, "all layers have moved", func() bool {
		c, err := w.client().CopyNumbered(t.Context(), 1)
		return err == nil && len(c.Progress) == 1 && c.Progress[0].Moved > 300<<10
	})
	must(t, p.Open(w.front.URL+"/copies/1"))
	must(t, p.Until("document.querySelector('.seg.moved') && document.querySelector('.seg.moved').offsetWidth > 100"))
	axe(t, p, "a copy under way")
	must(t, p.Click("main .btn"))
	must(t, p.Shows("stopped"))
	must(t, p.Shows("Go on with it"))
	release()
	w.hut.breaks(nil)
	must(t, p.Click("main .btn"))
	must(t, p.Shows("verified"))
	must(t, p.Until("!document.querySelector('main .btn.stop')"))
	axe(t, p, "a copy that has ended")
	must(t, p.Open(w.front.URL+"/copies/9"))
	must(t, p.Shows("There is no such copy"))
}

// TestConsolePromotion: what waits says for what, is stopped by the one button there is, and tells when it has gone on.
func TestConsolePromotion(t *testing.T) {
	t.Parallel()
	w := gated(t, "    gates:\n      - {branch: main}\n      - {evidence: avalanche-replay}\n")
	w.whole(run(41, "2.14.0"))
	p := page(t, w)
	must(t, p.SignIn(w.front.URL, w.token))
	must(t, p.Open(w.front.URL+"/promotions"))
	must(t, p.Shows("Nothing was promoted yet"))
	if r := w.run("promote", "snowpack-model", "--to", "live", "--because", "danger 3"); r.code != 4 {
		t.Fatalf("%d\n%s", r.code, r.err)
	}
	must(t, p.Shows("1 waits"))
	axe(t, p, "promotions")
	must(t, p.Open(w.front.URL+"/promotions/1"))
	must(t, p.Shows("nobody has vouched for avalanche-replay"))
	must(t, p.Shows("“danger 3”"))
	must(t, p.Until("document.querySelectorAll('.gates tr.waits').length === 1"))
	axe(t, p, "a promotion that waits")
	must(t, p.Click("main .btn"))
	must(t, p.Shows("stopped"))
	must(t, p.Until("!document.querySelector('main .btn.stop')"))
	w.run("promote", "snowpack-model", "--to", "live", "--because", "danger 4")
	must(t, p.Open(w.front.URL+"/promotions/2"))
	must(t, p.Shows("each place is asked again when its tags are pointed"))
	w.ok("vouch", "forge/bench/snowpack-model@"+w.promotion(2).Digest, "--claim", "avalanche-replay", "--verdict", "passed")
	must(t, p.Shows("gives each platform its image"))
	axe(t, p, "a promotion that is done")
}

func TestConsoleRegistries(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b := page(t, w)
	must(t, b.SignIn(w.front.URL, w.token))
	must(t, b.Until("document.querySelector('[data-find]')"))
	must(t, b.Press("g"))
	must(t, b.Press("r"))
	must(t, b.Until("location.pathname === '/registries' && document.querySelectorAll('.lines tbody tr').length === 2"))
	must(t, b.Click(".head .text-btn"))
	must(t, b.Until("document.querySelector('[role=dialog] input[name=secret]')"))
	axe(t, b, "connecting a registry")
	must(t, b.Click("[role=dialog] .form > .text-btn"))
	must(t, b.Until("document.querySelector('textarea[name=cert]')"))
	axe(t, b, "what few registries need")
	must(t, b.Type("input[name=name]", "spare"))
	must(t, b.Type("input[name=address]", w.hut.URL))
	must(t, b.Type("input[name=account]", "dovrak"))
	must(t, b.Type("input[name=secret]", "wrong\r"))
	must(t, b.Until("document.querySelector('[role=dialog] [role=alert]')?.innerText.includes('401')"))
	must(t, b.Type("input[name=secret]", "\u0008\u0008\u0008\u0008\u0008"+secret+"\r"))
	must(t, b.Until("!document.querySelector('[role=dialog]') && document.querySelectorAll('.lines tbody tr').length === 3"))
	for range 8 { // pages left behind must not hold connections: a browser gives a host six
		must(t, b.Open(w.front.URL+"/registries/hut"))
		must(t, b.Until("document.querySelectorAll('.steps tr').length > 9 && document.querySelector('.pairs li')"))
	}
	must(t, b.Click(".registry .btn"))
	must(t, b.Shows("the right to put a manifest is not proved by it"))
	axe(t, b, "a registry")
	if text, err := browser.Eval[string](b, "document.documentElement.outerHTML"); err != nil || strings.Contains(text, secret) {
		t.Errorf("a secret is in the page, or it cannot be read: %v", err)
	}
	must(t, b.Open(w.front.URL+"/registries/spare"))
	must(t, b.Shows("Drop it")) // the last part of the page to come
	must(t, b.Click(".registry .part:last-child .text-btn:last-child"))
	must(t, b.Type("[role=dialog] input", "spare\r"))
	must(t, b.Until("location.pathname === '/registries' && document.querySelectorAll('.lines tbody tr').length === 2"))
}

// TestConsoleShowsDrift: a tag that is changed behind Dovrak's back is shown as such, with what was decided.
func TestConsoleShowsDrift(t *testing.T) {
	w := newWorld(t)
	old, img := build(t, 40, "2.13.2", both, 1<<10), build(t, 41, "2.14.0", both, 1<<10)
	w.onBench(old, "build-40")
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x")
	w.onBench(img, "build-41")
	w.ok("promote", "snowpack-model", "--to", "live", "--because", "x")
	must(t, w.mountain().Point(t.Context(), old, "live"))
	w.ok("show", "hut/live/snowpack-model:live") // someone looks
	if s := w.ok("standing"); !strings.Contains(s, "drift; decided "+img.Index.Digest.String()[7:19]) {
		t.Errorf("the command line does not say so:\n%s", s)
	}
	b := page(t, w)
	must(t, b.SignIn(w.front.URL, w.token))
	must(t, b.Until("document.querySelectorAll('.drifted').length === 1"))
	must(t, b.Shows("at hut is not what Dovrak pointed it at"))
	axe(t, b, "Standing with drift")
}

func quoted(s string) string {
	raw, err := json.Marshal(s)
	if err != nil {
		return `""`
	}
	return string(raw)
}

// axe finds nothing serious on the page.
func axe(t *testing.T, b *browser.Browser, where string) {
	t.Helper()
	script, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	must(t, err)
	_, err = browser.Eval[bool](b, string(script)+";true")
	must(t, err)
	must(
		t,
		b.Until(
			"(window.axeSaid = undefined, axe.run().then((r) => { window.axeSaid = r.violations.filter((v) => ['serious', 'critical'].includes(v.impact))"+
				".map((v) => v.id + ': ' + v.nodes.map((n) => n.html).join(' ')).join('\\n') }), true)",
		),
	)
	must(t, b.Until("window.axeSaid !== undefined"))
	said, err := browser.Eval[string](b, "window.axeSaid")
	must(t, err)
	if said != "" {
		t.Errorf("axe on %s:\n%s", where, said)
	}
}

// TestConsoleHistory: a drag looks closer, the address tells it, and the whole time comes back; another tag is asked for
// by the menu; the theme that was chosen stays.
func TestConsoleHistory(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for i, v := range []string{"2.13.2", "2.14.0"} {
		w.onBench(build(t, 40+i, v, both, 1<<10), fmt.Sprintf("build-%d", 40+i))
		w.ok("promote", "snowpack-model", "--to", "live", "--because", "for "+v)
	}
	b := page(t, w)
	must(t, b.SignIn(w.front.URL, w.token))
	must(t, b.Open(w.front.URL+"/history/snowpack-model"))
	must(t, b.Until("document.querySelectorAll('.lane .span').length >= 6"))
	box, err := browser.Eval[map[string]float64](b, "document.querySelector('.reader').getBoundingClientRect().toJSON()")
	must(t, err)
	must(t, b.Drag(box["x"]+box["width"]*.5, box["y"]+20, box["x"]+box["width"]*.9, box["y"]+20))
	must(t, b.Until("new URLSearchParams(location.search).has('since') && new URLSearchParams(location.search).has('until')"))
	shown, err := browser.Eval[float64](
		b,
		"Date.parse(new URLSearchParams(location.search).get('until')) - Date.parse(new URLSearchParams(location.search).get('since'))",
	)
	must(t, err)
	whole, err := browser.Eval[float64](
		b,
		"Number(document.querySelector('.reader').ariaValueMax) - Number(document.querySelector('.reader').ariaValueMin)",
	)
	must(t, err)
	if shown <= 0 || shown > whole+1000 {
		t.Errorf("the drag shows %v ms of %v", shown, whole)
	}
	must(t, b.Shows("show the whole time"))
	must(t, b.Click(".key .text-btn"))
	must(t, b.Until("!new URLSearchParams(location.search).has('since')"))

	must(t, b.Click("button[aria-label=tag]"))
	must(t, b.Until("document.querySelectorAll('[role=option]').length === 4"))
	must(t, b.Press("\r")) // the one that is marked
	must(t, b.Until("!document.querySelector('[role=option]')"))
	must(t, b.Open(w.front.URL+"/history/snowpack-model?lane=hut/live/snowpack-model:2.13.2"))
	must(t, b.Shows("asked by administrator: for 2.13.2"))
	must(t, b.Open(w.front.URL+"/history/glacier"))
	must(t, b.Shows("The charter knows no such component"))

	must(t, b.Click(".foot .text-btn"))
	must(t, b.Until("document.documentElement.dataset.theme === 'night'"))
	must(t, b.Open(w.front.URL+"/"))
	must(
		t,
		b.Until(
			"document.documentElement.dataset.theme === 'night' && getComputedStyle(document.body).backgroundColor === 'rgb(18, 23, 27)'",
		),
	)
}

// TestConsoleOfManyAndNone: without a charter Standing says what fills it; with two hundred components its rows are low,
// all are there, and one is found by its name.
func TestConsoleOfManyAndNone(t *testing.T) {
	w := newWorld(t) // not beside others: a browser that draws two hundred rows again and again wants the machine for itself
	text := "organisation: Skarvind Avalanche Watch\ncomponents:\n"
	for i := range 200 {
		text += fmt.Sprintf("  slope-sensor-%d: {platforms: [linux/arm64], route: mountain}\n", i)
	}
	_, places, _ := strings.Cut(charterText, "environments:")
	w.adopt(text + "environments:" + places)
	b := page(t, w)
	must(t, b.SignIn(w.front.URL, w.token))
	must(t, b.Until("document.querySelectorAll('.ledger tbody tr').length === 200 && document.querySelector('.ledger.low')"))
	axe(t, b, "Standing of two hundred")
	must(t, b.Open(w.front.URL+"/?find=sensor-17"))
	must(t, b.Until("document.querySelectorAll('.ledger tbody tr').length === 11")) // 17 and 170 to 179
	must(t, b.Open(w.front.URL+"/history/slope-sensor-17"))
	must(t, b.Shows("Dovrak has pointed no tag of this component yet"))

	none := newWorldWithout(t)
	must(t, b.SignIn(none.front.URL, none.token))
	must(t, b.Shows("There is no charter yet"))
	must(t, b.Shows("dovrak charter adopt FILE"))
	axe(t, b, "Standing without a charter")
	if r := none.run("standing"); r.code != 1 || !strings.Contains(r.err, "dovrak charter adopt FILE") {
		t.Errorf("the command line: %d %s", r.code, r.err)
	}
}

// TestTheWatch: a tag that is moved behind Dovrak's back comes to the console by itself, within the watch's round.
func TestTheWatch(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	old, img := build(t, 40, "2.13.2", both, 1<<10), build(t, 41, "2.14.0", both, 1<<10)
	for i, b := range []pipeline.Image{old, img} {
		w.onBench(b, fmt.Sprintf("build-%d", 40+i))
		w.ok("promote", "snowpack-model", "--to", "live", "--because", "x")
	}
	b := page(t, w)
	must(t, b.SignIn(w.front.URL, w.token))
	must(t, b.Shows("Every registry says what Dovrak decided"))
	must(t, w.mountain().Point(t.Context(), old, "live"))
	w.until(45*time.Second, "the watch has seen it", func() bool {
		n, err := browser.Eval[int](b, "document.querySelectorAll('.drifted').length")
		must(t, err)
		return n == 1
	})
}
