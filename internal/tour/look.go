package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
)

// screen is what a page is looked at on.
type screen struct {
	name          string
	width, height int64
	dark          bool
}

var screens = []screen{{"wide", 1280, 800, false}, {"phone", 390, 844, false}, {"dark", 1280, 800, true}}

// pages are all pages of the console, %s being the demo's run.
var pages = []visited{
	{"lists", "/lists"},
	{"import", "/import"},
	{"list", "/lists/1"},
	{"rows", "/lists/1/rows"},
	{"statistics", "/lists/1/domains"},
	{"workshop", "/workshop?list=1"},
	{"odds", "/odds"},
	{"usage", "/usage"}, {"purchases", "/purchases"}, {"accounts", "/accounts"},
	{"meanings", "/lists/1/meanings"},
	{"opinions", "/lists/1/opinions"},
	{"run", "/runs/%s"},
	{"results", "/runs/%s/results"},
	{"domains", "/runs/%s/domains"},
	{"export", "/runs/%s/export?form=results"},
	{"check", "/check"},
	{"policies", "/policies"},
	{"policy", "/policies/new?from=careful&run=%s"},
	{"setup", "/setup"},
	{"outbound", "/outbound"},
	{"catalogues", "/catalogues"},
	{"keys", "/keys"},
	{"letters", "/letters"},
	{"routines", "/routines"},
	{"routine-new", "/routines/new"},
	{"routine", "/routines/1"},
	{"connections", "/connections"},
	{"connection-new", "/connections/new"},
	{"connection", "/connections/1"},
	{"write-back", "/runs/3/write-back"},
	{"journal", "/write-backs/1"},
	{"bounces", "/bounces"},
	{"mailing", "/mailings/1"},
	{"sources", "/bounces/sources"},
	{"table", "/bounces/table"},
	{"trials", "/trial-letters"},
	{"settle", "/runs/%s/settle"},
	{"notices", "/notices"},
	{"wishes", "/notices/letters"},
	{"webhooks", "/webhooks"},
	{"webhook", "/webhooks/1"},
	{"health", "/health"},
	{"glossary", "/glossary"},
	{"person", "/person"},
	{"team", "/team"},
	{"requests", "/requests"},
	{"audit", "/audit"},
	{"installation", "/installation"},
	{"ownrules", "/rules"},
	{"device", "/device?code=BCDF-GHJK"},
	{"none", "/nowhere"},
	{"door-in", "/sign-in"},
	{"door-up", "/sign-up"},
	{"door-begin", "/begin#x"},
	{"door-invitation", "/invitation#x"},
}

// visited is a page that is gone to.
type visited struct{ name, path string }

// of is the page's path of a run.
func (v visited) of(run string) string { return strings.ReplaceAll(v.path, "%s", run) }

// look takes a picture of every page on every screen, and prints what is wrong with it.
func (t *tour) look() error {
	w := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', 0)
	fmt.Fprintln(w, "page\tscreen\tpixels too wide\tgaps between headings\tsmaller than 24 pixels\twhich")
	for _, s := range screens {
		scheme := map[bool]string{true: "dark", false: "light"}[s.dark]
		if err := browser.Do(t.tab, 20*time.Second, emulation.SetDeviceMetricsOverride(s.width, s.height, 1, s.width < 500),
			emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}})); err != nil {
			return err
		}
		for _, p := range pages {
			if t.only != "" && !strings.HasPrefix(p.name, t.only) {
				continue
			}
			path := p.of("1")
			var found browser.Faults
			if err := browser.Do(t.tab, 30*time.Second, t.open(path), browser.Seen("h1"), chromedp.Sleep(900*time.Millisecond), browser.FaultsOf(&found)); err != nil {
				return fmt.Errorf("%s: %w", p.name, err)
			}
			fmt.Fprintf(w, "%s\t%s\t%d\t%d\t%d\t%s\n", p.name, s.name, found.Over, found.Gaps, found.Small, found.Who)
			png, err := t.picture()
			if err == nil {
				err = os.WriteFile(filepath.Join(t.out, p.name+"-"+s.name+".png"), png, 0o644)
			}
			if err != nil {
				return err
			}
		}
	}
	return w.Flush()
}
