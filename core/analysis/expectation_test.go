package analysis

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/expectation"
	"bivium/core/membership"
	"bivium/core/query"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/testing/oracle"
	"bivium/core/verdict"
)

func TestExpectationsOfTheDemo(t *testing.T) {
	e := readEstate(t, "../../demo/grayshoal.yaml")
	j := verdict.New(e)
	got := map[string]string{}
	for _, h := range New(j).Expectations.All() {
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
			holds, _ := expectation.Meets(h.Expectation, &v)
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
		"archive-answers":             "fails", // no return path
	}, got)
}

func TestDeniedDoesNotHoldForPacketsThatArrive(t *testing.T) {
	x := &estate.Expectation{Expect: "denied"}
	for reason, want := range map[verdict.Reason][2]bool{
		verdict.ReasonNoPath: {true, true}, verdict.ReasonUnknown: {true, false},
		verdict.ReasonNoWayBack: {false, false}, verdict.ReasonAsymmetric: {false, false},
	} {
		holds, routing := expectation.Meets(x, &verdict.Verdict{Outcome: verdict.Unrouted, Reason: reason, Intended: estate.Allow})
		require.Equal(t, want, [2]bool{holds, routing}, "%s", reason)
	}
	_, routing := expectation.Meets(x, &verdict.Verdict{Outcome: verdict.Unrouted, Reason: verdict.ReasonNoPath, Intended: estate.Deny})
	assert.False(t, routing, "it is denied as well")
}

// TestExpectationsFareAsTheOracleSays draws flows that expectations are about, and holds
// what is said of these to a second intent on each flow; and each flow that is shown as
// a failure likewise.
func TestExpectationsFareAsTheOracleSays(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Often(100, "meets", "fails", "a failure that is shown"), func(t *rapid.T, met meet.Met) {
		e := expecting(drawValid(t))
		j := verdict.New(e)
		s := New(j)
		judge := func(f verdict.Flow) verdict.Verdict {
			v := oracle.Judge(e, oracle.Flow{Segment: f.Segment, Source: f.Source, Destination: f.Destination, Protocol: f.Protocol, SourcePort: f.SourcePort, Port: f.Port, Publication: f.Publication})
			return verdict.Verdict{Outcome: verdict.Outcome(v.Outcome), Intended: estate.Action(v.Intended), Reason: verdict.Reason(v.Reason)}
		}
		ends := draw.Ends(e)
		holds := map[string]bool{}
		var inside []*estate.Expectation
		for _, h := range s.Expectations.All() {
			holds[h.Expectation.Name] = h.Holds
			if !h.Expectation.From.Internet && !h.Expectation.To.Internet {
				inside = append(inside, h.Expectation)
			}
			if failures := h.Failures(); len(failures) > 0 {
				v := judge(rapid.SampledFrom(failures).Draw(t, "failure").Witness)
				ok, _ := expectation.Meets(h.Expectation, &v)
				require.False(t, ok, "%s, and the oracle says %v", h.Expectation.Name, v)
				met["a failure that is shown"]++
			}
		}
		member := func(p estate.Party, a netip.Addr) (membership.Endpoint, bool) {
			end, ok := j.Internal(j.Net.Segment(p.Segment), a)
			if !ok || p.Groups.Any {
				return end, ok
			}
			return end, slices.Contains(end.Groups, j.Group(p.Groups.Groups[0]))
		}
		for range 60 {
			x := rapid.SampledFrom(inside).Draw(t, "expectation")
			f := verdict.Flow{
				Segment: x.From.Party.Segment, Source: rapid.SampledFrom(ends).Draw(t, "source"), Destination: rapid.SampledFrom(ends).Draw(t, "destination"),
				Service: verdict.Service{Protocol: estate.TCP, SourcePort: 50000, Port: 443},
			}
			_, from := member(x.From.Party, f.Source)
			_, to := member(x.To.Party, f.Destination)
			if !from || !to || f.Source == f.Destination || f.Source.Is4() != f.Destination.Is4() || j.Shows() {
				continue
			}
			if n, ok := query.ClassAt(s.Matrix, j.Net.Segment(x.To.Party.Segment), f.Destination); !ok || s.Classes[n].Seen[j.Net.Segment(f.Segment)] == classes.SeesOther {
				continue // by that address, the segment knows somebody else
			}
			v := judge(f)
			if ok, _ := expectation.Meets(x, &v); ok {
				met["meets"]++
				continue
			}
			met["fails"]++
			require.False(t, holds[x.Name], "%s holds, and %v is %v", x.Name, f, v)
		}
	})
}
