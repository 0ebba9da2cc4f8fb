// Package syslog sends the audit log on to a syslog server (RFC 5424), over UDP, TCP with octet
// counting (RFC 6587) or TLS (RFC 5425). It goes on where it was after the server was away, or
// after a restart: an entry may be sent twice. What a server took and lost is not sent again; syslog
// acknowledges nothing.
package syslog

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"

	"bivium/internal/people"
)

// Address is where a syslog server listens.
type Address struct{ network, host string }

// ports are those of syslog where an address names none.
var ports = map[string]string{"udp": "514", "tcp": "601", "tls": "6514"}

// Parse reads an address: udp://HOST:PORT, tcp://HOST:PORT or tls://HOST:PORT.
func Parse(text string) (*Address, error) {
	u, err := url.Parse(text)
	if err != nil || ports[u.Scheme] == "" || u.Hostname() == "" || strings.Trim(u.Path, "/") != "" {
		return nil, fmt.Errorf("%q is not the address of a syslog server; write udp://HOST:PORT, tcp://HOST:PORT or tls://HOST:PORT", text)
	}
	port := u.Port()
	if port == "" {
		port = ports[u.Scheme]
	}
	return &Address{u.Scheme, net.JoinHostPort(u.Hostname(), port)}, nil
}

const (
	priority = 13*8 + 5         // log audit, notice
	patience = 10 * time.Second // for connecting, and for sending one entry
	batch    = 200              // entries that are noted as sent at once
)

// Pause is how long a server that is away is left alone.
const Pause = 5 * time.Second

// Sender sends the audit log on.
type Sender struct {
	To    *Address
	Audit *people.Audit
	Log   *slog.Logger
	Roots *tls.Config   // nil for those of the system
	Pause time.Duration // 0 for Pause

	conn net.Conn
	away bool
}

// Run sends entries as they are added, until the context ends.
func (s *Sender) Run(ctx context.Context) {
	defer s.hangUp()
	pause := s.Pause
	if pause == 0 {
		pause = Pause
	}
	for {
		wait := time.Duration(0)
		n, err := s.sendSome(ctx)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			if !s.away {
				s.Log.Warn("the audit log cannot be sent on; it is tried again", "to", s.To.host, "error", err)
			}
			s.away, wait = true, pause
			s.hangUp()
		case n < batch:
			s.away, wait = false, time.Hour
		}
		if wait == 0 {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-s.Audit.Added():
			if s.away { // a server that is away is not asked at each entry
				time.Sleep(min(pause, time.Second))
			}
		case <-time.After(wait):
		}
	}
}

// sendSome sends the next entries, and returns how many there were.
func (s *Sender) sendSome(ctx context.Context) (int, error) {
	entries, err := s.Audit.Unsent(ctx, batch)
	if err != nil || len(entries) == 0 {
		return 0, err
	}
	if s.conn != nil && s.To.network != "udp" && s.closed() {
		s.hangUp()
	}
	if s.conn == nil {
		if err := s.connect(ctx); err != nil {
			return 0, err
		}
	}
	for i := range entries {
		text, err := Message(&entries[i])
		if err != nil {
			return 0, err
		}
		if s.To.network != "udp" {
			text = fmt.Sprintf("%d %s", len(text), text)
		}
		if err := s.conn.SetWriteDeadline(time.Now().Add(patience)); err != nil {
			return 0, err
		}
		if _, err := s.conn.Write([]byte(text)); err != nil {
			return 0, err
		}
	}
	return len(entries), s.Audit.NoteSent(ctx, entries[len(entries)-1].Number)
}

func (s *Sender) connect(ctx context.Context) (err error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if s.To.network == "tls" {
		d := tls.Dialer{Config: s.Roots}
		s.conn, err = d.DialContext(ctx, "tcp", s.To.host)
		return err
	}
	s.conn, err = new(net.Dialer).DialContext(ctx, s.To.network, s.To.host)
	return err
}

// closed reports whether the server has closed the connection: servers of syslog say nothing else.
func (s *Sender) closed() bool {
	if s.conn.SetReadDeadline(time.Now().Add(time.Millisecond)) != nil {
		return true
	}
	_, err := s.conn.Read(make([]byte, 1))
	return err != nil && !errors.Is(err, os.ErrDeadlineExceeded)
}

func (s *Sender) hangUp() {
	if s.conn != nil {
		s.conn.Close() //nolint:errcheck // another is opened
		s.conn = nil
	}
}

// data is the name of the structured data; 32473 is the number that RFC 5612 keeps for examples.
const data = "bivium@32473"

// Message returns an entry as a syslog message.
func Message(e *people.Sent) (string, error) {
	host, err := os.Hostname()
	if err != nil {
		host = "-"
	}
	m := &rfc5424.SyslogMessage{}
	m.SetPriority(priority)
	m.SetVersion(1)
	m.SetTimestamp(e.At.UTC().Format(time.RFC3339))
	m.SetHostname(host)
	m.SetAppname("bivium")
	m.SetMsgID("audit")
	for _, x := range [][2]string{{"number", fmt.Sprint(e.Number)}, {"actor", e.Actor}, {"address", e.Address}, {"what", e.What}, {"about", e.About}, {"head", e.Head}} {
		m.SetParameter(data, x[0], x[1])
	}
	words := e.What
	for _, more := range []string{e.About, e.Detail} {
		if more != "" {
			words += ": " + more
		}
	}
	m.SetMessage(strings.ToValidUTF8(words, "?"))
	return m.String()
}
