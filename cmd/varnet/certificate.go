package main

import (
	"crypto/tls"
	"fmt"
	"os"
	"sync"
	"time"

	"varnet/core/say"
)

// certificate is one in files, read again when they change.
type certificate struct {
	file, key string

	mu   sync.Mutex
	read *tls.Certificate
	of   time.Time // when the files were changed last
	next time.Time // when it is looked at them again
}

// certificateLook is how often it is looked whether the files have changed.
const certificateLook = 10 * time.Second

// get returns the certificate as the files hold it. While they hold none that is right, as in
// the midst of being written, the one before goes on.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.read != nil && time.Now().Before(c.next) {
		return c.read, nil
	}
	c.next = time.Now().Add(certificateLook)
	changed, err := c.changed()
	if err == nil && changed.Equal(c.of) && c.read != nil {
		return c.read, nil
	}
	if err == nil {
		var pair tls.Certificate
		if pair, err = tls.LoadX509KeyPair(c.file, c.key); err == nil {
			c.read, c.of = &pair, changed
		}
	}
	if c.read != nil {
		return c.read, nil
	}
	return nil, fmt.Errorf("the certificate %s with the key %s cannot be used: %w", c.file, c.key, say.WithoutPath(err))
}

// changed is when one of the files was changed last.
func (c *certificate) changed() (at time.Time, err error) {
	for _, name := range []string{c.file, c.key} {
		info, err := os.Stat(name)
		if err != nil {
			return at, err
		}
		if info.ModTime().After(at) {
			at = info.ModTime()
		}
	}
	return at, nil
}
