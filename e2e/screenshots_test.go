package e2e

import (
	"flag"
	"path/filepath"
	"testing"
)

var screenshots = flag.String("screenshots", "", "the `DIR` to take pictures of the main views into")

// TestScreenshots takes the pictures of docs/screenshots, if it is asked to.
func TestScreenshots(t *testing.T) {
	if *screenshots == "" {
		t.Skip("asked for by make screenshots")
	}
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	file := func(name string) string { return filepath.Join(*screenshots, name+".png") }

	u.goTo(address + "/board?from=operator-1&to=kelp-plc-1&on=modbus")
	u.find("[data-testid=road]")
	u.photograph(file("road"))

	u.goTo(address + "/board?open=turbine&row=turbine/jump-hosts&col=turbine/controllers&at=1.0")
	u.find("[data-testid=road]")
	u.photograph(file("board"))

	u.goTo(address + "/rules/policy/offices-web")
	u.sees("h1", "offices-web")
	u.clicks("[aria-label='services of rule 1']")
	u.types("tcp/8443,")
	u.sees("[data-testid=effect]", "read-api")
	u.photograph(file("rules"))

	u.clicksOn("button", "Discard")

	u.goTo(address + "/board?from=model-dev-1&to=price-db-1&on=sql")
	u.clicksOn("section[aria-label='Change the outcome'] button", "Allow it")
	u.find("ol[aria-label=Suggestions][aria-busy=false]")
	u.clicks("ol[aria-label=Suggestions] li:first-child button[aria-expanded]")
	u.find("ol[aria-label=Suggestions] [aria-label='Flows that change']")
	u.find("ol[aria-label=Suggestions]").MustScrollIntoView()
	u.photograph(file("suggestions"))

	u.goTo(address + "/rules/share/historian-to-forecast")
	u.chooses("Action of rule 1", "allow")
	u.find("[aria-label='Cells that change']")
	u.photograph(file("share"))
	u.clicksOn("button", "Discard")

	u.goTo(address + "/targets/network/trading")
	u.sees("[aria-label=prices]", "tcp/5432")
	u.photograph(file("targets"))

	u.goTo(address + "/targets/drift")
	u.sees("[aria-label=velum-central]", "by a.vik")
	u.photograph(file("drift"))

	u.goTo(address + "/rules/group/operators")
	u.writes("[aria-label='Label selector']", "role in (operator, jump)")
	u.find("[aria-label='Groups that change']")
	u.photograph(file("group"))
	u.clicksOn("button", "Discard")

	u.goTo(address + "/estate?rows=account:cirra-north,region:cirra-north/north,network:telemetry,subnet:telemetry/collectors,subnet:telemetry/historian,network:salvage-sandbox,subnet:salvage-sandbox/default&thing=account:cirra-north")
	u.clicksOn("[data-thing='account:cirra-north'] button", "Sync")
	u.sees("[data-testid=report]", "rov-console")
	u.photograph(file("estate"))

	u.goTo(address + "/findings")
	u.sees("[data-testid=road]", "no-telnet")
	u.photograph(file("findings"))

	u.goTo(address + "/lanes?from=forecast-1&to=historian-1&on=read-api")
	u.find("[data-testid=course]")
	u.find("[data-chip=outer-sound][data-state=down]")
	u.photograph(file("lanes"))

	u.goTo(address + "/lanes?lane=office&hub=ridge")
	u.clicksOn("aside button", "do not work")
	u.find("[data-route='10.81.0.0/24']")
	u.photograph(file("routes"))

	u.goTo(address + "/lanes?net=head-office")
	u.sees("[data-session='127.0.2.1']", "3 prefixes announced")
	u.photograph(file("routers"))

	u.goTo(address + "/rules/share/jump-to-bladeworks")
	u.widensTheShare("dns")
	u.steps(1)
	u.goTo(address + "/board?open=turbine&draft=1")
	u.find("[data-changed='contractor>turbine/jump-hosts']")
	u.photograph(file("draft-board"))
	u.clicksOn("[aria-label^=Draft] a", "Review")
	u.clicksOn("button", "Submit for review")
	u.becomes("tove")
	u.goTo(address + "/changes/1?draft=1")
	u.sees("button", "Approve for turbine")
	u.photograph(file("review"))
	u.clicksOn("button", "Approve for turbine")
	u.sees("[data-testid=state]", "approved")
	u.becomes("rune")
	u.goTo(address + "/changes/1?draft=1")
	u.applies()
	u.goTo(address + "/changes/plans/2")
	u.sees("[data-testid=plan-state]", "in force")
	u.photograph(file("plan"))
	u.goTo(address + "/changes/history")
	u.sees("table", "approved by Tove Brandal")
	u.clicks("input[type=checkbox]")
	u.sees("table", "sync of cirra-north")
	u.photograph(file("history"))

	u.becomes("mira")
	u.goTo(address + "/estate?thing=account:velum-central")
	u.clicksOn("aside button", "Observe only")
	u.clicks("[data-testid=consequence] button:not([disabled])")
	u.sees("aside", "Observed only")
	u.goTo(address + "/targets/observed")
	u.sees("[aria-label='Lists pass, policies deny']", "trading-prices")
	u.photograph(file("observed"))
	u.clicksOn("button", "Show applied estate")

	u.clicks("[aria-label='Change to dark']")
	u.goTo(address + "/board?open=market&from=dev&to=prod&on=any")
	u.find("[data-testid=road]")
	u.photograph(file("board-dark"))
}
