package workshop

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
)

// writeCountries writes a made-up file in the format MMDB (version 2.0) with one network of IPv4 for
// each country.
func writeCountries(t *testing.T, file string, of map[string]string) {
	t.Helper()
	type node [2]int // 0: nothing; above: another node; below: -1 - the place of the data
	nodes := []node{{}}
	var data bytes.Buffer
	for network, code := range of {
		at := data.Len()
		putMap(&data, "country", func() { putMap(&data, "iso_code", func() { putText(&data, code) }) })
		p := netip.MustParsePrefix(network)
		bits, n := p.Addr().As4(), 0
		for i := range p.Bits() {
			bit := bits[i/8] >> (7 - i%8) & 1
			if i == p.Bits()-1 {
				nodes[n][bit] = -1 - at
				break
			}
			if nodes[n][bit] == 0 {
				nodes = append(nodes, node{})
				nodes[n][bit] = len(nodes) - 1
			}
			n = nodes[n][bit]
		}
	}
	var out bytes.Buffer
	for _, n := range nodes {
		for _, to := range n {
			switch {
			case to == 0:
				to = len(nodes)
			case to < 0:
				to = len(nodes) + 16 - 1 - to
			}
			out.Write([]byte{byte(to >> 16), byte(to >> 8), byte(to)})
		}
	}
	out.Write(make([]byte, 16))
	out.Write(data.Bytes())
	out.WriteString("\xab\xcd\xefMaxMind.com") // begins the metadata, as the format has it
	out.WriteByte(0xe0 | 6)
	for _, m := range []struct {
		name  string
		value int
	}{{"node_count", len(nodes)}, {"record_size", 24}, {"ip_version", 4}, {"binary_format_major_version", 2}, {"binary_format_minor_version", 0}} {
		putText(&out, m.name)
		out.WriteByte(0xc0 | 4)
		out.Write(binary.BigEndian.AppendUint32(nil, uint32(m.value)))
	}
	putText(&out, "database_type")
	putText(&out, "Made-up")
	if err := os.WriteFile(file, out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
}

func putText(b *bytes.Buffer, text string) { b.WriteByte(0x40 | byte(len(text))); b.WriteString(text) }

func putMap(b *bytes.Buffer, name string, value func()) {
	b.WriteByte(0xe0 | 1)
	putText(b, name)
	value()
}

func TestCountries(t *testing.T) {
	file := filepath.Join(t.TempDir(), "countries.mmdb")
	writeCountries(t, file, map[string]string{"192.0.2.0/25": "NO", "198.51.100.0/24": "CH"})
	country, err := Countries(file)
	if err != nil {
		t.Fatal(err)
	}
	for ip, want := range map[string]string{"192.0.2.7": "NO", "::ffff:192.0.2.7": "NO", "198.51.100.200": "CH", "192.0.2.200": "", "203.0.113.1": "", "no address": "", "": ""} {
		if got := country(ip); got != want {
			t.Errorf("%s: %q, want %q", ip, got, want)
		}
	}
	if err := os.WriteFile(file, []byte("something else"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Countries(file); err == nil {
		t.Error("any file was taken")
	}
	if _, err := Countries(file + ".gone"); err == nil {
		t.Error("a file that is not there was taken")
	}
}
