// Package browser drives a headless Chromium (Debian's package) for the tests
// of the console and for its pictures.
package browser

import (
	"context"
	"fmt"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Options are what a browser is started with.
type Options struct {
	Width, Height int
	// Downloads is the folder that files are saved to.
	Downloads string
	// Fault is called with each error that a page's script throws.
	Fault func(string)
}

// Start starts a browser with one empty tab; stop ends it. It never talks to
// any other host than the pages do.
func Start(ctx context.Context, o Options) (tab context.Context, stop func(), err error) {
	flags := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("hide-scrollbars", true), chromedp.Flag("force-color-profile", "srgb"),
	)
	allocated, free := chromedp.NewExecAllocator(ctx, flags...)
	tab, end := chromedp.NewContext(allocated)
	stop = func() { end(); free() }
	if o.Fault != nil {
		chromedp.ListenTarget(tab, func(event any) {
			if e, ok := event.(*runtime.EventExceptionThrown); ok {
				o.Fault(e.ExceptionDetails.Error())
			}
		})
	}
	steps := chromedp.Tasks{emulation.SetDeviceMetricsOverride(int64(o.Width), int64(o.Height), 1, o.Width < 500)}
	if o.Downloads != "" {
		steps = append(steps, browser.SetDownloadBehavior(browser.SetDownloadBehaviorBehaviorAllow).
			WithDownloadPath(o.Downloads).WithEventsEnabled(true))
	}
	if err := chromedp.Run(tab, steps...); err != nil {
		stop()
		return nil, nil, fmt.Errorf("start Chromium (script/bootstrap chromium installs it): %w", err)
	}
	return tab, stop, nil
}

// Do runs steps in the tab within a time.
func Do(tab context.Context, within time.Duration, steps ...chromedp.Action) error {
	ctx, cancel := context.WithTimeout(tab, within)
	defer cancel()
	return chromedp.Run(ctx, steps...)
}

// Text waits until the page holds the text.
func Text(text string) chromedp.Action {
	return chromedp.Poll(fmt.Sprintf("document.body.innerText.includes(%q)", text), nil, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(0))
}

// Press clicks the button or link with the text, as soon as it is there and
// enabled.
func Press(text string) chromedp.Action {
	find := fmt.Sprintf(`[...document.querySelectorAll("button, a")].find(e => e.innerText.trim().startsWith(%q) && !e.disabled)`, text)
	return chromedp.Tasks{
		chromedp.Poll(find+" !== undefined", nil, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(0)),
		chromedp.Evaluate(find+".click()", nil),
	}
}

// Type waits for the element, puts the cursor there and types the text. It asks
// the page itself where chromedp would read its own picture of it, which changes
// meanwhile.
func Type(selector, text string) chromedp.Action {
	return chromedp.Tasks{
		chromedp.Poll(fmt.Sprintf("document.querySelector(%q) !== null", selector), nil, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(0)),
		chromedp.Evaluate(fmt.Sprintf("document.querySelector(%q).focus()", selector), nil),
		chromedp.KeyEvent(text),
	}
}

// SignIn opens the console and signs in with the key.
func SignIn(base, key string) chromedp.Action {
	return chromedp.Tasks{
		chromedp.Navigate(base + "/sign-in"),
		chromedp.WaitVisible("#key"),
		Type("#key", key),
		Press("Sign in"),
		Text("Bring a list in"),
	}
}
