package trace

import (
	"maps"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/testing/oracle"
	"bivium/core/verdict"
)

// drawValid draws an estate without faults.
func drawValid(t *rapid.T) *estate.Estate {
	return draw.Faultless(t, func(e *estate.Estate) []estate.Fault {
		return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
	})
}

// known is where an estate's flows can begin, and what they can mean there, so
// that most draws are flows that somebody decides.
type known struct {
	from []verdict.Flow          // segment and source
	to   map[string][]netip.Addr // by segment
}

func knownEnds(e *estate.Estate, j *verdict.Judge) known {
	k := known{to: map[string][]netip.Addr{}}
	for _, a := range draw.Ends(e) {
		for i, s := range j.Net.Segments {
			if _, ok := j.Internal(i, a); ok {
				k.from = append(k.from, verdict.Flow{Segment: s, Source: a})
				k.to[verdict.Internet] = append(k.to[verdict.Internet], a)
			}
			found, how := j.Find(i, a)
			if how != verdict.LookupUnknown {
				k.to[s] = append(k.to[s], a)
			}
			if how == verdict.LookupShared && found.Addr != a { // few are seen under others
				k.to[s] = append(k.to[s], a, a, a, a, a, a)
			}
		}
	}
	for _, a := range []string{"198.51.100.7", "203.0.113.99", "2001:db8:1::1"} {
		k.from = append(k.from, verdict.Flow{Segment: verdict.Internet, Source: netip.MustParseAddr(a)})
	}
	return k
}

func drawFlow(t *rapid.T, e *estate.Estate, k known) verdict.Flow {
	f := rapid.SampledFrom(k.from).Draw(t, "from")
	ends := k.to[f.Segment]
	if len(ends) == 0 || rapid.IntRange(0, 9).Draw(t, "anywhere") == 0 {
		ends = draw.Ends(e)
	}
	if rapid.IntRange(0, 4).Draw(t, "any family") > 0 { // families do not mix
		same := slices.DeleteFunc(slices.Clone(ends), func(a netip.Addr) bool { return a.Is4() != f.Source.Is4() })
		if len(same) > 0 {
			ends = same
		}
	}
	f.Destination = rapid.SampledFrom(ends).Draw(t, "to")
	p := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
	f.Protocol, f.SourcePort, f.Port = p.Protocol, p.Source, p.Dest
	if len(e.Publications) > 0 && rapid.IntRange(0, 3).Draw(t, "named") == 0 {
		f.Publication = rapid.SampledFrom(e.Publications).Draw(t, "publication").Name
	}
	return f
}

// slowly asks the oracle, and puts its answer into the words of the judge.
func slowly(e *estate.Estate, f verdict.Flow) verdict.Verdict {
	v := oracle.Judge(e, oracle.Flow{
		Segment: f.Segment, Source: f.Source, Destination: f.Destination,
		Protocol: f.Protocol, SourcePort: f.SourcePort, Port: f.Port, Publication: f.Publication,
	})
	list := func(s string) []string {
		if s == "" {
			return []string{}
		}
		return strings.Split(s, ";")
	}
	return verdict.Verdict{
		Outcome: verdict.Outcome(v.Outcome), Intended: estate.Action(v.Intended), Reason: verdict.Reason(v.Reason),
		Pools: list(v.Pools), By: list(v.By), Contested: v.Contested,
	}
}

func TestJudgeAgreesWithTheOracle(t *testing.T) {
	wants := meet.Often(1, verdict.ReasonPolicy, verdict.ReasonShare, verdict.ReasonGuardrail, verdict.ReasonDefault, verdict.ReasonNoShare,
		verdict.ReasonRulebook, verdict.ReasonUnenforced, verdict.ReasonUninspectable, verdict.ReasonNoFirewall, verdict.ReasonFailedOpen,
		verdict.ReasonNoPath, verdict.ReasonNoWayBack, verdict.ReasonAsymmetric, verdict.ReasonUnknown)
	maps.Copy(wants, meet.Often(1, "no path: shadowed", "no path: not-translated", "no path: not-announced", "no path: not-accepted", "shown",
		"translated from, allowed", "translated to, allowed", "translated to, denied", "translated, inspected"))
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := drawValid(t)
		j := verdict.New(e)
		ends := knownEnds(e, j)
		for range 60 {
			f := drawFlow(t, e, ends)
			got := j.Judge(f)
			met[string(got.Reason)]++
			if want := slowly(e, f); !assert.ObjectsAreEqual(want, got) {
				text, err := document.Write(e)
				require.NoError(t, err)
				require.Equal(t, want, got, "%+v\n%s", f, text)
			}
			trace := Of(j, f)
			require.Equal(t, got, trace.Verdict, "the trace says otherwise")
			from, to, outcome := trace.Source.Inside != "", trace.Destination.Inside != "", string(got.Outcome)
			met["no path: "+trace.Path.Absence]++
			met.If(trace.Destination.SeenAs != "" || trace.Source.SeenAs != "", "shown")
			met.If(from, "translated from, "+outcome)
			met.If(to, "translated to, "+outcome)
			met.If(from || to, "translated, "+outcome)
		}
	})
}

// checks is how many estates are drawn unless -rapid.checks says otherwise:
// enough for every reason to come up.
const checks = "1200"

func TestMain(m *testing.M) {
	meet.Draws(checks)
	os.Exit(m.Run())
}
