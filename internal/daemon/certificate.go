package daemon

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// certificate is the certificate of the service, which is read again when its files change.
type certificate struct {
	cert, key string // files
	log       *slog.Logger
	ends      func(time.Time) // called with the end of the certificate in use

	mu     sync.Mutex
	pair   *tls.Certificate
	made   [2]time.Time // state of the files when they were read
	looked time.Time
}

// lookAgain is how often the files are checked for changes.
const lookAgain = 10 * time.Second

func (c *certificate) times() (out [2]time.Time) {
	for i, path := range []string{c.cert, c.key} {
		if f, err := os.Stat(path); err == nil {
			out[i] = f.ModTime()
		}
	}
	return out
}

// load reads the files; if certificate and key do not match, the previous certificate stays in use.
func (c *certificate) load() error {
	made := c.times()
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("read the certificate: %w", err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.pair, c.made = &pair, made
	if ends := pair.Leaf.NotAfter; time.Now().After(ends) {
		c.log.Error("the certificate has expired: agents and people cannot connect", "ended", ends, "file", c.cert)
	}
	c.ends(pair.Leaf.NotAfter)
	return nil
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	due := time.Since(c.looked) > lookAgain
	if due {
		c.looked = time.Now()
	}
	made := c.made
	c.mu.Unlock()
	if due && c.times() != made {
		if err := c.load(); err != nil {
			c.log.Warn("the certificate has changed and cannot be read; the earlier one stays in use", "error", err)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.pair, nil
}
