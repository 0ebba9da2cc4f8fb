package survey

import (
	"fmt"
	"math/big"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// without returns a copy of e in which one thing has failed. Links and
// attachments are known by their place: there may be two between the same ends.
func without(e *estate.Estate, f *Outage) *estate.Estate {
	next := *e
	next.Links, next.Attachments, next.Exits, next.Pools = slices.Clone(e.Links), slices.Clone(e.Attachments), slices.Clone(e.Exits), slices.Clone(e.Pools)
	hub := ""
	if f.Ref.Kind == estate.KindHub {
		hub = f.Ref.Name
	}
	for i := range next.Links {
		l := &next.Links[i]
		if l.Between[0] == hub || l.Between[1] == hub || i == f.cut.Link {
			l.State = "down"
		}
	}
	for i := range next.Attachments {
		if a := &next.Attachments[i]; a.Hub == hub || i == f.cut.Attachment {
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
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := expecting(drawValid(t))
		s := New(verdict.New(e))
		before := s.Expectations()
		for _, impact := range s.WhatIf(s.Outages()) {
			after := New(verdict.New(without(e, &impact.Outage)))
			d := Compare(s, after)
			least, most := map[string]*big.Int{}, map[string]*big.Int{}
			for i := range d.Changes {
				c := &d.Changes[i]
				if c.Before == nil || c.After == nil || !c.Outcome() || c.From.Kind == NodeInternet {
					continue
				}
				key := fmt.Sprint(c.From, c.To, c.Before.Outcome, c.After.Outcome)
				if least[key] == nil {
					least[key], most[key] = new(big.Int), new(big.Int)
				}
				if c.Pairs.Cmp(least[key]) > 0 {
					least[key] = c.Pairs
				}
				most[key].Add(most[key], c.Pairs)
			}
			found := map[string]bool{}
			for _, x := range impact.Turns {
				if x.From.Kind == NodeInternet {
					was, is := s.judge.Judge(x.Witness), after.judge.Judge(x.Witness)
					require.Equal(t, x.Before, was.Outcome, "%s: %v", impact.Outage.Ref, x.Witness)
					require.Equal(t, x.After, is.Outcome, "%s: %v", impact.Outage.Ref, x.Witness)
					continue
				}
				key := fmt.Sprint(x.From, x.To, x.Before, x.After)
				found[key] = true
				require.Contains(t, least, key, "%s turns what comparing does not find", impact.Outage.Ref)
				require.LessOrEqual(t, least[key].Cmp(x.Pairs), 0, "%s: %s: %v and %v", impact.Outage.Ref, key, least[key], x.Pairs)
				require.LessOrEqual(t, x.Pairs.Cmp(most[key]), 0, "%s: %s: %v and %v", impact.Outage.Ref, key, x.Pairs, most[key])
				require.Equal(t, x.Before, s.judge.Judge(x.Witness).Outcome, "%s: %v", impact.Outage.Ref, x.Witness)
				require.Equal(t, x.After, after.judge.Judge(x.Witness).Outcome, "%s: %v", impact.Outage.Ref, x.Witness)
				require.False(t, x.Services.Empty())
				met["a failure that turns flows"]++
				met[string(impact.Outage.Ref.Kind)]++
			}
			for key := range least {
				require.True(t, found[key], "%s misses %s", impact.Outage.Ref, key)
			}
			var want, got []string
			for i, h := range after.Expectations() {
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
