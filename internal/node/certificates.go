package node

import (
	"crypto/tls"
	"fmt"
	"os"
	"sync/atomic"
	"time"
)

// certificates hold the edge's certificate, and take a new one from its files when they
// change, so that a renewal needs no restart.
type certificates struct {
	file, key string
	current   atomic.Pointer[tls.Certificate]
	seen      [2]time.Time
}

func loadCertificates(file, key string) (*certificates, error) {
	c := &certificates{file: file, key: key}
	if err := c.load(); err != nil {
		return nil, fmt.Errorf("--certificate %s, --certificate-key %s: %w", file, key, err)
	}
	return c, nil
}

func (c *certificates) load() error {
	seen := c.times() // before they are read: what is written meanwhile is newer
	pair, err := tls.LoadX509KeyPair(c.file, c.key)
	if err != nil {
		return err
	}
	c.current.Store(&pair)
	c.seen = seen
	return nil
}

func (c *certificates) times() (times [2]time.Time) {
	for i, path := range []string{c.file, c.key} {
		if info, err := os.Stat(path); err == nil {
			times[i] = info.ModTime()
		}
	}
	return times
}

func (c *certificates) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	return c.current.Load(), nil
}

// watchCertificates looks for changed files. A pair that does not fit, as in the middle
// of a renewal, is tried again; the old one stays.
func (n *Node) watchCertificates() {
	for n.tasks.Life().Err() == nil {
		n.pause(time.Second)
		if n.certificates.times() == n.certificates.seen {
			continue
		}
		if err := n.certificates.load(); err != nil {
			n.log.Warn("the changed certificate cannot be used yet", "error", err)
			continue
		}
		n.log.Info("the certificate was taken anew")
	}
}
