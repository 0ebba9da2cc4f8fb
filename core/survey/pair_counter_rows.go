package survey

import (
	"cmp"
	"runtime"
	"slices"

	"bivium/core/parallel"
)

// heap is how much there is of some lots.
type heap struct {
	key int32 // their line, place, or cell of a palette
	bulk
}

// rowsOf returns the lots of each row: what there is at each place.
func rowsOf(lots []lot) map[int32][]heap {
	return heaps(lots, func(l *lot) (of, at int32) { return l.line, l.place })
}

// placesOf returns the lots of each place: what there is of each column.
func placesOf(lots []lot) map[int32][]heap {
	return heaps(lots, func(l *lot) (of, at int32) { return l.place, l.line })
}

func heaps(lots []lot, keys func(*lot) (of, at int32)) map[int32][]heap {
	out := map[int32][]heap{}
	for i := range lots {
		l := &lots[i]
		of, at := keys(l)
		out[of] = append(out[of], heap{at, l.bulk})
	}
	return out
}

// shareOf is how many sums of a row and a lot one goroutine should have at least.
const shareOf = 1 << 20

// addRows adds the flows from some rows to endpoints of a segment, by place.
// One segment may have most of the rows, so they are shared out.
func (c *pairCounter) addRows(b *block, rows, places map[int32][]heap) {
	lines, lots := sortedKeys(rows), 0
	for _, list := range places {
		lots += len(list)
	}
	shares := min(runtime.GOMAXPROCS(0), len(lines)*lots/shareOf)
	if shares < 2 {
		c.addLines(b, lines, rows, places)
		return
	}
	pairCounters, jobs := make([]*pairCounter, shares), make([]func(), shares)
	for i := range jobs {
		pairCounters[i] = newPairCounter(c.Survey)
		jobs[i] = func() {
			pairCounters[i].addLines(b, lines[i*len(lines)/shares:(i+1)*len(lines)/shares], rows, places)
		}
	}
	parallel.Run(jobs)
	for _, part := range pairCounters {
		part.handOver(c)
		part.free()
	}
}

// handOver gives what was counted to another pairCounter.
func (c *pairCounter) handOver(to *pairCounter) {
	for _, x := range c.used {
		a := &c.amounts[int(x.effect)*c.stances+int(x.stance)]
		to.count(x, a.pairs, a.flows)
		*a = amount{}
	}
	c.used = c.used[:0]
}

// addLines adds the flows from some lines of rows. The columns of a place are
// added up once for a row, wherever its lots are.
func (c *pairCounter) addLines(b *block, lines []int32, rows, places map[int32][]heap) {
	a := newAdder(b)
	order := sortedKeys(places)
	for _, line := range lines {
		r, lots := &b.rows[line], rows[line]
		for _, place := range order {
			a.addUp(r, places[place])
			for i := range lots {
				if e := b.effects[lots[i].key][place]; e != noEffect {
					a.give(len(r.palette), e, &lots[i])
				}
			}
			a.used = a.used[:0]
		}
		a.flush(r, c.count)
	}
}

func sortedKeys(m map[int32][]heap) []int32 {
	out := make([]int32, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.SortFunc(out, cmp.Compare[int32])
	return out
}

// adder adds up one row after the other.
type adder struct {
	cells []heap  // by cell of the palette, for the place at hand
	used  []int32 // the cells that have something

	effectAt map[int32]int // an effect, to its place in sums
	effects  []int32
	sums     [][]heap // by effect and cell
}

func newAdder(b *block) *adder {
	widest := 0
	for i := range b.rows {
		widest = max(widest, len(b.rows[i].palette))
	}
	return &adder{cells: make([]heap, widest), effectAt: map[int32]int{}}
}

// addUp adds up the columns of a place by the cells that a row has for them.
func (a *adder) addUp(r *row, columns []heap) {
	for i := range columns {
		cell := int32(r.cells[columns[i].key])
		x := &a.cells[cell]
		if x.key != cell+1 {
			*x = heap{key: cell + 1}
			a.used = append(a.used, cell)
		}
		x.add(columns[i].bulk)
	}
	for _, cell := range a.used {
		a.cells[cell].key = 0
	}
}

// give counts what was added up for a lot of sources, whose ways there have an
// effect.
func (a *adder) give(palette int, effect int32, l *heap) {
	at, known := a.effectAt[effect]
	if !known {
		at = len(a.effects)
		a.effectAt[effect] = at
		a.effects = append(a.effects, effect)
		a.sums = append(a.sums, nil)
	}
	if len(a.sums[at]) < palette {
		a.sums[at] = append(a.sums[at], make([]heap, len(a.cells)-len(a.sums[at]))...)
	}
	sums := a.sums[at]
	for _, cell := range a.used {
		x := &a.cells[cell]
		sums[cell].add(bulk{l.members * x.members, l.weight * x.weight})
	}
}

// flush calls count for each combination of the row, and forgets the row.
func (a *adder) flush(r *row, count func(x combination, pairs int64, flows float64)) {
	for at, effect := range a.effects {
		sums := a.sums[at][:min(len(r.palette), len(a.sums[at]))]
		for cell := range sums {
			if x := &sums[cell]; x.members != 0 {
				count(combination{r.palette[cell], effect}, x.members, x.weight)
				*x = heap{}
			}
		}
	}
}
