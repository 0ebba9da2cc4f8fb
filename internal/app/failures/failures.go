// Package failures tells what each single failure of an estate would change.
package failures

import (
	"cmp"
	"math/big"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/verdict"
	"bivium/internal/app/view"
)

// Failures is what each single failure would change, those that break the most first.
type Failures struct {
	Revision int64         `json:"revision"`
	Looked   int           `json:"looked"` // how many failures were looked at
	Quiet    int           `json:"quiet"`  // how many of them change no flow that passes
	List     []FailureView `json:"list"`
}

// FailureView is what one failure would change: of a hub, a link, an attachment or a firewall.
type FailureView struct {
	Thing  view.Thing   `json:"thing"`
	Breaks []BrokenView `json:"breaks"`
	Turns  []TurnView   `json:"turns"`
	More   int          `json:"more"` // how many turns there are beside those
}

// BrokenView is an expectation that would not hold, with a flow that shows it.
type BrokenView struct {
	Expectation string       `json:"expectation"`
	Witness     view.Witness `json:"witness"`
}

// TurnView is flows between two segments, or the internet, whose outcome would be another.
type TurnView struct {
	From     string            `json:"from"`
	To       string            `json:"to"`
	Before   verdict.Outcome   `json:"before"`
	After    verdict.Outcome   `json:"after"`
	Services view.ServiceWords `json:"services"`
	Pairs    string            `json:"pairs"` // of addresses; "" if beyond use
	Witness  view.Witness      `json:"witness"`
	pairs    *big.Int
}

// mostTurns is how many sets of flows of one failure are told one by one.
const mostTurns = 30

// Of returns what each single failure would change for flows that pass now, or would then; of
// one thing, where that is named: a hub, link, attachment or firewall, or a pool for its firewalls.
// Cost: see failure.WhatIf; of all failures once for a snapshot.
func Of(s *view.Snapshot, of view.Thing) *Failures {
	impacts := s.Impacts()
	out := &Failures{Revision: s.Revision, List: []FailureView{}}
	for i := range impacts {
		x := &impacts[i]
		thing := view.Thing{Kind: string(x.Outage.Ref.Kind), Name: x.Outage.Ref.Name}
		if of != (view.Thing{}) && of != thing && !firewallOf(s, of, thing) {
			continue
		}
		out.Looked++
		f := FailureView{Thing: thing, Breaks: []BrokenView{}, Turns: []TurnView{}}
		for k := range x.Broken {
			f.Breaks = append(f.Breaks, BrokenView{x.Broken[k].Expectation.Name, s.WitnessOf(x.Broken[k].Witness)})
		}
		for k := range x.Turns {
			t := &x.Turns[k]
			if passes(t.Before) || passes(t.After) {
				f.Turns = append(f.Turns, TurnView{endName(t.From), endName(t.To), t.Before, t.After, s.Words(t.Services), view.Grouped(t.Pairs), s.WitnessOf(t.Witness), t.Pairs})
			}
		}
		if len(f.Turns)+len(f.Breaks) == 0 {
			out.Quiet++
			continue
		}
		slices.SortStableFunc(f.Turns, func(a, b TurnView) int { return b.pairs.Cmp(a.pairs) })
		if n := len(f.Turns) - mostTurns; n > 0 {
			f.Turns, f.More = f.Turns[:mostTurns], n
		}
		out.List = append(out.List, f)
	}
	slices.SortStableFunc(out.List, func(a, b FailureView) int {
		return cmp.Or(cmp.Compare(len(b.Breaks), len(a.Breaks)), cmp.Compare(len(b.Turns)+b.More, len(a.Turns)+a.More), strings.Compare(a.Thing.Name, b.Thing.Name))
	})
	return out
}

// firewallOf reports whether a thing is a firewall of a pool.
func firewallOf(s *view.Snapshot, pool, thing view.Thing) bool {
	if pool.Kind != string(estate.KindPool) || thing.Kind != string(estate.KindFirewall) {
		return false
	}
	for i := range s.Estate.Pools {
		if p := &s.Estate.Pools[i]; p.Name == pool.Name {
			return slices.ContainsFunc(p.Firewalls, func(f estate.Firewall) bool { return f.Name == thing.Name })
		}
	}
	return false
}

func passes(o verdict.Outcome) bool { return o == verdict.Allowed || o == verdict.Inspected }

func endName(n matrix.Node) string {
	if n.Kind == matrix.NodeInternet {
		return verdict.Internet
	}
	return n.Segment
}
