// Package revise works out the matrix of an edited estate from that of the estate before it,
// without doing everything again: one more link costs the paths that may use it, an edited
// rule the rule sets that contain it, a moved network the classes of its addresses.
package revise

import (
	"slices"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/recompile"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Edit is a matrix before and after an edit of its estate.
type Edit struct {
	// Before and After are what to compare: services are cut alike in both, and they number
	// things alike, which may not be as the estates before and after the edit do.
	Before, After *matrix.Matrix
	Matrix        *matrix.Matrix // of the estate after the edit

	revision *recompile.Revision
	rebuilt  map[classes.Pair]bool // pairs of domains whose block is another
	touched  []bool                // by rule set: something was settled anew
	gone     []int32               // rule sets that no flow has any more, of which something else would be known
}

// Revise returns the matrix of a revised judge, as r tells how it came of that of s; nil if
// nothing can be shared, and it is better to begin anew. It works out anew what the edit touches and shares the rest with
// s, which stays as it is: an edit of rules costs the rule sets that they have a say
// in; one of sides, and of policies that come or go, the blocks of their segments;
// one of groups, workloads, shares and places, the endpoints that they are about,
// with the blocks of their segments; one of links, exits and firewalls, the paths; where
// hubs, segments, networks, exits, pools or rulebooks come or go, classes and blocks are
// copied once or twice besides.
func Revise(s *matrix.Matrix, j *verdict.Judge, r *recompile.Revision) *Edit {
	e := across(s, j, r)
	if e == nil {
		return nil
	}
	if e.Matrix = e.After; e.After.Judge != j {
		e.Matrix = renumbered(e.After, j)
	}
	return e
}

// across returns the edit up to the matrix of a revised judge, or up to that of the far end
// of its bridge.
func across(s *matrix.Matrix, j *verdict.Judge, r *recompile.Revision) *Edit {
	if r.Bridge == nil {
		return revised(s, j, r)
	}
	before := s
	if r.Bridge.Before != s.Judge {
		before = renumbered(s, r.Bridge.Before)
	}
	return revised(before, r.Bridge.After, r)
}

// Keeps reports whether flows of a block after the edit come out as they did.
func (e *Edit) Keeps(p classes.Pair, b *matrix.Block) bool {
	return !e.revision.Ways && !e.rebuilt[p] && !HoldsAny(b, e.touched)
}

// Regates reports whether the edit may have changed what is published.
func (e *Edit) Regates() bool { return e.revision.Gates }

// Unsettles reports whether what was settled of a rule set before the edit holds no more.
func (e *Edit) Unsettles(ruleSet int32) bool {
	return e.touched[ruleSet] || slices.Contains(e.gone, ruleSet)
}

// revised returns the edit from s, with services cut as finely as the revised rules want it,
// to the matrix of a revised judge.
func revised(s *matrix.Matrix, j *verdict.Judge, r *recompile.Revision) *Edit {
	if r.Whole {
		return nil
	}
	p := s.Partition.Revise(s.Judge, j, r)
	if p == nil {
		return nil
	}
	s, ruleIndex := recutFor(s, j, r)
	next := *s
	next.Judge, next.Partition = j, p
	b := newRebuilder(s, &next, r)
	var gated parallel.Group
	gated.Go(func() { updateInbounds(&next, s, r) })
	next.Blocks = b.blocks()
	for to := range s.Inside {
		if (r.Ways || r.Gates) && next.Blocks.At(len(s.Inside), to) != nil {
			b.rebuilt[classes.Pair{From: len(s.Inside), To: to}] = true // other inbound paths lead in
		}
	}
	gated.Wait()
	next.RuleIndex = ruleIndex
	wanted, gone := resettle(&next, s, r, b)
	if r.Gates {
		next.Admit()
	}
	touched := make([]bool, len(wanted))
	for i := range wanted {
		touched[i] = len(wanted[i]) > 0
	}
	next.Totals = &matrix.LazyTotals{Find: func() *matrix.Totals {
		l := &matrix.Totaller{Matrix: &next, Before: s.Totals.Found(), Known: b.recounted}
		l.Fresh = func(from, to int) bool { return b.fresh(from, to) && !b.sameAmounts(from, to) }
		l.Differs = func(from, to int) bool {
			return HoldsAny(next.Blocks.At(from, to), touched)
		}
		l.Count()
		l.Mark()
		return l.Out
	}}
	return &Edit{Before: s, After: &next, revision: r, rebuilt: b.rebuilt, touched: touched, gone: gone}
}

// recutFor returns the matrix with services cut as finely as a revised judge wants it,
// and the rule index of that.
func recutFor(s *matrix.Matrix, j *verdict.Judge, r *recompile.Revision) (*matrix.Matrix, *verdict.RuleIndex) {
	if !r.Renumbered {
		if ruleIndex, exact := recompile.ReviseIndex(s.RuleIndex, j, r); exact {
			return s, ruleIndex
		}
	}
	if lists.Same(s.Judge.Settings(), j.Settings()) && len(r.Policies)+len(r.Rails)+len(r.Shares)+len(r.Books) == 0 {
		return s, s.RuleIndex
	}
	exact := !slices.ContainsFunc(j.Settings(), func(terms []estate.Term) bool {
		_, whole := s.Atoms.Covered(terms)
		return !whole
	})
	if !exact {
		s = s.Recut(space.Cut(slices.Concat(s.Judge.Settings(), j.Settings())))
	}
	return s, j.NewRuleIndex(s.Atoms)
}

// updateInbounds finds the inbound paths anew that a revision touches.
func updateInbounds(s *matrix.Matrix, before *matrix.Matrix, r *recompile.Revision) {
	v := &matrix.Builder{Partition: s.Partition, Judge: s.Judge, Interner: s.Interner}
	if r.Gates || r.Ways {
		s.Inbounds = v.FindInbounds()
		return
	}
	if s.ID == before.ID {
		return
	}
	s.Inbounds = slices.Clone(before.Inbounds)
	for d := range s.Inbounds {
		if s.Update.Domains[d] || s.Update.Domains[len(s.Inside)] {
			s.Inbounds[d] = v.FindInboundsOf(d)
		}
	}
}

// resettle settles what a revision makes of rule sets, and what occurs that did not
// before, in tables of its own where they differ. It returns, by rule set, the effects, and
// the rule sets that nobody has any more of which something else would be known now.
func resettle(s *matrix.Matrix, before *matrix.Matrix, r *recompile.Revision, b *rebuilder) (wanted matrix.WorkList, gone []int32) {
	wanted, gone = stale(s, before, r)
	add := func(ruleSet, effect int32) {
		if _, known := before.Settled(matrix.Combination{RuleSet: ruleSet, Effect: effect}); !known {
			wanted.Want(ruleSet, effect)
		}
	}
	for _, x := range b.unsettled() {
		wanted.Want(x.RuleSet, x.Effect)
	}
	for _, x := range s.Blocks[len(s.Inside)].Is {
		if !b.rebuilt[classes.Pair{From: x.From, To: x.To}] {
			continue
		}
		effects := s.EffectsThrough(x.To)
		for _, ruleSet := range x.RuleSets {
			for _, e := range effects {
				add(ruleSet, e)
			}
		}
	}
	s.Verdicts = slices.Clone(before.Verdicts)
	written := make([]bool, len(s.Verdicts))
	for _, effects := range wanted {
		for _, e := range effects {
			if int(e) < len(written) {
				written[e] = true
			}
		}
	}
	for e, table := range s.Verdicts {
		known := func(ruleSet int32) bool { return int(ruleSet) < len(table) && table[ruleSet] >= 0 }
		if written[e] || slices.ContainsFunc(gone, known) {
			s.Verdicts[e] = slices.Clone(table)
			for _, ruleSet := range gone {
				if known(ruleSet) {
					s.Verdicts[e][ruleSet] = -1
				}
			}
		}
	}
	s.SettleAll(wanted)
	return wanted, gone
}

// stale returns, by rule set, the effects for which it must be settled anew, and the
// rule sets of which no block is left: what was known of them does not hold any more.
func stale(s *matrix.Matrix, before *matrix.Matrix, r *recompile.Revision) (wanted matrix.WorkList, gone []int32) {
	l := s.Interner
	l.Mu.RLock()
	defer l.Mu.RUnlock()
	wanted = make(matrix.WorkList, len(l.RuleSets))
	concerns, some := make([]bool, len(l.ByTerm)), false
	for i, v := range l.ByTerm {
		concerns[i] = r.Concerns(v)
		some = some || concerns[i]
	}
	if !some {
		return wanted, nil
	}
	live := make([]bool, len(l.RuleSets))
	for _, b := range s.Blocks.All() {
		for _, ruleSet := range b.RuleSets {
			live[ruleSet] = true
		}
	}
	for i := range l.RuleSets {
		switch {
		case !slices.ContainsFunc(l.RuleSets[i].Terms, func(v int32) bool { return concerns[v] }):
		case !live[i]:
			gone = append(gone, int32(i))
		default:
			for e, was := range before.Verdicts {
				if i < len(was) && was[i] >= 0 {
					wanted[i] = append(wanted[i], int32(e))
				}
			}
		}
	}
	return wanted, gone
}

// HoldsAny reports whether some rule set of the block is among some.
func HoldsAny(b *matrix.Block, ruleSets []bool) bool {
	return slices.ContainsFunc(b.RuleSets, func(i int32) bool { return int(i) < len(ruleSets) && ruleSets[i] })
}
