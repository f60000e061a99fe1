package main

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// TestReferenceIsCurrent holds the two pages that are made of the commands themselves: run it with
// VARNET_WRITE=1 to write them anew.
func TestReferenceIsCurrent(t *testing.T) {
	t.Setenv("HOME", "~")
	t.Setenv("XDG_CONFIG_HOME", "")
	for path, want := range map[string]string{"../../docs/reference.md": commandReference(), "../../docs/settings.md": settingsReference()} {
		if os.Getenv("VARNET_WRITE") != "" {
			if err := os.WriteFile(path, []byte(want), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if have, err := os.ReadFile(path); err != nil || string(have) != want {
			t.Errorf("%s is behind (%v); write it anew: VARNET_WRITE=1 go test -run TestReferenceIsCurrent ./cmd/varnet", path, err)
		}
	}
}

// defined returns the command of a path with its flags.
func defined(path []string) *cli {
	c, _, _ := find(path)
	if c.define != nil {
		c.define(c)
	}
	return c
}

// commandReference is every command with its usage, example and own settings. Those that it shares
// with others are on the page of the settings.
func commandReference() string {
	var b strings.Builder
	b.WriteString("# All commands\n\nMade from the commands themselves. How they behave in scripts: [commands.md](commands.md). Settings that come from the environment as well,\n" +
		"such as `-server` and `-dsn`, are in [settings.md](settings.md) and left out here.\n")
	for _, path := range paths(commands(), nil) {
		c := defined(path)
		fmt.Fprintf(&b, "\n%s %s\n\n%s%s.\n\n    %s\n", strings.Repeat("#", len(path)+1), strings.TrimSpace(c.title()+" "+c.usage), strings.ToUpper(c.does[:1]), c.does[1:], c.example)
		own := ""
		c.flags.VisitAll(func(f *flag.Flag) {
			if c.env[f.Name] == "" {
				own += fmt.Sprintf("- `-%s`: %s%s\n", f.Name, f.Usage, otherwise(f))
			}
		})
		if own != "" {
			b.WriteString("\n" + own)
		}
	}
	return b.String()
}

// otherwise tells a flag's default, where it has one.
func otherwise(f *flag.Flag) string {
	if f.DefValue == "" || f.DefValue == "false" || f.DefValue == "0" {
		return ""
	}
	return fmt.Sprintf(" (`%s` unless given)", f.DefValue)
}

// described is a setting as its page tells it.
type described struct {
	flag, says string
	commands   []string // that take it
}

// settingsReference is every setting by its variable.
func settingsReference() string {
	const all = "all commands"
	byEnv := map[string]*described{ // those that are not flags, which every user of the machine could read
		"VARNET_CONFIG":        {says: "the file with settings, instead of `" + configFile + "`; empty: none", commands: []string{all}},
		"VARNET_SECRET":        {says: "the secret itself, instead of `-secret-file`", commands: []string{"serve", "worker"}},
		"VARNET_SECRET_BEFORE": {says: "the secret before it, until everything is sealed anew", commands: []string{"serve", "worker"}},
	}
	for _, path := range paths(commands(), nil) {
		c := defined(path)
		for name, env := range c.env {
			if byEnv[env] == nil {
				f := c.flags.Lookup(name)
				byEnv[env] = &described{flag: "`-" + name + "`", says: strings.ReplaceAll(f.Usage, " ("+env+")", "") + otherwise(f)}
			}
			byEnv[env].commands = append(byEnv[env].commands, strings.Join(path, " "))
		}
	}
	var b strings.Builder
	b.WriteString("# All settings\n\nMade from the commands themselves. A flag goes before the environment, the environment before `" + configFile + "` (or the file that\n" +
		"`VARNET_CONFIG` names). [operating.md](operating.md) says which of them an installation needs.\n\n| variable | flag | what it is | of |\n|---|---|---|---|\n")
	for _, env := range slices.Sorted(maps.Keys(byEnv)) {
		s := byEnv[env]
		of := strings.Join(s.commands, ", ")
		if len(s.commands) > 8 {
			of = fmt.Sprintf("%d commands", len(s.commands))
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", env, s.flag, s.says, of)
	}
	return b.String()
}

// pages are the pages for people that name commands, settings and each other.
func pages(t *testing.T) (names []string) {
	t.Helper()
	for _, pattern := range []string{"../../*.md", "../../docs/*.md", "../../docs/*/*.md"} {
		found, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, found...)
	}
	return names
}

var (
	linked = regexp.MustCompile(`\]\(([^)#\s]+)(?:#[^)]*)?\)`)
	callOf = regexp.MustCompile("(?m)(?:^ {4,}|`|^)(?:bin/)?varnet ([a-z][^`\n]*)")
	placed = regexp.MustCompile("`((?:core|internal|cmd|web|docs|script|packaging)/[\\w./-]+)`")
	env    = regexp.MustCompile(`VARNET_[A-Z_]+`)
	word   = regexp.MustCompile(`'[^']*'|"[^"]*"|\S+`)
)

// TestPagesAreRight: what a page links to is there, and so is every command, flag and setting
// that it names.
func TestPagesAreRight(t *testing.T) {
	settings := settingsReference()
	for _, name := range pages(t) {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range linked.FindAllStringSubmatch(string(text), -1) {
			if _, err := os.Stat(filepath.Join(filepath.Dir(name), m[1])); !strings.Contains(m[1], "://") && err != nil {
				t.Errorf("%s leads to %s, which is not there", name, m[1])
			}
		}
		for _, m := range placed.FindAllStringSubmatch(string(text), -1) {
			if _, err := os.Stat(filepath.Join("../..", m[1])); err != nil && filepath.Base(name) != "CHANGELOG.md" {
				t.Errorf("%s names %s, which is not there", name, m[1])
			}
		}
		for _, v := range env.FindAllString(string(text), -1) {
			if !strings.Contains(settings, "`"+v+"`") && !strings.HasPrefix(v, "VARNET_TEST_") && v != "VARNET_WRITE" {
				t.Errorf("%s names %s, which is not a setting", name, v)
			}
		}
		if filepath.Base(name) == "CHANGELOG.md" { // it tells of what was
			continue
		}
		for _, m := range callOf.FindAllStringSubmatch(string(text), -1) {
			if what := wrongCall(m[1]); what != "" {
				t.Errorf("%s names \"varnet %s\": %s", name, m[1], what)
			}
		}
	}
}

// wrongCall tells what is wrong with a call of Varnet, as far as pages show one: where arguments
// are left out, nothing is.
func wrongCall(line string) string {
	line, _, _ = strings.Cut(line, "#")
	for _, end := range []string{" |", " >", " <", " &&", ";", " …", ")"} {
		line, _, _ = strings.Cut(line, end)
	}
	words := word.FindAllString(line, -1)
	for i, w := range words {
		words[i], _, _ = strings.Cut(w, "|") // the first of several
	}
	if words[0] == "help" || words[0] == "COMMAND" {
		return ""
	}
	c, rest, err := find(words)
	if err != nil {
		return err.Error()
	}
	if len(c.subs) > 0 && c.usage == "" && len(rest) > 0 && !strings.HasPrefix(rest[0], "-") {
		return "there is no " + rest[0]
	}
	c = defined(c.path)
	for _, w := range rest {
		name, _, _ := strings.Cut(strings.Trim(w, "[].,:"), "=")
		if flagged, ok := strings.CutPrefix(name, "-"); ok && flagged != "" && flagged != "-" && flagged != "h" && c.flags.Lookup(flagged) == nil {
			return "there is no " + name
		}
	}
	return ""
}
