package syslog_test

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/internal/people"
	"bivium/internal/store"
	"bivium/internal/syslog"
	"bivium/internal/vault"
)

// server starts Debian's rsyslogd on a port, which writes what it hears to a file: the parts that
// it reads of each message, and the rest.
func server(t *testing.T, dir, kind string, port int) (file string, stop func()) {
	t.Helper()
	file = filepath.Join(dir, "heard")
	conf := fmt.Sprintf(`global(workDirectory=%q)
module(load="im%s")
template(name="parts" type="string" string="%%pri%%|%%hostname%%|%%app-name%%|%%msgid%%|%%structured-data%%|%%msg%%\n")
input(type="im%s" port="%d" address="127.0.0.1" ruleset="all")
ruleset(name="all") { action(type="omfile" file=%q template="parts") }
`, dir, kind, kind, port, file)
	path := filepath.Join(dir, "rsyslog.conf")
	require.NoError(t, os.WriteFile(path, []byte(conf), 0o600))
	cmd := exec.CommandContext(context.WithoutCancel(t.Context()), "/usr/sbin/rsyslogd", "-n", "-f", path, "-i", filepath.Join(dir, "pid"))
	require.NoError(t, cmd.Start(), "run make logs first")
	stop = func() {
		cmd.Process.Kill() //nolint:errcheck // it may have gone
		cmd.Wait()         //nolint:errcheck // it was killed
	}
	t.Cleanup(stop)
	return file, stop
}

func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0") //nolint:noctx // it is closed at once
	require.NoError(t, err)
	defer l.Close() //nolint:errcheck // it is the test's
	return l.Addr().(*net.TCPAddr).Port
}

func audit(t *testing.T) *people.Audit {
	t.Helper()
	file := filepath.Join(t.TempDir(), "b.db")
	s, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	v, err := vault.Open(file + ".key")
	require.NoError(t, err)
	register, err := people.Open(t.Context(), s, v, time.Now)
	require.NoError(t, err)
	return register.Audit()
}

// TestTheAuditLogIsSentOn sends entries to a server that is not there at first, and again to one
// that was away meanwhile: it hears each, in order, with the head of the chain.
func TestTheAuditLogIsSentOn(t *testing.T) {
	dir, port := t.TempDir(), freePort(t)
	log := audit(t)
	to, err := syslog.Parse(fmt.Sprintf("tcp://127.0.0.1:%d", port))
	require.NoError(t, err)
	sender := &syslog.Sender{To: to, Audit: log, Log: slog.New(slog.DiscardHandler), Pause: 50 * time.Millisecond}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { sender.Run(ctx); close(done) }()
	defer func() { cancel(); <-done }()

	add := func(what, about string) {
		require.NoError(t, log.Add(ctx, &people.Who{Name: "mira", Address: "192.0.2.7"}, what, about, `a "quoted" ] word`))
	}
	add("draft applied", "depot")
	file, stop := server(t, dir, "tcp", port)
	heard := func(n int) []string {
		var lines []string
		require.Eventually(t, func() bool {
			text, _ := os.ReadFile(file) //nolint:errcheck // it is not there yet
			lines = strings.Split(strings.TrimSpace(string(text)), "\n")
			return len(lines) >= n && lines[0] != ""
		}, 20*time.Second, 20*time.Millisecond, "%v", lines)
		return lines
	}
	first := heard(1)[0]
	parts := strings.SplitN(first, "|", 6)
	assert.Equal(t, []string{"109", "bivium", "audit"}, []string{parts[0], parts[2], parts[3]})
	for _, want := range []string{`number="1"`, `actor="mira"`, `address="192.0.2.7"`, `what="draft applied"`, `about="depot"`} {
		assert.Contains(t, parts[4], want)
	}
	assert.Contains(t, parts[5], `draft applied: depot: a "quoted" ] word`)
	_, head, err := log.Verify(ctx, "")
	require.NoError(t, err)
	assert.Contains(t, parts[4], `head="`+head+`"`)

	stop()
	add("signed out", "")
	add("signed in", "")
	server(t, dir, "tcp", port)
	lines := heard(3)
	assert.Contains(t, lines[len(lines)-1], `number="3"`)
	assert.Contains(t, strings.Join(lines, "\n"), `number="2"`)
	left, err := log.Unsent(ctx, 10)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestAddressesOfServers reads addresses with and without a port, and says what is wrong with others.
func TestAddressesOfServers(t *testing.T) {
	for _, text := range []string{"udp://logs.example", "tcp://192.0.2.1:601", "tls://[2001:db8::1]"} {
		_, err := syslog.Parse(text)
		assert.NoError(t, err, text)
	}
	for _, text := range []string{"logs.example:514", "http://logs.example", "tcp://", "tls://logs.example/path"} {
		_, err := syslog.Parse(text)
		assert.ErrorContains(t, err, "write udp://HOST:PORT", text)
	}
}
