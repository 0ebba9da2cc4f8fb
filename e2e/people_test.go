package e2e

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zitadel/oidc/v3/example/server/exampleop"
	"github.com/zitadel/oidc/v3/example/server/storage"
)

// TestSingleSignOn signs in with an OpenID Connect provider of others' make, from the sign-in
// page to its form and back: somebody whom no administrator has added is refused; once added,
// they are in, make a token of the role viewer, and with that token nothing can be written.
func TestSingleSignOn(t *testing.T) {
	provider := httptest.NewUnstartedServer(nil)
	issuer := "http://" + provider.Listener.Addr().String()
	t.Setenv("BIVIUM_OIDC_SECRET", "a secret")
	address := serveOwn(t, "--db", filepath.Join(t.TempDir(), "own.db"), "--oidc-issuer", issuer, "--oidc-called", "the company")
	clients := map[string]*storage.Client{"bivium": storage.WebClient("bivium", "a secret", address+"/api/sign-in/oidc/back")}
	provider.Config.Handler = exampleop.SetupServer(issuer, storage.NewStorageWithClients(storage.NewUserStore(issuer), clients), nil, false)
	provider.Start()
	t.Cleanup(provider.Close)

	signsIn := func(u *user) {
		u.in = address
		u.goTo(address + "/sign-in")
		u.clicksOn("a", "Sign in with the company")
		u.find("#username").MustInput("test-user@127.0.0.1")
		u.find("#password").MustInput("verysecure")
		u.clicks("button[type=submit]")
	}
	lucie := browse(t, 1280, 800)
	signsIn(lucie)
	lucie.sees("[role=alert]", "an administrator can add you")

	rune := browse(t, 1280, 800)
	rune.goTo(address + "/people/audit")
	rune.sees("table", "not known here: "+issuer+" id1")
	rune.goTo(address + "/people")
	rune.clicksOn("button", "Add person")
	rune.writes("[role=dialog] label:nth-of-type(1) input", "lucie")
	rune.sees("[role=dialog] label", "Single sign-on").MustElement("input").MustInput(issuer + " id1")
	rune.clicksOn("[role=dialog] button", "Add person")
	rune.sees("table", "by single sign-on")

	signsIn(lucie)
	lucie.find("[aria-label^='Signed in as lucie']")
	lucie.goTo(address + "/people/me")
	lucie.writes("[aria-label='New token'] input", "reports")
	lucie.clicksOn("[aria-label='New token'] button", "Make token")
	token := lucie.sees("[aria-label='Tokens'] p", "The token is shown this once").MustElement("code").MustText()

	run := func(input string, args ...string) (string, int) {
		c := exec.CommandContext(context.Background(), binary, append(args, "--server", address)...)
		c.Env, c.Stdin = append(c.Environ(), "BIVIUM_TOKEN="+token), strings.NewReader(input)
		out, _ := c.CombinedOutput()
		return string(out), c.ProcessState.ExitCode()
	}
	said, code := run("", "check")
	assert.Equal(t, 0, code, said)
	said, code = run("operations: [{op: put, kind: segment, object: {name: apart}, base: absent}]", "draft", "add", "-", "--name", "mine")
	assert.Equal(t, 2, code)
	assert.Contains(t, said, "engineer")
	r, err := http.Get(address + "/api/drafts") //nolint:noctx // the test ends it
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	assert.Equal(t, http.StatusUnauthorized, r.StatusCode)
}
