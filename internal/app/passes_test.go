package app

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/demo"
	"bivium/internal/app/view"
)

// TestASmallBoardNamesWhatPasses names services by what they are called, and none where
// nothing is delivered; a board with many rows has no room for words.
func TestASmallBoardNamesWhatPasses(t *testing.T) {
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	s := view.NewSnapshot(e, 1)
	small, err := s.Cells(nil, 0, 0)
	require.NoError(t, err)
	require.Len(t, small.Passes, 5)
	nodes := s.NodesOf(nil)
	for i, row := range nodes {
		for k, col := range nodes {
			delivered := false
			for _, m := range s.Matrix.Between(row, col) {
				delivered = delivered || m.Outcome == "allowed" || m.Outcome == "inspected"
			}
			assert.Equal(t, delivered, small.Passes[i][k] != "", "%v to %v: %q", row, col, small.Passes[i][k])
		}
	}
	assert.Equal(t, "ssh, rdp", small.Passes[0][3], "what the share of the jump hosts permits")
	large, err := s.Cells([]string{"office", "turbine"}, 0, 0)
	require.NoError(t, err)
	assert.Empty(t, large.Passes)
}
