package serve

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// certificates are those of the HTTP door, kept as their files are: whoever renews them
// writes the files anew, and the next who comes is shown the new ones. Files that do not
// fit together, as while they are written, change nothing.
type certificates struct {
	files [][2]string // certificate, key

	mu     sync.Mutex
	loaded []*tls.Certificate
	stamp  string // of the files, as they were read
	looked time.Time
}

// looksAnewAfter is how often the files are looked at, at most.
const looksAnewAfter = 2 * time.Second

// newCertificates reads certificates and their keys, in pairs.
func newCertificates(certs, keys []string) (*certificates, error) {
	if len(certs) != len(keys) {
		return nil, fmt.Errorf("--tls-certificate names %d files and --tls-key %d: each certificate has its key, in the same order", len(certs), len(keys))
	}
	c := &certificates{}
	for i := range certs {
		c.files = append(c.files, [2]string{certs[i], keys[i]})
	}
	c.stamp = c.stamped()
	var err error
	c.loaded, err = c.read()
	return c, err
}

func (c *certificates) read() (out []*tls.Certificate, err error) {
	for _, f := range c.files {
		pair, err := tls.LoadX509KeyPair(f[0], f[1])
		if err != nil {
			return nil, fmt.Errorf("the certificate %s with the key %s: %w", f[0], f[1], err)
		}
		out = append(out, &pair)
	}
	return out, nil
}

// stamped is by what a change of the files is seen.
func (c *certificates) stamped() (stamp string) {
	for _, f := range c.files {
		for _, path := range f {
			if in, err := os.Stat(path); err == nil {
				stamp += fmt.Sprint(in.ModTime().UnixNano(), in.Size(), " ")
			}
		}
	}
	return stamp
}

// now are the certificates as the files are.
func (c *certificates) now() []*tls.Certificate {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) < looksAnewAfter {
		return c.loaded
	}
	c.looked = time.Now()
	stamp := c.stamped()
	if stamp == c.stamp {
		return c.loaded
	}
	c.stamp = stamp
	fresh, err := c.read()
	if err != nil {
		slog.Warn("the certificate's files have changed and are not taken: the one there was goes on", "error", err)
		return c.loaded
	}
	c.loaded = fresh
	slog.Info("the certificate is another one", "ends", c.earliest())
	return c.loaded
}

// give gives whoever comes the first certificate that does for them.
func (c *certificates) give(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	all := c.now()
	for _, one := range all {
		if hello.SupportsCertificate(one) == nil {
			return one, nil
		}
	}
	return all[0], nil
}

// ends is when the first of them ends.
func (c *certificates) ends() time.Time {
	c.now()
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.earliest()
}

func (c *certificates) earliest() (at time.Time) {
	for _, one := range c.loaded {
		if at.IsZero() || one.Leaf.NotAfter.Before(at) {
			at = one.Leaf.NotAfter
		}
	}
	return at.UTC()
}

// config is how the door speaks TLS.
func (c *certificates) config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.give}
}
