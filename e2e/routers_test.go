package e2e

import (
	"context"
	"encoding/json"
	"net/http"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"bivium/internal/app"
	"bivium/internal/standin"
)

// TestARouterIsLetIn lets the router of a site announce prefixes, which then speaks
// over a real session: what it may is accepted, the rest waits and is refused, and a
// flood is said to be one.
func TestARouterIsLetIn(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/lanes?net=head-office")
	u.sees("[data-session='127.0.2.1']", "up since")
	u.sees("[data-session='127.0.2.1']", "3 prefixes announced; 1 accepted, 2 waiting")

	u.goTo(address + "/lanes?net=harbour-east")
	u.clicksOn("aside button", "add a BGP router…")
	u.writes("input[placeholder='an address']", "127.0.2.9")
	u.writes("input[inputmode=numeric]", "64699")
	u.writes("input[placeholder='nothing: all of it waits']", "10.33.0.0/16")
	u.clicksOn("aside button", "Preview changes")
	u.sees("[data-testid=consequence]", "No flow")
	u.clicksOn("[data-testid=consequence] button", "Save")
	u.applies()
	u.goTo(address + "/lanes?net=harbour-east")
	u.sees("[data-session='127.0.2.9']", "has never been up")

	r := &standin.Router{From: netip.MustParseAddr("127.0.2.9"), AS: 64699, HubAS: 64512, Announces: []netip.Prefix{
		netip.MustParsePrefix("10.33.1.0/24"), netip.MustParsePrefix("10.77.0.0/24"),
	}}
	require.NoError(t, r.Dial(context.Background(), listensAt(t, address)))
	t.Cleanup(r.Hang)
	u.sees("[data-session='127.0.2.9']", "2 prefixes announced; 1 accepted, 1 waiting")
	u.clicksOn("[data-learned='10.77.0.0/24'] button", "refuse")
	u.does("[data-learned='10.77.0.0/24']", "Refuse prefix")
	u.sees("[data-learned='10.77.0.0/24'][data-status=refused]", "forget")

	require.NoError(t, r.Announce(standin.Flood(netip.MustParsePrefix("172.16.0.0/24"), 1200)...))
	u.sees("[data-session='127.0.2.9']", "over its limit of 1000: 202 or more prefixes are ignored")
	u.clicks("main button[aria-expanded]")
	u.sees("[aria-label='Problems']", "announces more than 1000 prefixes")
	u.goTo(address + "/lanes?lane=office&hub=delta")
	u.sees("[data-route='10.33.1.0/24']", "learned")
	u.goTo(address + "/lanes?hub=delta")
	u.sees("[data-session='127.0.2.9']", "harbour-east")
}

// listensAt returns where the only hub of the demo that listens does so.
func listensAt(t *testing.T, address string) netip.AddrPort {
	t.Helper()
	in, err := http.Post(address+"/api/sign-in/demo", "application/json", strings.NewReader(`{"name": "rune"}`)) //nolint:noctx // the test's own server
	require.NoError(t, err)
	require.NoError(t, in.Body.Close())
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address+"/api/sessions", nil)
	require.NoError(t, err)
	r.AddCookie(in.Cookies()[0])
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close() //nolint:errcheck // it was read
	var all app.Sessions
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&all))
	at, err := netip.ParseAddrPort(all.Hubs[0].Address)
	require.NoError(t, err)
	return at
}
