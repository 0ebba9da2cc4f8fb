package analysis

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/findings"
	"bivium/core/testing/meet"
	"bivium/core/trace"
	"bivium/core/verdict"
)

func TestFindingsOfTheDemoAreItsPlantedIssues(t *testing.T) {
	j := verdict.New(readEstate(t, "../../demo/grayshoal.yaml"))
	var found []string
	for _, f := range New(j).Findings.All(unpaced) {
		found = append(found, string(f.Code)+": "+f.Message)
	}
	for _, planted := range []string{
		"contested: policies consoles-no-shell and jump-to-controllers conflict for flows from network control-room (turbine) to network kelp-bank (turbine)",
		"bypass: network forecast-dev reaches the internet through its own gateway and bypasses every hub and firewall",
		"unenforced: intended verdicts are not enforced on bypass paths in network forecast-dev",
		"one-way: no return path from network archive (office): packets arrive, replies do not",
		"unreached-rule: rule 3 of policy offices-web matches no flow",
		"same-members: policies consoles-no-shell and jump-to-controllers conflict: groups plcs and controllers have the same members, and neither is nested in the other",
		"learned-waits: prefix 10.31.0.128/25 of segment office, learned from head-office, needs approval, and overlaps subnet harbour-east/lan (10.31.0.0/24)",
		"down: firewall tidegate-delta-2 of pool tidegate at delta is failed",
		"down: attachment of outer-sound at fjord is down",
		"open-by-default: segment office allows flows that no policy matches",
	} {
		assert.Contains(t, found, planted)
	}
	assert.Len(t, found, 22, "no other issues than these, and what follows from them")
}

func TestFindingsHaveWitnesses(t *testing.T) {
	t.Parallel()
	wants := meet.Often(1, findings.FindingOrder...)
	delete(wants, string(findings.SameMembers)) // groups that hold the same are too seldom
	reasons := map[findings.FindingCode]verdict.Reason{
		findings.Unenforced: verdict.ReasonUnenforced, findings.Uninspectable: verdict.ReasonUninspectable, findings.FailedOpen: verdict.ReasonFailedOpen, findings.NoFirewall: verdict.ReasonNoFirewall,
		findings.Asymmetric: verdict.ReasonAsymmetric, findings.OneWay: verdict.ReasonNoWayBack, findings.MeantUnrouted: verdict.ReasonNoPath, findings.RailNotEnforced: verdict.ReasonUnenforced,
	}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		j := verdict.New(drawValid(t))
		for _, f := range New(j).Findings.All(unpaced) {
			met[string(f.Code)]++
			require.NotEmpty(t, f.Message)
			if f.Witness == nil {
				continue
			}
			v := j.Judge(*f.Witness)
			if want, ok := reasons[f.Code]; ok {
				require.Equal(t, want, v.Reason, "%s: %s: %v", f.Code, f.Message, f.Witness)
			}
			if f.Code == findings.Contested {
				require.True(t, v.Contested, "%s: %v", f.Message, f.Witness)
			}
			if f.Code == findings.Bypass {
				require.Equal(t, "bypass", trace.Of(j, *f.Witness).Path.Kind)
			}
		}
	})
}

// unpaced lets findings be worked out without waiting for anybody.
func unpaced() {}
