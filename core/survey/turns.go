package survey

import "runtime"

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

// turns is what has turned of one row, or of one column.
type turns struct {
	list []turned
	at   map[[2]int32]int
}

// with returns the place of what went from one vector to another.
func (t *turns) with(before, after int32) *turned {
	key := [2]int32{before, after}
	i, ok := t.at[key]
	if !ok {
		if t.at == nil {
			t.at = map[[2]int32]int{}
		}
		i = len(t.list)
		t.at[key] = i
		t.list = append(t.list, turned{vectors: key})
	}
	return &t.list[i]
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
		for i := first; i < last; i++ {
			found[i] = p.turnRow(&rows[i])
		}
	})
	for _, list := range found {
		p.note(list)
	}
}

func (p *pairing) turnRow(r *sweep) []turned {
	var t turns
	var cells []uint32
	src := r.src
	if r.altered != nil && p.to < len(p.lands)-1 {
		cells = p.new.block.rows[p.new.block.src.kinds[src.new].line].cells
	}
	for _, dst := range r.dsts {
		if src.four != dst.four || cells != nil && (dst.new < 0 || !r.altered[cells[p.new.block.dst.kinds[dst.new].line]]) {
			continue
		}
		if before, after := p.old.far(src.old, dst.old), p.new.far(src.new, dst.new); before != after {
			x := t.with(before, after)
			x.dsts = append(x.dsts, dst)
		}
	}
	for i := range t.list {
		t.list[i].srcs = []*bundle{src}
	}
	return t.list
}

// turnColumns compares the flows from some sources to destinations of which there are
// far fewer: what has turned is put together by these.
func (p *pairing) turnColumns(srcs, dsts []*bundle) {
	shares := make([][]turns, sharesOf(len(srcs)*len(dsts)))
	inShares(len(srcs), len(shares), func(share, first, last int) {
		columns := make([]turns, len(dsts))
		for _, src := range srcs[first:last] {
			for k, dst := range dsts {
				if src.four != dst.four {
					continue
				}
				if before, after := p.old.far(src.old, dst.old), p.new.far(src.new, dst.new); before != after {
					x := columns[k].with(before, after)
					x.srcs = append(x.srcs, src)
				}
			}
		}
		shares[share] = columns
	})
	for k, dst := range dsts {
		var whole turns // in the order in which one goroutine would find them
		for _, columns := range shares {
			if columns == nil {
				continue
			}
			for _, part := range columns[k].list {
				x := whole.with(part.vectors[0], part.vectors[1])
				x.srcs = append(x.srcs, part.srcs...)
			}
		}
		for i := range whole.list {
			whole.list[i].dsts = []*bundle{dst}
		}
		p.note(whole.list)
	}
}

// note takes what has turned into the changes.
func (p *pairing) note(list []turned) {
	for i := range list {
		t := &list[i]
		from, to := sizeOfAll(t.srcs), sizeOfAll(t.dsts)
		for _, c := range p.plainly(t.vectors[0], t.vectors[1]) {
			c.pairs.product(from, to, 1)
			c.reaches = append(c.reaches, reach{t.srcs, t.dsts})
		}
	}
}

func sizeOfAll(list []*bundle) size {
	var sum size
	for _, b := range list {
		sum.add(b.size)
	}
	return sum
}
