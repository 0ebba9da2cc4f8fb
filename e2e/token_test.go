package e2e

import (
	"net/http"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCommandsAskAServer makes a token on the command line with a person's password, and asks the
// server with it: its estate, a draft of it, and what an edit would change there. With a token
// neither a password nor another token can be had.
func TestCommandsAskAServer(t *testing.T) {
	address := serveOwn(t)
	run := func(token, input string, args ...string) (string, int) {
		c := exec.CommandContext(t.Context(), binary, append(args, "--server", address)...)
		c.Env, c.Stdin = append(c.Environ(), "BIVIUM_TOKEN="+token), strings.NewReader(input)
		out, _ := c.CombinedOutput()
		return strings.TrimSpace(string(out)), c.ProcessState.ExitCode()
	}
	said, code := run("", "wrong", "token", "--person", "rune", "--for", "ci")
	assert.Equal(t, 2, code)
	assert.Contains(t, said, "the name or the password is wrong")
	token, code := run("", secret+"\n", "token", "--person", "rune", "--for", "ci", "--role", "engineer", "--days", "7")
	require.Equal(t, 0, code, token)

	const segment = "operations: [{op: put, kind: segment, object: {name: apart, default: allow}, base: absent}]"
	said, code = run(token, segment, "try", "-")
	assert.Equal(t, 0, code)
	assert.Contains(t, said, "apart")
	said, code = run(token, segment, "draft", "add", "-", "--name", "one-more")
	require.Equal(t, "1", said)
	assert.Equal(t, 0, code)
	said, code = run(token, "", "check", "--draft", "1")
	assert.Equal(t, 0, code, said)
	assert.Contains(t, said, "0 faults")
	said, _ = run(token, "operations: [{op: delete, kind: segment, name: apart}]", "try", "-", "--draft", "1")
	assert.Contains(t, said, "apart")
	said, code = run(token+"x", "", "check")
	assert.Equal(t, 2, code)
	assert.Contains(t, said, "sign in, or send a token that is valid")

	scripted := func(method, path, body string) int {
		r, err := http.NewRequestWithContext(t.Context(), method, address+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	assert.Equal(t, http.StatusUnprocessableEntity, scripted(http.MethodPut, "/api/me/password", `{"old": "`+secret+`", "password": "`+secret+` too"}`))
	assert.Equal(t, http.StatusUnprocessableEntity, scripted(http.MethodPost, "/api/tokens", `{"name": "more", "role": "engineer", "ends": "2099-01-01"}`))
}
