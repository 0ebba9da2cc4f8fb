package survey

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Edit is a survey before and after an edit of its estate.
type Edit struct {
	// Before and After are what to compare: services are cut alike in both, and they number
	// things alike, which may not be as the estates before and after the edit do.
	Before, After *Survey
	Survey        *Survey // of the estate after the edit

	revision *verdict.Revision
	rebuilt  map[pair]bool // pairs of domains whose block is another
	touched  []bool        // by stance: something was settled anew
	gone     []int32       // stances that no flow has any more, of which something else would be known
}

// Revise returns the survey of a revised judge, as r tells how it came of that of s; nil if
// nothing can be shared, and it is better to begin anew. It works out anew what the edit touches and shares the rest with
// s, which stays as it is: an edit of rules costs the stances that they have a say
// in; one of sides, and of policies that come or go, the blocks of their segments;
// one of groups, workloads, shares and places, the endpoints that they are about,
// with the blocks of their segments; one of links, exits and firewalls, the ways; where
// hubs, segments, networks, exits, pools or rulebooks come or go, classes and blocks are
// copied once or twice besides.
func (s *Survey) Revise(j *verdict.Judge, r *verdict.Revision) *Edit {
	e := s.across(j, r)
	if e == nil {
		return nil
	}
	if e.Survey = e.After; e.After.judge != j {
		e.Survey = e.After.renumbered(j)
	}
	return e
}

// across returns the edit up to the survey of a revised judge, or up to that of the far end
// of its bridge.
func (s *Survey) across(j *verdict.Judge, r *verdict.Revision) *Edit {
	if r.Bridge == nil {
		return s.revised(j, r)
	}
	before := s
	if r.Bridge.Before != s.judge {
		before = s.renumbered(r.Bridge.Before)
	}
	return before.revised(r.Bridge.After, r)
}

// Keeps reports whether flows of a block after the edit fare as they did.
func (e *Edit) Keeps(p pair, b *block) bool {
	return !e.revision.Ways && !e.rebuilt[p] && !b.holdsAny(e.touched)
}

// Regates reports whether the edit may have changed what is published.
func (e *Edit) Regates() bool { return e.revision.Gates }

// Unsettles reports whether what was settled of a stance before the edit holds no more.
func (e *Edit) Unsettles(stance int32) bool {
	return e.touched[stance] || slices.Contains(e.gone, stance)
}

// revised returns the edit from s, with services cut as finely as the revised rules want it,
// to the survey of a revised judge.
func (s *Survey) revised(j *verdict.Judge, r *verdict.Revision) *Edit {
	if r.Whole {
		return nil
	}
	p := s.partition.revise(s.judge, j, r)
	if p == nil {
		return nil
	}
	s, ruleIndex := s.cutFor(j, r)
	next := *s
	next.judge, next.partition = j, p
	b := s.rebuilder(&next, r)
	var gated parallel.Group
	gated.Go(func() { next.regate(s, r) })
	next.blocks = b.blocks()
	for to := range s.inside {
		if (r.Ways || r.Gates) && next.blocks.at(len(s.inside), to) != nil {
			b.rebuilt[pair{len(s.inside), to}] = true // other gates lead in
		}
	}
	gated.Wait()
	next.ruleIndex = ruleIndex
	wanted, gone := next.resettle(s, r, b)
	if r.Gates {
		next.admit()
	}
	touched := make([]bool, len(wanted))
	for i := range wanted {
		touched[i] = len(wanted[i]) > 0
	}
	next.overview = &overview{find: func() *matrix {
		l := &looking{Survey: &next, before: s.overview.found(), sooner: b.recounted}
		l.fresh = func(from, to int) bool { return b.fresh(from, to) && !b.sameAmounts(from, to) }
		l.differs = func(from, to int) bool {
			return next.blocks.at(from, to).holdsAny(touched)
		}
		l.count()
		l.mark()
		return l.out
	}}
	return &Edit{Before: s, After: &next, revision: r, rebuilt: b.rebuilt, touched: touched, gone: gone}
}

// cutFor returns the survey with services cut as finely as a revised judge wants it,
// and the ruleIndex of that.
func (s *Survey) cutFor(j *verdict.Judge, r *verdict.Revision) (*Survey, *verdict.RuleIndex) {
	if !r.Renumbered {
		if ruleIndex, exact := s.ruleIndex.Revise(j, r); exact {
			return s, ruleIndex
		}
	}
	if lists.Same(s.judge.Settings(), j.Settings()) && len(r.Policies)+len(r.Rails)+len(r.Shares)+len(r.Books) == 0 {
		return s, s.ruleIndex
	}
	exact := !slices.ContainsFunc(j.Settings(), func(terms []estate.Term) bool {
		_, whole := s.atoms.Covered(terms)
		return !whole
	})
	if !exact {
		s = s.recut(space.Cut(slices.Concat(s.judge.Settings(), j.Settings())))
	}
	return s, j.NewRuleIndex(s.atoms)
}

// regate finds the gates anew that a revision touches.
func (s *Survey) regate(before *Survey, r *verdict.Revision) {
	v := &surveyor{partition: s.partition, judge: s.judge, ledger: s.ledger}
	if r.Gates || r.Ways {
		s.gates = v.gates()
		return
	}
	if s.id == before.id {
		return
	}
	s.gates = slices.Clone(before.gates)
	for d := range s.gates {
		if s.graft.domains[d] || s.graft.domains[len(s.inside)] {
			s.gates[d] = v.gatesOf(d)
		}
	}
}

// resettle settles what a revision makes of stances, and what occurs that did not
// before, in tables of its own where they differ. It returns, by stance, the effects, and
// the stances that nobody has any more of which something else would be known now.
func (s *Survey) resettle(before *Survey, r *verdict.Revision, b *rebuilder) (wanted wants, gone []int32) {
	wanted, gone = s.stale(before, r)
	add := func(stance, effect int32) {
		if _, known := before.settled(combination{stance, effect}); !known {
			wanted.want(stance, effect)
		}
	}
	for _, x := range b.unsettled() {
		wanted.want(x.stance, x.effect)
	}
	for _, x := range s.blocks[len(s.inside)].is {
		if !b.rebuilt[pair{x.from, x.to}] {
			continue
		}
		effects := s.effectsThrough(x.to)
		for _, stance := range x.stances {
			for _, e := range effects {
				add(stance, e)
			}
		}
	}
	s.verdicts = slices.Clone(before.verdicts)
	written := make([]bool, len(s.verdicts))
	for _, effects := range wanted {
		for _, e := range effects {
			if int(e) < len(written) {
				written[e] = true
			}
		}
	}
	for e, table := range s.verdicts {
		known := func(stance int32) bool { return int(stance) < len(table) && table[stance] >= 0 }
		if written[e] || slices.ContainsFunc(gone, known) {
			s.verdicts[e] = slices.Clone(table)
			for _, stance := range gone {
				if known(stance) {
					s.verdicts[e][stance] = -1
				}
			}
		}
	}
	s.settleAll(wanted)
	return wanted, gone
}

// stale returns, by stance, the effects for which it must be settled anew, and the
// stances of which no block is left: what was known of them does not hold any more.
func (s *Survey) stale(before *Survey, r *verdict.Revision) (wanted wants, gone []int32) {
	l := s.ledger
	l.mu.RLock()
	defer l.mu.RUnlock()
	wanted = make(wants, len(l.stances))
	concerns, some := make([]bool, len(l.byVoice)), false
	for i, v := range l.byVoice {
		concerns[i] = r.Concerns(v)
		some = some || concerns[i]
	}
	if !some {
		return wanted, nil
	}
	live := make([]bool, len(l.stances))
	for _, b := range s.blocks.all() {
		for _, stance := range b.stances {
			live[stance] = true
		}
	}
	for i := range l.stances {
		switch {
		case !slices.ContainsFunc(l.stances[i].voices, func(v int32) bool { return concerns[v] }):
		case !live[i]:
			gone = append(gone, int32(i))
		default:
			for e, was := range before.verdicts {
				if i < len(was) && was[i] >= 0 {
					wanted[i] = append(wanted[i], int32(e))
				}
			}
		}
	}
	return wanted, gone
}

// holdsAny reports whether some stance of the block is among some.
func (b *block) holdsAny(stances []bool) bool {
	return slices.ContainsFunc(b.stances, func(i int32) bool { return int(i) < len(stances) && stances[i] })
}
