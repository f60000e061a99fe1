package reply

import (
	"embed"

	"varnet/core/phrase"
)

//go:embed words/*.txt
var files embed.FS

// The words by which a reply shows what it is about: stems in two dozen languages,
// one file for each concept. phrase.Phrase tells how they are written.
var (
	encryption = load("encryption")
	greylist   = load("greylist")
	later      = load("later")
	verifying  = load("verifying")
	throttle   = load("throttle")
	listed     = load("listed")
	name       = load("name")
	sender     = load("sender")
	login      = load("login")
	relay      = load("relay")
	full       = load("full")
	disabled   = load("disabled")
	moved      = load("moved")
	restricted = load("restricted")
	absent     = load("absent")
	policy     = load("policy")
)

func load(concept string) phrase.List {
	text, err := files.ReadFile("words/" + concept + ".txt")
	if err != nil {
		panic(err) // embedded at build time
	}
	return phrase.Read(string(text))
}
