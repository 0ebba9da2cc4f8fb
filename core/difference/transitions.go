package difference

import (
	"math/bits"
	"runtime"
	"slices"

	"bivium/core/intervals"
	"bivium/core/parallel"
)

// transitionSweep is a difference class of sources, and those destinations to which its flows are to be
// compared.
type transitionSweep struct {
	src     *diffClass
	dsts    []*diffClass
	altered []bool // unless nil: which places of its palette are worth looking at
}

// transition is some sources and destinations, all flows between which went from one
// vector to another.
type transition struct {
	vectors    [2]int32
	srcs, dsts []*diffClass
	amounts    [2]intervals.Size // of all sources, and of all destinations
	count      int               // how many difference classes there are on the side that is gathered
}

// transitions is what has turned of one row, or of one column. It is found by the sum of its
// vectors: mostly one of them is that of all, and the other tells them apart.
type transitions struct {
	list  []transition
	first []int32 // by sum: the place after that of the last one, 0 for none
	next  []int32 // by place: likewise
	which []int32 // by difference class that was looked at: the place of what its flows turned to, or -1
}

func (t *transitions) slot(before, after int32) *int32 {
	return &t.first[int(before+after)&(len(t.first)-1)]
}

// manyTurns is for about how many turns there is room to find them at once, at most.
const manyTurns = 1 << 10

// newTurns returns the turns of rows or columns of so many pairs.
func newTurns(pairs int) transitions {
	return transitions{first: make([]int32, min(1<<bits.Len(uint(pairs)), manyTurns))}
}

// with returns the place of what went from one vector to another.
func (t *transitions) with(before, after int32) int32 {
	key, slot := [2]int32{before, after}, t.slot(before, after)
	for n := *slot; n > 0; n = t.next[n-1] {
		if t.list[n-1].vectors == key {
			return n - 1
		}
	}
	t.list, t.next = append(t.list, transition{vectors: key}), append(t.next, *slot)
	*slot = int32(len(t.list))
	return *slot - 1
}

// look notes of the next difference class, of one side, what its flows turned to.
func (t *transitions) look(b *diffClass, side int, before, after int32) {
	if before == after {
		t.which = append(t.which, -1)
		return
	}
	n := t.with(before, after)
	t.list[n].count++
	t.list[n].amounts[side].Add(b.size)
	t.which = append(t.which, n)
}

// takeAll empties the turns for another row, and gives away what they had.
func (t *transitions) takeAll() []transition {
	list := slices.Clone(t.list)
	for i := range list {
		*t.slot(list[i].vectors[0], list[i].vectors[1]) = 0
	}
	clear(t.list)
	t.list, t.next, t.which = t.list[:0], t.next[:0], t.which[:0]
	return list
}

// gather returns the difference classes that were looked at, by what their flows turned to. which
// may be several lists, of difference classes one after another.
func gather(list []transition, diffClasses []*diffClass, which ...[]int32) [][]*diffClass {
	all := 0
	for i := range list {
		all += list[i].count
	}
	room, out := make([]*diffClass, all), make([][]*diffClass, len(list))
	for i := range list {
		out[i], room = room[:0:list[i].count], room[list[i].count:]
	}
	for _, part := range which {
		for i, n := range part {
			if n >= 0 {
				out[n] = append(out[n], diffClasses[i])
			}
		}
		diffClasses = diffClasses[len(part):]
	}
	return out
}

// fewestTurns is how many pairs of difference classes one goroutine should compare at least.
const fewestTurns = 1 << 14

// sharesOf returns in how many shares it is worth while to compare pairs of difference classes.
func sharesOf(pairs int) int { return max(1, min(runtime.GOMAXPROCS(0), pairs/fewestTurns)) }

// turnRows compares the flows of some rows.
func (p *pairing) turnRows(rows []transitionSweep) {
	pairs := 0
	for i := range rows {
		pairs += len(rows[i].dsts)
	}
	found := make([][]transition, len(rows))
	parallel.Shares(len(rows), sharesOf(pairs), func(_, first, last int) {
		t := newTurns(pairs)
		for i := first; i < last; i++ {
			p.turnRow(&rows[i], &t)
			found[i] = t.takeAll()
		}
	})
	p.note(found)
}

func (p *pairing) turnRow(r *transitionSweep, t *transitions) {
	var cells []uint32
	src := r.src
	if r.altered != nil && p.to < len(p.domains)-1 {
		cells = p.new.block.Rows[p.new.block.Src.Kinds[src.new].Line].Cells
	}
	was, is := p.old.outOf(src.old), p.new.outOf(src.new)
	was.remember(len(r.dsts))
	is.remember(len(r.dsts))
	for _, dst := range r.dsts {
		before, after := int32(0), int32(0)
		if src.four == dst.four && (cells == nil || dst.new >= 0 && r.altered[cells[p.new.block.Dst.Kinds[dst.new].Line]]) {
			before, after = was.vectorTo(dst.old), is.vectorTo(dst.new)
		}
		t.look(dst, 1, before, after)
	}
	from := []*diffClass{src}
	for i, dsts := range gather(t.list, r.dsts, t.which) {
		x := &t.list[i]
		x.srcs, x.dsts, x.amounts[0] = from, dsts, src.size
	}
}

// turnColumns compares the flows from some sources to destinations of which there are
// far fewer: what has turned is put together by these.
func (p *pairing) turnColumns(srcs, dsts []*diffClass) {
	if len(srcs) == 0 || len(dsts) == 0 {
		return
	}
	shares := make([][]transitions, sharesOf(len(srcs)*len(dsts)))
	parallel.Shares(len(srcs), len(shares), func(share, first, last int) {
		columns := make([]transitions, len(dsts))
		for k := range columns {
			columns[k] = newTurns(len(srcs))
			columns[k].which = make([]int32, 0, last-first)
		}
		for _, src := range srcs[first:last] {
			was, is := p.old.outOf(src.old), p.new.outOf(src.new)
			for k, dst := range dsts {
				before, after := int32(0), int32(0)
				if src.four == dst.four {
					before, after = was.vectorTo(dst.old), is.vectorTo(dst.new)
				}
				columns[k].look(src, 0, before, after)
			}
		}
		shares[share] = columns
	})
	found := make([][]transition, len(dsts))
	parallel.Shares(len(dsts), len(shares), func(_, first, last int) {
		for k := first; k < last; k++ {
			found[k] = together(srcs, dsts[k], shares, k)
		}
	})
	p.note(found)
}

// together returns what has turned of a column, from what shares of its sources found.
func together(srcs []*diffClass, dst *diffClass, shares [][]transitions, k int) []transition {
	all := &shares[0][k]
	which := [][]int32{all.which}
	for _, columns := range shares[1:] {
		part := &columns[k]
		at := make([]int32, len(part.list))
		for i := range part.list {
			x := &part.list[i]
			at[i] = all.with(x.vectors[0], x.vectors[1])
			all.list[at[i]].count += x.count
			all.list[at[i]].amounts[0].Add(x.amounts[0])
		}
		for i, n := range part.which {
			if n >= 0 {
				part.which[i] = at[n]
			}
		}
		which = append(which, part.which)
	}
	to := []*diffClass{dst}
	for i, from := range gather(all.list, srcs, which...) {
		x := &all.list[i]
		x.srcs, x.dsts, x.amounts[1] = from, to, dst.size
	}
	return all.list
}

// note takes what has turned into the flows that went from one vector to another.
func (p *pairing) note(lists [][]transition) {
	var shifts []*shift
	for _, list := range lists {
		for i := range list {
			x := p.plainly(list[i].vectors[0], list[i].vectors[1])
			x.coming++
			shifts = append(shifts, x)
		}
	}
	for _, list := range lists {
		for i := range list {
			t, x := &list[i], shifts[0]
			shifts = shifts[1:]
			x.reaches, x.coming = slices.Grow(x.reaches, x.coming), 0
			x.pairs.Product(t.amounts[0], t.amounts[1], 1)
			x.reaches = append(x.reaches, rectangle{t.srcs, t.dsts})
		}
	}
}
