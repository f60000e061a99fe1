package workshop

import (
	"fmt"
	"net/netip"

	"github.com/oschwald/maxminddb-golang/v2"

	"varnet/core/say"
)

// Countries opens a file that tells countries of IP addresses, in the open format MMDB: its records
// have a country with an iso_code (ISO 3166-1). The file stays open as long as the process.
func Countries(file string) (func(ip string) string, error) {
	db, err := maxminddb.Open(file)
	if err != nil {
		return nil, fmt.Errorf("the file %s, which is to tell countries of IP addresses, cannot be read: %w", file, say.WithoutPath(err))
	}
	return func(text string) string {
		ip, err := netip.ParseAddr(text)
		if err != nil {
			return ""
		}
		var code string
		if err := db.Lookup(ip.Unmap()).DecodePath(&code, "country", "iso_code"); err != nil {
			return ""
		}
		return code
	}, nil
}
