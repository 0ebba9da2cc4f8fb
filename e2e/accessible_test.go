package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// axe is the checker of accessibility rules (WCAG 2.2 A and AA), which runs in the page.
const axe = "../web/node_modules/axe-core/axe.min.js"

// TestEveryPlaceIsAccessible checks each place as a person with a ticket leaves it, light
// and dark: contrast, names, roles and what they must hold.
func TestEveryPlaceIsAccessible(t *testing.T) {
	script, err := os.ReadFile(axe)
	require.NoError(t, err, "run npm ci in web first")
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	places := []struct{ path, ready string }{
		{"/estate?thing=network:archive", "[data-thing]"},
		{"/estate/labels", "[data-testid=mapping]"},
		{"/lanes?from=forecast-1&to=historian-1&on=read-api", "[data-testid=course]"},
		{"/lanes?lane=office&hub=ridge", "aside button"},
		{"/lanes?net=tide-lab&into=office&onto=delta", "[aria-label=Refused]"},
		{"/rules/policy/offices-web", "[aria-label='services of rule 1']"},
		{"/rules", "section[aria-label=Patterns]"},
		{"/rules?pattern=publish", "[aria-label='public address']"},
		{"/rules/share/common-to-market", "[aria-label='groups of owner']"},
		{"/rules/group/operators", "aside[aria-label=Facts] h2"},
		{"/rules/pool/tidegate", "[aria-label=Firewalls]"},
		{"/rules/rulebook/control", "[aria-label='services of rule 1']"},
		{"/rules/expectation/crews-nothing-else", "aside[aria-label=Facts] h2"},
		{"/board?open=turbine&row=turbine/jump-hosts&col=turbine/controllers&at=1.0", "[data-testid=road]"},
		{"/findings", "[data-testid=road]"},
		{"/findings/failures", "section[aria-label='hub fjord']"},
		{"/rules/find?destination=10.60.2.11", "[aria-label='What decides']"},
		{"/rules/several?change=add+a+service&first=web&second=tcp%2F8443", "[data-testid=consequence] button:not([disabled])"},
	}
	for _, theme := range []string{"light", "dark"} {
		for _, place := range places {
			u.goTo(address + place.path)
			u.find(place.ready)
			_, err := u.fresh().Eval(`(theme) => { document.documentElement.dataset.theme = theme; }`, theme)
			require.NoError(t, err)
			_, err = u.fresh().Eval(`(script) => { if (!window.axe) (0, eval)(script); }`, string(script))
			require.NoError(t, err)
			found, err := u.fresh().Eval(`async () => {
				const { violations } = await axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"] });
				return violations.flatMap((v) => v.nodes.map((n) => v.id + ": " + n.html.slice(0, 160) + " | " + n.failureSummary.split("\n")[1]));
			}`)
			require.NoError(t, err)
			var wrong []string
			for _, v := range found.Value.Arr() {
				wrong = append(wrong, v.Str())
			}
			assert.Empty(t, wrong, "%s, %s:\n%s", place.path, theme, strings.Join(wrong, "\n"))
		}
	}
}
