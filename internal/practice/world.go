// Package practice is the practice internet: a name server and mail hosts on
// loopback, each host with a character of its own, and the truth about every
// mailbox. Varnet is tried out, measured and shown on it; nothing in it ever
// reaches another machine.
//
// A World is made from a readable file and a seed. The same world and seed
// always hold the same people.
package practice

import (
	"embed"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"varnet/core/address"
	"varnet/core/finding"
)

//go:embed worlds/*.json
var worlds embed.FS

// World describes a practice internet.
type World struct {
	Name string `json:"name"`
	Seed uint64 `json:"seed"`
	// GreylistMS is how long greylisting hosts put strangers off, in
	// milliseconds. Real ones take minutes; practice is short.
	GreylistMS int `json:"greylistMs"`
	// Remember makes hosts remember when they were asked about each mailbox.
	Remember  bool       `json:"remember,omitempty"`
	Operators []Operator `json:"operators"`
	Outbound  Outbound   `json:"outbound"`
	// Network is that of the hosts' addresses, of 16 bits, in a network namespace of a test's own;
	// "": the loopback network.
	Network string `json:"network,omitempty"`

	byDomain map[string]*Operator
	closed   sync.Map // mailboxes that were closed, by their canonical form
}

// CatchAll has a share of the world's people be at catch-all domains.
func (w *World) CatchAll(share float64) {
	rest, there := 0, 0
	for _, o := range w.Operators {
		if o.character.AnyAccepted {
			there += o.Weight
		} else {
			rest += o.Weight
		}
	}
	for n := range w.Operators {
		if o := &w.Operators[n]; o.character.AnyAccepted {
			o.Weight = int(float64(o.Weight) * share / (1 - share) * float64(rest) / float64(there))
		}
	}
}

// Operator is one party of the world that runs mail hosts, or fails to.
type Operator struct {
	// Name is the operator's registrable domain; its hosts are mx1.NAME …
	Name string `json:"name"`
	// Character is a name from Characters.
	Character string `json:"character"`
	// Domains are the mail domains the operator's hosts take mail for.
	Domains []string `json:"domains"`
	// Weight is how many of the world's people are here, relative to others.
	Weight int `json:"weight"`
	// Real is the share of the mailboxes that lists mention which exist.
	Real float64 `json:"real"`
	// Habits are the naming habits of its domains.
	Habits map[string]Habit `json:"habits,omitempty"`

	character *Character
	index     int
	network   [2]byte // of its hosts' addresses
}

// Load reads a world: one that ships with Varnet by name, or a file by path.
func Load(name string) (*World, error) {
	text, err := worlds.ReadFile("worlds/" + name + ".json")
	if err != nil {
		if text, err = os.ReadFile(name); err != nil {
			return nil, fmt.Errorf("there is no world %q (shipped: fernhollow; or give a file): %w", name, err)
		}
	}
	return Read(strings.NewReader(string(text)))
}

// Read reads a world file.
func Read(r io.Reader) (*World, error) {
	w := &World{}
	d := json.NewDecoder(r)
	d.DisallowUnknownFields()
	if err := d.Decode(w); err != nil {
		return nil, fmt.Errorf("read the world file: %w", err)
	}
	return w, w.prepare()
}

func (w *World) prepare() error {
	w.byDomain = map[string]*Operator{}
	network := [2]byte{127, 16}
	if w.Network != "" {
		p, err := netip.ParsePrefix(w.Network)
		if err != nil || !p.Addr().Is4() || p.Bits() != 16 {
			return fmt.Errorf("world %s: the network %q is none of 16 bits, such as 198.18.0.0/16", w.Name, w.Network)
		}
		b := p.Addr().As4()
		network = [2]byte{b[0], b[1]}
	}
	for i := range w.Operators {
		o := &w.Operators[i]
		o.network = network
		c, ok := characters[o.Character]
		if !ok {
			return fmt.Errorf("world %s: operator %s has the unknown character %q", w.Name, o.Name, o.Character)
		}
		o.character, o.index = c, i
		for _, d := range o.Domains {
			w.byDomain[d] = o
		}
	}
	return nil
}

func (w *World) greylist() time.Duration { return time.Duration(w.GreylistMS) * time.Millisecond }

// host returns the address of the operator's host numbered n, from 1. Every operator has a
// neighbourhood of its own, by default in 127.16.0.0/12.
func (o *Operator) host(n int) netip.Addr {
	return netip.AddrFrom4([4]byte{o.network[0], o.network[1] + byte(o.index>>8&15), byte(o.index), byte(n)})
}

// Truth is what is really so about a mailbox. Only tests, benchmarks and the
// mail hosts themselves may know it.
type Truth struct {
	Domain   bool // the domain takes mail at all
	Exists   bool
	Full     bool
	Disabled bool
	// AnyAccepted tells a domain whose host says yes to every mailbox.
	AnyAccepted bool
	Character   string
}

// Deliverable reports whether a message would arrive.
func (t Truth) Deliverable() bool { return t.Domain && t.Exists && !t.Full && !t.Disabled }

// Refutes reports whether a finding is wrong. None is at a host that takes every other mailbox: by
// design it is believed once in 1,024 times, which core/probe's tests hold.
func (t Truth) Refutes(f finding.Finding) bool {
	if t.Character == "accepts-by-chance" {
		return false
	}
	return f == finding.Deliverable && (!t.Deliverable() || t.AnyAccepted) || f == finding.Undeliverable && t.Deliverable()
}

// Learnable reports whether anything can be learnt about the mailbox by asking, however
// often.
func (t Truth) Learnable() bool {
	switch t.Character {
	case "cautious", "takes-unknown":
		return t.Exists
	case "accepts-first", "gives-in", "backup-takes-all", "backup-alone", "turns-accept-all":
		return false // a host that says yes to some that do not exist proves nothing by a yes
	}
	c, ok := characters[t.Character]
	return !ok || !c.Mute
}

// Truth returns the truth about an address in canonical form.
func (w *World) Truth(canonical string) Truth {
	at := strings.LastIndexByte(canonical, '@')
	if at < 0 {
		return Truth{}
	}
	local, domain := strings.ToLower(canonical[:at]), canonical[at+1:]
	local, _, _ = strings.Cut(local, "+")
	o, ok := w.byDomain[domain]
	if !ok {
		return Truth{}
	}
	c := o.character
	t := Truth{Domain: !c.NoMail, AnyAccepted: c.AnyAccepted, Character: c.Name}
	if c.NoMail {
		return t
	}
	if local == "postmaster" {
		t.Exists = true
		return t
	}
	known := w.known
	if _, ok := o.Habits[domain]; ok {
		known = knownByHabit
	}
	// Made-up mailboxes must not exist, and everybody in a list has a number
	// or an initial that the hash spreads out: r decides.
	switch r := w.draw(local + "@" + domain); {
	case r < o.Real:
		t.Exists = known(local)
	case r < o.Real+0.015:
		t.Exists, t.Full = known(local), true
	case r < o.Real+0.03:
		t.Exists, t.Disabled = known(local), true
	}
	if _, closed := w.closed.Load(local + "@" + domain); closed {
		t.Exists = false
	}
	t.Full, t.Disabled = t.Full && t.Exists, t.Disabled && t.Exists
	return t
}

// CloseMailbox has a mailbox not exist any more.
func (w *World) CloseMailbox(canonical string) { w.closed.Store(canonical, true) }

// known tells the locals that a list of this world may hold: those made of the
// world's own names and roles. Anything else does not exist anywhere.
func (w *World) known(local string) bool {
	if slices.Contains(roleLocals, local) {
		return true
	}
	plain := unaccented.Replace(local)
	first, last, ok := strings.Cut(strings.TrimRight(plain, "0123456789"), ".")
	if !ok {
		return false
	}
	return slices.Contains(firstLocals, first) && slices.Contains(lastLocals, last)
}

// draw returns a number from 0 to 1 that depends on the seed and the text alone.
func (w *World) draw(text string) float64 {
	h := fnv.New64a()
	fmt.Fprintf(h, "%d|%s", w.Seed, text)
	x := h.Sum64()
	x ^= x >> 31
	x *= 0x9e3779b97f4a7c15
	x ^= x >> 29
	return float64(x>>11) / (1 << 53)
}

// Canonical is the identity of a cell's address, "" for a cell without one.
func Canonical(cell string) string {
	a, err := address.Parse(cell)
	if err != nil {
		return ""
	}
	return a.Canonical()
}
