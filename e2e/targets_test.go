package e2e

import (
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAPolicyIsFollowedToItsNativeRulesAndBack begins at a policy, looks at what it becomes at
// the hubs and in a cloud, opens one of the targets, and comes back by what its rule is for. The
// proof says that the rules do what the estate says.
func TestAPolicyIsFollowedToItsNativeRulesAndBack(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules/policy/bids-prices")
	u.clicksOn("a", "What it becomes at hubs, clouds and premises")
	u.sees("h1", "What bids-prices becomes")
	u.sees("h2", "Every hub, segment market")
	u.sees("[aria-label=Target]", "velum prices")
	u.clicksOn("h2 a", "trading")
	u.sees("h1", "trading")
	u.sees("[aria-label=prices]", "Subnet prices")
	u.sees("[aria-label=prices] table", "tcp/5432")
	u.clicksOn("[aria-label=prices] a", "bids-prices")
	u.sees("h1", "bids-prices")

	u.goTo(address + "/targets")
	u.sees("[aria-label=Target]", "Proven for all flows")
	u.clicksOn("a", "What is stricter")
	u.sees("[aria-label=Target]", "no workload holds the address")
	u.goTo(address + "/targets/network/common")
	u.sees("[aria-label=for-directory-1]", "60 lines of at most 60")
	u.sees("[aria-label=for-directory-1]", "directory-2")
	u.writes("input[aria-label='Find a target']", "stratok")
	u.clicksOn("nav[aria-label=Targets] a", "portal")
	u.sees("h1", "portal")
	u.sees("h2", "Rules of the network")
}

// TestWhatDoesNotFitIsRefused drafts a policy that asks for more entries than a workload's lists
// may have: the targets say so, and what to split, in the draft alone.
func TestWhatDoesNotFitIsRefused(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	mira := &client{address: address}
	var d soaked
	does := func(path, version string, body, out any, want int) {
		status, err := mira.send(http.MethodPost, path, version, body, out)
		require.NoError(t, err)
		require.Equal(t, want, status, path)
	}
	does("/api/sign-in/demo", "", map[string]string{"name": "mira"}, nil, http.StatusOK)
	does("/api/drafts", "", map[string]string{"name": "many-ports"}, &d, http.StatusCreated)
	var services []string
	for port := 9001; port < 9701; port += 2 {
		services = append(services, fmt.Sprint("tcp/", port))
	}
	does(fmt.Sprint("/api/edit?draft=", d.ID), fmt.Sprint(d.Version), map[string]any{"operations": []any{map[string]any{"op": "put", "kind": "policy", "base": "absent", "object": map[string]any{
		"name": "many-ports", "segments": []string{"turbine"}, "from": []string{"collectors"}, "to": []string{"historian"}, "rules": []any{map[string]any{"services": services, "action": "allow"}},
	}}}}, nil, http.StatusOK)
	u := browse(t, 1280, 800)
	u.goTo(address + fmt.Sprint("/targets?draft=", d.ID))
	u.sees("[role=alert]", "entries, and its lists may have 300: split the groups")
	u.sees("nav[aria-label=Targets]", "does not fit")
	u.clicksOn("button", "Show applied estate")
	u.sees("[aria-label=Target]", "Proven for all flows")
}

// TestWhatSomebodyWroteByHandIsFound reads what the demo's accounts hold: the rules that were
// written by hand are found, with who wrote them and the flows that one of them opens; another,
// written while somebody looks, is seen at the next look, and a packet does what is said of it.
func TestWhatSomebodyWroteByHandIsFound(t *testing.T) {
	lines, _ := start(t, 8, "demo", "--quiet", "--listen", "127.0.0.1:0", "--db", filepath.Join(t.TempDir(), "demo.db"))
	address := lines[0]
	_, play, found := strings.Cut(lines[7], "controlled at ")
	require.True(t, found, "%v", lines)
	play, _, _ = strings.Cut(play, " ")
	u := browse(t, 1280, 800)
	u.goTo(address + "/targets")
	u.clicksOn("a", "Compare with what the accounts hold now")
	u.sees("[aria-label=Target]", "1 set of flows has another outcome than intended")
	u.sees("[aria-label=Target]", "Passes, and should not market 10.70.0.0/24 to market 10.70.2.0/24 on tcp/22")
	u.sees("[aria-label=velum-central]", "4010 in allow tcp/22 from 10.70.0.0/24 to any")
	u.sees("[aria-label=velum-central]", "by a.vik")
	u.sees("[aria-label=stratok-south]", "No differences")

	delivered := func() bool {
		var fate struct{ Delivered bool }
		status, err := (&client{address: play}).send(http.MethodPost, "/packets", "", map[string]any{"segment": "market", "from": "10.70.0.11", "to": "10.70.1.10", "protocol": 6, "sport": 50000, "port": 8080}, &fate)
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, status)
		return fate.Delivered
	}
	require.False(t, delivered())
	body := `{"Network": "net-trading", "On": "engines", "Priority": 4020, "Action": "allow", "Protocol": "tcp", "Ports": "8080", "From": "10.70.0.0/24", "By": "n.haug"}`
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, play+"/accounts/velum-central/rules", strings.NewReader(body))
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	require.Equal(t, http.StatusNoContent, answer.StatusCode)
	u.clicksOn("button", "Compare again")
	u.sees("[aria-label=Target]", "2 sets of flows have another outcome than intended")
	u.sees("[aria-label=velum-central]", "by n.haug")
	u.sees("[aria-label=Target]", "10.70.1.0/24 on tcp/8080")
	require.True(t, delivered(), "the packet does what the proof says")
}
