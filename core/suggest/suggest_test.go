package suggest_test

import (
	"maps"
	"math/big"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/analysis"
	"bivium/core/difference"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/suggest"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/testing/oracle"
	"bivium/core/verdict"
)

func faults(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// TestSuggestionsBringWhatTheyPromise asks for another outcome of drawn flows in drawn estates.
// The slow evaluator finds that outcome after each suggestion, which brings no fault; what it
// says to change besides is what comparing both estates from the ground finds.
func TestSuggestionsBringWhatTheyPromise(t *testing.T) {
	outcomes := map[estate.Action]string{estate.Allow: "allowed", estate.Inspect: "inspected", estate.Deny: "denied"}
	wants := meet.Often(3, suggest.InsertRule, suggest.ChangeRule, suggest.SwitchOff, suggest.NewPolicy, suggest.NewGroup, suggest.NewShare, suggest.PassRulebook, suggest.Attach)
	wants["several steps"] = 3
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faults)
		a := analysis.New(verdict.New(e))
		ends := draw.Ends(e)
		port := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
		f := verdict.Flow{
			Segment: rapid.SampledFrom(e.Segments).Draw(t, "segment").Name, Source: rapid.SampledFrom(ends).Draw(t, "source"), Destination: rapid.SampledFrom(ends).Draw(t, "destination"),
			Service: verdict.Service{Protocol: port.Protocol, SourcePort: port.Source, Port: port.Dest},
		}
		q := suggest.Question{Flow: f, Want: suggest.Want{Action: rapid.SampledFrom([]estate.Action{estate.Allow, estate.Inspect, estate.Deny}).Draw(t, "want")}}
		term, err := estate.ParseTermObject(estate.ProtocolName(port.Protocol), "", "")
		require.NoError(t, err)
		q.Services = []estate.ServiceRef{{Term: term}}
		if from, to := workloadOf(t, a.Judge), workloadOf(t, a.Judge); from != nil && to != nil && rapid.Bool().Draw(t, "workloads") {
			q.Flow.Segment, q.Flow.Source, q.Flow.Destination, q.Home = from.segment, from.addr, to.addr, to.segment
			f = q.Flow
		}
		told := 0
		suggest.Find(a, &q, func(s *suggest.Suggestion) bool {
			told++
			made, err := edit.Apply(e, &s.Edit, nil)
			require.NoError(t, err)
			v := oracle.Judge(made.Estate, oracle.Flow{Segment: f.Segment, Source: f.Source, Destination: f.Destination, Protocol: f.Protocol, SourcePort: f.SourcePort, Port: f.Port})
			require.Equal(t, outcomes[q.Want.Action], v.Outcome, "%+v", s.Steps)
			require.Empty(t, faults(made.Estate), "%+v", s.Steps)
			require.Equal(t, pairsOf(a, made.Estate).String(), new(big.Int).Add(s.Others, big.NewInt(1)).String(), "%+v", s.Steps)
			for _, x := range s.Steps {
				met[string(x.Code)]++
			}
			met.If(len(s.Steps) > 2, "several steps")
			return told < 6
		})
	})
}

// pairsOf counts the pairs of addresses with another outcome in an estate, from the ground.
func pairsOf(a *analysis.Analysis, e *estate.Estate) *big.Int {
	out := new(big.Int)
	d := difference.Compare(a.Matrix, matrix.New(verdict.New(e)))
	for i := range d.Changes {
		if d.Changes[i].Outcome() {
			out.Add(out, d.Changes[i].Pairs)
		}
	}
	return out
}

// TestFixesRemoveFindings asks for the edits that remove a drawn finding of drawn estates. Looked at
// from the ground after each, the finding is gone, or about no more than is said; no fault came, as
// many other findings as is said, and as many flows have another outcome.
func TestFixesRemoveFindings(t *testing.T) {
	wants := meet.Often(1, suggest.ChangeRule, suggest.SwitchOff, suggest.Remove, suggest.RemoveRule, suggest.MoveRule, suggest.NestGroup, suggest.RemoveRoute, suggest.RouteToHub,
		suggest.Enforce, suggest.FailClosed, suggest.DenyDefault, suggest.AcceptLearned, suggest.RefuseLearned, suggest.ForgetLearned, suggest.Extend, suggest.NextReview, suggest.Attach)
	wants["partly"] = 1
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := estate.AsOf(draw.Faultless(t, faults), "2026-07-01")
		a := analysis.New(verdict.New(e))
		all := a.Findings.All(func() {})
		if len(all) == 0 {
			return
		}
		byCode := map[findings.FindingCode][]findings.Finding{}
		for _, f := range all {
			byCode[f.Code] = append(byCode[f.Code], f)
		}
		code := rapid.SampledFrom(slices.Sorted(maps.Keys(byCode))).Draw(t, "code")
		f := rapid.SampledFrom(byCode[code]).Draw(t, "finding")
		before := map[string]bool{}
		for _, x := range all {
			before[x.Identity()] = true
		}
		told := 0
		suggest.Fixes(a, &f, func() bool { return true }, func(s *suggest.Suggestion) bool {
			told++
			made, err := edit.Apply(e, &s.Edit, nil)
			require.NoError(t, err, "%+v", s.Steps)
			after := estate.AsOf(made.Estate, e.Day)
			require.Empty(t, faults(after), "%+v", s.Steps)
			left, brings := []estate.Ref(nil), 0
			for _, x := range analysis.New(verdict.New(after)).Findings.All(func() {}) {
				if x.Identity() == f.Identity() {
					left = x.Refs
				} else if !before[x.Identity()] {
					brings++
				}
			}
			require.Equal(t, left, s.Left, "%+v", s.Steps)
			require.Equal(t, brings, s.Brings, "%+v", s.Steps)
			require.Equal(t, pairsOf(a, after).String(), s.Others.String(), "%+v", s.Steps)
			for _, x := range s.Steps {
				met[string(x.Code)]++
			}
			met.If(len(left) > 0, "partly")
			return told < 4
		})
	})
}

type end struct {
	segment string
	addr    netip.Addr
}

// workloadOf draws an address of a workload, nil where none is drawn that is in a segment.
func workloadOf(t *rapid.T, j *verdict.Judge) *end {
	if len(j.Estate.Workloads) == 0 {
		return nil
	}
	ends := j.EndsOf(rapid.IntRange(0, len(j.Estate.Workloads)-1).Draw(t, "workload"))
	if len(ends) == 0 {
		return nil
	}
	return &end{j.Net.Segments[ends[0].Segment], ends[0].Addr}
}

// TestTheFewestSideEffectsComeFirst sorts what was found.
func TestTheFewestSideEffectsComeFirst(t *testing.T) {
	of := func(others int64, broken ...string) *suggest.Suggestion {
		return &suggest.Suggestion{Others: big.NewInt(others), Broken: broken}
	}
	list := []*suggest.Suggestion{of(0, "x"), of(9), of(2), of(5, "x", "y")}
	suggest.Sort(list)
	assert.Equal(t, []int64{2, 9, 0, 5}, []int64{list[0].Others.Int64(), list[1].Others.Int64(), list[2].Others.Int64(), list[3].Others.Int64()})
}
