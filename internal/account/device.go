package account

import (
	"cmp"
	"strings"
)

// DeviceOf describes a browser by its User-Agent, as people know it: Firefox on Linux. It
// tells one device from another to their owner; nothing is decided by it.
func DeviceOf(agent string) string {
	if name, ok := strings.CutPrefix(agent, "varnet/"); ok {
		_, name, _ = strings.Cut(name, " ")
		return cmp.Or(strings.Trim(name, "()"), "the command line")
	}
	first := func(of [][2]string, otherwise string) string {
		for _, o := range of {
			if strings.Contains(agent, o[0]) {
				return o[1]
			}
		}
		return otherwise
	}
	browser := first([][2]string{{"Firefox/", "Firefox"}, {"Edg/", "Edge"}, {"OPR/", "Opera"}, {"Chromium/", "Chromium"}, {"HeadlessChrome/", "Chromium"}, {"Chrome/", "Chrome"}, {"Safari/", "Safari"}}, "a browser")
	system := first([][2]string{{"Android", "Android"}, {"iPhone", "iOS"}, {"iPad", "iPadOS"}, {"Windows", "Windows"}, {"Mac OS X", "macOS"}, {"CrOS", "ChromeOS"}, {"Linux", "Linux"}}, "an unknown system")
	return browser + " on " + system
}
