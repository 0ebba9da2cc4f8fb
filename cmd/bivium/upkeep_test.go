package main

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/internal/vault"
)

// running starts a server of a database of its own, and returns its address, with a cookie of
// its first administrator, and a function that stops it.
func running(t *testing.T, db string) (address string, cookie *http.Cookie, stop func()) {
	t.Helper()
	t.Setenv(vault.Variable, "")
	out, printed := io.Pipe()
	c := root()
	c.SetArgs([]string{"serve", "--quiet", "--listen", "127.0.0.1:0", "--db", db, "--import", grayshoal})
	c.SetOut(printed)
	ctx, cancel := newContext(t)
	done := make(chan error, 1)
	go func() { done <- c.ExecuteContext(ctx) }()
	stop = func() {
		cancel()
		require.NoError(t, <-done)
	}
	read := make([]byte, 4096)
	var text bytes.Buffer
	for !strings.Contains(text.String(), "?link=") {
		n, err := out.Read(read)
		require.NoError(t, err)
		text.Write(read[:n])
	}
	address = regexp.MustCompile(`http://[^/\s]+`).FindString(text.String())
	link := regexp.MustCompile(`\?link=(\w+)`).FindStringSubmatch(text.String())[1]
	r, err := http.Post(address+"/api/sign-in/link", "application/json", strings.NewReader(`{"link": "`+link+`", "name": "ada", "password": "four words are enough"}`)) //nolint:noctx // the test ends it
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	require.Equal(t, http.StatusOK, r.StatusCode)
	return address, r.Cookies()[0], stop
}

// token makes a token of a role.
func token(t *testing.T, address, role string, cookie *http.Cookie) string {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, address+"/api/tokens", strings.NewReader(`{"name": "ci", "role": "`+role+`", "ends": "`+tomorrow()+`"}`))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	r.AddCookie(cookie)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close() //nolint:errcheck // it is read
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return regexp.MustCompile(`bivium_\w+`).FindString(string(text))
}

// TestAServerIsAskedAndKept asks a running server, drafts and applies by tokens, backs it up
// while it runs, rotates its key, and restores the backup.
func TestAServerIsAskedAndKept(t *testing.T) {
	dir := t.TempDir()
	db := filepath.Join(dir, "b.db")
	address, cookie, stop := running(t, db)
	stopped := false
	defer func() {
		if !stopped {
			stop()
		}
	}()
	run := func(args ...string) string {
		t.Helper()
		out, err := command(t, "", args...)
		require.NoError(t, err, "%v", args)
		return out
	}
	_, err := command(t, "", "ask", "--server", address, "--from", "crews", "--to", "internet", "--on", "web")
	require.ErrorContains(t, err, "there is no token")
	t.Setenv(tokenVariable, token(t, address, "viewer", cookie))
	assert.Contains(t, run("ask", "--server", address, "--from", "crew-1", "--to", "198.51.100.7", "--on", "tcp/443"), "Inspected by tidegate")
	file := filepath.Join(dir, "edit.yaml")
	require.NoError(t, os.WriteFile(file, []byte("operations: [{op: delete, kind: policy, name: crews-web}]\n"), 0o600))
	_, err = command(t, "", "draft", "add", file, "--server", address)
	require.ErrorContains(t, err, "needs the role engineer")
	t.Setenv(tokenVariable, token(t, address, "engineer", cookie))
	assert.Equal(t, "1\n", run("draft", "add", file, "--server", address, "--name", "no-web", "--ticket", "GW-7"))
	assert.Contains(t, run("draft", "show", "1", "--server", address), "policy crews-web: deleted")
	assert.Contains(t, run("draft", "list", "--server", address), "no-web")
	_, err = command(t, "", "apply", "1", "--server", address)
	require.ErrorContains(t, err, "needs the role operator")

	backup := filepath.Join(dir, "backup.db")
	run("backup", backup, "--db", db)
	_, err = command(t, "", "backup", backup, "--db", db)
	require.ErrorContains(t, err, "is there already")
	_, err = command(t, "", "restore", backup, "--db", db)
	require.ErrorContains(t, err, "a server is using it")

	t.Setenv(tokenVariable, token(t, address, "operator", cookie))
	assert.Equal(t, "draft no-web is applied as revision 2\n", run("apply", "1", "--server", address))
	assert.Contains(t, run("blame", "--server", address, "--from", "crew-1", "--to", "198.51.100.7", "--on", "tcp/443"), "draft no-web, written by ada")
	stop()
	stopped = true

	first := run("audit", "verify", "--db", db)
	assert.Contains(t, first, "entries hold; head ")
	head := strings.TrimSpace(first[strings.LastIndex(first, " ")+1:])
	was, err := os.ReadFile(db + ".key")
	require.NoError(t, err)
	assert.Contains(t, run("key", "rotate", "--db", db), "1 secrets are encrypted with the new key")
	is, err := os.ReadFile(db + ".key")
	require.NoError(t, err)
	assert.NotEqual(t, was, is)
	assert.Contains(t, run("audit", "verify", "--db", db, "--head", head), head)

	run("restore", backup, "--db", db)
	_, err = command(t, "", "audit", "verify", "--db", db)
	require.ErrorContains(t, err, "encrypted with another key", "a backup of before is opened with the key of before")
	require.NoError(t, os.WriteFile(db+".key", was, 0o600))
	out, err := command(t, "", "audit", "verify", "--db", db, "--head", head)
	require.ErrorIs(t, err, errFails, "what came after the backup is cut off")
	assert.Contains(t, out, "entries after this one were removed")
	require.NoError(t, os.WriteFile(backup, []byte("no database"), 0o600))
	_, err = command(t, "", "restore", backup, "--db", db)
	require.Error(t, err)
}

func newContext(t *testing.T) (context.Context, context.CancelFunc) {
	t.Helper()
	return context.WithCancel(context.Background())
}

func tomorrow() string { return time.Now().AddDate(0, 0, 1).Format(time.DateOnly) }
