package cover

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
		sets := &Sets{byKey: map[string]int32{}, rank: lists.Sorted([]int{0, 1, 2, 3, 4})}
		sets.Number(bitset.New(atoms))
		g := NewGrid(rapid.IntRange(1, 7).Draw(t, "rows"), rapid.IntRange(1, 7).Draw(t, "cols"), sets)
		palette := make([]int32, rapid.IntRange(1, 4).Draw(t, "different"))
		for i := range palette {
			b := bitset.New(atoms)
			for atom := range uint(atoms) {
				b.SetTo(atom, rapid.Bool().Draw(t, "holds"))
			}
			palette[i] = sets.Number(b)
		}
		for i := range g.cells {
			g.cells[i] = rapid.SampledFrom(palette).Draw(t, "cell")
		}
		boxes, bound := g.Cover()
		covers(t, g, boxes, atoms)
		require.LessOrEqual(t, bound, len(boxes))
		plainly := g.Plainly()
		covers(t, g, plainly, atoms)
		require.False(t, slices.ContainsFunc(plainly, func(b Box) bool { return !g.Has(&b) }))
	})
}

func covers(t *rapid.T, g *Grid, boxes []Box, atoms uint) {
	got := NewGrid(g.rows, g.cols, g.sets)
	for _, b := range boxes {
		for _, row := range b.Rows {
			for _, col := range b.Cols {
				at := row*g.cols + col
				got.cells[at] = g.sets.Number(b.Atoms.Union(g.sets.At(got.cells[at])))
			}
		}
	}
	require.Equal(t, g.cells, got.cells)
}
