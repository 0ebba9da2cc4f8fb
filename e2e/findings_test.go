package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAFindingLeadsToItsRoadAndItsPolicy works through the list as somebody
// would who was told that a jump host cannot reach a controller.
func TestAFindingLeadsToItsRoadAndItsPolicy(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address)
	u.sees("nav a", "Findings").MustClick()
	u.sees("section", "No faults: the estate can be applied.")
	u.sees("button", "No return path from network archive")
	u.sees("button", "Policies consoles-no-shell and jump-to-controllers conflict").MustClick()
	u.sees("[data-testid=road]", "Contested: neither overrides the other")
	u.reload()
	u.sees("[data-testid=road]", "Contested: neither overrides the other")
	u.sees("aside a", "jump-to-controllers").MustClick()
	u.sees("h1", "jump-to-controllers")
	assert.Contains(t, u.page.MustInfo().URL, "/rules/policy/jump-to-controllers")
	u.goTo(address + "/findings?finding=down.mended") // from an old ticket
	u.sees("section", "This problem no longer exists")
}

// TestAFindingIsRemovedByOneOfItsFixes reads what each fix would change, and applies the least.
func TestAFindingIsRemovedByOneOfItsFixes(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/findings")
	u.sees("button", "Rule 3 of policy offices-web matches no flow").MustClick()
	u.find("ol[aria-label=Suggestions][aria-busy=false]")
	u.sees("ol[aria-label=Suggestions] li:first-child", "no flows change")
	u.sees("[aria-label=Fixes] button", "more with larger side effects").MustClick()
	u.sees("ol[aria-label=Suggestions] li", "Move rule 3 of policy offices-web before rule 2")
	u.sees("ol[aria-label=Suggestions] button", "Remove rule 3 of policy offices-web").MustClick()
	u.sees("ol[aria-label=Suggestions] button", "Apply").MustClick()
	u.sees("section", "This problem no longer exists")
	u.sees("section", "20 findings")
	u.sees("button", "Attachment of outer-sound at fjord is down").MustClick()
	u.sees("[aria-label=Fixes]", "No edit was found that removes this finding")
}

// TestAPlaceThatFailsLeavesTheOthersStanding answers a place with what it cannot show.
func TestAPlaceThatFailsLeavesTheOthersStanding(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	spoilt := u.page.HijackRequests()
	require.NoError(t, spoilt.Add("*/api/issues", "", func(h *rod.Hijack) {
		h.Response.SetHeader("Content-Type", "application/json").SetBody(`{"faults": 7}`)
	}))
	go spoilt.Run()
	u.goTo(address + "/findings")
	u.sees("[role=alert]", "nothing was changed")
	u.sees("[role=alert]", "TypeError")
	u.sees("nav a", "Lanes").MustClick()
	u.sees("[data-lane=office]", "office")
	u.gone("[role=alert]")
	require.NoError(t, spoilt.Stop())
	u.sees("nav a", "Findings").MustClick()
	u.reload()
	u.sees("button", "No return path from network archive")
}

// TestAnOverlapIsMendedWhereItIsFound brings a document in which two networks of one
// segment have the same addresses, and takes the translation that Findings offers.
func TestAnOverlapIsMendedWhereItIsFound(t *testing.T) {
	text, err := os.ReadFile("../demo/grayshoal.yaml")
	require.NoError(t, err)
	placed := strings.NewReplacer(
		"{name: bench, prefix: 10.31.0.64/26}", "{name: bench, prefix: 10.31.0.64/26, segment: office}",
		"\nattachments:\n", "\nattachments:\n  - {network: tide-lab, hub: ridge}\n",
	).Replace(string(text))
	dir := t.TempDir()
	file := filepath.Join(dir, "overlap.yaml")
	require.NoError(t, os.WriteFile(file, []byte(placed), 0o644))
	address := serveOwn(t, "--bgp", "0", "--db", filepath.Join(dir, "bivium.db"), "--import", file)
	u := browse(t, 1280, 800)
	u.goTo(address + "/findings")
	u.sees("section", "1 fault to fix")
	u.sees("aside", "10.31.0.64/26")
	u.clicksOn("[aria-label='Fixes'] button", "translate tide-lab/bench for office to 100.64.0.0/26")
	u.sees("[aria-label='Routes that change']", "100.64.0.0/26")
	u.does("[aria-label='Fixes']", "Apply fix")
	u.sees("section", "No faults: the estate can be applied.")
}
