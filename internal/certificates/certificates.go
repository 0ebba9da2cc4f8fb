// Package certificates reads the certificate that a server shows, and reads it anew when it changes.
package certificates

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"time"
)

// Listen returns a listener that speaks TLS (1.2 or later) with the certificate of two files.
func Listen(l net.Listener, certificate, key string) (net.Listener, error) {
	c := &files{certificate: certificate, key: key}
	if _, err := c.current(nil); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.current, NextProtos: []string{"http/1.1"}}), nil
}

// files reads a certificate anew when its file changes. One that cannot be read leaves
// the one before in use.
type files struct {
	certificate, key string
	mu               sync.Mutex
	read             time.Time // when the file was changed that is in use
	looked           time.Time
	in               *tls.Certificate
}

// lookAgain is how often the file is looked at, at most.
const lookAgain = time.Second

func (c *files) current(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); c.in == nil || now.Sub(c.looked) >= lookAgain {
		c.looked = now
		if err := c.load(); err != nil && c.in == nil {
			return nil, err
		}
	}
	return c.in, nil
}

func (c *files) load() error {
	info, err := os.Stat(c.certificate)
	if err != nil {
		return fmt.Errorf("read the certificate: %w", err)
	}
	if info.ModTime().Equal(c.read) {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.certificate, c.key)
	if err != nil {
		return fmt.Errorf("read the certificate %s and the key %s: %w", c.certificate, c.key, err)
	}
	c.in, c.read = &pair, info.ModTime()
	return nil
}
