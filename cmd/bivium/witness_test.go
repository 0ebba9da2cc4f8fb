package main

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/failure"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/trace"
	"bivium/core/verdict"
	"bivium/internal/app/view"
)

// TestEveryWitnessIsAskedAgainAsItIsPrinted asks every witness that commands print of drawn
// estates again, as `bivium trace` would: it is the same flow, and fares as it was said to.
func TestEveryWitnessIsAskedAgainAsItIsPrinted(t *testing.T) {
	sound := func(e *estate.Estate) []estate.Fault { return view.Faults(verdict.New(e)) }
	wants := meet.Often(10, "a finding", "a failure", "a turn", "a change", "a flow that is gone", "a publication", "another source port")
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, sound)
		for _, x := range []string{"delivered", "denied", "inspected"} {
			for _, end := range []estate.End{{Internet: true}, {Party: estate.Party{Segment: e.Segments[0].Name, Groups: estate.Side{Any: true}}}} {
				e.Expectations = append(e.Expectations, estate.Expectation{
					Name: x + "-" + map[bool]string{true: "out", false: "in"}[end.Internet], Expect: x, To: end, Services: []estate.ServiceRef{{Term: estate.Term{AnyProtocol: true}}},
					From: estate.End{Party: estate.Party{Segment: e.Segments[len(e.Segments)-1].Name, Groups: estate.Side{Any: true}}},
				})
			}
		}
		next, _ := draw.Edit(t, e)
		if len(sound(next)) > 0 {
			next = e
		}
		was, is := view.NewSnapshot(e, 0), view.NewSnapshot(next, 0)
		again := func(s *view.Snapshot, f *verdict.Flow, w *view.FlowWords) verdict.Verdict {
			t.Helper()
			got, err := s.ParseFlow(w.From, w.To, w.Service, 0, w.Publication)
			require.NoError(t, err, "%s", w)
			require.Equal(t, *f, got, "%s", w)
			met.If(f.Publication != "", "a publication")
			met.If((f.Protocol == estate.TCP || f.Protocol == estate.UDP) && f.SourcePort != 50000, "another source port")
			return s.Judge.Judge(got)
		}
		for _, f := range was.Analysis.Findings.All(func() {}) {
			if f.Witness != nil {
				again(was, f.Witness, flowOf(was.Judge, f.Witness))
				met["a finding"]++
			}
		}
		for _, h := range was.Analysis.Expectations.All() {
			for _, f := range h.Failures() {
				require.Equal(t, f.Verdict, again(was, &f.Witness, flowOf(was.Judge, &f.Witness)), h.Expectation.Name)
				met["a failure"]++
			}
		}
		for _, x := range failure.WhatIf(was.Matrix, was.Analysis.Expectations.All(), failure.Outages(was.Matrix)) {
			for _, turn := range x.Turns {
				require.Equal(t, turn.Before, again(was, &turn.Witness, flowOf(was.Judge, &turn.Witness)).Outcome, "%v", x.Outage)
				met["a turn"]++
			}
		}
		d := difference.Compare(was.Matrix, is.Matrix)
		for i := range d.Changes {
			c := &d.Changes[i]
			for _, b := range d.Blocks(c) {
				flow, words := b.Witness(), witnessOf(was.Matrix, is.Matrix, c, &b)
				if side := map[bool]*view.Snapshot{true: was, false: is}[c.After == nil]; elsewhere(side, &flow, c.To.Segment) {
					met["a flow that is another segment's"]++
					continue
				}
				if c.After == nil {
					require.Equal(t, *c.Before, again(was, &flow, words))
					met["a flow that is gone"]++
					continue
				}
				require.Equal(t, *c.After, again(is, &flow, words))
				met["a change"]++
			}
		}
	})
}

// elsewhere reports whether a flow from the internet, by no publication, is to an address
// that another segment has too, and publishes for all services of a change: such a flow is
// told of each segment, and can be asked only of the one that publishes it.
func elsewhere(s *view.Snapshot, f *verdict.Flow, segment string) bool {
	return f.Segment == verdict.Internet && f.Publication == "" && trace.Of(s.Judge, *f).Destination.Segment != segment
}
