package survey

import (
	"cmp"
	"net/netip"
	"runtime"
	"slices"

	"bivium/core/paths"
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

// newCeller returns an empty celler. Its table is as large as there are stances and
// effects, so it is used again.
func newCeller(s *Survey) *celler {
	stances, effects := s.ledger.len()
	c, ok := s.cellers.Get().(*celler)
	if !ok || c.stances < stances || len(c.amounts) < c.stances*effects {
		c = &celler{stances: stances, amounts: make([]amount, stances*effects)}
	}
	c.Survey = s
	return c
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

// take returns what was added up and is more than nothing, and empties the celler.
func (c *celler) take() []weighed {
	return slices.DeleteFunc(c.takeAll(), func(w weighed) bool { return w.pairs <= 0 })
}

// takeAll is take, for sums that are parts of others and may be less than nothing.
func (c *celler) takeAll() []weighed {
	for _, x := range c.used {
		a := &c.amounts[int(x.effect)*c.stances+int(x.stance)]
		if a.pairs != 0 {
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
	c.addLots(b, c.sources(b, from, src.members), c.targets(b, to, dst.members))
	if src.domain == dst.domain {
		c.addNear(b, c.residents(&b.src, from, src.members), c.residents(&b.dst, to, dst.members))
		c.takeSelves(b, from, src.members, to, dst.members)
	}
}

// addBlock adds all flows of a block.
func (c *celler) addBlock(b *block) {
	c.addLots(b, b.src.allLots(), b.dst.allLots())
	if b.from == b.to {
		c.addNear(b, c.allResidents(&b.src, b.from), c.allResidents(&b.dst, b.from))
		for _, i := range c.inside[b.from] {
			if x := c.classes[i]; x.size.one() {
				c.takeSelf(b, x)
			}
		}
	}
}

func (c *celler) addLots(b *block, sources, targets []lot) {
	if b.to == len(c.inside) {
		c.addOut(b, sources, targets)
		return
	}
	c.addRows(b, rowsOf(sources), placesOf(targets))
}

// resident is the members of a network that a block does not tell apart.
type resident struct {
	network int
	kind
	four bool
	bulk
}

// residents returns some members of a segment as residents of their networks.
func (s *Survey) residents(x *axis, set Set, members []int32) []resident {
	out := make([]resident, len(members))
	for at, i := range members {
		c := s.classes[set[i].Class]
		out[at] = resident{c.End.Home.Network, kind{x.line(&c.ticket), x.place(&c.ticket)}, c.four, bulk{1, s.weight(set[i])}}
	}
	return housed(out)
}

// allResidents returns all endpoints of a segment as residents of their networks.
func (s *Survey) allResidents(x *axis, segment int) []resident {
	roll := s.roll(segment)
	out := make([]resident, len(roll.tickets))
	for at := range out {
		c := &roll.tickets[at]
		out[at] = resident{int(c.network), kind{x.line(c), x.place(c)}, roll.four[at], roll.members[at]}
	}
	return housed(out)
}

// housed puts residents in order of their networks and families, those that are
// alike together.
func housed(out []resident) []resident {
	slices.SortFunc(out, func(a, b resident) int {
		return cmp.Or(a.network-b.network, oneIf(a.four)-oneIf(b.four), int(a.line-b.line), int(a.place-b.place))
	})
	n := 0
	for i := range out {
		if last := max(n-1, 0); n > 0 && out[i].network == out[last].network && out[i].four == out[last].four && out[i].kind == out[last].kind {
			out[last].add(out[i].bulk)
			continue
		}
		out[n] = out[i]
		n++
	}
	return out[:n]
}

// addNear moves the pairs of one network and family from the combinations of hub
// paths to those of local ones, an address and itself among them.
func (c *celler) addNear(b *block, from, to []resident) {
	a := newAdder(b)
	next := 0
	for first := 0; first < len(from); {
		x := &from[first]
		last := first + 1
		for last < len(from) && from[last].network == x.network && from[last].four == x.four {
			last++
		}
		before := func(y *resident) bool {
			return y.network < x.network || y.network == x.network && !y.four && x.four
		}
		for next < len(to) && before(&to[next]) {
			next++
		}
		end := next
		for end < len(to) && to[end].network == x.network && to[end].four == x.four {
			end++
		}
		c.addNeighbours(b, a, from[first:last], to[next:end])
		first, next = last, end
	}
}

// addNeighbours is addNear for one network and family.
func (c *celler) addNeighbours(b *block, a *adder, from, to []resident) {
	places := map[int32][]heap{}
	for i := range to {
		places[to[i].place] = append(places[to[i].place], heap{to[i].line, to[i].bulk})
	}
	near := b.near[oneIf(len(from) > 0 && c.net.Networks[from[0].network].Native)]
	for _, place := range sortedKeys(places) {
		for i := range from {
			r := &b.rows[from[i].line]
			far := b.effects[from[i].place][place]
			a.addUp(r, places[place])
			for _, cell := range a.used {
				pairs, flows := from[i].members*a.cells[cell].members, from[i].weight*a.cells[cell].weight
				if far != noEffect {
					c.count(combination{r.palette[cell], far}, -pairs, -flows)
				}
				c.count(combination{r.palette[cell], near}, pairs, flows)
			}
			a.used = a.used[:0]
		}
	}
}

// takeSelves takes away the flows from an address to itself: there are none.
func (c *celler) takeSelves(b *block, from Set, src []int32, to Set, dst []int32) {
	singles := map[netip.Addr]bool{}
	for _, k := range dst {
		if a := c.single(to[k]); a.IsValid() {
			singles[a] = true
		}
	}
	for _, i := range src {
		a := c.single(from[i])
		if a.IsValid() && singles[a] {
			c.takeSelf(b, c.classes[from[i].Class])
		}
	}
}

// takeSelf takes away the flows from an address of a class to itself.
func (c *celler) takeSelf(b *block, x *Class) {
	near, _ := c.nearCombination(b, x, x)
	c.count(near, -1, -1)
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
			if x := c.classes[to[k].Class]; x.four == four && x.seen[src.domain] == seesNothing {
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

// addAllDoors adds all flows from the internet to a segment, those to endpoints of
// one kind behind the same publications at once.
func (c *celler) addAllDoors(segment int) {
	b := c.blocks[len(c.inside)][segment]
	type behind struct {
		line int32
		spot int
		open string
		only int // a class of one public address, which may be that of its source; else -1
	}
	at := map[behind]int{}
	var which []int // by place in bulks: one of the classes
	var bulks []bulk
	gates := c.gates[segment]
	open := make([]byte, len(gates))
	for k, i := range c.inside[segment] {
		x := c.classes[i]
		for g := range gates {
			open[g] = byte(oneIf(gates[g].open[k]))
		}
		key := behind{b.dst.line(&x.ticket), x.spot, string(open), -1}
		if x.size.one() && !paths.Private(x.End.Addr) {
			key.only = i
		}
		n, known := at[key]
		if !known {
			n = len(which)
			at[key] = n
			which, bulks = append(which, i), append(bulks, bulk{})
		}
		bulks[n].add(bulk{1, x.weight})
	}
	type shaded struct {
		vector int32
		mask   string
	}
	shades := map[shaded][]shade{}
	for _, o := range c.outside {
		for n, i := range which {
			c.eachStrand(o, i, func(t strand) {
				key := shaded{vector: t.vector}
				if t.mask != nil {
					key.mask = bitsKey(t.mask)
				}
				known, ok := shades[key]
				if !ok {
					known = c.shades(c.vectors[t.vector], t.mask)
					shades[key] = known
				}
				c.out = append(c.out, weighed{t.combination, known, 1, c.classes[o].weight * bulks[n].weight})
			})
		}
	}
}

// addOut adds the flows to external endpoints: their groups, and so their
// columns, depend on the exit that a way leads to.
func (c *celler) addOut(b *block, sources, targets []lot) {
	for i := range sources {
		l := &sources[i]
		c.eachBatch(b, l, targets, &c.buckets, func(x combination, dsts []int32) {
			var all bulk
			for _, k := range dsts {
				all.add(targets[k].bulk)
			}
			c.count(x, l.members*all.members, l.weight*all.weight)
		})
	}
}

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
