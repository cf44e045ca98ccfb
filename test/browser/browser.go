// Package browser drives Debian's headless Chromium for the tests of the console and for its pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
)

// Browser is one Chromium with one page.
type Browser struct {
	ctx  context.Context
	wait time.Duration // bounds everything that is waited for on a page
}

// Within is the browser with another bound on what is waited for; what hangs on a registry that is away takes its time.
func (b *Browser) Within(wait time.Duration) *Browser { return &Browser{b.ctx, wait} }

// Start starts Chromium with a profile of its own; call what it gives to end it.
func Start(ctx context.Context) (*Browser, func() error, error) {
	const path = "/usr/bin/chromium"
	if _, err := os.Stat(path); err != nil {
		return nil, nil, fmt.Errorf("browser: Chromium is not installed: sudo apt-get install -y chromium: %w", err)
	}
	profile, err := os.MkdirTemp("", "dovrak-browser-*")
	if err != nil {
		return nil, nil, err
	}
	opts := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.Flag(
			"disable-quic",
			true,
		),
		chromedp.Flag("disable-component-update", true),
		chromedp.UserDataDir(profile),
		chromedp.WindowSize(1280, 800),
	)
	allocated, free := chromedp.NewExecAllocator(ctx, opts...)
	page, cancel := chromedp.NewContext(allocated)
	end := func() error {
		err := chromedp.Cancel(page)
		cancel()
		free()
		return errors.Join(err, os.RemoveAll(profile))
	}
	if err := chromedp.Do(page); err != nil {
		return nil, nil, errors.Join(err, end())
	}
	b := &Browser{page, 20 * time.Second}
	return b, end, b.Size(1280, 800)
}

// Size sets the page's size, in CSS pixels.
func (b *Browser) Size(width, height int64) error {
	return chromedp.Do(b.ctx, chromedp.EmulateViewport(width, height))
}

// Night makes the system's theme dark, or light again.
func (b *Browser) Night(on bool) error {
	value := "light"
	if on {
		value = "dark"
	}
	_, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: value}}})
	return err
}

// Open goes to an address.
func (b *Browser) Open(url string) error { return chromedp.Do(b.ctx, chromedp.Navigate(url)) }

// Until waits until a JavaScript expression holds, also over a change of page.
func (b *Browser) Until(expression string) error {
	ctx, cancel := context.WithTimeout(b.ctx, b.wait)
	defer cancel()
	poll := chromedp.Poll[bool]("Boolean("+expression+")", chromedp.WithPollingTimeout(b.wait))
	_, err := chromedp.Run(ctx, poll)
	for err != nil && ctx.Err() == nil && pageChanged(err) {
		_, err = chromedp.Run(ctx, poll)
	}
	if err != nil {
		text, terr := Eval[string](b, "document.body?.innerText ?? ''")
		return fmt.Errorf("browser: %s never held: %w; the page says:\n%s", expression, errors.Join(err, terr), text)
	}
	return nil
}

// pageChanged reports an error that only says that the page went away under the question.
func pageChanged(err error) bool {
	return strings.Contains(err.Error(), "navigated") || strings.Contains(err.Error(), "Cannot find context")
}

// Shows waits until the page shows a text.
func (b *Browser) Shows(text string) error {
	return b.Until(fmt.Sprintf("document.body?.innerText.includes(%q)", text)) // a page that only begins has no body
}

// Eval gives the value of a JavaScript expression.
func Eval[T any](b *Browser, expression string) (T, error) {
	return chromedp.Run(b.ctx, chromedp.Evaluate[T](expression))
}

// Type types into the field that a CSS selector finds, behind what is in it. The keys go to wherever the focus is:
// chromedp's own way of sending them to a node reads that node while the page may be changing it.
func (b *Browser) Type(selector, text string) error {
	field := fmt.Sprintf("document.querySelector(%q)", selector)
	if err := b.Until(field); err != nil {
		return err
	}
	focus := "(() => { const f = " + field + "; f.focus(); f.setSelectionRange(f.value.length, f.value.length); return true })()"
	if _, err := Eval[bool](b, focus); err != nil {
		return err
	}
	return b.Press(text)
}

// Press presses keys, wherever the focus is.
func (b *Browser) Press(keys string) error { return chromedp.Do(b.ctx, chromedp.KeyEvent(keys)) }

// Click clicks what a CSS selector finds.
func (b *Browser) Click(selector string) error {
	return chromedp.Do(b.ctx, chromedp.Click(chromedp.CSS(selector)))
}

// ClickReady clicks what a CSS selector finds as soon as it is enabled, in the same breath: a page that asks anew disables it meanwhile.
func (b *Browser) ClickReady(selector string) error {
	return b.Until(fmt.Sprintf("(() => { const e = document.querySelector(%q); if (!e || e.disabled) return false; e.click(); return true })()",
		selector))
}

// Drag presses the mouse at one point of the window, moves it to another, and lets go.
func (b *Browser) Drag(fromX, fromY, toX, toY float64) error {
	for _, e := range []input.DispatchMouseEventParams{
		{Type: input.DispatchMouseEventTypeMousePressed, X: fromX, Y: fromY, Button: input.MouseButtonLeft, ClickCount: 1},
		{Type: input.DispatchMouseEventTypeMouseMoved, X: (fromX + toX) / 2, Y: (fromY + toY) / 2, Button: input.MouseButtonLeft},
		{Type: input.DispatchMouseEventTypeMouseMoved, X: toX, Y: toY, Button: input.MouseButtonLeft},
		{Type: input.DispatchMouseEventTypeMouseReleased, X: toX, Y: toY, Button: input.MouseButtonLeft, ClickCount: 1},
	} {
		if _, err := chromedp.Call(b.ctx, input.DispatchMouseEvent, e); err != nil {
			return err
		}
	}
	return nil
}

// Picture takes a PNG of what the window shows.
func (b *Browser) Picture(file string) error {
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(file, png, 0o644)
}

// HandIn hands a token in on the sign-in page, where that way lies folded.
func (b *Browser) HandIn(token string) error {
	if err := b.Until("document.querySelector('#token')"); err != nil {
		return err
	}
	if _, err := Eval[bool](b, "document.querySelector('#token').closest('details').open = true"); err != nil {
		return err
	}
	return b.Type("#token", token+"\r")
}

// SignIn signs in to the console with a token and waits for its first view.
func (b *Browser) SignIn(server, token string) error {
	for _, step := range []func() error{
		func() error { return b.Open(server + "/signin") },
		func() error { return b.HandIn(token) },
		func() error { return b.Until("document.querySelector('.views a[aria-current]')") },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}
