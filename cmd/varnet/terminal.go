package main

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"

	"golang.org/x/term"

	"varnet/core/say"
	"varnet/internal/contract"
)

// printable makes text from elsewhere safe for a terminal: what cannot be seen
// (control characters, direction signs) is shown by its code.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || unicode.IsPrint(r) {
			return r
		}
		return '\ufffd'
	}, s)
}

// minute is a time in this machine's zone, to the minute; none where there is none.
func minute(t *time.Time, none string) string {
	if t == nil {
		return none
	}
	return t.Local().Format("2006-01-02 15:04")
}

// onTerminal reports whether a file is a terminal.
func onTerminal(f any) bool {
	file, ok := f.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// usualWidth is taken where a terminal does not say how wide it is.
const usualWidth = 100

// widthOf returns how many columns a terminal has at this moment.
func widthOf(f any) int {
	if file, ok := f.(*os.File); ok {
		if width, _, err := term.GetSize(int(file.Fd())); err == nil && width > 0 {
			return width
		}
	}
	return usualWidth
}

// progress shows how a run gets on: on a terminal as a few lines that are written
// over, elsewhere a plain line now and then.
type progress struct {
	to       io.Writer
	terminal bool
	// waits is how many operators are named on a terminal that are waited for.
	waits int
	// lines stand on the terminal now.
	lines int
	last  time.Time
	said  string
}

// plainEvery is how often a plain line is written while a run keeps its state.
const plainEvery = 10 * time.Second

func (p *progress) show(r contract.Run) {
	if p.terminal {
		p.draw(r)
		return
	}
	if p.waits > 0 && (r.State != p.said || time.Since(p.last) >= plainEvery) {
		p.said, p.last = r.State, time.Now()
		fmt.Fprintln(p.to, printable(strings.Join(append([]string{r.State + ":", r.Sentence}, expected(r)...), " ")))
	}
}

// draw writes over what stands there.
func (p *progress) draw(r contract.Run) {
	const width = 24
	filled := 0
	if r.Addresses > 0 {
		filled = int(r.Done * width / r.Addresses)
	}
	lines := []string{fmt.Sprintf("%s%s  %s of %s addresses, %s a minute", strings.Repeat("█", filled), strings.Repeat("░", width-filled),
		say.Number(r.Done), say.Number(r.Addresses), say.Number(r.PerMinute))}
	if r.Postponed > 0 {
		put := say.Number(r.Postponed) + " put off by their hosts"
		if r.NextRound != nil {
			put += " until " + r.NextRound.Local().Format("15:04:05")
		}
		lines = append(lines, put)
	}
	lines = append(lines, expected(r)...)
	for i, w := range r.Waits {
		if i == p.waits {
			break
		}
		lines = append(lines, "  "+w.Sentence)
	}
	p.end()
	columns := widthOf(p.to)
	for i, l := range lines {
		if i > 0 {
			fmt.Fprint(p.to, "\n")
		}
		fmt.Fprint(p.to, clipped(printable(l), columns))
	}
	p.lines = len(lines)
}

// clipped cuts a line that would be broken in two, so that it is written over as one. The
// last column stays free: some terminals go to the next line when it is filled.
func clipped(line string, width int) string {
	if runes := []rune(line); len(runes) >= width && width > 1 {
		return string(runes[:width-2]) + "…"
	}
	return line
}

// expected says when the run is expected to end, of one that is on its way.
func expected(r contract.Run) []string {
	if r.ExpectedEnd == nil {
		return nil
	}
	at, from, to := r.ExpectedEnd.At.Local(), r.ExpectedEnd.From.Local(), r.ExpectedEnd.To.Local()
	form := "15:04"
	if time.Until(to) < 10*time.Minute {
		form = "15:04:05"
	}
	if from.Equal(to) {
		return []string{"next round at " + at.Format(form)}
	}
	return []string{fmt.Sprintf("expected end about %s, between %s and %s", at.Format(form), from.Format(form), to.Format(form))}
}

// end takes away what stands there.
func (p *progress) end() {
	if p.lines == 0 {
		return
	}
	fmt.Fprint(p.to, "\r\x1b[K"+strings.Repeat("\x1b[1A\x1b[K", p.lines-1))
	p.lines = 0
}
