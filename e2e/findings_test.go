package e2e

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestAFindingLeadsToItsRoadAndItsPolicy works through the list as somebody
// would who was told that a jump host cannot reach a controller.
func TestAFindingLeadsToItsRoadAndItsPolicy(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address)
	u.sees("nav a", "Findings").MustClick()
	u.sees("section", "No faults: the estate can be applied.")
	u.sees("button", "Packets reach network archive")
	u.sees("button", "Policies consoles-no-shell and jump-to-controllers contest").MustClick()
	u.sees("[data-testid=road]", "They contest it")
	u.reload()
	u.sees("[data-testid=road]", "They contest it")
	u.sees("aside a", "jump-to-controllers").MustClick()
	u.sees("h1", "jump-to-controllers")
	assert.Contains(t, u.page.MustInfo().URL, "/rules/jump-to-controllers")
}
