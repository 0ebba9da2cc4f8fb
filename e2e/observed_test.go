package e2e

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRulesOfAnObservedAccountAreProposed begins as somebody does whose cloud has rules and whose
// estate has no policies for it: the account is observed only, the board and the list of flows tell
// what its lists do, and the policies that are proposed are proven to mean the same. Nothing is
// written to the account.
func TestRulesOfAnObservedAccountAreProposed(t *testing.T) {
	w := startWritten(t)
	w.name = "mira"
	var before, after any
	w.asks("/api/targets/look", "", object{}, &before)
	type policy struct {
		Base   string `json:"base"`
		Object object `json:"object"`
	}
	of := func(name string) *policy {
		var p policy
		_, err := w.mira.send(http.MethodGet, "/api/object?kind=policy&name="+name, "", nil, &p)
		require.NoError(t, err)
		return &p
	}
	without := func(name string) object {
		return object{"op": "delete", "kind": "policy", "name": name, "base": of(name).Base}
	}
	others := []string{"turbine", "office", "contractor"}
	elsewhere := func(name, field string) object {
		p := of(name)
		p.Object[field] = others
		return object{"op": "put", "kind": "policy", "object": p.Object, "base": p.Base}
	}
	draft := w.drafts("ten-years", without("forecast-feed"), without("bids-prices"), without("sites-prices"), elsewhere("dev-not-prod", "segments"), elsewhere("no-telnet", "fromSegments"))
	w.goTo(w.address + fmt.Sprintf("/estate?draft=%d&thing=account:velum-central", draft))
	w.sees("aside", "Managed: Bivium writes its lists")
	w.clicksOn("aside button", "Observe only")
	w.sees("[data-testid=consequence]", "Flows")
	w.clicks("[data-testid=consequence] button:not([disabled])")
	w.sees("aside", "Observed only: Bivium reads its lists and never writes them")

	w.goTo(w.address + fmt.Sprintf("/board?draft=%d&open=market", draft))
	w.clicksOn("label", "Compare with the lists of observed accounts")
	w.find("[data-lists='market/traders>market/price-databases']")
	w.goTo(w.address + fmt.Sprintf("/board?draft=%d&open=market&lists=shown&row=market/traders&col=market/price-databases", draft))
	w.sees("[data-testid=lists-do]", "lists pass tcp/22, tcp/5432, which policies deny")

	w.clicksOn("nav a", "Targets")
	w.clicksOn("nav a", "Observed")
	w.sees("[aria-label='Lists pass, policies deny']", "trading-prices")
	w.clicksOn("button", "Propose rules")
	w.sees("[aria-label=Target]", "Proven for all flows: with this draft, policies intend exactly what the lists do")
	w.clicksOn("a", "Review the draft")
	w.sees("[aria-label='Objects that change']", "allow-trading-desks-to")
	w.clicksOn("button:not([disabled])", "Apply draft")
	w.inForce(3)
	w.sees("h1", "ten-years")
	w.goTo(w.address + "/targets/observed")
	w.sees("[aria-label=Target]", "Proven for all flows: policies intend exactly what the lists do")
	w.asks("/api/targets/look", "", object{}, &after)
	accounts := func(of any) int { return len(of.(map[string]any)["accounts"].([]any)) }
	require.Equal(t, accounts(before)-1, accounts(after), "an account that is observed only owes nothing")
}
