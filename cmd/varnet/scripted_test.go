package main

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"varnet/internal/testkit"
)

// scripted is a line of a shell script and what comes of it.
type scripted struct {
	line string
	exit int
	// out is what is on standard output, where … stands for what does not matter. err is a part of standard error; "" means that nothing is there.
	out, err string
}

// TestScriptedCalls calls the command as scripts do: through pipes, devices and links, with
// standard input and output, file modes and exit codes. The lines run one after the other
// in one folder, in which members.csv has 150 rows.
func TestScriptedCalls(t *testing.T) {
	h := installed(t)
	for _, s := range []scripted{
		// Exit codes, and which stream says what.
		{`varnet`, 2, "", "Varnet verifies e-mail addresses"},
		{`varnet help | head -n 1`, 0, "Varnet verifies e-mail addresses in bulk and exports the deliverable ones.\n", ""},
		{`varnet sweep`, 2, "", `there is no command "sweep"`},
		{`varnet runs sweep`, 2, "", `there is no "sweep"`},
		{`varnet runs start -h | grep -c -- '-cause'`, 1, "0\n", ""},
		{`varnet runs start -h | grep -c -- '-hours HOURS\|-hours string'`, 0, "1\n", ""},
		{`varnet lists -colour`, 2, "", "-colour"},
		{`varnet lists >/dev/full`, 1, "", "standard output cannot be written: no space left on device"},
		{`varnet help >/dev/full`, 1, "", "no space left on device"},
		{`varnet contract >/dev/full`, 1, "", "no space left on device"},
		{`varnet practice -list 5 >/dev/full`, 1, "", "no space left on device"},
		{`VARNET_SERVER=http://127.0.0.1:1 varnet lists`, 1, "", "cannot be reached"},
		{`VARNET_KEY=varnet_wrong varnet lists -json`, 1, "", "You are not signed in."},
		{`varnet lists; varnet lists -json | tr -d ' \n'`, 0, "There is no list here. Import one: varnet clean FILE -out FILE\n{\"items\":[]}", ""},

		// What is tried before the run.
		{`varnet clean members.csv -out kept.csv -policy frown`, 1, "", `There is no policy named "frown"`},
		{`varnet clean members.csv -out none/kept.csv`, 1, "", "none/kept.csv cannot be written: no such file or directory"},
		{`varnet clean members.csv -out .`, 1, "", "it is a folder"},
		{`varnet clean members.csv -out - -json`, 2, "", "give one of them"},
		{`varnet clean nobody.csv -out kept.csv`, 1, "", "nobody.csv cannot be read: no such file or directory"},
		{`varnet lists -json | grep -c '"id"'`, 1, "0\n", ""},

		// Standard input and output.
		{`varnet clean - -name Members -out - <members.csv >kept.csv`, 0, "", "rows will be kept."},
		{`head -n 1 kept.csv; ls -A | grep -c '^\.varnet'`, 1, "Member no.,…0\n", ""},
		{`varnet clean members.csv -json -out second.csv | grep -c '"exportSentence"'`, 0, "1\n", ""},
		{`cmp kept.csv second.csv`, 0, "", ""},
		{`varnet lists import - -name "From a pipe" <members.csv`, 0, "List 3. 150 rows…", ""},
		{`varnet lists show 3 -json | grep '"fileName"'`, 0, "  \"fileName\": \"standard input\",\n", ""},
		{`echo ada@@fernhollow.example | varnet check -`, 0, "ada@@fernhollow.example  undeliverable  syntax.malformed  drop…", ""},
		{`varnet check - </dev/null`, 1, "", "standard input is empty"},
		{`varnet check -- -ada@fernhollow.example | cut -d' ' -f1`, 0, "-ada@fernhollow.example\n", ""},
		{`varnet check a@longgone.example b@longgone.example -json | grep -c '"cause": "domain'`, 0, "2\n", ""},
		{`varnet export 1 -out - | cmp - kept.csv`, 0, "", "rows will be kept."},
		{`varnet export 1 -out - 2>/dev/null | head -c 4`, 0, "Memb", ""},
		{`varnet report 1 -format html -out - | head -c 15`, 0, "<!doctype html>", ""},
		{`varnet report 1 -out -`, 2, "", "-format says which"},
		{`varnet policies show careful | sed 's/"careful"/"ours"/; s/"for": .*/"for": "",/' | varnet policies save -file - | head -n 1`, 0, "ours is saved, version 1.\n", ""},
		{`varnet policies show ours | varnet policies try 1 -file - | head -n 1 | grep -c "of 150 rows"`, 0, "1\n", ""},
		{`echo '{"rules":[],"rule":1}' | varnet policies save -file -`, 1, "", `unknown field "rule"`},
		{`echo '{}{}' | varnet policies save -file -`, 1, "", "something after its end"},
		{`echo '{}}' | varnet policies save -file -`, 1, "", "something after its end"},
		{`varnet outbound rules -json | varnet outbound rules set -`, 0, "There are no rules: everybody is asked alike.\n", ""},
		{`printf 'tenminutes.example\n' | varnet catalogue add disposable -file -`, 0, "1 entry added.\n", ""},
		{`varnet lists override 1 drop - <mailboxes.txt`, 0, "It was decided about 1 of 2 addresses.\n", ""},

		// The shapes of the API.
		{`varnet lists -limit 1 -json | grep -c '^  "next": "'`, 0, "1\n", ""},
		{`varnet lists -limit 1 -cursor $(varnet lists -limit 1 -json | sed -n 's/^  "next": "\(.*\)"$/\1/p') | tail -n 2 | cut -c1`, 0, "2\nT\n", ""},
		{`varnet lists -search pipe | tail -n 1 | cut -c1`, 0, "3\n", ""},
		{`varnet lists -order frown`, 1, "", "query.order"},
		{`varnet lists -limit 9999`, 1, "", "query.limit"},
		{`varnet export 1 -dry-run -json | head -c 1`, 0, "{", ""},
		{`varnet runs show 1 -json | grep -c '"state": "finished"'`, 0, "1\n", ""},
		{`varnet runs stop 1 -json | grep -c '"state": "finished"'`, 0, "1\n", ""},

		// Wrong filters write nothing.
		{`varnet export 1 -finding nonsense -out wrong.csv`, 1, "", "query.finding"},
		{`varnet export 1 -decision maybe -out wrong.csv`, 1, "", "query.decision"},
		{`varnet export 99 -out wrong.csv; ls wrong.csv 2>/dev/null`, 2, "", "There is no such record"},

		// Modes, links, pipes and devices.
		{`umask 027; varnet export 1 -out new.csv >/dev/null; stat -c %a new.csv`, 0, "640\n", ""},
		{`chmod 600 new.csv; varnet export 1 -out new.csv >/dev/null; stat -c %a new.csv`, 0, "600\n", ""},
		{`ln -s new.csv link.csv; varnet export 1 -decision drop -out link.csv >/dev/null; readlink link.csv; stat -c %a new.csv`, 0, "new.csv\n600\n", ""},
		{`ln -s later.csv ahead.csv; varnet export 1 -out ahead.csv >/dev/null; readlink ahead.csv; cmp later.csv kept.csv`, 0, "later.csv\n", ""},
		{`ln later.csv other.csv; varnet export 1 -decision all -out later.csv >/dev/null; cmp later.csv other.csv; wc -l <other.csv`, 0, "151\n", ""},
		{`ln -s round.csv round.csv; varnet export 1 -out round.csv`, 1, "", "too many levels of symbolic links"},
		{`mkfifo pipe; (cat pipe >through.csv) & varnet export 1 -out pipe >/dev/null; wait; cmp through.csv kept.csv; stat -c %F pipe`, 0, "fifo\n", ""},
		{`varnet export 1 -out /dev/null; stat -c %F /dev/null`, 0, "…Written to /dev/null.\ncharacter special file\n", ""},
		{`varnet export 1 -out /dev/full`, 1, "…", "no space left on device"},
		{`varnet report 1 -format pdf -out /dev/full; stat -c %F /dev/full`, 0, "character special file\n", "no space left on device"},
		{`cp kept.csv before.csv; varnet export 1 -cause frown -out kept.csv; cmp kept.csv before.csv`, 0, "", "query.cause"},
		{`ls -A | grep -c '^\.varnet'`, 1, "0\n", ""},

		// Completion in the shell itself.
		{`source <(varnet completion bash); COMP_WORDS=(varnet runs st); COMP_CWORD=2; _varnet; echo "${COMPREPLY[@]}"`, 0, "start stop\n", ""},
		{`source <(varnet completion bash); COMP_WORDS=(varnet runs start -z); COMP_CWORD=3; _varnet; echo "${COMPREPLY[@]}"`, 0, "-zone\n", ""},
		{`source <(varnet completion bash); complete -p varnet`, 0, "complete -o default -F _varnet varnet\n", ""},
		{`varnet completion fish`, 2, "", "bash or zsh"},
	} {
		h.script(s)
	}
}

// script runs a line in bash, with the built binary as varnet.
func (h hand) script(s scripted) {
	h.t.Helper()
	if _, err := os.Stat(filepath.Join(h.folder, "bin")); err != nil {
		if err := errors.Join(os.Mkdir(filepath.Join(h.folder, "bin"), 0o700), os.Symlink(testkit.Binary(), filepath.Join(h.folder, "bin/varnet"))); err != nil {
			h.t.Fatal(err)
		}
		h.put("mailboxes.txt", "nobody.atall@fernhollow.example\n\n"+h.firstAddress()+"\n")
	}
	ctx, cancel := context.WithTimeout(h.t.Context(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "bash", "-c", s.line)
	cmd.Dir = h.folder
	cmd.Env = append(os.Environ(), "PATH="+filepath.Join(h.folder, "bin")+":"+os.Getenv("PATH"), "VARNET_CONFIG=",
		"VARNET_SERVER="+h.access[1], "VARNET_KEY="+h.access[3])
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	if exit := cmd.ProcessState.ExitCode(); exit != s.exit {
		h.t.Errorf("%s\nexit code %d (%v), want %d\n%s%s", s.line, exit, err, s.exit, out.String(), errOut.String())
	}
	if !fits(out.String(), s.out) {
		h.t.Errorf("%s\non standard output %q, want %q", s.line, out.String(), s.out)
	}
	if got := errOut.String(); !strings.Contains(got, s.err) || s.err == "" && got != "" {
		h.t.Errorf("%s\non standard error %q, want %q", s.line, got, s.err)
	}
}

// fits compares a text with one in which … stands for anything.
func fits(got, want string) bool {
	begin, end, cut := strings.Cut(want, "…")
	if !cut {
		return got == want
	}
	return strings.HasPrefix(got, begin) && strings.HasSuffix(got, end)
}

// firstAddress is an address of the list.
func (h hand) firstAddress() string {
	text, err := os.ReadFile(filepath.Join(h.folder, "members.csv"))
	if err != nil {
		h.t.Fatal(err)
	}
	for _, cell := range strings.FieldsFunc(string(text), func(r rune) bool { return r == ',' || r == '\n' }) {
		if strings.HasSuffix(cell, "@postbarn.example") || strings.HasSuffix(cell, "@fernhollow.example") {
			return cell
		}
	}
	h.t.Fatal("no address")
	return ""
}
