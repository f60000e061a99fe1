package browser_test

import (
	"context"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
)

// TestFaultsOf: what is too wide, skips a heading or is too small to be touched is seen, on a
// phone, too, where the page's width grows with what is in it; what only scrolls is not.
func TestFaultsOf(t *testing.T) {
	tab, stop, err := browser.Start(context.Background(), browser.Options{Width: 390, Height: 844})
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	const head = `<!doctype html><meta name="viewport" content="width=device-width, initial-scale=1"><style>body{margin:0}.scroll{overflow-x:auto;position:relative}.escapes{position:static}button{height:30px;width:60px}</style>`
	for what, c := range map[string]struct {
		body             string
		over, gaps, tiny bool
	}{
		"a sound page":            {"<h1>A</h1><h2>B</h2><h3>C</h3><h2>D</h2><button>go</button><p>a <a href='#'>link</a> in a sentence</p>", false, false, false},
		"what is too wide":        {"<h1>A</h1><div style='width:500px'>wide</div>", true, false, false},
		"what scrolls":            {"<h1>A</h1><div class='scroll'><div style='width:900px'>wide</div></div>", false, false, false},
		"what escapes a scroll":   {"<h1>A</h1><div class='scroll escapes'><div style='width:900px;padding-left:700px'><span style='position:absolute'>x</span></div></div>", true, false, false},
		"a heading skipped":       {"<h1>A</h1><h3>C</h3>", false, true, false},
		"no first heading":        {"<h2>B</h2>", false, true, false},
		"a button too low":        {"<h1>A</h1><button style='height:20px'>go</button>", false, false, true},
		"a box too small":         {"<h1>A</h1><input type='checkbox' style='width:18px;height:18px'>", false, false, true},
		"a box in a tall label":   {"<h1>A</h1><label style='display:block;height:30px'><input type='checkbox' style='width:18px;height:18px'> all</label>", false, false, false},
		"a button that is hidden": {"<h1>A</h1><button style='display:none;height:9px'>go</button>", false, false, false},
	} {
		var f browser.Faults
		if err := browser.Do(tab, 20*time.Second, chromedp.Navigate("data:text/html,"+url.PathEscape(head+c.body)), browser.FaultsOf(&f)); err != nil {
			t.Fatal(err)
		}
		if (f.Over > 0) != c.over || (f.Gaps > 0) != c.gaps || (f.Small > 0) != c.tiny || f.Any() != (c.over || c.gaps || c.tiny) {
			t.Errorf("%s: %s", what, f)
		}
		if c.tiny && !strings.Contains(f.String(), "button go") && !strings.Contains(f.String(), "input") {
			t.Errorf("%s: it is not named: %s", what, f)
		}
	}
}
