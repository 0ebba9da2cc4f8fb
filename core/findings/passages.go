package findings

import (
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/membership"
	"bivium/core/parallel"
)

// Passage says that flows from one segment to another pass, or are blocked by, a
// pool at a hub. The internet has no name.
type Passage struct {
	Pool, Hub string
	From, To  string // segments, or ""
}

// knownPassages is the passages of one domain to another, found when they are first asked for.
type knownPassages struct {
	once parallel.Once
	list []Passage
}

type transitFinder struct {
	*matrix.Matrix
	pools []string
}

// pathGroup is the classes of a domain that paths do not tell apart.
type pathGroup struct {
	one, other *classes.Class // another of a different network, or nil
	lines      []int32
	place      int32
}

// pathGroups returns the quarters of a side of a block; of those that a segment
// does not see, none.
func (w *transitFinder) pathGroups(x *matrix.Side, domain, seenFrom int, key func(*classes.Class) string) []*pathGroup {
	at := map[string]*pathGroup{}
	var out []*pathGroup
	seen := map[*pathGroup]*bitset.BitSet{}
	for _, n := range w.ClassesIn(domain) {
		c := w.Classes[n]
		if c.Seen[seenFrom] != classes.SeesIt {
			continue
		}
		k := key(c)
		q := at[k]
		if q == nil {
			q = &pathGroup{one: c, place: x.Place(&c.Header)}
			at[k], seen[q] = q, bitset.New(64)
			out = append(out, q)
		}
		if q.other == nil && q.one.End.Home.Network != c.End.Home.Network {
			q.other = c
		}
		line := c.At // outside, a class is a line of its own
		if c.Internal() {
			line = x.Line(&c.Header)
		}
		if !seen[q].Test(uint(line)) {
			seen[q].Set(uint(line))
			q.lines = append(q.lines, line)
		}
	}
	return out
}

// between returns the passages of a block that begins inside.
func (w *transitFinder) between(b *matrix.Block) []Passage {
	byPathClass := func(c *classes.Class) string { return lists.Key([]int{c.PathClass}) }
	byAnchors := func(c *classes.Class) string {
		return lists.Key([]int{lists.OneIf(c.Four)}) + w.Net.Anchors(c.End.Home)
	}
	byBoth := func(c *classes.Class) string { return byPathClass(c) + w.Net.Anchors(c.End.Home) } // paths of one path class have one effect, and may pass other hubs
	var from, to []*pathGroup
	if b.To == len(w.Inside) {
		from, to = w.pathGroups(&b.Src, b.From, b.From, byAnchors), w.pathGroups(&b.Dst, b.To, b.From, byPathClass)
	} else {
		from, to = w.pathGroups(&b.Src, b.From, b.From, byBoth), w.pathGroups(&b.Dst, b.To, b.From, byBoth)
	}
	found := map[[2]int]bool{}
	met := map[int32]*poolsUnderEffect{}
	for _, src := range from {
		for _, dst := range to {
			effect := b.Effects[src.place][dst.place]
			if effect == matrix.NoEffect || src.one.Four != dst.one.Four {
				continue
			}
			m := met[effect]
			if m == nil {
				m = w.poolsUnder(b, effect)
				met[effect] = m
			}
			if x, y, ok := apartQuarters(b, src, dst); ok && m.all.Any() {
				w.addTransits(m, src, dst, x, y, found)
			}
		}
	}
	return w.named(found, b.From, b.To)
}

// addTransits finds the pools that flows from one quarter to another pass where none
// was found to pass them yet.
func (w *transitFinder) addTransits(m *poolsUnderEffect, src, dst *pathGroup, x, y *membership.Endpoint, found map[[2]int]bool) {
	way := w.Judge.WayTo(x, y)
	hubs := make([]int, len(w.pools))
	wanted := bitset.New(uint(len(w.pools)))
	for p := range m.all.EachSet() {
		hubs[p] = w.Judge.PassedAt(int(p), &way)
		wanted.SetTo(p, !found[[2]int{int(p), hubs[p]}])
	}
	if wanted.None() {
		return
	}
	for p := range w.poolsMet(m, src, dst, wanted).EachSet() {
		found[[2]int{int(p), hubs[p]}] = true
	}
}

// apartQuarters returns an endpoint of each of two quarters, with a way between
// them that is not local; false if they have none.
func apartQuarters(b *matrix.Block, src, dst *pathGroup) (x, y *membership.Endpoint, ok bool) {
	x, y = &src.one.End, &dst.one.End
	if b.From != b.To || x.Home.Network != y.Home.Network {
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

// poolsUnderEffect is what flows of a block pass under one effect.
type poolsUnderEffect struct {
	*matrix.Block
	exit   int
	all    *bitset.BitSet   // pools that some flow may pass
	sorts  []*bitset.BitSet // the different sets of pools, the first empty
	byCell [][]uint16       // by row and place in its palette: a sort; nil where all are empty
}

// poolsUnder finds which rule sets of a block pass which pools under an effect.
func (w *transitFinder) poolsUnder(b *matrix.Block, effect int32) *poolsUnderEffect {
	m := &poolsUnderEffect{Block: b, exit: w.Interner.EffectAt(effect).Exit, all: bitset.New(uint(len(w.pools))), byCell: make([][]uint16, len(b.Rows))}
	number := map[string]uint{}
	for i, name := range w.pools {
		number[name] = uint(i)
	}
	m.sorts = []*bitset.BitSet{bitset.New(uint(len(w.pools)))}
	sortOf := map[int32]uint16{}
	for _, ruleSet := range b.RuleSets {
		vector, occurs := w.Settled(matrix.Combination{RuleSet: ruleSet, Effect: effect})
		if !occurs {
			continue
		}
		pools := bitset.New(uint(len(w.pools)))
		for _, r := range w.Vectors[vector] {
			for _, name := range w.Results[r].Pools {
				pools.Set(number[name])
			}
		}
		at := slices.IndexFunc(m.sorts, pools.Equal)
		if at < 0 {
			at = len(m.sorts)
			m.sorts = append(m.sorts, pools)
		}
		sortOf[ruleSet] = uint16(at)
		m.all.InPlaceUnion(pools)
	}
	if m.all.None() {
		return m
	}
	for i := range b.Rows {
		for k, ruleSet := range b.Rows[i].Palette {
			if at := sortOf[ruleSet]; at > 0 {
				if m.byCell[i] == nil {
					m.byCell[i] = make([]uint16, len(b.Rows[i].Palette))
				}
				m.byCell[i][k] = at
			}
		}
	}
	return m
}

// poolsMet returns those of some pools that flows from one quarter to another meet.
func (w *transitFinder) poolsMet(m *poolsUnderEffect, src, dst *pathGroup, wanted *bitset.BitSet) *bitset.BitSet {
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
		byCell, cells := m.byCell[line], m.Rows[line].Cells
		if byCell == nil {
			continue
		}
		for _, col := range dst.lines {
			if m.To == len(w.Inside) {
				col = m.Dst.LineAt(w.Net, int(col), m.exit)
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
func (w *transitFinder) throughGates(to int) []Passage {
	found := map[[2]int]bool{}
	outside := w.ClassesIn(len(w.Inside))
	for i := range w.Inbounds[to] {
		g := &w.Inbounds[to][i]
		for _, n := range w.Inside[to] {
			dst := w.Classes[n]
			if !g.Open[dst.At] {
				continue
			}
			for _, o := range outside {
				w.throughGate(g, w.Classes[o], dst, found)
			}
		}
	}
	return w.named(found, len(w.Inside), to)
}

func (w *transitFinder) throughGate(g *matrix.Inbound, src, dst *classes.Class, found map[[2]int]bool) {
	if src.Four != dst.Four {
		return
	}
	w.EachInbound(src, dst, func(x matrix.ClassResult) {
		if x.Publication != g.Publication || x.Vector < 0 {
			return
		}
		pools := map[string]bool{}
		for atom, r := range w.Vectors[x.Vector] {
			if x.Mask == nil || x.Mask.Test(uint(atom)) {
				for _, name := range w.Results[r].Pools {
					pools[name] = true
				}
			}
		}
		if len(pools) == 0 {
			return
		}
		external := w.Judge.External(src.End.Addr, g.Exit)
		way := w.Judge.WayFrom(g.Publication, &external, &dst.End)
		for p, name := range w.pools {
			if pools[name] {
				found[[2]int{p, w.Judge.PassedAt(p, &way)}] = true
			}
		}
	})
}

// named puts pools and hubs into words.
func (w *transitFinder) named(found map[[2]int]bool, from, to int) []Passage {
	name := func(domain int) string {
		if domain == len(w.Inside) {
			return ""
		}
		return w.Net.Segments[domain]
	}
	var out []Passage
	for at := range found {
		if at[1] >= 0 {
			out = append(out, Passage{w.pools[at[0]], w.Net.Hubs[at[1]], name(from), name(to)})
		}
	}
	return out
}
