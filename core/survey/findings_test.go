package survey

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

func TestFindingsOfTheDemoAreItsPlantedTroubles(t *testing.T) {
	j := verdict.New(readEstate(t, "../../demo/grayshoal.yaml"))
	var found []string
	for _, f := range New(j).Findings() {
		found = append(found, string(f.Code)+": "+f.Message)
	}
	for _, planted := range []string{
		"contested: policies consoles-no-shell and jump-to-controllers contest, from network control-room (turbine) to network kelp-bank (turbine)",
		"bypass: network forecast-dev reaches the internet by a gateway of its own, past every hub and firewall",
		"unenforced: nothing on bypass ways enforces what is meant, in network forecast-dev",
		"one-way: packets reach network archive (office), and no reply finds a way back",
		"unreached-rule: no flow reaches rule 3 of policy offices-web",
		"same-members: policies consoles-no-shell and jump-to-controllers contest because plcs and controllers hold the same members, and neither stands within the other",
		"learned-waits: prefix 10.31.0.128/25 of segment office, learned from head-office, waits, and overlaps subnet harbour-east/lan (10.31.0.0/24)",
		"down: firewall tidegate-delta-2 of pool tidegate at delta is failed",
		"down: the attachment of outer-sound at fjord is down",
		"open-by-default: segment office allows what no policy speaks about",
	} {
		assert.Contains(t, found, planted)
	}
	assert.Len(t, found, 22, "no other troubles than these, and what follows from them")
}

func TestFindingsHaveWitnesses(t *testing.T) {
	t.Parallel()
	wants := meet.Often(1, findingOrder...)
	delete(wants, string(SameMembers)) // groups that hold the same are too seldom
	reasons := map[FindingCode]verdict.Reason{
		Unenforced: verdict.ReasonUnenforced, Uninspectable: verdict.ReasonUninspectable, FailedOpen: verdict.ReasonFailedOpen, NoFirewall: verdict.ReasonNoFirewall,
		Asymmetric: verdict.ReasonAsymmetric, OneWay: verdict.ReasonNoWayBack, MeantUnrouted: verdict.ReasonNoPath, RailNotEnforced: verdict.ReasonUnenforced,
	}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		j := verdict.New(drawValid(t))
		for _, f := range New(j).Findings() {
			met[string(f.Code)]++
			require.NotEmpty(t, f.Message)
			if f.Witness == nil {
				continue
			}
			v := j.Judge(*f.Witness)
			if want, ok := reasons[f.Code]; ok {
				require.Equal(t, want, v.Reason, "%s: %s: %v", f.Code, f.Message, f.Witness)
			}
			if f.Code == Contested {
				require.True(t, v.Contested, "%s: %v", f.Message, f.Witness)
			}
			if f.Code == Bypass {
				require.Equal(t, "bypass", j.Trace(*f.Witness).Path.Kind)
			}
		}
	})
}
