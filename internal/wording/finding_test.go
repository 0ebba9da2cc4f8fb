package wording_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/analysis"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
	"bivium/demo"
	"bivium/internal/wording"
)

// TestFindingsOfTheDemoInWords reads what the demo's planted problems say.
func TestFindingsOfTheDemoInWords(t *testing.T) {
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	var said []string
	for _, f := range analysis.New(verdict.New(e)).Findings.All(func() {}) {
		said = append(said, wording.Finding(&f))
	}
	for _, planted := range []string{
		"policies consoles-no-shell and jump-to-controllers conflict for flows from network control-room (turbine) to network kelp-bank (turbine)",
		"network forecast-dev reaches the internet through its own gateway and bypasses every hub and firewall",
		"intended verdicts are not enforced on bypass paths in network forecast-dev",
		"no return path from network archive (office): packets arrive, replies do not",
		"rule 3 of policy offices-web matches no flow",
		"policies consoles-no-shell and jump-to-controllers conflict: groups plcs and controllers have the same members, and neither is nested in the other",
		"prefix 10.31.0.128/25 of segment office, learned from head-office, needs approval, and overlaps subnet harbour-east/lan (10.31.0.0/24)",
		"firewall tidegate-delta-2 of pool tidegate at delta has failed",
		"attachment of outer-sound at fjord is down",
		"segment office allows flows that no policy matches",
	} {
		assert.Contains(t, said, planted)
	}
}

// TestEveryFindingHasWords says the findings of drawn estates: nothing is left unnamed, and
// two that are not the same do not say the same.
func TestEveryFindingHasWords(t *testing.T) {
	wants := meet.Often(1, findings.FindingOrder...)
	delete(wants, string(findings.SameMembers)) // groups that hold the same are too seldom
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := estate.AsOf(draw.Faultless(t, estate.Check), "2026-07-01")
		said := map[string]string{}
		for _, f := range analysis.New(verdict.New(e)).Findings.All(func() {}) {
			met[string(f.Code)]++
			text := wording.Finding(&f)
			require.NotContains(t, text, "%!", "%v", f)
			require.NotContains(t, text, "()", "%v", f)
			require.False(t, strings.HasSuffix(text, " "), "%q", text)
			if was, twice := said[text]; twice {
				require.Equal(t, was, f.Identity(), text)
			}
			said[text] = f.Identity()
		}
	})
}
