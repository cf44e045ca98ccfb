package test

import (
	"strings"
	"testing"

	"dovrak/test/browser"
)

// TestConsoleForApprovers drives the console as Ylva does: in by the issuer, to what waits for her, a decision by the keyboard, and the
// pages that say by which right.
func TestConsoleForApprovers(t *testing.T) {
	w, id := peopled(t, "    gates: [{branch: main}]\n    freezes: [{name: \"nights\", weekly: \"sun 02:00 to sun 02:01\"}]\n")
	w.ok("point", "forge/bench/snowpack-model@"+w.whole(run(41, "2.14.0")).Digest, "main", "--because", "by hand")
	ragna := w.as(id, "Ragna")
	n := ragna.asks(t)
	b := page(t, w)
	site := "http://" + w.listen // to which the issuer sends back

	must(t, b.Open(site+"/promotions/1"))
	must(t, b.Until("document.querySelector('a.btn.go')"))
	axe(t, b, "sign-in with an issuer")
	must(t, b.Click("a.btn.go"))
	must(t, b.Until("document.querySelector('button[value=Isak]')"))
	must(t, b.Click("button[value=Isak]"))
	must(t, b.Until("location.pathname === '/promotions/1' && document.querySelector('.step')"))
	must(t, b.Shows("You do not have the permission for this")) // in place of the buttons
	must(t, b.Until("!document.querySelector('#remark') && !document.querySelector('.btn.stop')"))
	must(t, b.Click(".who .text-btn"))
	must(t, b.Until("location.pathname === '/signin' && document.querySelector('a.btn.go')"))

	must(t, b.Open(site+"/signin?to=/promotions"))
	must(t, b.Until("document.querySelector('a.btn.go')"))
	must(t, b.Click("a.btn.go"))
	must(t, b.Until("document.querySelector('button[value=Ylva]')"))
	must(t, b.Click("button[value=Ylva]"))
	must(t, b.Shows("Waits for you"))
	axe(t, b, "what waits")
	must(t, b.Click(".mine a"))
	must(t, b.Until("document.querySelector('#remark') && document.querySelector('.pairs')"))
	for _, says := range []string{"What changes", "amd64, arm64", "one of operations must agree"} {
		must(t, b.Shows(says))
	}
	axe(t, b, "a promotion that waits for an approval")
	must(t, b.Click(".say .btn.go"))
	must(t, b.Shows("Say why first"))
	must(t, b.Until("document.activeElement.id === 'remark'"))
	must(t, b.Press("replayed on February\r"))
	if p := w.promotion(n); p.State != "waiting" {
		t.Errorf("the enter key has decided: %s", p.State)
	}
	must(t, b.Press("\t"))
	must(t, b.Until("document.activeElement.textContent === 'Approve'"))
	must(t, b.Press("\r"))
	must(t, b.Shows("gives each platform its image")) // without a reload
	must(t, b.Shows("“replayed on February”"))
	must(t, b.Until("!document.querySelector('#remark')"))

	must(t, b.Press("g"))
	must(t, b.Press("a"))
	must(t, b.Until("location.pathname === '/charter' && document.querySelector('.strip .frozen')"))
	for _, says := range []string{"one of operations must agree, and never who asks", "was built from main", "nights", "adopted by administrator"} {
		must(t, b.Shows(says))
	}
	axe(t, b, "the charter")
	must(t, b.Open(site+"/charter/1"))
	must(t, b.Shows("not in force any more"))
	must(t, b.Press("g"))
	must(t, b.Press("w"))
	must(t, b.Until("location.pathname === '/people' && document.querySelectorAll('.lines tbody tr').length === 3"))
	axe(t, b, "people")
	if shown, err := browser.Eval[bool](b, "document.body.innerText.includes('withdraw the rights')"); err != nil || shown {
		t.Errorf("Ylva is offered to withdraw rights: %v", err)
	}
	w.ok("people", "withdraw", "Ylva")
	must(t, b.Until("location.pathname === '/signin'")) // at once, without a click
}

// TestConsoleAccounts: an invitation sets a password and signs in; the password does afterwards; a charter is agreed to on its page.
func TestConsoleAccounts(t *testing.T) {
	t.Parallel()
	w, id := peopled(t, "")
	invitation := strings.TrimSpace(w.ok("people", "add", "Isak"))
	w.adopt(w.charterOfPeople(id, "") + "adoption: {count: 1, from: [auditors]}\n")
	if r := w.run("charter", "adopt", w.file(w.charterOfPeople(id, "")), "--because", "one word is enough"); r.code != 4 {
		t.Fatalf("proposing: %d\n%s%s", r.code, r.out, r.err)
	}
	b := page(t, w)
	must(t, b.Open(w.front.URL+"/signin?to=/charter"))
	_, err := browser.Eval[bool](b, "document.querySelectorAll('details').forEach((d) => { d.open = true }), true")
	must(t, err)
	must(t, b.Until("document.querySelector('#invited')"))
	axe(t, b, "all ways to sign in")
	must(t, b.Type("#invited", "Isak"))
	must(t, b.Type("#invitation", invitation))
	must(t, b.Type("#chosen", "seven crows on the ridge\r"))
	must(t, b.Shows("one word is enough"))
	axe(t, b, "a proposed charter")
	must(t, b.Type(".proposal .field", "it is right so"))
	must(t, b.Click(".proposal .btn.go"))
	must(t, b.Until("document.querySelector('h1').textContent === 'Charter 4' && !document.querySelector('.proposal')"))
	must(t, b.Click(".who .text-btn"))
	must(t, b.Until("location.pathname === '/signin' && document.querySelector('details')"))
	must(t, b.Click("summary"))
	must(t, b.Type("#name", "isak"))
	must(t, b.Type("#password", "seven crows on the ridge\r"))
	must(t, b.Until("document.querySelector('.who')"))
}
