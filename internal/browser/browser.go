// Package browser drives a headless Chromium over the console, for tests and for
// the pictures of the documents. It needs Debian's chromium.
package browser

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// Width and Height are the window's, in pixels.
const (
	Width  = 1280
	Height = 800
)

// patience is how long one step may take.
const patience = 20 * time.Second

// Page is one tab. It is used by one goroutine.
type Page struct{ ctx context.Context }

// Open starts a browser with one empty tab. The returned function ends it.
func Open(ctx context.Context) (*Page, func(), error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(Width, Height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("hide-scrollbars", true))
	ctx, endBrowser := chromedp.NewExecAllocator(ctx, options...)
	ctx, endTab := chromedp.NewContext(ctx)
	end := func() { endTab(); endBrowser() }
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(Width, Height)); err != nil {
		end()
		return nil, nil, fmt.Errorf("start chromium: %w", err)
	}
	return &Page{ctx}, end, nil
}

// Context returns the tab's context, for steps that the page has no method for.
func (p *Page) Context() context.Context { return p.ctx }

// Scheme sets what the system asks for: light or dark, and no motion.
func (p *Page) Scheme(name string) error {
	_, err := chromedp.Call(p.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{
		{Name: "prefers-color-scheme", Value: name}, {Name: "prefers-reduced-motion", Value: "reduce"},
	}})
	return err
}

// Size makes the window so wide and high, in CSS pixels.
func (p *Page) Size(width, height int64) error {
	return p.step(chromedp.EmulateViewport(width, height))
}

// Go opens an address.
func (p *Page) Go(address string) error { return p.step(chromedp.Navigate(address)) }

// Wait waits until a JavaScript expression holds.
func (p *Page) Wait(expression string) error {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	_, err := chromedp.Run(ctx, chromedp.Poll[bool]("Boolean("+expression+")", chromedp.WithPollingTimeout(patience)))
	if err != nil {
		text, _ := p.Text()
		return fmt.Errorf("waiting for %s: %w; the page says: %s", expression, err, text)
	}
	return nil
}

// WaitFor waits until an element is there, by CSS selector.
func (p *Page) WaitFor(selector string) error {
	return p.Wait(fmt.Sprintf("document.querySelector(%q)", selector))
}

// Click presses an element, by CSS selector.
func (p *Page) Click(selector string) error {
	return p.step(chromedp.Click(chromedp.CSS(selector)))
}

// Keys types, special keys included, to whatever has the focus.
func (p *Page) Keys(keys string) error { return p.step(chromedp.KeyEvent(keys)) }

// Text returns what the page says.
func (p *Page) Text() (string, error) { return Evaluate[string](p, "document.body.innerText") }

// Shot returns a picture of the window, as PNG, once fonts and layout are settled.
func (p *Page) Shot() ([]byte, error) {
	const settled = "document.fonts.ready.then(() => new Promise(r => requestAnimationFrame(() => requestAnimationFrame(() => r(true)))))"
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](settled, chromedp.EvalAwaitPromise)); err != nil {
		return nil, err
	}
	return chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
}

// Evaluate returns the value of a JavaScript expression, which may be a promise.
func Evaluate[T any](p *Page, expression string) (T, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
}

func (p *Page) step(a chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Do(ctx, a)
}

// SignIn opens the console at an address and signs in to it, past the page that
// asks for it.
func (p *Page) SignIn(address, account, password string) error {
	if err := p.Go(address + "/sign-in"); err != nil {
		return err
	}
	body, err := json.Marshal(map[string]string{"account": account, "password": password})
	if err != nil {
		return err
	}
	status, err := Evaluate[int](p, fmt.Sprintf(`(() => {
		const ask = new XMLHttpRequest()
		ask.open('POST', '/api/v1/session', false)
		ask.setRequestHeader('Content-Type', 'application/json')
		ask.send(%s)
		return ask.status
	})()`, strconv.Quote(string(body))))
	if err == nil && status != 200 {
		err = fmt.Errorf("signing in as %s is answered with status %d", account, status)
	}
	return err
}
