package difference

import (
	"maps"
	"slices"

	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/revise"
)

// pairing is two aligned domains at hand.
type pairing struct {
	*comparer
	from, to  int
	old, new  view
	kept      bool // the flows between endpoints that stay have another verdict only where a rule set is altered
	samePlan  bool // and their places have the same numbers
	blockless bool // neither matrix has such flows, but to what is not found
	at        map[changeKey]*change
	plain     map[[2]int32]*shift // by vectors before and after
	shifts    []*shift            // the same, in the order in which they were met
}

// between compares the flows from one aligned domain to another.
func (c *comparer) between(from, to int) []*change {
	a, b := &c.domains[from], &c.domains[to]
	p := &pairing{comparer: c, from: from, to: to, at: map[changeKey]*change{}, plain: map[[2]int32]*shift{}}
	p.old, p.new = view{c.old, c.oldVector, blockOf(c.old, a.old, b.old), a.old, b.old}, view{c.new, c.newVector, blockOf(c.new, a.new, b.new), a.new, b.new}
	p.match()
	switch {
	case a.node.Kind == matrix.NodeInternet && b.node.Kind == matrix.NodeInternet:
	case a.node.Kind == matrix.NodeInternet:
		p.publicationTurns()
	default:
		p.inside()
	}
	p.share()
	return slices.Collect(maps.Values(p.at))
}

// match finds out what the matrices share of the flows at hand.
func (p *pairing) match() {
	x, y := p.old.block, p.new.block
	if x == nil && y == nil && (p.old.ID == p.new.ID || p.update != nil) { // either finds nothing under the addresses
		p.kept, p.blockless = true, true
		return
	}
	if x == nil || y == nil || p.altered == nil || x.Layout != y.Layout {
		return
	}
	p.samePlan = x == y || p.from != len(p.domains)-1 && lists.Same(x.Effects, y.Effects) && lists.Same(x.Src.ByPathClass, y.Src.ByPathClass) && lists.Same(x.Dst.ByPathClass, y.Dst.ByPathClass)
	p.kept = p.samePlan || p.update != nil && !p.update.Ways
}

// sideView is the endpoints of an aligned domain as sources or as destinations of a pairing.
type sideView struct {
	*pairing
	number   int
	land     *AlignedDomain
	old, new func(*end) int32 // the kind of one, or a token
	axes     [2]*matrix.Side  // before and afterwards; nil where kinds cannot be compared
	put      []int32          // the intersections that were put into difference classes
	of       []int32          // and by place there the difference class of each, or -1
}

// sideViews returns both sides.
func (p *pairing) sideViews() (from, to *sideView) {
	from = &sideView{pairing: p, number: p.from, land: p.Domain(p.from), old: p.old.source, new: p.new.source}
	to = &sideView{pairing: p, number: p.to, land: p.Domain(p.to), old: p.old.target, new: p.new.target}
	if p.samePlan {
		from.axes = [2]*matrix.Side{&p.old.block.Src, &p.new.block.Src}
		if p.to < len(p.domains)-1 { // outside, each class is a line by itself
			to.axes = [2]*matrix.Side{&p.old.block.Dst, &p.new.block.Dst}
		}
	}
	return from, to
}

// stays reports whether flows between an intersection, of two kinds, and others that stay come out
// as before, unless a rule set is altered.
func (f *sideView) stays(i int, old, new int32) bool {
	j := &f.land.Intersections[i]
	switch {
	case !f.kept:
		return false
	case old < 0 || new < 0 || f.blockless:
		return old == new
	case j.old == j.new:
		return f.unmoved(i)
	}
	return f.axes[0] != nil && f.unmoved(i) && f.axes[0].Kinds[old] == f.axes[1].Kinds[new]
}

// unmoved reports whether the endpoints of an intersection are at home in a network whose paths
// are as before.
func (f *sideView) unmoved(i int) bool {
	if f.pairing.old.ID == f.pairing.new.ID {
		return true
	}
	was, is := f.land.was[i].Network, f.land.is[i].Network
	return was == is && (f.update == nil || !f.update.Moves(is) || f.samePlan && !f.update.Turned[is])
}

// movers returns the intersections that do not stay, where it is known which may not.
func (f *sideView) movers() []int32 {
	var out []int32
	for _, i := range f.land.moved {
		old, new := f.old(&f.land.was[i]), f.new(&f.land.is[i])
		if (old != absent || new != absent) && !f.stays(int(i), old, new) {
			out = append(out, i)
		}
	}
	return out
}

// diffClass is the intersections of an aligned domain that neither matrix tells apart in a pair
// of aligned domains.
type diffClass struct {
	at            int   // its place among those of its side
	old, new      int32 // kinds
	four          bool
	stays         bool // see sideView.stays
	intersections []int32
	size          intervals.Size
	shows         []int32 // an intersection or two that make good witnesses: of two networks, if they can
}

// diffClasses puts intersections into difference classes, all or some. Joints of one kind before are of few
// kinds after, so difference classes are found by the kind before, and then one by one.
func (f *sideView) diffClasses(all bool, some []int32) []diffClass {
	if all {
		some = lists.Below(len(f.land.Intersections))
	}
	var out []diffClass
	var first, next []int32 // by kind before, and by difference class
	of, count := make([]int32, len(some)), []int32(nil)
	for at, i := range some {
		j := &f.land.Intersections[i]
		k := diffClass{at: len(out), old: f.old(&f.land.was[i]), new: f.new(&f.land.is[i]), four: j.Four}
		if of[at] = -1; k.old == absent && k.new == absent {
			continue
		}
		k.stays = f.stays(int(i), k.old, k.new)
		slot := int(k.old - nowhere)
		for slot >= len(first) {
			first = append(first, -1)
		}
		n := first[slot]
		for n >= 0 && (out[n].new != k.new || out[n].four != k.four || out[n].stays != k.stays) {
			n = next[n]
		}
		if n < 0 {
			n = int32(len(out))
			out, count, next = append(out, k), append(count, 0), append(next, first[slot])
			first[slot] = n
		}
		of[at] = n
		count[n]++
		out[n].size.Add(j.Size)
	}
	intersections := make([]int32, len(some))
	for n := range out {
		out[n].intersections, intersections = intersections[:0:count[n]], intersections[count[n]:]
	}
	for at, n := range of {
		if n >= 0 {
			out[n].intersections = append(out[n].intersections, some[at])
		}
	}
	for n := range out {
		f.exemplify(&out[n])
	}
	f.put, f.of = some, of
	return out
}

// exemplify finds intersections of a difference class that make good witnesses: two of two networks, of
// workloads if there are any among the first.
func (f *sideView) exemplify(b *diffClass) {
	first := b.intersections[0]
	for _, i := range b.intersections[:min(len(b.intersections), 64)] {
		if f.land.Intersections[i].workload {
			first = i
			break
		}
	}
	b.shows = append(b.shows, first)
	for _, i := range b.intersections[:min(len(b.intersections), 64)] {
		if f.land.Intersections[i].workload == f.land.Intersections[first].workload && !f.neighbours(f.number, first, i) {
			b.shows = append(b.shows, i)
			return
		}
	}
}

// calm reports whether flows between endpoints that stay come out as they did.
func (p *pairing) calm() bool {
	return p.kept && (p.blockless || !p.some || !revise.HoldsAny(p.new.block, p.altered))
}

// inside compares flows whose source is inside.
func (p *pairing) inside() {
	calm := p.calm()
	differs := p.touched
	if p.samePlan {
		differs = p.alters // paths are the same
	}
	if calm && !differs(&p.domains[p.from]) && !differs(&p.domains[p.to]) {
		return
	}
	from, to := p.sideViews()
	var movedFrom, movedTo []int32
	if calm {
		if movedFrom, movedTo = from.movers(), to.movers(); len(movedFrom) == 0 && len(movedTo) == 0 {
			return
		}
	}
	// What stays matters to what does not alone.
	var sources, targets []diffClass
	parallel.Run([]func(){
		func() { sources = from.diffClasses(!calm || len(movedTo) > 0, movedFrom) },
		func() { targets = to.diffClasses(!calm || len(movedFrom) > 0, movedTo) },
	})
	l := &intraNetwork{pairing: p, sides: [2]*sideView{from, to}, disturbed: make([]bool, len(sources)), altered: make([][]bool, len(sources))}
	all, moved, staying := partedBy(targets)
	var rows []transitionSweep
	var calmRows []*diffClass
	for i := range sources {
		src := &sources[i]
		if !src.stays {
			rows = append(rows, transitionSweep{src, all, nil})
			l.disturbed[i] = true
			continue
		}
		calmRows = append(calmRows, src)
		if altered := p.alteredIn(src.new); altered != nil {
			rows = append(rows, transitionSweep{src, staying, altered})
			l.disturbed[i], l.altered[i] = true, altered
		}
	}
	p.turnRows(rows)
	p.byRow(calmRows)
	p.turnColumns(calmRows, moved)
	if p.from == p.to {
		l.correctAll(sources, targets)
	}
}

// byRow puts sources of one row beside each other: what is looked up for one is at hand
// for the next.
func (p *pairing) byRow(srcs []*diffClass) {
	if p.new.block == nil {
		return
	}
	row := func(b *diffClass) int32 {
		if b.new < 0 {
			return 0
		}
		return p.new.block.Src.Kinds[b.new].Line + 1
	}
	starts := make([]int32, len(p.new.block.Rows)+2) // by row
	for _, b := range srcs {
		starts[row(b)+1]++
	}
	for i := 1; i < len(starts); i++ {
		starts[i] += starts[i-1]
	}
	for _, b := range slices.Clone(srcs) {
		at := &starts[row(b)]
		srcs[*at] = b
		*at++
	}
}

// partedBy returns all of some difference classes, those that do not stay, and those that do.
func partedBy(list []diffClass) (all, moved, staying []*diffClass) {
	all = make([]*diffClass, len(list))
	for k := range list {
		all[k] = &list[k]
		if list[k].stays {
			staying = append(staying, all[k])
		} else {
			moved = append(moved, all[k])
		}
	}
	return all, moved, staying
}

// alteredIn returns which rule sets of a kind of sources are altered, by place in
// its palette; nil if none are.
func (p *pairing) alteredIn(kind int32) []bool {
	if kind < 0 || p.blockless || !p.some {
		return nil
	}
	var out []bool
	palette := p.new.block.Rows[p.new.block.Src.Kinds[kind].Line].Palette
	for i, s := range palette {
		if int(s) < len(p.altered) && p.altered[s] {
			if out == nil {
				out = make([]bool, len(palette))
			}
			out[i] = true
		}
	}
	return out
}
