package survey

import (
	"runtime"
	"slices"
)

// sweep is a bundle of sources, and those destinations to which its flows are to be
// compared.
type sweep struct {
	src     *bundle
	dsts    []*bundle
	altered []bool // unless nil: which places of its palette are worth looking at
}

// turned is some sources and destinations, all flows between which went from one
// vector to another.
type turned struct {
	vectors    [2]int32
	srcs, dsts []*bundle
}

// turns is what has turned of one row, or of one column. It is found by the sum of its
// vectors: mostly one of them is that of all, and the other tells them apart.
type turns struct {
	list  []turned
	first []int32 // by sum: the place after that of the last one, 0 for none
	next  []int32 // by place: likewise
}

func (t *turns) slot(before, after int32) *int32 { return &t.first[(before+after)%manyTurns] }

// manyTurns is for about how many turns there is room to find them at once.
const manyTurns = 1 << 10

func newTurns() turns { return turns{first: make([]int32, manyTurns)} }

// with returns the place of what went from one vector to another.
func (t *turns) with(before, after int32) *turned {
	key, slot := [2]int32{before, after}, t.slot(before, after)
	for n := *slot; n > 0; n = t.next[n-1] {
		if t.list[n-1].vectors == key {
			return &t.list[n-1]
		}
	}
	t.list, t.next = append(t.list, turned{vectors: key}), append(t.next, *slot)
	*slot = int32(len(t.list))
	return &t.list[len(t.list)-1]
}

// take empties the turns for another row, and gives away what they had.
func (t *turns) take() []turned {
	list := t.list
	for i := range list {
		*t.slot(list[i].vectors[0], list[i].vectors[1]) = 0
	}
	t.list, t.next = nil, t.next[:0]
	return list
}

// fewestTurns is how many pairs of bundles one goroutine should compare at least.
const fewestTurns = 1 << 14

// sharesOf returns in how many shares it is worth while to compare pairs of bundles.
func sharesOf(pairs int) int { return max(1, min(runtime.GOMAXPROCS(0), pairs/fewestTurns)) }

// turnRows compares the flows of some rows.
func (p *pairing) turnRows(rows []sweep) {
	pairs := 0
	for i := range rows {
		pairs += len(rows[i].dsts)
	}
	found := make([][]turned, len(rows))
	inShares(len(rows), sharesOf(pairs), func(_, first, last int) {
		t := newTurns()
		for i := first; i < last; i++ {
			p.turnRow(&rows[i], &t)
			found[i] = t.take()
		}
	})
	for _, list := range found {
		p.note(list)
	}
}

func (p *pairing) turnRow(r *sweep, t *turns) {
	var cells []uint32
	src := r.src
	if r.altered != nil && p.to < len(p.lands)-1 {
		cells = p.new.block.rows[p.new.block.src.kinds[src.new].line].cells
	}
	was, is := p.old.outOf(src.old), p.new.outOf(src.new)
	for _, dst := range r.dsts {
		if src.four != dst.four || cells != nil && (dst.new < 0 || !r.altered[cells[p.new.block.dst.kinds[dst.new].line]]) {
			continue
		}
		if before, after := was.to(dst.old), is.to(dst.new); before != after {
			x := t.with(before, after)
			x.dsts = append(x.dsts, dst)
		}
	}
	for i := range t.list {
		t.list[i].srcs = []*bundle{src}
	}
}

// turnColumns compares the flows from some sources to destinations of which there are
// far fewer: what has turned is put together by these.
func (p *pairing) turnColumns(srcs, dsts []*bundle) {
	shares := make([][]turns, sharesOf(len(srcs)*len(dsts)))
	inShares(len(srcs), len(shares), func(share, first, last int) {
		columns := make([]turns, len(dsts))
		for k := range columns {
			columns[k] = newTurns()
		}
		for _, src := range srcs[first:last] {
			was, is := p.old.outOf(src.old), p.new.outOf(src.new)
			for k, dst := range dsts {
				if src.four != dst.four {
					continue
				}
				if before, after := was.to(dst.old), is.to(dst.new); before != after {
					x := columns[k].with(before, after)
					x.srcs = append(x.srcs, src)
				}
			}
		}
		shares[share] = columns
	})
	shares = slices.DeleteFunc(shares, func(columns []turns) bool { return columns == nil })
	if len(shares) == 0 {
		return
	}
	for k, dst := range dsts {
		first := &shares[0][k] // goes on in the order in which one goroutine would find them
		for _, columns := range shares[1:] {
			for _, part := range columns[k].list {
				x := first.with(part.vectors[0], part.vectors[1])
				x.srcs = append(x.srcs, part.srcs...)
			}
		}
		for i := range first.list {
			first.list[i].dsts = []*bundle{dst}
		}
		p.note(first.list)
	}
}

// note takes what has turned into the flows that went from one vector to another.
func (p *pairing) note(list []turned) {
	for i := range list {
		t := &list[i]
		x := p.plainly(t.vectors[0], t.vectors[1])
		x.pairs.product(sizeOfAll(t.srcs), sizeOfAll(t.dsts), 1)
		x.reaches = append(x.reaches, reach{t.srcs, t.dsts})
	}
}

func sizeOfAll(list []*bundle) size {
	var sum size
	for _, b := range list {
		sum.add(b.size)
	}
	return sum
}
