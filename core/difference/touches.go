package difference

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/query"
)

// moved reports whether an end takes in endpoints that were there already, or leaves
// some out that still are, and whether it has any that come, go, or have other paths.
func (c *comparer) moved(e estate.End) (regrouped, some bool) {
	land := c.domainOf(e)
	if land < 0 || !c.touched(&c.domains[land]) {
		return false, false
	}
	inOld, inNew := holds(c.old, e), holds(c.new, e)
	t := c.Domain(land)
	for _, i := range t.moved {
		j := &t.Intersections[i]
		was, is := inOld(&t.was[i]), inNew(&t.is[i])
		some = some || was || is
		regrouped = regrouped || j.old >= 0 && j.new >= 0 && was != is
	}
	return regrouped, some
}

// onlyMoved reports whether flows from one aligned domain to another can have another verdict only if
// one of their ends has moved.
func (c *comparer) onlyMoved(from, to int) bool {
	if from < 0 || to < 0 || c.altered == nil || c.some || c.update.Ways || c.update.Gates {
		return false
	}
	a, b := &c.domains[from], &c.domains[to]
	x, y := blockOf(c.old, a.old, b.old), blockOf(c.new, a.new, b.new)
	return x == nil && y == nil || x != nil && y != nil && x.Layout == y.Layout
}

// between returns the changes from one end of an expectation to the other: those of one
// pair of aligned domains stand together, in the order of these.
func (d *Difference) between(from, to estate.End) []Change {
	i, k := d.Comparer.domainOf(from), d.Comparer.domainOf(to)
	if i < 0 || k < 0 {
		return nil
	}
	first, _ := slices.BinarySearchFunc(d.Changes, [2]int{i, k}, func(c Change, at [2]int) int { return slices.Compare(c.At[:], at[:]) })
	last := first
	for last < len(d.Changes) && d.Changes[last].At == [2]int{i, k} {
		last++
	}
	return d.Changes[first:last]
}

// domainOf returns the aligned domain that one end of an expectation is in, -1 for none.
func (c *comparer) domainOf(e estate.End) int {
	return slices.IndexFunc(c.domains, func(t AlignedDomain) bool { return about(t.node, e) })
}

// about reports whether one end of an expectation is in an aligned domain.
func about(n matrix.Node, e estate.End) bool {
	if e.Internet {
		return n.Kind == matrix.NodeInternet
	}
	return n.Kind == matrix.NodeSegment && n.Segment == e.Party.Segment
}

// reaching is what is known of the shifts of a pairing: whether their flows may go from
// some intersections to others.
type reaching struct{ asked, is []bool }

// mayReach reports whether flows of the change may go from some intersections to others: it
// looks at difference classes, and at parts of them. What is found of a shift is kept.
func (c *change) mayReach(from, to *selector, known *reaching) bool {
	for _, x := range c.plain {
		for x.at >= len(known.asked) {
			known.asked, known.is = append(known.asked, false), append(known.is, false)
		}
		if !known.asked[x.at] {
			known.asked[x.at], known.is[x.at] = true, slices.ContainsFunc(x.reaches, func(r rectangle) bool {
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
	for d, amends := range c.corrections {
		if slices.ContainsFunc(d.intersections, to.has) && slices.ContainsFunc(amends, func(a correction) bool { return a.in && slices.ContainsFunc(a.from.intersections, from.has) }) {
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

// selector is the intersections of an aligned domain that one end of an expectation has in either matrix.
type selector struct {
	domain       *AlignedDomain
	inOld, inNew func(*end) bool
	asked, some  []bool // by difference class of one side of a pairing: whether it has some of them
}

// selectorOf returns that of one end, in its aligned domain.
func (c *comparer) selectorOf(land int, e estate.End) *selector {
	return &selector{domain: c.Domain(land), inOld: holds(c.old, e), inNew: holds(c.new, e)}
}

func (g *selector) meets(b *diffClass) bool {
	if more := b.at + 1 - len(g.asked); more > 0 {
		g.asked, g.some = append(g.asked, make([]bool, more)...), append(g.some, make([]bool, more)...)
	}
	if !g.asked[b.at] {
		g.asked[b.at], g.some[b.at] = true, slices.ContainsFunc(b.intersections, g.has)
	}
	return g.some[b.at]
}

// has reports whether an intersection is one of them.
func (g *selector) has(i int32) bool { return g.inOld(&g.domain.was[i]) || g.inNew(&g.domain.is[i]) }

// holds returns what tells whether one end of an expectation has the endpoints of a
// class, of its domain.
func holds(s *matrix.Matrix, e estate.End) func(*end) bool {
	if e.Internet || e.Party.Groups.Any {
		return func(x *end) bool { return x.is }
	}
	segment := s.Net.Segment(e.Party.Segment)
	if segment < 0 {
		return func(*end) bool { return false }
	}
	list := &s.Local[segment]
	in := make([]bool, len(list.Sets))
	for _, name := range e.Party.Groups.Groups {
		if group := s.Judge.Group(name); group != paths.None {
			for _, set := range list.With(group) {
				in[set] = true
			}
		}
	}
	return func(x *end) bool { return x.is && in[x.Set] }
}

// Touches reports whether flows from one end to another, of some services, may come out
// otherwise in a way that counts: turns tells which changes do. It looks at the flows that
// the difference changes, and at endpoints that come and go; where the groups of an end
// take in others that were there already, it is touched.
func (d *Difference) Touches(from, to estate.End, services []estate.ServiceRef, turns func(*Change) bool) bool {
	c := d.Comparer
	calm := false
	if c.old.ID != c.new.ID {
		if c.update == nil {
			return true
		}
		regrouped, movesFrom := c.moved(from)
		again, movesTo := c.moved(to)
		if regrouped || again {
			return true
		}
		calm = !movesFrom && !movesTo && c.onlyMoved(c.domainOf(from), c.domainOf(to))
	}
	if !lists.Same(c.old.Judge.Estate.Services, c.new.Judge.Estate.Services) {
		return true
	}
	return !calm && d.changes(from, to, services, turns)
}

// changes reports whether some change that counts is of flows from one end to another.
func (d *Difference) changes(from, to estate.End, services []estate.ServiceRef, turns func(*Change) bool) bool {
	c := d.Comparer
	atoms, _ := c.new.Atoms.Covered(query.TermsOf(c.new, services))
	var src, dst *selector
	var reaching reaching
	known := map[[2]int32]bool{} // by results before and after: whether they count
	changes := d.between(from, to)
	for i := range changes {
		change := &changes[i]
		turn, told := known[change.gathered.results]
		if !told {
			turn = turns(change)
			known[change.gathered.results] = turn
		}
		if !turn || change.atoms.IntersectionCardinality(atoms) == 0 {
			continue
		}
		if src == nil {
			src, dst = c.selectorOf(change.At[0], from), c.selectorOf(change.At[1], to)
		}
		if change.gathered.mayReach(src, dst, &reaching) {
			return true
		}
	}
	return false
}
