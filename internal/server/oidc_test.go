package server_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zitadel/oidc/v3/example/server/exampleop"
	"github.com/zitadel/oidc/v3/example/server/storage"

	"bivium/internal/app/history"
	"bivium/internal/people"
	"bivium/internal/server"
)

// relying starts a server for which a provider vouches, and returns its address.
func (w *world) relying(issuer string) string {
	w.t.Helper()
	l := httptest.NewUnstartedServer(nil)
	address := "http://" + l.Listener.Addr().String()
	l.Config.Handler = server.New(server.Config{
		App: w.app, People: w.people, Drafts: w.drafts, History: history.New(w.app, w.people, w.drafts), Store: w.db, Files: fstest.MapFS{}, Log: slog.New(slog.DiscardHandler),
		Provider: &server.Provider{Called: "the company", Issuer: issuer, Client: "bivium", Secret: "a secret", Address: address},
	})
	l.Start()
	w.t.Cleanup(l.Close)
	return address
}

// browser returns a client that keeps cookies, and follows redirects but to a page.
func browser(t *testing.T) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if r.URL.Path == "/" {
			return http.ErrUseLastResponse
		}
		return nil
	}}
}

// TestSigningInWithAProvider goes through OpenID Connect with a provider of others' make.
func TestSigningInWithAProvider(t *testing.T) {
	w := start(t)
	l := httptest.NewUnstartedServer(nil)
	issuer := "http://" + strings.Replace(l.Listener.Addr().String(), "127.0.0.1", "localhost", 1)
	address := w.relying(issuer)
	users := storage.NewUserStore(issuer)
	clients := map[string]*storage.Client{"bivium": storage.WebClient("bivium", "a secret", address+"/api/sign-in/oidc/back")}
	l.Config.Handler = exampleop.SetupServer(issuer, storage.NewStorageWithClients(users, clients), nil, false)
	l.Start()
	t.Cleanup(l.Close)

	signIn := func() (*http.Client, *http.Response) {
		c := browser(t)
		page, err := c.Get(address + "/api/sign-in/oidc") //nolint:noctx // the test ends it
		require.NoError(t, err)
		require.NoError(t, page.Body.Close())
		require.Equal(t, "/login/username", page.Request.URL.Path, "%v", page.Request.URL)
		form := url.Values{"username": {"test-user@localhost"}, "password": {"verysecure"}, "id": {page.Request.URL.Query().Get("authRequestID")}}
		back, err := c.PostForm(page.Request.URL.String(), form) //nolint:noctx // the test ends it
		require.NoError(t, err)
		require.NoError(t, back.Body.Close())
		return c, back
	}
	_, refused := signIn()
	assert.Equal(t, http.StatusForbidden, refused.StatusCode, "an administrator adds people")
	require.NoError(t, w.people.Put(t.Context(), people.System("test"), people.Person{Name: "lucie", Called: "Lucie", Active: true, Subject: issuer + " id1"}))
	c, in := signIn()
	assert.Equal(t, http.StatusSeeOther, in.StatusCode)
	me, err := c.Get(address + "/api/me") //nolint:noctx // the test ends it
	require.NoError(t, err)
	var self struct{ Called string }
	require.NoError(t, json.NewDecoder(me.Body).Decode(&self))
	require.NoError(t, me.Body.Close())
	assert.Equal(t, "Lucie", self.Called)
}

// liar is a provider that gives out tokens as a test wants them.
type liar struct {
	*httptest.Server
	keys    []*ecdsa.PrivateKey // the last one signs
	claims  func(nonce string) map[string]any
	nonce   string // of the last time that it was asked
	unknown bool   // it signs with a key that it does not publish
}

func newLiar(t *testing.T) *liar {
	t.Helper()
	p := &liar{}
	p.rotate(t)
	mux := http.NewServeMux()
	p.Server = httptest.NewServer(mux)
	t.Cleanup(p.Close)
	answer := func(w http.ResponseWriter, value any) {
		w.Header().Set("Content-Type", "application/json")
		assert.NoError(t, json.NewEncoder(w).Encode(value))
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{
			"issuer": p.URL, "authorization_endpoint": p.URL + "/auth", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys",
			"id_token_signing_alg_values_supported": []string{"ES256"},
		})
	})
	mux.HandleFunc("/auth", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		p.nonce = q.Get("nonce")
		http.Redirect(w, r, q.Get("redirect_uri")+"?code=c&state="+q.Get("state"), http.StatusSeeOther)
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		set := jose.JSONWebKeySet{}
		for i, k := range p.keys {
			if !p.unknown || i < len(p.keys)-1 {
				set.Keys = append(set.Keys, jose.JSONWebKey{Key: &k.PublicKey, KeyID: string(rune('a' + i)), Algorithm: "ES256", Use: "sig"})
			}
		}
		answer(w, set)
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, _ *http.Request) {
		last := len(p.keys) - 1
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: p.keys[last], KeyID: string(rune('a' + last))}}, nil)
		if !assert.NoError(t, err) {
			return
		}
		token, err := jwt.Signed(signer).Claims(p.claims(p.nonce)).Serialize()
		assert.NoError(t, err)
		answer(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": token})
	})
	return p
}

func (p *liar) rotate(t *testing.T) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	p.keys = append(p.keys, key)
}

// TestTokensThatAreNotValid refuses what a provider should not give out, or somebody else did.
func TestTokensThatAreNotValid(t *testing.T) {
	w := start(t)
	p := newLiar(t)
	address := w.relying(p.URL)
	require.NoError(t, w.people.Put(t.Context(), people.System("test"), people.Person{Name: "lucie", Active: true, Subject: p.URL + " lucie"}))
	good := func(nonce string) map[string]any {
		now := time.Now()
		return map[string]any{"iss": p.URL, "sub": "lucie", "aud": "bivium", "exp": now.Add(time.Minute).Unix(), "iat": now.Unix(), "nonce": nonce}
	}
	status := func(c *http.Client) int {
		r, err := http.NewRequestWithContext(context.Background(), http.MethodGet, address+"/api/sign-in/oidc", nil)
		require.NoError(t, err)
		answer, err := c.Do(r)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	with := func(key string, value any) func(string) map[string]any {
		return func(nonce string) map[string]any {
			claims := good(nonce)
			claims[key] = value
			return claims
		}
	}
	p.claims = good
	require.Equal(t, http.StatusSeeOther, status(browser(t)))
	replayed := p.nonce
	for what, claims := range map[string]func(string) map[string]any{
		"wrong issuer": with("iss", "http://elsewhere.example"), "for another client": with("aud", "others"), "expired": with("exp", time.Now().Add(-time.Minute).Unix()),
		"replayed": with("nonce", replayed), "without a nonce": with("nonce", ""),
	} {
		p.claims = claims
		assert.Equal(t, http.StatusUnauthorized, status(browser(t)), what)
	}
	p.claims = with("sub", "eve")
	assert.Equal(t, http.StatusForbidden, status(browser(t)), "of an unknown person")
	p.claims = good
	p.rotate(t)
	assert.Equal(t, http.StatusSeeOther, status(browser(t)), "the key was rotated")
	p.rotate(t)
	p.unknown = true
	assert.Equal(t, http.StatusUnauthorized, status(browser(t)), "a key that is not published")

	c := browser(t)
	answer, err := c.Get(address + "/api/sign-in/oidc/back?code=c&state=guessed") //nolint:noctx // the test ends it
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	assert.Equal(t, http.StatusBadRequest, answer.StatusCode, "this browser did not begin it")
}
