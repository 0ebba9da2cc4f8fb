package e2e

import (
	"fmt"
	"net/http"
	"path/filepath"
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
	for port := 9001; port < 9401; port += 2 {
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
