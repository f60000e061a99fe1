package main

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"varnet/internal/store/migrate"
)

// TestMain keeps the settings of this machine out of the tests.
func TestMain(m *testing.M) {
	os.Setenv("VARNET_CONFIG", "")
	os.Exit(m.Run())
}

// TestConfigured: the settings file takes every setting of every command, and no others.
func TestConfigured(t *testing.T) {
	found := []string{"VARNET_SECRET", "VARNET_SECRET_BEFORE"} // never a flag, which every user of the machine could read
	for _, path := range paths(commands(), nil) {
		_, help, _ := called(t, append(path, "-h")...)
		for _, m := range regexp.MustCompile(`\((VARNET_[A-Z_]+)\)`).FindAllStringSubmatch(help, -1) {
			found = append(found, m[1])
		}
	}
	slices.Sort(found)
	if found = slices.Compact(found); !slices.Equal(found, configured) {
		t.Errorf("the commands have the settings\n%v\nand the file takes\n%v", found, configured)
	}
}

// TestConfigFile: flag, environment, file and default go before each other in this order;
// a line that is not a setting is an error with its place.
func TestConfigFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "varnet.env")
	says := func(text string, args ...string) string {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		t.Setenv("VARNET_CONFIG", file)
		_, out, errOut := called(t, append([]string{"lists"}, args...)...)
		return out + errOut
	}
	const here = "# ours\n\nVARNET_SERVER = \"http://127.0.0.1:1\"\nVARNET_KEY='varnet_x'\n"
	for want, got := range map[string]string{
		"127.0.0.1:1": says(here),
		"127.0.0.1:2": says(here, "-server", "http://127.0.0.1:2"),
		"varnet.env, line 2: this is not a setting":               says("\nVARNET_KEY varnet_x\n"),
		"varnet.env, line 1: there is no setting \"VARNET_KEYS\"": says("VARNET_KEYS=varnet_x\n"),
	} {
		if !strings.Contains(got, want) {
			t.Errorf("%q; want %q", got, want)
		}
	}
	t.Setenv("VARNET_SERVER", "http://127.0.0.1:3")
	if got := says(here); !strings.Contains(got, "127.0.0.1:3") {
		t.Errorf("the environment does not go before the file: %s", got)
	}
	t.Setenv("VARNET_CONFIG", filepath.Join(t.TempDir(), "none"))
	if exit, _, errOut := called(t, "lists"); exit != 1 || !strings.Contains(errOut, "VARNET_CONFIG") {
		t.Errorf("a file that is named and not there: exit %d, %s", exit, errOut)
	}
}

// TestChangelog: the newest release names the schema that this binary knows.
func TestChangelog(t *testing.T) {
	text, err := os.ReadFile("../../CHANGELOG.md")
	if err != nil {
		t.Fatal(err)
	}
	m := regexp.MustCompile(`(?m)^## \d+\.\d+\.\d+ \((?:not released yet|\d{4}-\d\d-\d\d), schema (\d+)\)$`).FindSubmatch(text)
	if m == nil || string(m[1]) != strconv.FormatInt(migrate.Known(), 10) {
		t.Errorf("the first heading of CHANGELOG.md is not that of schema %d: %q", migrate.Known(), m)
	}
}
