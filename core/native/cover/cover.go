// Package cover covers what a list must tell apart with few rules: grids of own sides by other
// sides by services. It knows nothing of estates; services are atoms of a space.
package cover

import (
	"cmp"
	"encoding/binary"
	"slices"

	"github.com/bits-and-blooms/bitset"
)

// Grid is what a list must tell apart: for each row and column the atoms of services that a
// rule must match, as a number of an atom set. Own sides are rows, and the others columns.
type Grid struct {
	rows, cols int
	cells      []int32 // by row, then column
	sets       *Sets
}

// NewGrid returns a grid in which nothing matches.
func NewGrid(rows, cols int, sets *Sets) *Grid {
	return &Grid{rows, cols, make([]int32, rows*cols), sets}
}

// Put says that a rule must match some atoms between a row and a column: the number of their set.
func (g *Grid) Put(row, col int, set int32) { g.cells[row*g.cols+col] = set }

func (g *Grid) at(row, col int) int32 { return g.cells[row*g.cols+col] }

// Box is some rows by some columns by some services, all of which match.
type Box struct {
	Rows, Cols []int
	Atoms      *bitset.BitSet
}

// most is how large a grid may be, in cells times services, to be covered one box at a time.
const most = 3000

// Cover returns boxes that together are the grid: as few as it finds. Bound is how few there
// can be: cells that no two of which stand in one box. Order is fixed by the grid. Cost: the
// cells; of small grids, also the boxes times their cells times the services.
func (g *Grid) Cover() (boxes []Box, bound int) {
	small, rowsOf, colsOf := g.folded()
	for _, b := range small.smallest(&bound) {
		boxes = append(boxes, Box{unfold(b.Rows, rowsOf), unfold(b.Cols, colsOf), b.Atoms})
	}
	return boxes, bound
}

// Plainly is Cover by boxes each of whose cells holds what the box has, and nothing else.
func (g *Grid) Plainly() (boxes []Box) {
	small, rowsOf, colsOf := g.folded()
	for _, b := range small.plain() {
		boxes = append(boxes, Box{unfold(b.Rows, rowsOf), unfold(b.Cols, colsOf), b.Atoms})
	}
	return boxes
}

// Has reports whether each cell of a box holds what the box has, and nothing else.
func (g *Grid) Has(b *Box) bool {
	for _, row := range b.Rows {
		for _, col := range b.Cols {
			if !g.sets.At(g.at(row, col)).Equal(b.Atoms) {
				return false
			}
		}
	}
	return true
}

func unfold(some []int, of [][]int) []int {
	var out []int
	for _, i := range some {
		out = append(out, of[i]...)
	}
	slices.Sort(out)
	return out
}

// folded returns the grid with equal rows, and equal columns, as one, and which they were.
func (g *Grid) folded() (small *Grid, rows, cols [][]int) {
	key := make([]byte, 0, 4*max(g.rows, g.cols))
	rows = Fold(g.rows, func(row int) string {
		key = key[:0]
		for col := range g.cols {
			key = binary.LittleEndian.AppendUint32(key, uint32(g.at(row, col)))
		}
		return string(key)
	})
	cols = Fold(g.cols, func(col int) string {
		key = key[:0]
		for _, same := range rows {
			key = binary.LittleEndian.AppendUint32(key, uint32(g.at(same[0], col)))
		}
		return string(key)
	})
	small = NewGrid(len(rows), len(cols), g.sets)
	for i, r := range rows {
		for k, c := range cols {
			small.cells[i*small.cols+k] = g.at(r[0], c[0])
		}
	}
	return small, rows, cols
}

// Fold groups what has the same key, in order.
func Fold(n int, key func(int) string) [][]int {
	var out [][]int
	at := map[string]int{}
	for i := range n {
		k := key(i)
		place, ok := at[k]
		if !ok {
			place = len(out)
			at[k] = place
			out = append(out, nil)
		}
		out[place] = append(out[place], i)
	}
	return out
}

// plain returns the boxes of one set of services each, by rows or by columns.
func (g *Grid) plain() []Box {
	best := g.byRows()
	if other := g.turned().byRows(); len(other) < len(best) {
		best = other
		for i := range best {
			best[i].Rows, best[i].Cols = best[i].Cols, best[i].Rows
		}
	}
	return best
}

// smallest returns the fewest boxes of those that it finds in several ways.
func (g *Grid) smallest(bound *int) []Box {
	best := g.plain()
	layers := g.layers()
	if g.rows*g.cols*len(layers) > most {
		*bound = g.distinct()
		return best
	}
	greedy, independent := g.greedy(layers)
	*bound = independent
	if len(greedy) < len(best) {
		best = greedy
	}
	slices.SortStableFunc(best, func(a, b Box) int {
		return cmp.Or(slices.Compare(a.Rows, b.Rows), slices.Compare(a.Cols, b.Cols))
	})
	return best
}

func (g *Grid) turned() *Grid {
	t := NewGrid(g.cols, g.rows, g.sets)
	for row := range g.rows {
		for col := range g.cols {
			t.cells[col*t.cols+row] = g.at(row, col)
		}
	}
	return t
}

// byRows returns, for each row, one box for each different set of services; rows that have
// the same columns for the same services share it.
func (g *Grid) byRows() []Box {
	var out []Box
	at := map[string]int{}
	var key []byte
	for row := range g.rows {
		cols := map[int32][]int{}
		var order []int32
		for col := range g.cols {
			set := g.at(row, col)
			if set == 0 {
				continue
			}
			if cols[set] == nil {
				order = append(order, set)
			}
			cols[set] = append(cols[set], col)
		}
		for _, set := range order {
			key = binary.LittleEndian.AppendUint32(key[:0], uint32(set))
			for _, c := range cols[set] {
				key = binary.LittleEndian.AppendUint32(key, uint32(c))
			}
			place, ok := at[string(key)]
			if !ok {
				place = len(out)
				at[string(key)] = place
				out = append(out, Box{Cols: cols[set], Atoms: g.sets.At(set)})
			}
			out[place].Rows = append(out[place].Rows, row)
		}
	}
	return out
}

// distinct returns how many different sets of services there are: each takes a rule.
func (g *Grid) distinct() int {
	different := map[int32]bool{}
	for _, set := range g.cells {
		different[set] = true
	}
	delete(different, 0)
	return len(different)
}

// layers returns atoms, in groups of those that are in the same cells, in the order of services.
func (g *Grid) layers() []*bitset.BitSet {
	var sets []int32
	for set := range slices.Values(g.cells) {
		if set != 0 && !slices.Contains(sets, set) {
			sets = append(sets, set)
		}
	}
	if len(sets) == 0 {
		return nil
	}
	n := g.sets.At(sets[0]).Len()
	groups := Fold(int(n), func(atom int) string {
		key := make([]byte, len(sets))
		for i, set := range sets {
			if g.sets.At(set).Test(uint(atom)) {
				key[i] = 1
			}
		}
		return string(key)
	})
	var out []*bitset.BitSet
	for _, group := range groups {
		layer := bitset.New(n)
		for _, atom := range group {
			layer.Set(uint(atom))
		}
		if slices.ContainsFunc(sets, func(set int32) bool { return g.sets.At(set).Test(uint(group[0])) }) {
			out = append(out, layer)
		}
	}
	slices.SortFunc(out, func(a, b *bitset.BitSet) int { return g.sets.first(a) - g.sets.first(b) })
	return out
}

// greedy covers the grid by the largest boxes that it finds, one after another.
func (g *Grid) greedy(layers []*bitset.BitSet) (out []Box, independent int) {
	v := &greedyCover{Grid: g, layers: layers, has: make([]bool, g.rows*g.cols*len(layers)), done: make([]bool, g.rows*g.cols*len(layers))}
	for i, set := range g.cells {
		for k, l := range layers {
			first, _ := l.NextSet(0)
			v.has[i*len(layers)+k] = set != 0 && g.sets.At(set).Test(first)
		}
	}
	var apart []point
	for i, has := range v.has {
		if !has || v.done[i] {
			continue
		}
		p := point{i / len(layers) / g.cols, i / len(layers) % g.cols, i % len(layers)}
		out = append(out, v.largest(p))
	}
	for i, has := range v.has {
		p := point{i / len(layers) / g.cols, i / len(layers) % g.cols, i % len(layers)}
		if has && !slices.ContainsFunc(apart, func(q point) bool { return v.together(p, q) }) {
			apart = append(apart, p)
		}
	}
	return v.pruned(out), len(apart)
}

type point struct{ row, col, layer int }

type greedyCover struct {
	*Grid
	layers    []*bitset.BitSet
	has, done []bool
}

func (v *greedyCover) place(row, col, layer int) int { return (row*v.cols+col)*len(v.layers) + layer }

// together reports whether two points may stand in one box.
func (v *greedyCover) together(p, q point) bool {
	for _, row := range [2]int{p.row, q.row} {
		for _, col := range [2]int{p.col, q.col} {
			for _, layer := range [2]int{p.layer, q.layer} {
				if !v.has[v.place(row, col, layer)] {
					return false
				}
			}
		}
	}
	return true
}

// orders are in which order a box grows: by rows, columns or services.
var orders = [][3]int{{0, 1, 2}, {0, 2, 1}, {1, 0, 2}, {1, 2, 0}, {2, 0, 1}, {2, 1, 0}}

// largest returns the box around a point that has the most that no box had yet.
func (v *greedyCover) largest(p point) Box {
	best, had := [3][]int{}, -1
	for _, order := range orders {
		b := [3][]int{{p.row}, {p.col}, {p.layer}}
		for _, dimension := range order {
			b[dimension] = v.grown(b, dimension)
		}
		if n := v.fresh(b); n > had {
			best, had = b, n
		}
	}
	out := Box{Rows: best[0], Cols: best[1], Atoms: v.layers[best[2][0]].Clone()}
	for _, layer := range best[2] {
		out.Atoms.InPlaceUnion(v.layers[layer])
	}
	v.each(best, func(i int) { v.done[i] = true })
	return out
}

// grown returns all places of a dimension with which a box is still one.
func (v *greedyCover) grown(b [3][]int, dimension int) []int {
	var out []int
	for at := range [3]int{v.rows, v.cols, len(v.layers)}[dimension] {
		try := b
		try[dimension] = []int{at}
		whole := true
		v.each(try, func(i int) { whole = whole && v.has[i] })
		if whole {
			out = append(out, at)
		}
	}
	return out
}

func (v *greedyCover) fresh(b [3][]int) (n int) {
	v.each(b, func(i int) {
		if !v.done[i] {
			n++
		}
	})
	return n
}

func (v *greedyCover) each(b [3][]int, f func(int)) {
	for _, row := range b[0] {
		for _, col := range b[1] {
			for _, layer := range b[2] {
				f(v.place(row, col, layer))
			}
		}
	}
}

// pruned leaves out boxes that others cover.
func (v *greedyCover) pruned(boxes []Box) []Box {
	times := make([]int, len(v.has))
	places := make([][]int, len(boxes))
	for i, b := range boxes {
		var layers []int
		for k, l := range v.layers {
			if first, _ := l.NextSet(0); b.Atoms.Test(first) {
				layers = append(layers, k)
			}
		}
		v.each([3][]int{b.Rows, b.Cols, layers}, func(at int) {
			times[at]++
			places[i] = append(places[i], at)
		})
	}
	var out []Box
	for i, b := range boxes {
		if !slices.ContainsFunc(places[i], func(at int) bool { return times[at] == 1 }) {
			for _, at := range places[i] {
				times[at]--
			}
			continue
		}
		out = append(out, b)
	}
	return out
}
