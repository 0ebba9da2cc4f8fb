package survey

import (
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/verdict"
)

// Passage says that flows from one segment to another pass, or are blocked by, a
// pool at a hub. The internet has no name.
type Passage struct {
	Pool, Hub string
	From, To  string // segments, or ""
}

// passed is the passages of one domain to another, found when they are first asked for.
type passed struct {
	once parallel.Once
	list []Passage
}

type passer struct {
	*Survey
	pools []string
}

// quarter is the classes of a domain that ways do not tell apart.
type quarter struct {
	one, other *Class // another of a different network, or nil
	lines      []int32
	place      int32
}

// quarters returns the quarters of an axis of a block; of those that a segment
// does not see, none.
func (w *passer) quarters(x *axis, domain, seenFrom int, key func(*Class) string) []*quarter {
	at := map[string]*quarter{}
	var out []*quarter
	seen := map[*quarter]*bitset.BitSet{}
	for _, n := range w.of(domain) {
		c := w.classes[n]
		if c.seen[seenFrom] != seesIt {
			continue
		}
		k := key(c)
		q := at[k]
		if q == nil {
			q = &quarter{one: c, place: x.place(&c.ticket)}
			at[k], seen[q] = q, bitset.New(64)
			out = append(out, q)
		}
		if q.other == nil && q.one.End.Home.Network != c.End.Home.Network {
			q.other = c
		}
		line := c.at // outside, a class is a line of its own
		if c.Internal() {
			line = x.line(&c.ticket)
		}
		if !seen[q].Test(uint(line)) {
			seen[q].Set(uint(line))
			q.lines = append(q.lines, line)
		}
	}
	return out
}

// between returns the passages of a block that begins inside.
func (w *passer) between(b *block) []Passage {
	bySpot := func(c *Class) string { return lists.Key([]int{c.spot}) }
	byAnchors := func(c *Class) string {
		return lists.Key([]int{lists.OneIf(c.four)}) + w.net.Anchors(c.End.Home)
	}
	byBoth := func(c *Class) string { return bySpot(c) + w.net.Anchors(c.End.Home) } // ways of one spot have one effect, and may pass other hubs
	var from, to []*quarter
	if b.to == len(w.inside) {
		from, to = w.quarters(&b.src, b.from, b.from, byAnchors), w.quarters(&b.dst, b.to, b.from, bySpot)
	} else {
		from, to = w.quarters(&b.src, b.from, b.from, byBoth), w.quarters(&b.dst, b.to, b.from, byBoth)
	}
	found := map[[2]int]bool{}
	met := map[int32]*meeting{}
	for _, src := range from {
		for _, dst := range to {
			effect := b.effects[src.place][dst.place]
			if effect == noEffect || src.one.four != dst.one.four {
				continue
			}
			m := met[effect]
			if m == nil {
				m = w.meet(b, effect)
				met[effect] = m
			}
			if x, y, ok := apartQuarters(b, src, dst); ok && m.all.Any() {
				w.pass(m, src, dst, x, y, found)
			}
		}
	}
	return w.told(found, b.from, b.to)
}

// pass finds the pools that flows from one quarter to another pass where none
// was found to pass them yet.
func (w *passer) pass(m *meeting, src, dst *quarter, x, y *verdict.Endpoint, found map[[2]int]bool) {
	way := w.judge.WayTo(x, y)
	hubs := make([]int, len(w.pools))
	wanted := bitset.New(uint(len(w.pools)))
	for p := range m.all.EachSet() {
		hubs[p] = w.judge.PassedAt(int(p), &way)
		wanted.SetTo(p, !found[[2]int{int(p), hubs[p]}])
	}
	if wanted.None() {
		return
	}
	for p := range w.met(m, src, dst, wanted).EachSet() {
		found[[2]int{int(p), hubs[p]}] = true
	}
}

// apartQuarters returns an endpoint of each of two quarters, with a way between
// them that is not local; false if they have none.
func apartQuarters(b *block, src, dst *quarter) (x, y *verdict.Endpoint, ok bool) {
	x, y = &src.one.End, &dst.one.End
	if b.from != b.to || x.Home.Network != y.Home.Network {
		return x, y, true
	}
	switch {
	case dst.other != nil:
		return x, &dst.other.End, true
	case src.other != nil:
		return &src.other.End, y, true
	}
	return nil, nil, false
}

// meeting is what flows of a block pass under one effect.
type meeting struct {
	*block
	exit   int
	all    *bitset.BitSet   // pools that some flow may pass
	sorts  []*bitset.BitSet // the different sets of pools, the first empty
	byCell [][]uint16       // by row and place in its palette: a sort; nil where all are empty
}

// meet finds which stances of a block pass which pools under an effect.
func (w *passer) meet(b *block, effect int32) *meeting {
	m := &meeting{block: b, exit: w.ledger.effectAt(effect).Exit, all: bitset.New(uint(len(w.pools))), byCell: make([][]uint16, len(b.rows))}
	number := map[string]uint{}
	for i, name := range w.pools {
		number[name] = uint(i)
	}
	m.sorts = []*bitset.BitSet{bitset.New(uint(len(w.pools)))}
	sortOf := map[int32]uint16{}
	for _, stance := range b.stances {
		vector, occurs := w.settled(combination{stance, effect})
		if !occurs {
			continue
		}
		pools := bitset.New(uint(len(w.pools)))
		for _, r := range w.vectors[vector] {
			for _, name := range w.results[r].Pools {
				pools.Set(number[name])
			}
		}
		at := slices.IndexFunc(m.sorts, pools.Equal)
		if at < 0 {
			at = len(m.sorts)
			m.sorts = append(m.sorts, pools)
		}
		sortOf[stance] = uint16(at)
		m.all.InPlaceUnion(pools)
	}
	if m.all.None() {
		return m
	}
	for i := range b.rows {
		for k, stance := range b.rows[i].palette {
			if at := sortOf[stance]; at > 0 {
				if m.byCell[i] == nil {
					m.byCell[i] = make([]uint16, len(b.rows[i].palette))
				}
				m.byCell[i][k] = at
			}
		}
	}
	return m
}

// met returns those of some pools that flows from one quarter to another meet.
func (w *passer) met(m *meeting, src, dst *quarter, wanted *bitset.BitSet) *bitset.BitSet {
	out := bitset.New(uint(len(w.pools)))
	missing := int(wanted.Count())
	new := make([]bool, len(m.sorts)) // by sort: it has a pool that is wanted still
	refresh := func() {
		for i, sort := range m.sorts {
			new[i] = sort.IntersectionCardinality(wanted) > out.IntersectionCardinality(sort)
		}
	}
	refresh()
	for _, line := range src.lines {
		byCell, cells := m.byCell[line], m.rows[line].cells
		if byCell == nil {
			continue
		}
		for _, col := range dst.lines {
			if m.to == len(w.inside) {
				col = m.dst.lineAt(w.net, int(col), m.exit)
			}
			sort := byCell[cells[col]]
			if !new[sort] {
				continue
			}
			out.InPlaceUnion(m.sorts[sort].Intersection(wanted))
			if int(out.Count()) == missing {
				return out
			}
			refresh()
		}
	}
	return out
}

// throughGates returns the passages of flows from the internet to a segment.
func (w *passer) throughGates(to int) []Passage {
	found := map[[2]int]bool{}
	outside := w.of(len(w.inside))
	for i := range w.gates[to] {
		g := &w.gates[to][i]
		for _, n := range w.inside[to] {
			dst := w.classes[n]
			if !g.open[dst.at] {
				continue
			}
			for _, o := range outside {
				w.throughGate(g, w.classes[o], dst, found)
			}
		}
	}
	return w.told(found, len(w.inside), to)
}

func (w *passer) throughGate(g *gate, src, dst *Class, found map[[2]int]bool) {
	if src.four != dst.four {
		return
	}
	w.eachDoor(src, dst, func(x strand) {
		if x.publication != g.publication || x.vector < 0 {
			return
		}
		pools := map[string]bool{}
		for atom, r := range w.vectors[x.vector] {
			if x.mask == nil || x.mask.Test(uint(atom)) {
				for _, name := range w.results[r].Pools {
					pools[name] = true
				}
			}
		}
		if len(pools) == 0 {
			return
		}
		external := w.judge.External(src.End.Addr, g.exit)
		way := w.judge.WayFrom(g.publication, &external, &dst.End)
		for p, name := range w.pools {
			if pools[name] {
				found[[2]int{p, w.judge.PassedAt(p, &way)}] = true
			}
		}
	})
}

// told puts pools and hubs into words.
func (w *passer) told(found map[[2]int]bool, from, to int) []Passage {
	name := func(domain int) string {
		if domain == len(w.inside) {
			return ""
		}
		return w.net.Segments[domain]
	}
	var out []Passage
	for at := range found {
		if at[1] >= 0 {
			out = append(out, Passage{w.pools[at[0]], w.net.Hubs[at[1]], name(from), name(to)})
		}
	}
	return out
}
