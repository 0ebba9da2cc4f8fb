package survey

import (
	"maps"
	"math/big"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Outage is one thing that fails.
type Outage struct {
	Ref  estate.Ref
	cut  paths.Failure
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
	From, To      Node
	Before, After verdict.Outcome
	Pairs         *big.Int // of addresses, with some service that turns so
	Services      space.Services
	Witness       verdict.Flow
	atoms         *bitset.BitSet
	tally         tally
	told          int
}

// Broken is an expectation that a failure breaks, with a flow that shows it.
type Broken struct {
	Expectation *estate.Expectation
	Witness     verdict.Flow
}

// Outages returns everything that is up and may fail: hubs, links, attachments
// and firewalls.
func (s *Survey) Outages() []Outage {
	none := paths.Failure{Hub: paths.None, Link: paths.None, Attachment: paths.None}
	var out []Outage
	for i, hub := range s.net.Hubs {
		cut := none
		cut.Hub = i
		out = append(out, Outage{estate.Ref{Kind: estate.KindHub, Name: hub}, cut, verdict.Down{Hub: hub}})
	}
	for i := range s.net.Links {
		if l := &s.net.Links[i]; l.Up {
			cut := none
			cut.Link = i
			out = append(out, Outage{estate.Ref{Kind: estate.KindLink, Name: s.net.Hubs[l.A] + "–" + s.net.Hubs[l.B]}, cut, verdict.Down{}})
		}
	}
	for i := range s.net.Attachments {
		if a := &s.net.Attachments[i]; a.Up {
			cut := none
			cut.Attachment = i
			out = append(out, Outage{estate.Ref{Kind: estate.KindAttachment, Name: s.net.Networks[a.Network].Name + "@" + s.net.Hubs[a.Hub]}, cut, verdict.Down{}})
		}
	}
	for _, p := range s.judge.Estate().Pools {
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
// of those between which the effect of the ways changes.
func (s *Survey) WhatIf(held []Held, outages []Outage) []Impact {
	s = s.forOtherWays()
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

// forOtherWays returns the survey with all combinations settled that occur if flows of a
// block go other ways that some of it have: failures lead to few effects that are new.
func (s *Survey) forOtherWays() *Survey {
	s.ledger.mu.RLock()
	wanted := make(wants, len(s.ledger.stances))
	s.ledger.mu.RUnlock()
	for _, line := range s.blocks[:len(s.inside)] {
		for _, b := range line.is {
			for _, e := range s.effectsIn(b) {
				for _, stance := range b.stances {
					if _, known := s.settled(combination{stance, e}); !known {
						wanted.want(stance, e)
					}
				}
			}
		}
	}
	next := *s
	next.verdicts = make([][]int32, len(s.verdicts))
	for e, table := range s.verdicts {
		next.verdicts[e] = slices.Clone(table)
	}
	next.settleAll(wanted)
	return &next
}

// effectsIn returns the effects that ways between the places of a block have, and, within
// a segment, local ones.
func (s *Survey) effectsIn(b *block) []int32 {
	known := map[int32]bool{}
	for _, line := range b.effects {
		for _, e := range line {
			known[e] = true
		}
	}
	if b.from == b.to {
		known[b.near[0]], known[b.near[1]] = true, true
	}
	delete(known, noEffect)
	return slices.Sorted(maps.Keys(known))
}
