package practice

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
)

// The ports of FreePort: below those that systems take for outgoing connections, of which
// one could take a port between its choice and its use.
const (
	firstPort = 20_000
	lastPort  = 32_000
)

var given sync.Map // ports that this process was given

// FreePort returns a TCP port that nothing listens on at any address of this machine, and
// that this process was not given before.
func FreePort() (int, error) {
	for range 1000 {
		port := firstPort + rand.IntN(lastPort-firstPort)
		l, err := net.Listen("tcp", fmt.Sprintf(":%d", port))
		if err != nil {
			continue
		}
		_ = l.Close()
		if _, taken := given.LoadOrStore(port, true); !taken {
			return port, nil
		}
	}
	return 0, errors.New("no TCP port was found free in 1,000 tries; stop some of what listens on this machine")
}
