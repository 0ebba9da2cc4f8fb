package survey

import (
	"cmp"
	"runtime"
	"slices"
)

// celler adds up the combinations of a cell.
type celler struct {
	*Survey
	stances int
	amounts []amount // by effect and stance
	used    []combination
	out     []weighed
	buckets buckets
}

type amount struct {
	pairs int64
	flows float64
	used  bool
}

// newCeller returns an empty celler. Its table is as large as that of verdicts,
// so it is used again.
func newCeller(s *Survey) *celler {
	if c, ok := s.cellers.Get().(*celler); ok {
		c.Survey = s
		return c
	}
	stances := 0
	for _, v := range s.verdicts {
		stances = max(stances, len(v))
	}
	return &celler{Survey: s, stances: stances, amounts: make([]amount, stances*len(s.verdicts))}
}

// free gives the celler back.
func (c *celler) free() {
	s := c.Survey
	c.Survey, c.out = nil, nil
	s.cellers.Put(c)
}

// count adds pairs of members, and about how many pairs of addresses they are,
// to a combination.
func (c *celler) count(x combination, pairs int64, flows float64) {
	a := &c.amounts[int(x.effect)*c.stances+int(x.stance)]
	if !a.used {
		a.used = true
		c.used = append(c.used, x)
	}
	a.pairs += pairs
	a.flows += flows
}

// take returns what was added up, and empties the celler.
func (c *celler) take() []weighed {
	for _, x := range c.used {
		a := &c.amounts[int(x.effect)*c.stances+int(x.stance)]
		if a.pairs > 0 {
			c.out = append(c.out, weighed{x, nil, a.pairs, a.flows})
		}
		*a = amount{}
	}
	c.used = c.used[:0]
	return c.out
}

func (c *celler) add(from Set, src *side, to Set, dst *side) {
	if src.domain == len(c.inside) {
		c.addDoors(from, src, to, dst)
		return
	}
	if src.domain != dst.domain {
		c.addUnfound(from, src, to, dst)
	}
	c.addFound(from, src, to, dst)
}

// addFound adds the flows to endpoints that the source's segment finds.
func (c *celler) addFound(from Set, src *side, to Set, dst *side) {
	b := c.blocks[src.domain][dst.domain]
	if b == nil {
		return
	}
	sources, targets := c.sources(b, from, src.members), c.targets(b, to, dst.members)
	if b.to == len(c.inside) {
		c.addOut(b, sources, targets)
		return
	}
	c.addRows(b, rowsOf(sources), placesOf(targets))
	if src.domain == dst.domain {
		c.addNear(b, from, src, to, dst)
	}
}

// addNear moves the pairs of one network from the combinations of hub paths to
// those of local ones.
func (c *celler) addNear(b *block, from Set, src *side, to Set, dst *side) {
	c.eachNear(from, src.members, to, dst.members, func(i, k int32) {
		x, y := from[i], to[k]
		near, far := c.nearCombination(b, &c.classes[x.Class], &c.classes[y.Class])
		flows := c.weight(x) * c.weight(y)
		if far.effect != noEffect {
			c.count(far, -1, -flows)
		}
		if c.selfless(x, y) {
			c.count(near, 1, flows)
		}
	})
}

// addUnfound adds the flows to addresses that the source's segment finds nothing
// under.
func (c *celler) addUnfound(from Set, src *side, to Set, dst *side) {
	for _, four := range []bool{false, true} {
		out, in := 0.0, 0.0
		for _, i := range src.members {
			if c.classes[from[i].Class].four == four {
				out += c.weight(from[i])
			}
		}
		for _, k := range dst.members {
			if x := &c.classes[to[k].Class]; x.four == four && x.seen[src.domain] == seesNothing {
				in += c.weight(to[k])
			}
		}
		if out > 0 && in > 0 {
			c.out = append(c.out, weighed{unfoundCombination, nil, 1, out * in})
		}
	}
}

func (c *celler) addDoors(from Set, src *side, to Set, dst *side) {
	for _, i := range src.members {
		for _, k := range dst.members {
			if c.selfless(from[i], to[k]) {
				c.eachStrand(from[i].Class, to[k].Class, func(t strand) {
					c.out = append(c.out, weighed{t.combination, c.shades(c.vectors[t.vector], t.mask), 1, c.weight(from[i]) * c.weight(to[k])})
				})
			}
		}
	}
}

// addOut adds the flows to external endpoints: their groups, and so their
// columns, depend on the exit that a way leads to.
func (c *celler) addOut(b *block, sources, targets []lot) {
	for i := range sources {
		l := &sources[i]
		c.eachBatch(b, l, targets, &c.buckets, func(x combination, dsts []int32) {
			pairs, weight := 0, 0.0
			for _, k := range dsts {
				pairs += len(targets[k].members)
				weight += targets[k].weight
			}
			c.count(x, int64(len(l.members))*int64(pairs), l.weight*weight)
		})
	}
}

// heap is how much there is of some lots.
type heap struct {
	key     int32 // their line, place, or cell of a palette
	members int64
	weight  float64
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
		out[of] = append(out[of], heap{at, int64(len(l.members)), l.weight})
	}
	return out
}

// shareOf is how many sums of a row and a lot one goroutine should have at least.
const shareOf = 1 << 22

// addRows adds the flows from some rows to endpoints of a segment, by place.
// One segment may have most of the rows, so they are shared out.
func (c *celler) addRows(b *block, rows, places map[int32][]heap) {
	lines, lots := sortedKeys(rows), 0
	for _, list := range places {
		lots += len(list)
	}
	shares := min(runtime.GOMAXPROCS(0), len(lines)*lots/shareOf)
	if shares < 2 {
		c.addLines(b, lines, rows, places)
		return
	}
	cellers, jobs := make([]*celler, shares), make([]func(), shares)
	for i := range jobs {
		cellers[i] = newCeller(c.Survey)
		jobs[i] = func() {
			cellers[i].addLines(b, lines[i*len(lines)/shares:(i+1)*len(lines)/shares], rows, places)
		}
	}
	inParallel(jobs)
	for _, part := range cellers {
		part.handOver(c)
		part.free()
	}
}

// handOver gives what was counted to another celler.
func (c *celler) handOver(to *celler) {
	for _, x := range c.used {
		a := &c.amounts[int(x.effect)*c.stances+int(x.stance)]
		to.count(x, a.pairs, a.flows)
		*a = amount{}
	}
	c.used = c.used[:0]
}

// addLines adds the flows from some lines of rows. The columns of a place are
// added up once for a row, wherever its lots are.
func (c *celler) addLines(b *block, lines []int32, rows, places map[int32][]heap) {
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
		x.members += columns[i].members
		x.weight += columns[i].weight
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
		sums[cell].members += l.members * x.members
		sums[cell].weight += l.weight * x.weight
	}
}

// flush calls count for each combination of the row, and forgets the row.
func (a *adder) flush(r *row, count func(x combination, pairs int64, flows float64)) {
	for at, effect := range a.effects {
		sums := a.sums[at][:min(len(r.palette), len(a.sums[at]))]
		for cell := range sums {
			if x := &sums[cell]; x.members > 0 {
				count(combination{r.palette[cell], effect}, x.members, x.weight)
				*x = heap{}
			}
		}
	}
}
