package difference

import (
	"slices"
	"strings"
	"sync"

	"bivium/core/matrix"
	"bivium/core/query"

	"github.com/bits-and-blooms/bitset"
)

// CellChange is a cell of the board in which flows changes.
type CellChange struct {
	Row, Col      matrix.Node
	Before, After []matrix.Mark
	Outcome       bool // the outcome of some flow changed, and not only who settles it
}

// Cells returns those cells between some rows and columns of a board in which
// flows changes. Cost: for each change the rows and columns that its
// segments have, and each cell's outcomes twice.
func (d *Difference) Cells(nodes []matrix.Node) []CellChange {
	c := d.Comparer
	byLand := make([][]nodeBits, len(c.domains)) // by aligned domain: its nodes
	touched := make([]bool, len(c.domains))
	for i := range d.Changes {
		touched[d.Changes[i].At[0]], touched[d.Changes[i].At[1]] = true, true
	}
	for i, n := range nodes {
		for land := range c.domains {
			if touched[land] && c.domains[land].node.Segment == n.Segment && (c.domains[land].node.Kind == matrix.NodeInternet) == (n.Kind == matrix.NodeInternet) {
				bits := nodeBits{node: i}
				if n.Kind != matrix.NodeSegment && n.Kind != matrix.NodeInternet {
					bits.bits = c.bitsOf(c.Domain(land), n)
				}
				byLand[land] = append(byLand[land], bits)
			}
		}
	}
	changed := map[[2]int]bool{} // to whether an outcome changed
	for i := range d.Changes {
		x := &d.Changes[i]
		for _, row := range byLand[x.At[0]] {
			reached := sync.OnceValue(func() *bitset.BitSet {
				to := bitset.New(0)
				for _, p := range x.Sets() {
					if row.bits == nil || row.bits.IntersectionCardinality(p.From) > 0 {
						to.InPlaceUnion(p.To)
					}
				}
				return to
			})
			for _, col := range byLand[x.At[1]] {
				if row.bits == nil && col.bits == nil || col.meets(reached()) {
					key := [2]int{row.node, col.node}
					changed[key] = changed[key] || x.Outcome()
				}
			}
		}
	}
	var out []CellChange
	for r, row := range nodes {
		for k, col := range nodes {
			if outcome, is := changed[[2]int{r, k}]; is {
				out = append(out, CellChange{
					Row: row, Col: col, Outcome: outcome,
					Before: c.old.Between(row, col),
					After:  c.new.Between(row, col),
				})
			}
		}
	}
	return out
}

// nodeBits is the intersections of a node, by its place among some nodes; of one that is all of an
// aligned domain, nil.
type nodeBits struct {
	node int
	bits *bitset.BitSet
}

func (n *nodeBits) meets(intersections *bitset.BitSet) bool {
	return n.bits == nil && intersections.Any() || n.bits != nil && n.bits.IntersectionCardinality(intersections) > 0
}

// bitsOf returns the intersections of an aligned domain that are in a node in either matrix.
func (c *comparer) bitsOf(t *AlignedDomain, n matrix.Node) *bitset.BitSet {
	inOld, inNew := map[int]bool{}, map[int]bool{}
	for _, class := range c.old.ClassesOf(n) {
		inOld[class] = true
	}
	for _, class := range c.new.ClassesOf(n) {
		inNew[class] = true
	}
	out := bitset.New(uint(len(t.Intersections)))
	for i := range t.Intersections {
		if inOld[t.Intersections[i].old] || inNew[t.Intersections[i].new] {
			out.Set(uint(i))
		}
	}
	return out
}

// Nodes returns the rows of a board of either matrix, in order.
func (d *Difference) Nodes(open func(segment string) bool) []matrix.Node {
	known := map[matrix.Node]bool{}
	var out []matrix.Node
	for _, s := range []*matrix.Matrix{d.Comparer.old, d.Comparer.new} {
		for _, n := range query.Nodes(s, open) {
			if !known[n] {
				known[n] = true
				out = append(out, n)
			}
		}
	}
	slices.SortStableFunc(out, CompareNodes)
	return out
}

// CompareNodes orders nodes as the board does.
func CompareNodes(a, b matrix.Node) int {
	if (a.Kind == matrix.NodeInternet) != (b.Kind == matrix.NodeInternet) {
		if a.Kind == matrix.NodeInternet {
			return 1
		}
		return -1
	}
	if d := strings.Compare(a.Segment, b.Segment); d != 0 {
		return d
	}
	if d := rankOf(a.Kind) - rankOf(b.Kind); d != 0 {
		return d
	}
	return strings.Compare(a.Group, b.Group)
}

func rankOf(k matrix.NodeKind) int {
	switch k {
	case matrix.NodeGroup:
		return 1
	case matrix.NodeRest:
		return 2
	}
	return 0
}
