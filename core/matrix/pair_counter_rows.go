package matrix

import (
	"cmp"
	"runtime"
	"slices"

	"bivium/core/classes"
	"bivium/core/parallel"
)

// rowBuckets is how much there is of some buckets.
type rowBuckets struct {
	key int32 // their line, place, or cell of a palette
	classes.Amount
}

// RowsOf returns the buckets of each row: what there is at each place.
func RowsOf(buckets []Bucket) map[int32][]rowBuckets {
	return heaps(buckets, func(l *Bucket) (of, at int32) { return l.Line, l.Place })
}

// PlacesOf returns the buckets of each place: what there is of each column.
func PlacesOf(buckets []Bucket) map[int32][]rowBuckets {
	return heaps(buckets, func(l *Bucket) (of, at int32) { return l.Place, l.Line })
}

func heaps(buckets []Bucket, keys func(*Bucket) (of, at int32)) map[int32][]rowBuckets {
	out := map[int32][]rowBuckets{}
	for i := range buckets {
		l := &buckets[i]
		of, at := keys(l)
		out[of] = append(out[of], rowBuckets{at, l.Amount})
	}
	return out
}

// shareOf is how many sums of a row and a bucket one goroutine should have at least.
const shareOf = 1 << 20

// AddRows adds the flows from some rows to endpoints of a segment, by place.
// One segment may have most of the rows, so they are shared out.
func (c *PairCounter) AddRows(b *Block, rows, places map[int32][]rowBuckets) {
	lines, buckets := sortedKeys(rows), 0
	for _, list := range places {
		buckets += len(list)
	}
	shares := min(runtime.GOMAXPROCS(0), len(lines)*buckets/shareOf)
	if shares < 2 {
		c.addLines(b, lines, rows, places)
		return
	}
	pairCounters, jobs := make([]*PairCounter, shares), make([]func(), shares)
	for i := range jobs {
		pairCounters[i] = NewPairCounter(c.Matrix)
		jobs[i] = func() {
			pairCounters[i].addLines(b, lines[i*len(lines)/shares:(i+1)*len(lines)/shares], rows, places)
		}
	}
	parallel.Run(jobs)
	for _, part := range pairCounters {
		part.handOver(c)
		part.Free()
	}
}

// handOver gives what was counted to another pair counter.
func (c *PairCounter) handOver(to *PairCounter) {
	for _, x := range c.used {
		a := &c.amounts[int(x.Effect)*c.ruleSets+int(x.RuleSet)]
		to.count(x, a.pairs, a.flows)
		*a = amount{}
	}
	c.used = c.used[:0]
}

// addLines adds the flows from some lines of rows. The columns of a place are
// added up once for a row, wherever its buckets are.
func (c *PairCounter) addLines(b *Block, lines []int32, rows, places map[int32][]rowBuckets) {
	a := newAdder(b)
	order := sortedKeys(places)
	for _, line := range lines {
		r, buckets := &b.Rows[line], rows[line]
		for _, place := range order {
			a.addUp(r, places[place])
			for i := range buckets {
				if e := b.Effects[buckets[i].key][place]; e != NoEffect {
					a.give(len(r.Palette), e, &buckets[i])
				}
			}
			a.used = a.used[:0]
		}
		a.flush(r, c.count)
	}
}

func sortedKeys(m map[int32][]rowBuckets) []int32 {
	out := make([]int32, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.SortFunc(out, cmp.Compare[int32])
	return out
}

// rowAdder adds up one row after the other.
type rowAdder struct {
	cells []rowBuckets // by cell of the palette, for the place at hand
	used  []int32      // the cells that have something

	effectAt map[int32]int // an effect, to its place in sums
	effects  []int32
	sums     [][]rowBuckets // by effect and cell
}

func newAdder(b *Block) *rowAdder {
	widest := 0
	for i := range b.Rows {
		widest = max(widest, len(b.Rows[i].Palette))
	}
	return &rowAdder{cells: make([]rowBuckets, widest), effectAt: map[int32]int{}}
}

// addUp adds up the columns of a place by the cells that a row has for them.
func (a *rowAdder) addUp(r *Row, columns []rowBuckets) {
	for i := range columns {
		cell := int32(r.Cells[columns[i].key])
		x := &a.cells[cell]
		if x.key != cell+1 {
			*x = rowBuckets{key: cell + 1}
			a.used = append(a.used, cell)
		}
		x.Add(columns[i].Amount)
	}
	for _, cell := range a.used {
		a.cells[cell].key = 0
	}
}

// give counts what was added up for a bucket of sources, whose paths there have an
// effect.
func (a *rowAdder) give(palette int, effect int32, l *rowBuckets) {
	at, known := a.effectAt[effect]
	if !known {
		at = len(a.effects)
		a.effectAt[effect] = at
		a.effects = append(a.effects, effect)
		a.sums = append(a.sums, nil)
	}
	if len(a.sums[at]) < palette {
		a.sums[at] = append(a.sums[at], make([]rowBuckets, len(a.cells)-len(a.sums[at]))...)
	}
	sums := a.sums[at]
	for _, cell := range a.used {
		x := &a.cells[cell]
		sums[cell].Add(classes.Amount{Members: l.Members * x.Members, Weight: l.Weight * x.Weight})
	}
}

// flush calls count for each combination of the row, and forgets the row.
func (a *rowAdder) flush(r *Row, count func(x Combination, pairs int64, flows float64)) {
	for at, effect := range a.effects {
		sums := a.sums[at][:min(len(r.Palette), len(a.sums[at]))]
		for cell := range sums {
			if x := &sums[cell]; x.Members != 0 {
				count(Combination{r.Palette[cell], effect}, x.Members, x.Weight)
				*x = rowBuckets{}
			}
		}
	}
}
