// Package failure works out what each single failure would change: of a hub, a link, an
// attachment or a firewall. Failures are looked at one by one, each only at the paths that
// it cuts.
package failure

import (
	"maps"
	"math/big"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/expectation"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Outage is one thing that fails.
type Outage struct {
	Ref  estate.Ref
	Cut  paths.Failure
	down verdict.Down
}

// Impact is what changes if one thing fails.
type Impact struct {
	Outage Outage
	Turns  []Turn
	Broken []Broken // expectations that hold now, and would not
}

// Turn is flows between two segments (or the internet) whose outcome turns.
type Turn struct {
	From, To      matrix.Node
	Before, After verdict.Outcome
	Pairs         *big.Int // of addresses, with some service that turns so
	Services      space.Services
	Witness       verdict.Flow
	atoms         *bitset.BitSet
	tally         intervals.Tally
	told          int
}

// Broken is an expectation that a failure breaks, with a flow that shows it.
type Broken struct {
	Expectation *estate.Expectation
	Witness     verdict.Flow
}

// Outages returns everything that is up and may fail: hubs, links, attachments
// and firewalls.
func Outages(s *matrix.Matrix) []Outage {
	none := paths.Failure{Hub: paths.None, Link: paths.None, Attachment: paths.None}
	var out []Outage
	for i, hub := range s.Net.Hubs {
		cut := none
		cut.Hub = i
		out = append(out, Outage{estate.Ref{Kind: estate.KindHub, Name: hub}, cut, verdict.Down{Hub: hub}})
	}
	for i := range s.Net.Links {
		if l := &s.Net.Links[i]; l.Up {
			cut := none
			cut.Link = i
			out = append(out, Outage{estate.Ref{Kind: estate.KindLink, Name: s.Net.Hubs[l.A] + "–" + s.Net.Hubs[l.B]}, cut, verdict.Down{}})
		}
	}
	for i := range s.Net.Attachments {
		if a := &s.Net.Attachments[i]; a.Up {
			cut := none
			cut.Attachment = i
			out = append(out, Outage{estate.Ref{Kind: estate.KindAttachment, Name: s.Net.Networks[a.Network].Name + "@" + s.Net.Hubs[a.Hub]}, cut, verdict.Down{}})
		}
	}
	for _, p := range s.Judge.Estate.Pools {
		for _, w := range p.Firewalls {
			if w.State == "healthy" {
				out = append(out, Outage{estate.Ref{Kind: estate.KindFirewall, Name: w.Name}, none, verdict.Down{Firewall: w.Name, Pool: p.Name}})
			}
		}
	}
	return out
}

// WhatIf returns what changes if each of some things fails by itself. Cost: for
// each, the places that it strikes times the others, and the rows and columns
// of those between which the effect of the paths changes.
func WhatIf(s *matrix.Matrix, held []expectation.Result, outages []Outage) []Impact {
	s = forOtherPaths(s)
	out := make([]Impact, len(outages))
	jobs := make([]func(), 0, len(outages))
	pool := make(chan *failureEvaluator, len(outages))
	for i := range outages {
		jobs = append(jobs, func() {
			var f *failureEvaluator
			select {
			case f = <-pool:
			default:
				f = newFailureEvaluator(s, held)
			}
			out[i] = f.fall(&outages[i])
			pool <- f
		})
	}
	parallel.Run(jobs)
	return out
}

// forOtherPaths returns the matrix with all combinations settled that occur if flows of a
// block go other paths that some of it have: failures lead to few effects that are new.
func forOtherPaths(s *matrix.Matrix) *matrix.Matrix {
	s.Interner.Mu.RLock()
	wanted := make(matrix.WorkList, len(s.Interner.RuleSets))
	s.Interner.Mu.RUnlock()
	for _, line := range s.Blocks[:len(s.Inside)] {
		for _, b := range line.Is {
			for _, e := range effectsIn(s, b) {
				for _, ruleSet := range b.RuleSets {
					if _, known := s.Settled(matrix.Combination{RuleSet: ruleSet, Effect: e}); !known {
						wanted.Want(ruleSet, e)
					}
				}
			}
		}
	}
	next := *s
	next.Verdicts = make([][]int32, len(s.Verdicts))
	for e, table := range s.Verdicts {
		next.Verdicts[e] = slices.Clone(table)
	}
	next.SettleAll(wanted)
	return &next
}

// effectsIn returns the effects that paths between the places of a block have, and, within
// a segment, local ones.
func effectsIn(s *matrix.Matrix, b *matrix.Block) []int32 {
	known := map[int32]bool{}
	for _, line := range b.Effects {
		for _, e := range line {
			known[e] = true
		}
	}
	if b.From == b.To {
		known[b.Near[0]], known[b.Near[1]] = true, true
	}
	delete(known, matrix.NoEffect)
	return slices.Sorted(maps.Keys(known))
}
