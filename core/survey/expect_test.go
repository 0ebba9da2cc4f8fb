package survey

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/estate"
	"bivium/core/verdict"
)

func TestExpectationsOfTheDemo(t *testing.T) {
	e := readEstate(t, "../../demo/grayshoal.yaml")
	j := verdict.New(e)
	got := map[string]string{}
	for _, h := range New(j).Expectations() {
		state := "fails"
		switch {
		case h.Holds && h.ByRouting:
			state = "by routing"
		case h.Holds && h.Vacuous:
			state = "vacuous"
		case h.Holds:
			state = "holds"
		}
		got[h.Expectation.Name] = state
		for _, f := range h.Failures() {
			v := j.Judge(f.Witness)
			assert.Equal(t, f.Verdict, v, "%s: the witness", h.Expectation.Name)
			holds, _ := meets(h.Expectation, &v)
			assert.False(t, holds)
			assert.True(t, f.Services.Contains(f.Witness.Protocol, f.Witness.SourcePort, f.Witness.Port))
		}
	}
	assert.Equal(t, map[string]string{
		"turbine-never-outside":       "holds",
		"controllers-not-from-office": "holds",
		"operators-steer":             "fails", // the tunnel of outer-sound is down
		"collectors-poll-all":         "fails", // likewise
		"crews-web-inspected":         "holds",
		"crews-nothing-else":          "holds",
		"portal-public":               "holds",
		"portal-no-shell":             "vacuous",
		"dev-not-to-prod":             "holds",
		"dev-stays-in":                "fails", // forecast-dev's own internet gateway
		"forecast-reads-historian":    "holds",
		"market-names":                "holds",
		"contractors-jump":            "holds",
		"contractors-nothing-else":    "holds",
		"archive-answers":             "fails", // no way back
	}, got)
}

func TestDeniedDoesNotHoldForPacketsThatArrive(t *testing.T) {
	x := &estate.Expectation{Expect: "denied"}
	for reason, want := range map[verdict.Reason][2]bool{
		verdict.ReasonNoPath: {true, true}, verdict.ReasonUnknown: {true, false},
		verdict.ReasonNoWayBack: {false, false}, verdict.ReasonAsymmetric: {false, false},
	} {
		holds, routing := meets(x, &verdict.Verdict{Outcome: verdict.Unrouted, Reason: reason, Intended: estate.Allow})
		require.Equal(t, want, [2]bool{holds, routing}, "%s", reason)
	}
	_, routing := meets(x, &verdict.Verdict{Outcome: verdict.Unrouted, Reason: verdict.ReasonNoPath, Intended: estate.Deny})
	assert.False(t, routing, "it is denied as well")
}
