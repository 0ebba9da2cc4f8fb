package notices_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/store"
	"bivium/internal/vault"
)

const patience = 30 * time.Second

// startMail starts a mail server of another make (make mail installs it), and returns its address
// and the folder into which it delivers. It hands over to an account that Debian always has.
func startMail(t *testing.T) (address, inbox string) {
	t.Helper()
	l, err := new(net.ListenConfig).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = l.Addr().String()
	require.NoError(t, l.Close())
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	dir, err := os.MkdirTemp("", "mail") // which the account may enter
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(dir)) })
	inbox = filepath.Join(dir, "inbox")
	require.NoError(t, os.Mkdir(inbox, 0o700))
	require.NoError(t, os.Chmod(dir, 0o755))   //nolint:gosec // see above
	require.NoError(t, os.Chmod(inbox, 0o777)) //nolint:gosec // see above
	file := filepath.Join(dir, "smtpd.conf")
	text := fmt.Sprintf("listen on 127.0.0.1 port %s hostname localhost\naction keep maildir %q\nmatch from any for local action keep\n", port, inbox)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	c := exec.Command("/usr/sbin/smtpd", "-d", "-f", file)
	require.NoError(t, c.Start(), "make mail installs it")
	t.Cleanup(func() {
		assert.NoError(t, c.Process.Signal(os.Interrupt))
		c.Wait() //nolint:errcheck // it was told to end
	})
	require.Eventually(t, func() bool {
		conn, err := new(net.Dialer).DialContext(t.Context(), "tcp", address)
		return err == nil && conn.Close() == nil
	}, patience, 50*time.Millisecond)
	return address, inbox
}

// hook is a webhook that fails at first.
type hook struct {
	mu    sync.Mutex
	fails int
	got   []*http.Request
	body  []byte
}

func (h *hook) ServeHTTP(out http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.fails--; h.fails >= 0 {
		out.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	h.body, _ = io.ReadAll(r.Body) //nolint:errcheck // the test compares it
	h.got = append(h.got, r)
}

// TestEachIsToldWhereTheyWant tells people of several kinds of things: in the browser always, by
// e-mail and by a signed webhook what they want there, also if the webhook fails at first; what is
// told once is not told again.
func TestEachIsToldWhereTheyWant(t *testing.T) {
	server, inbox := startMail(t)
	h := &hook{fails: 1}
	listener := httptest.NewServer(h)
	defer listener.Close()
	file := filepath.Join(t.TempDir(), "a.db")
	s, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	defer s.Close() //nolint:errcheck // the test ends
	v, err := vault.Open(file + ".key")
	require.NoError(t, err)
	register, err := people.Open(t.Context(), s, v, time.Now)
	require.NoError(t, err)
	n := notices.New(notices.Config{
		Store: s, People: register, Log: slog.New(slog.NewTextHandler(t.Output(), nil)), Clock: time.Now, Base: "https://bivium.example",
		Mail: &notices.Mail{Server: server, From: "bivium@localhost"},
	})
	go n.Run(t.Context())

	field, err := n.PutSettings(t.Context(), "tove", &notices.Settings{Email: "no address"})
	assert.Equal(t, "email", field)
	require.Error(t, err)
	field, err = n.PutSettings(t.Context(), "tove", &notices.Settings{Webhook: "ftp://x"})
	assert.Equal(t, "webhook", field)
	require.Error(t, err)
	_, err = n.PutSettings(t.Context(), "tove", &notices.Settings{Email: "games@localhost", Webhook: listener.URL, Kinds: []string{notices.Approval}})
	require.NoError(t, err)
	told := notices.Notice{Kind: notices.Approval, Subject: "Draft ström waits\r\nBcc: x@y", Body: "Mira submitted it.", Link: "/changes/7", Key: "draft 7"}
	n.Tell(t.Context(), []string{"tove", "mira", "tove"}, told)
	n.Tell(t.Context(), []string{"tove"}, told)
	n.Tell(t.Context(), []string{"tove"}, notices.Notice{Kind: notices.Failed, Subject: "not wanted by e-mail"})

	for person, want := range map[string]int{"tove": 2, "mira": 1, "sol": 0} {
		list, err := n.Of(t.Context(), person)
		require.NoError(t, err)
		assert.Len(t, list, want, person)
	}
	require.NoError(t, n.See(t.Context(), "mira", 1<<40))
	list, err := n.Of(t.Context(), "mira")
	require.NoError(t, err)
	assert.True(t, list[0].Seen)

	var files []string
	require.Eventually(t, func() bool {
		files, err = filepath.Glob(filepath.Join(inbox, "new", "*"))
		h.mu.Lock()
		defer h.mu.Unlock()
		return err == nil && len(files) > 0 && len(h.got) > 0
	}, patience, 50*time.Millisecond)
	require.Len(t, files, 1)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	m, err := mail.ReadMessage(strings.NewReader(string(text)))
	require.NoError(t, err)
	assert.Empty(t, m.Header.Get("Bcc"), "a subject has no lines")
	assert.Contains(t, m.Header.Get("Subject"), "=?utf-8?q?")
	body, err := io.ReadAll(m.Body)
	require.NoError(t, err)
	assert.Contains(t, string(body), "https://bivium.example/changes/7")

	settings, err := n.SettingsOf(t.Context(), "tove")
	require.NoError(t, err)
	mac := hmac.New(sha256.New, []byte(settings.Key))
	mac.Write(h.body)
	require.Len(t, h.got, 1)
	assert.Equal(t, hex.EncodeToString(mac.Sum(nil)), h.got[0].Header.Get("Bivium-Signature"))
	var sent struct{ Kind, Person, Link string }
	require.NoError(t, json.Unmarshal(h.body, &sent))
	assert.Equal(t, "tove", sent.Person)
	assert.Equal(t, "https://bivium.example/changes/7", sent.Link)
}
