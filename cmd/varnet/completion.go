package main

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
)

func completionCommand() command {
	return command{"completion", "SHELL", "prints the script with which bash or zsh completes commands and settings", "source <(varnet completion bash)", completion, []command{
		{"words", "[WORD…]", "prints how the last word may continue; the script calls it", "varnet completion words -- runs st", completionWords, nil},
	}}
}

// The scripts ask the command itself, so that they never fall behind it. Where it knows no
// word, the shell completes file names.
var completions = map[string]string{
	"bash": `_varnet() {
  local IFS=$'\n'
  COMPREPLY=($(varnet completion words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -F _varnet varnet
`,
	"zsh": `#compdef varnet
_varnet() {
  local -a found
  found=(${(f)"$(varnet completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)"})
  if (( $#found )); then compadd -a found; else _files; fi
}
compdef _varnet varnet
`}

func completion(c *cli) action {
	return func(context.Context) error {
		script, ok := completions[c.args[0]]
		if !ok {
			return c.wrongUse(fmt.Sprintf("there is no completion for %q; use bash or zsh", c.args[0]))
		}
		_, err := fmt.Fprint(c.out, script)
		return err
	}
}

func completionWords(c *cli) action {
	return func(context.Context) error {
		for _, word := range completed(c.args) {
			fmt.Fprintln(c.out, word)
		}
		return nil // a fault of standard output is kept there
	}
}

// completed returns how the last word may continue: as a command, or as a setting of the
// command that the words before it name.
func completed(words []string) (out []string) {
	if len(words) == 0 {
		return nil
	}
	last, before := words[len(words)-1], words[:len(words)-1]
	c, rest, err := find(before)
	if err != nil {
		return nil
	}
	among := names(c.subs)
	if len(c.path) == 0 {
		among = append(names(commands()), "help")
	} else if strings.HasPrefix(last, "-") {
		among = c.settingNames()
	} else if len(rest) > 0 {
		return nil
	}
	return slices.DeleteFunc(among, func(word string) bool { return !strings.HasPrefix(word, last) })
}

// settingNames are the command's flags.
func (c *cli) settingNames() (out []string) {
	if c.define != nil {
		c.define(c)
	}
	c.flags.VisitAll(func(f *flag.Flag) { out = append(out, "-"+f.Name) })
	return append(out, "-h")
}
