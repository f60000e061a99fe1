package main

import (
	"fmt"
	"os"
	"strings"
	"unicode"

	"varnet/core/policy"
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

// onTerminal tells whether a file is a terminal.
func onTerminal(f any) bool {
	file, ok := f.(*os.File)
	if !ok {
		return false
	}
	info, err := file.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

// progress shows a run on one line that is written over.
type progress struct {
	cli *cli
	on  bool
}

func (p *progress) show(r contract.Run) {
	if !p.on {
		return
	}
	const width = 24
	filled := 0
	if r.Addresses > 0 {
		filled = int(r.Done * width / r.Addresses)
	}
	line := fmt.Sprintf("%s%s  %s of %s addresses", strings.Repeat("█", filled), strings.Repeat("░", width-filled),
		policy.Number(r.Done), policy.Number(r.Addresses))
	if r.Postponed > 0 {
		line += fmt.Sprintf(", %s put off by their hosts", policy.Number(r.Postponed))
		if r.NextRound != nil {
			line += " until " + r.NextRound.Local().Format("15:04:05")
		}
	}
	fmt.Fprintf(p.cli.err, "\r\x1b[K%s", line)
}

func (p *progress) end() {
	if p.on {
		fmt.Fprint(p.cli.err, "\r\x1b[K")
	}
}
