package test

import (
	"context"
	"encoding/json"
	"os"
	"strings"
	"testing"

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
	must(t, b.Type("#token", "dovrak_wrong\r"))
	must(t, b.Shows("You are not signed in"))
	must(t, b.Shows("a token that this service did not issue"))
	must(t, b.SignIn(w.front.URL, w.token))

	must(t, b.Shows("Live: this page changes as things do"))
	must(t, b.Shows("2.14.0 waits here"))
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
	must(t, b.Press("glacier"))
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
