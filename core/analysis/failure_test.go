package analysis

import (
	"fmt"
	"math/big"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/failure"
	"bivium/core/matrix"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// without returns a copy of e in which one thing has failed. Links and
// attachments are known by their place: there may be two between the same ends.
func without(e *estate.Estate, f *failure.Outage) *estate.Estate {
	next := *e
	next.Links, next.Attachments, next.Exits, next.Pools = slices.Clone(e.Links), slices.Clone(e.Attachments), slices.Clone(e.Exits), slices.Clone(e.Pools)
	hub := ""
	if f.Ref.Kind == estate.KindHub {
		hub = f.Ref.Name
	}
	for i := range next.Links {
		l := &next.Links[i]
		if l.Between[0] == hub || l.Between[1] == hub || i == f.Cut.Link {
			l.State = "down"
		}
	}
	for i := range next.Attachments {
		if a := &next.Attachments[i]; a.Hub == hub || i == f.Cut.Attachment {
			a.State = "down"
		}
	}
	for i := range next.Exits {
		if next.Exits[i].Hub == hub {
			next.Exits[i].State = "down"
		}
	}
	for i := range next.Pools {
		next.Pools[i].Firewalls = slices.Clone(next.Pools[i].Firewalls)
		for k := range next.Pools[i].Firewalls {
			if w := &next.Pools[i].Firewalls[k]; w.Hub == hub || f.Ref.Kind == estate.KindFirewall && w.Name == f.Ref.Name {
				w.State = "failed"
			}
		}
	}
	return &next
}

// TestWhatIfIsWhatComparingFinds holds every single failure of drawn estates
// against the comparison with an estate in which it has happened.
func TestWhatIfIsWhatComparingFinds(t *testing.T) {
	t.Parallel()
	wants := meet.Often(1, estate.KindHub, estate.KindLink, estate.KindAttachment, estate.KindFirewall)
	wants["a failure that turns flows"], wants["an expectation that breaks"] = 200, 10
	wants["flows from the internet"], wants["flows through two publications"] = 20, 3
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := expecting(drawValid(t))
		s := New(verdict.New(e))
		before := s.Expectations.All()
		for _, impact := range failure.WhatIf(s.Matrix, s.Expectations.All(), failure.Outages(s.Matrix)) {
			after := New(verdict.New(without(e, &impact.Outage)))
			d := difference.Compare(s.Matrix, after.Matrix)
			turned := map[string][]*difference.Change{}
			for i := range d.Changes {
				c := &d.Changes[i]
				gone := c.After == nil && c.Publication != "" // a publication that is shut, or whose exit is
				if c.Before == nil || c.After == nil && !gone || !c.Outcome() || c.From.Kind == matrix.NodeInternet && c.Publication == "" {
					continue
				}
				now := verdict.Unrouted
				if !gone {
					now = c.After.Outcome
				}
				if c.Before.Outcome == now {
					continue
				}
				key := fmt.Sprint(c.From, c.To, c.Before.Outcome, now)
				turned[key] = append(turned[key], c)
			}
			found := map[string]bool{}
			for _, x := range impact.Turns {
				key := fmt.Sprint(x.From, x.To, x.Before, x.After)
				found[key] = true
				require.Contains(t, turned, key, "%s turns what comparing does not find", impact.Outage.Ref)
				require.Equal(t, pairsOf(&d, turned[key]).String(), x.Pairs.String(), "%s: %s", impact.Outage.Ref, key)
				met.If(x.From.Kind == matrix.NodeInternet, "flows from the internet")
				met.If(len(publicationsOf(turned[key])) > 1, "flows through two publications")
				require.Equal(t, x.Before, s.Judge.Judge(x.Witness).Outcome, "%s: %v", impact.Outage.Ref, x.Witness)
				require.Equal(t, x.After, after.Judge.Judge(x.Witness).Outcome, "%s: %v", impact.Outage.Ref, x.Witness)
				require.False(t, x.Services.Empty())
				met["a failure that turns flows"]++
				met[string(impact.Outage.Ref.Kind)]++
			}
			for key := range turned {
				require.True(t, found[key], "%s misses %s", impact.Outage.Ref, key)
			}
			var want, got []string
			for i, h := range after.Expectations.All() {
				if before[i].Holds && !before[i].Vacuous && !h.Holds {
					want = append(want, h.Expectation.Name)
				}
			}
			for _, b := range impact.Broken {
				got = append(got, b.Expectation.Name)
				met["an expectation that breaks"]++
			}
			slices.Sort(want)
			slices.Sort(got)
			require.Equal(t, want, got, "%s", impact.Outage.Ref)
		}
	})
}

// pairsOf counts the pairs of endpoints with flows in some changes between two aligned domains,
// each once, intersection by intersection.
func pairsOf(d *difference.Difference, changes []*difference.Change) *big.Int {
	land := func(k int) *difference.AlignedDomain { return d.Comparer.Domain(changes[0].At[k]) }
	from, to := land(0), land(1)
	pairs := map[[2]uint]bool{}
	for _, c := range changes {
		for _, p := range c.Sets() {
			for i := range p.From.EachSet() {
				for k := range p.To.EachSet() {
					if from.Intersections[i].Four == to.Intersections[k].Four {
						pairs[[2]uint{i, k}] = true
					}
				}
			}
		}
	}
	out := new(big.Int)
	for p := range pairs {
		x, y := &from.Intersections[p[0]], &to.Intersections[p[1]]
		out.Add(out, new(big.Int).Mul(x.Size.Big(), y.Size.Big()))
		if changes[0].At[0] == changes[0].At[1] || changes[0].From.Kind == matrix.NodeInternet || changes[0].To.Kind == matrix.NodeInternet {
			out.Sub(out, matrix.Shared(x.Ranges, y.Ranges).Big()) // an address opens no flow to itself
		}
	}
	return out
}

func publicationsOf(changes []*difference.Change) map[string]bool {
	out := map[string]bool{}
	for _, c := range changes {
		out[c.Publication] = true
	}
	return out
}
