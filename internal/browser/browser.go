// Package browser drives a headless Chromium (Debian's package) for the tests
// of the console and for its pictures.
package browser

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/css"
	"github.com/chromedp/cdproto/dom"
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
		// Nothing is on its way anywhere when it is clicked, looked at or photographed.
		chromedp.Flag("force-prefers-reduced-motion", true),
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
	// The picture of the page that chromedp keeps costs as much as the page itself,
	// and is behind it; here the page is asked.
	steps := chromedp.Tasks{css.Disable(), dom.Disable(), emulation.SetDeviceMetricsOverride(int64(o.Width), int64(o.Height), 1, o.Width < 500)}
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

// look is how often a page is asked whether something holds.
const look = 50 * time.Millisecond

// Wait waits until an expression holds on the page. One that cannot be told, as in
// the middle of a page, does not hold yet.
func Wait(holds string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for {
			var yes bool
			err := chromedp.Evaluate("!!("+holds+")", &yes).Do(ctx)
			if yes && err == nil {
				return nil
			}
			select {
			case <-time.After(look):
			case <-ctx.Done():
				return errors.Join(fmt.Errorf("%s does not hold: %w", holds, ctx.Err()), err)
			}
		}
	})
}

// Text waits until the page holds the text.
func Text(text string) chromedp.Action {
	return Wait(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// element is where the first element that fits a selector stands in a script.
func element(selector string) string { return fmt.Sprintf("document.querySelector(%q)", selector) }

// Seen waits until an element can be seen, Gone until none that fits can.
func Seen(selector string) chromedp.Action {
	return Wait(element(selector) + "?.checkVisibility() === true")
}
func Gone(selector string) chromedp.Action {
	return Wait(element(selector) + "?.checkVisibility() !== true")
}

// ClickOn clicks the element that an expression finds, as soon as there is one and it
// is enabled. It is found and clicked in one go: between two, a page that draws itself
// anew may have taken it away.
func ClickOn(find string) chromedp.Action {
	return Wait(fmt.Sprintf("(e => e && !e.disabled && (e.click(), true))(%s)", find))
}

// Click clicks an element as soon as it is there and enabled.
func Click(selector string) chromedp.Action { return ClickOn(element(selector)) }

// Upload returns a file to a field for files.
func Upload(selector, path string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		return chromedp.Tasks{Wait(element(selector) + " !== null"), chromedp.Evaluate(fmt.Sprintf(`(() => {
			const data = new DataTransfer(), field = %s;
			data.items.add(new File([Uint8Array.from(atob(%q), c => c.charCodeAt(0))], %q));
			field.files = data.files;
			field.dispatchEvent(new Event("change", {bubbles: true}));
		})()`, element(selector), base64.StdEncoding.EncodeToString(content), filepath.Base(path)), nil)}.Do(ctx)
	})
}

// Press clicks the button or link with the text, as soon as it is there and
// enabled.
func Press(text string) chromedp.Action {
	return ClickOn(fmt.Sprintf(`[...document.querySelectorAll("button, a")].find(e => e.innerText.trim().startsWith(%q) && !e.disabled)`, text))
}

// Type waits for the element, puts the cursor there and types the text. It asks
// the page itself where chromedp would read its own picture of it, which changes
// meanwhile.
func Type(selector, text string) chromedp.Action {
	return chromedp.Tasks{
		Wait(element(selector) + " !== null"),
		chromedp.Evaluate(element(selector)+".focus()", nil),
		chromedp.KeyEvent(text),
	}
}

// Fill types a text into the field with a label.
func Fill(label, text string) chromedp.Action {
	field := fmt.Sprintf(`[...document.querySelectorAll("label")].find(l => l.innerText.trim().startsWith(%q) && l.checkVisibility())`, label)
	return chromedp.Tasks{
		Wait(field + "?.control"),
		chromedp.Evaluate(field+".control.select(), "+field+".control.focus()", nil),
		chromedp.KeyEvent(text),
	}
}

// SignIn opens the console of a demo, or of a test's service, and signs in as its person.
func SignIn(base string) chromedp.Action {
	return chromedp.Tasks{
		chromedp.Navigate(base + "/sign-in"),
		Press("Sign in as"),
		Text("Import a list"),
	}
}
