package native

import (
	"slices"
	"testing"

	"bivium/core/lists"

	"github.com/bits-and-blooms/bitset"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestCoverIsTheGrid covers drawn grids, small ones and ones too large for the slow way: the
// boxes are the grid, no more and no less, and not fewer than the bound says.
func TestCoverIsTheGrid(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const atoms = 5
		sets := &atomSets{byKey: map[string]int32{}, rank: lists.Sorted([]int{0, 1, 2, 3, 4})}
		sets.number(bitset.New(atoms))
		g := newGrid(rapid.IntRange(1, 7).Draw(t, "rows"), rapid.IntRange(1, 7).Draw(t, "cols"), sets)
		palette := make([]int32, rapid.IntRange(1, 4).Draw(t, "different"))
		for i := range palette {
			b := bitset.New(atoms)
			for atom := range uint(atoms) {
				b.SetTo(atom, rapid.Bool().Draw(t, "holds"))
			}
			palette[i] = sets.number(b)
		}
		for i := range g.cells {
			g.cells[i] = rapid.SampledFrom(palette).Draw(t, "cell")
		}
		boxes, bound := g.cover()
		covers(t, g, boxes, atoms)
		require.LessOrEqual(t, bound, len(boxes))
		plainly := g.coverPlainly()
		covers(t, g, plainly, atoms)
		require.False(t, slices.ContainsFunc(plainly, func(b box) bool { return !g.has(&b) }))
	})
}

func covers(t *rapid.T, g *grid, boxes []box, atoms uint) {
	got := newGrid(g.rows, g.cols, g.sets)
	for _, b := range boxes {
		for _, row := range b.rows {
			for _, col := range b.cols {
				at := row*g.cols + col
				got.cells[at] = g.sets.number(b.atoms.Union(g.sets.at(got.cells[at])))
			}
		}
	}
	require.Equal(t, g.cells, got.cells)
}
