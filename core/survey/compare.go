package survey

import (
	"math/big"
	"net/netip"
	"slices"
	"strings"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Difference is every flow that fares differently in two estates.
type Difference struct {
	Changes []Change
	Cells   []CellChange
}

// Change is flows between two segments (or the internet) that went from one
// verdict to another.
type Change struct {
	From, To Node // segments, or the internet
	Services space.Services
	Before   *verdict.Verdict // nil where there was no such flow
	After    *verdict.Verdict // nil where there is none any more
	Pairs    *big.Int         // of addresses
	Witness  verdict.Flow
	Blocks   []Block // the flows, as blocks of sources by destinations
}

// Outcome reports whether the outcome itself changed, and not only who settles it.
func (c *Change) Outcome() bool {
	return c.Before == nil || c.After == nil || c.Before.Outcome != c.After.Outcome
}

// CellChange is a cell of the board in which flows fare differently.
type CellChange struct {
	Row, Col      Node
	Before, After []Mark
	Outcome       bool // the outcome of some flow changed, and not only who settles it
}

// Compare returns how flows fare differently in new, and in which cells, down
// to groups. Both surveys are cut anew by what either tells apart, so the
// answer is exact for any two estates.
func Compare(old, new *Survey) Difference {
	atoms := space.Cut(slices.Concat(old.judge.Settings(), new.judge.Settings()))
	c := &comparer{old: old.recut(atoms), new: new.recut(atoms), atoms: atoms, at: map[string]int{}, told: map[int]int{}, cells: map[[2]Node]bool{}}
	c.joints = c.join()
	for a := range c.joints {
		for b := range c.joints {
			c.now = [2]int{a, b}
			c.pair(&c.joints[a], &c.joints[b])
		}
	}
	return c.difference()
}

// joint is the endpoints that are in one class of each survey; -1 for none.
type joint struct {
	old, new int
	size     *big.Int
	ranges   []Range
	addrs    [2]netip.Addr // two of them, or one twice; the class's example first
	workload bool          // the first is a workload
	segment  Node
	nodes    []Node // the rows that it is in, in either survey
}

type comparer struct {
	old, new *Survey
	atoms    *space.Atoms
	joints   []joint
	changes  []Change
	sets     []*bitset.BitSet // of the changes: their atoms
	touched  [][][2]int       // of the changes: pairs of joint classes
	told     map[int]int      // how good the witness of a change is
	at       map[string]int
	cells    map[[2]Node]bool // to whether an outcome changed
	now      [2]int           // the joint classes at hand
}

// join cuts all endpoints by both surveys.
func (c *comparer) join() []joint {
	var out []joint
	segments := slices.Concat(c.old.judge.Net().Segments, c.new.judge.Net().Segments)
	slices.Sort(segments)
	for _, name := range slices.Compact(segments) {
		node := Node{Kind: NodeSegment, Segment: name}
		out = append(out, c.joinNode(node)...)
	}
	return append(out, c.joinNode(Node{Kind: NodeInternet})...)
}

type piece struct {
	Range
	class int
}

func piecesOf(s *Survey, n Node) []piece {
	var out []piece
	for _, class := range s.ClassesOf(n) {
		for _, r := range s.classes[class].Ranges {
			out = append(out, piece{r, class})
		}
	}
	slices.SortFunc(out, func(a, b piece) int { return a.From.Compare(b.From) })
	return out
}

func (c *comparer) joinNode(n Node) []joint {
	at := map[[2]int]int{}
	var out []joint
	eachJoint(piecesOf(c.old, n), piecesOf(c.new, n), func(r Range, old, new int) {
		key := [2]int{old, new}
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key] = i
			out = append(out, joint{old: old, new: new, size: big.NewInt(0), addrs: [2]netip.Addr{r.From, r.To}, segment: n, nodes: c.nodesOf(n, old, new)})
		}
		out[i].size.Add(out[i].size, sizeOf(r))
		out[i].ranges = append(out[i].ranges, r)
		c.exemplify(&out[i], r)
	})
	return out
}

// exemplify keeps two addresses of a joint class, a workload's first if it can.
func (c *comparer) exemplify(j *joint, r Range) {
	if j.addrs[0] == j.addrs[1] {
		j.addrs[1] = r.To
	}
	var class *Class
	if j.new >= 0 {
		class = &c.new.classes[j.new]
	} else {
		class = &c.old.classes[j.old]
	}
	at := class.End.Addr
	if j.workload || at.Compare(r.From) < 0 || at.Compare(r.To) > 0 {
		return
	}
	if j.addrs[0] != at {
		j.addrs = [2]netip.Addr{at, j.addrs[0]}
	}
	j.workload = len(class.Workloads) > 0
}

// eachJoint sweeps two sorted lists of disjoint pieces, and calls f for each
// stretch that lies in at least one of them.
func eachJoint(a, b []piece, f func(r Range, a, b int)) {
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].To.Compare(b[0].From) < 0: // a lies before b
			f(a[0].Range, a[0].class, -1)
			a = a[1:]
		case len(a) == 0 || b[0].To.Compare(a[0].From) < 0: // b lies before a
			f(b[0].Range, -1, b[0].class)
			b = b[1:]
		case a[0].From.Compare(b[0].From) < 0: // a begins first: cut it where b begins
			f(Range{a[0].From, b[0].From.Prev()}, a[0].class, -1)
			a[0].From = b[0].From
		case b[0].From.Compare(a[0].From) < 0: // b begins first
			f(Range{b[0].From, a[0].From.Prev()}, -1, b[0].class)
			b[0].From = a[0].From
		default: // both begin here: up to where the first ends
			to := a[0].To
			if b[0].To.Compare(to) < 0 {
				to = b[0].To
			}
			f(Range{a[0].From, to}, a[0].class, b[0].class)
			a, b = after(a, to), after(b, to)
		}
	}
}

// after returns the pieces without what lies up to an address that is in the
// first of them.
func after(p []piece, to netip.Addr) []piece {
	if p[0].To == to {
		return p[1:]
	}
	p[0].From = to.Next()
	return p
}

// nodesOf returns the rows of the board that a joint class is in.
func (c *comparer) nodesOf(n Node, old, new int) []Node {
	nodes := []Node{n}
	if n.Kind == NodeInternet {
		return nodes
	}
	add := func(s *Survey, class int) {
		if class < 0 {
			return
		}
		names := s.judge.GroupNames()
		groups := s.classes[class].End.Groups()
		for _, g := range groups {
			if node := (Node{NodeGroup, n.Segment, names[g]}); !slices.Contains(nodes, node) {
				nodes = append(nodes, node)
			}
		}
		if rest := (Node{Kind: NodeRest, Segment: n.Segment}); len(groups) == 0 && !slices.Contains(nodes, rest) {
			nodes = append(nodes, rest)
		}
	}
	add(c.old, old)
	add(c.new, new)
	return nodes
}

// fates returns the result of each atom, by publication name; -1 for no flow.
func fates(s *Survey, a, b int) map[string][]int {
	out := map[string][]int{}
	if a < 0 || b < 0 {
		return out
	}
	s.eachStrand(a, b, func(t strand) {
		name := ""
		if t.publication != paths.None {
			name = s.judge.Publications()[t.publication]
		}
		out[name] = s.spread(&column{strand: t})
	})
	return out
}

// pair compares the flows between two joint classes.
func (c *comparer) pair(a, b *joint) {
	if c.without(a, b) {
		return
	}
	before, after := fates(c.old, a.old, b.old), fates(c.new, a.new, b.new)
	for name, old := range before {
		c.compare(a, b, name, old, after[name])
	}
	for name, new := range after {
		if _, seen := before[name]; !seen {
			c.compare(a, b, name, nil, new)
		}
	}
}

// without reports whether neither survey has flows between two joint classes.
func (c *comparer) without(a, b *joint) bool {
	if a.addrs[0] == a.addrs[1] && a.addrs == b.addrs || a.addrs[0].Is4() != b.addrs[0].Is4() {
		return true // both are one and the same address, or of different families
	}
	none := func(s *Survey, a, b int) bool {
		return a < 0 || b < 0 || s.classes[a].Internal() && s.table[a][b] == noFlow
	}
	return none(c.old, a.old, b.old) && none(c.new, a.new, b.new)
}

func (c *comparer) compare(a, b *joint, publication string, old, new []int) {
	at := func(results []int, s *Survey, atom int) *verdict.Verdict {
		if results == nil || results[atom] < 0 {
			return nil
		}
		return &s.results[results[atom]]
	}
	counted := map[int]bool{}
	for atom := range c.atoms.Len() {
		before, after := at(old, c.old, atom), at(new, c.new, atom)
		if sameVerdict(before, after) {
			continue
		}
		i := c.change(a, b, publication, before, after)
		c.sets[i].Set(uint(atom))
		if !counted[i] {
			counted[i] = true
			c.count(i, a, b, publication, atom)
		}
	}
}

func sameVerdict(a, b *verdict.Verdict) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Outcome == b.Outcome && a.Reason == b.Reason && a.Contested == b.Contested && a.Intended == b.Intended &&
		slices.Equal(a.Pools, b.Pools) && slices.Equal(a.By, b.By)
}

// change returns the number of the change that a flow belongs to.
func (c *comparer) change(a, b *joint, publication string, before, after *verdict.Verdict) int {
	key := strings.Join([]string{a.segment.Segment, b.segment.Segment, publication, verdictKey(before), verdictKey(after)}, "\n")
	i, ok := c.at[key]
	if !ok {
		i = len(c.changes)
		c.at[key] = i
		c.changes = append(c.changes, Change{From: a.segment, To: b.segment, Before: before, After: after, Pairs: new(big.Int)})
		c.sets = append(c.sets, bitset.New(uint(c.atoms.Len())))
		c.touched = append(c.touched, nil)
	}
	return i
}

func verdictKey(v *verdict.Verdict) string {
	if v == nil {
		return "none"
	}
	key := strings.Join([]string{string(v.Outcome), string(v.Intended), string(v.Reason), strings.Join(v.Pools, ";"), strings.Join(v.By, ";")}, "|")
	if v.Contested {
		key += "|contested"
	}
	return key
}

// count adds the pairs of two joint classes to a change, with its cells.
func (c *comparer) count(i int, a, b *joint, publication string, atom int) {
	change := &c.changes[i]
	pairs := new(big.Int).Mul(a.size, b.size)
	pairs.Sub(pairs, shared(a.ranges, b.ranges))
	change.Pairs.Add(change.Pairs, pairs)
	c.touched[i] = append(c.touched[i], c.now)
	if telling := 1 + oneIf(a.workload) + oneIf(b.workload); telling > c.told[i] {
		c.told[i] = telling
		change.Witness = c.witness(a, b, publication, atom)
	}
	for _, row := range a.nodes {
		for _, col := range b.nodes {
			key := [2]Node{row, col}
			c.cells[key] = c.cells[key] || change.Outcome()
		}
	}
}

func oneIf(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (c *comparer) witness(a, b *joint, publication string, atom int) verdict.Flow {
	protocol, sport, dport, _ := c.atoms.Set(atom).Witness()
	f := verdict.Flow{
		Segment: a.segment.Segment, Source: a.addrs[0], Destination: b.addrs[0], Publication: publication,
		Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport},
	}
	if a.segment.Kind == NodeInternet {
		f.Segment = verdict.Internet
	}
	if f.Source == f.Destination {
		f.Destination = b.addrs[1]
		if b.addrs[0] == b.addrs[1] {
			f.Source, f.Destination = a.addrs[1], b.addrs[0]
		}
	}
	return f
}

func (c *comparer) difference() Difference {
	d := Difference{Changes: c.changes}
	for i := range d.Changes {
		d.Changes[i].Services = c.atoms.Union(c.sets[i])
		d.Changes[i].Blocks = c.blocks(c.touched[i])
	}
	for key, outcome := range c.cells {
		row, col := key[0], key[1]
		d.Cells = append(d.Cells, CellChange{
			Row: row, Col: col, Outcome: outcome,
			Before: c.old.Cell(c.old.Of(row), c.old.Of(col)),
			After:  c.new.Cell(c.new.Of(row), c.new.Of(col)),
		})
	}
	slices.SortFunc(d.Cells, func(a, b CellChange) int {
		if order := compareNodes(a.Row, b.Row); order != 0 {
			return order
		}
		return compareNodes(a.Col, b.Col)
	})
	return d
}

// compareNodes orders nodes as the board does.
func compareNodes(a, b Node) int {
	rank := map[NodeKind]int{NodeSegment: 0, NodeGroup: 1, NodeRest: 2}
	if (a.Kind == NodeInternet) != (b.Kind == NodeInternet) {
		if a.Kind == NodeInternet {
			return 1
		}
		return -1
	}
	if d := strings.Compare(a.Segment, b.Segment); d != 0 {
		return d
	}
	if d := rank[a.Kind] - rank[b.Kind]; d != 0 {
		return d
	}
	return strings.Compare(a.Group, b.Group)
}
