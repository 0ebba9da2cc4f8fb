package survey

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/verdict"
)

// after returns how an expectation fares after an edit, if the flows that the edit
// changes tell that: where none of those it is about could make it fare otherwise. It
// looks at flows, and at endpoints that come and go; where its groups take in others that
// were there already, it must be asked anew.
func (d *Difference) after(before *Held) (h Held, known bool) {
	c, x := d.comparer, before.Expectation
	calm := false
	if c.old.id != c.new.id {
		if c.graft == nil {
			return h, false
		}
		regrouped, movesFrom := c.moved(x.From)
		again, movesTo := c.moved(x.To)
		if regrouped || again {
			return h, false
		}
		calm = !movesFrom && !movesTo && c.onlyMoved(c.landOf(x.From), c.landOf(x.To))
	}
	if !sameList(c.old.judge.Estate().Services, c.new.judge.Estate().Services) {
		return h, false
	}
	if calm {
		return *before, true
	}
	atoms, _ := c.new.atoms.Covered(c.new.termsOf(x.Services))
	var from, to *grip
	var reaching reaching
	turns := map[[2]int32]bool{} // by results before and after: see mayTurn
	changes := d.between(x.From, x.To)
	for i := range changes {
		change := &changes[i]
		turn, told := turns[change.gathered.results]
		if !told {
			turn = before.mayTurn(change)
			turns[change.gathered.results] = turn
		}
		if !turn || change.atoms.IntersectionCardinality(atoms) == 0 {
			continue
		}
		if from == nil {
			from, to = c.gripOf(change.at[0], x.From), c.gripOf(change.at[1], x.To)
		}
		if change.gathered.mayReach(from, to, &reaching) {
			return h, false
		}
	}
	return *before, true
}

// mayTurn reports whether an expectation may fare otherwise if flows that it is about
// fare as a change says.
func (h *Held) mayTurn(c *Change) bool {
	is := func(v *verdict.Verdict) (flow, holds, routing bool) {
		if v == nil {
			return false, false, false
		}
		holds, routing = meets(h.Expectation, v)
		return true, holds, routing
	}
	was, held, saved := is(c.Before)
	stays, holds, routing := is(c.After)
	switch {
	case h.Expectation.From.Internet:
		return true // of some of its flows it is nothing to it how they fare
	case !h.Holds:
		return was && !held // one less that fails
	case h.Vacuous:
		return !was
	case stays && !holds, !stays:
		return true // it fails, or this was its last flow
	case h.ByRouting:
		return saved && !routing
	}
	return routing
}

// moved reports whether an end takes in endpoints that were there already, or leaves
// some out that still are, and whether it has any that come, go, or have other ways.
func (c *comparer) moved(e estate.End) (regrouped, some bool) {
	land := c.landOf(e)
	if land < 0 || !c.touched(&c.lands[land]) {
		return false, false
	}
	inOld, inNew := c.old.holds(e), c.new.holds(e)
	t := c.land(land)
	for _, i := range t.moved {
		j := &t.joints[i]
		was, is := inOld(&t.was[i]), inNew(&t.is[i])
		some = some || was || is
		regrouped = regrouped || j.old >= 0 && j.new >= 0 && was != is
	}
	return regrouped, some
}

// onlyMoved reports whether flows from one alignedDomain to another can fare otherwise only if
// one of their ends has moved.
func (c *comparer) onlyMoved(from, to int) bool {
	if from < 0 || to < 0 || c.altered == nil || c.some || c.graft.ways || c.graft.gates {
		return false
	}
	a, b := &c.lands[from], &c.lands[to]
	x, y := c.old.blockOf(a.old, b.old), c.new.blockOf(a.new, b.new)
	return x == nil && y == nil || x != nil && y != nil && x.threads == y.threads
}

// between returns the changes from one end of an expectation to the other: those of one
// pair of alignedDomains stand together, in the order of these.
func (d *Difference) between(from, to estate.End) []Change {
	i, k := d.comparer.landOf(from), d.comparer.landOf(to)
	if i < 0 || k < 0 {
		return nil
	}
	first, _ := slices.BinarySearchFunc(d.Changes, [2]int{i, k}, func(c Change, at [2]int) int { return slices.Compare(c.at[:], at[:]) })
	last := first
	for last < len(d.Changes) && d.Changes[last].at == [2]int{i, k} {
		last++
	}
	return d.Changes[first:last]
}

// landOf returns the alignedDomain that one end of an expectation is in, -1 for none.
func (c *comparer) landOf(e estate.End) int {
	return slices.IndexFunc(c.lands, func(t alignedDomain) bool { return about(t.node, e) })
}

// about reports whether one end of an expectation is in an aligned domain.
func about(n Node, e estate.End) bool {
	if e.Internet {
		return n.Kind == NodeInternet
	}
	return n.Kind == NodeSegment && n.Segment == e.Party.Segment
}

// reaching is what is known of the shifts of a pairing: whether their flows may go from
// some joints to others.
type reaching struct{ asked, is []bool }

// mayReach reports whether flows of the change may go from some joints to others: it
// looks at bundles, and at parts of them. What is found of a shift is kept.
func (c *change) mayReach(from, to *grip, known *reaching) bool {
	for _, x := range c.plain {
		for x.at >= len(known.asked) {
			known.asked, known.is = append(known.asked, false), append(known.is, false)
		}
		if !known.asked[x.at] {
			known.asked[x.at], known.is[x.at] = true, slices.ContainsFunc(x.reaches, func(r reach) bool {
				if len(r.dsts) < len(r.srcs) { // the few first: mostly they say no
					return slices.ContainsFunc(r.dsts, to.meets) && slices.ContainsFunc(r.srcs, from.meets)
				}
				return slices.ContainsFunc(r.srcs, from.meets) && slices.ContainsFunc(r.dsts, to.meets)
			})
		}
		if known.is[x.at] {
			return true
		}
	}
	for d, amends := range c.amends {
		if slices.ContainsFunc(d.joints, to.has) && slices.ContainsFunc(amends, func(a amend) bool { return a.in && slices.ContainsFunc(a.from.joints, from.has) }) {
			return true
		}
	}
	for k, sources := range c.single {
		if !to.has(k) {
			continue
		}
		for i := range sources.EachSet() {
			if from.has(int32(i)) {
				return true
			}
		}
	}
	return false
}

// grip is the joints of an aligned domain that one end of an expectation has in either survey.
type grip struct {
	land         *alignedDomain
	inOld, inNew func(*end) bool
	asked, some  []bool // by bundle of one side of a pairing: whether it has some of them
}

// gripOf returns that of one end, in its alignedDomain.
func (c *comparer) gripOf(land int, e estate.End) *grip {
	return &grip{land: c.land(land), inOld: c.old.holds(e), inNew: c.new.holds(e)}
}

func (g *grip) meets(b *bundle) bool {
	if more := b.at + 1 - len(g.asked); more > 0 {
		g.asked, g.some = append(g.asked, make([]bool, more)...), append(g.some, make([]bool, more)...)
	}
	if !g.asked[b.at] {
		g.asked[b.at], g.some[b.at] = true, slices.ContainsFunc(b.joints, g.has)
	}
	return g.some[b.at]
}

// has reports whether a joint is one of them.
func (g *grip) has(i int32) bool { return g.inOld(&g.land.was[i]) || g.inNew(&g.land.is[i]) }
