package analysis

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/synth"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// movedNetwork returns a copy of e in which one network is in another segment.
func movedNetwork(t *rapid.T, e *estate.Estate) *estate.Estate {
	next := *e
	next.Networks = slices.Clone(e.Networks)
	n := &next.Networks[rapid.IntRange(0, len(e.Networks)-1).Draw(t, "network")]
	n.Segment = rapid.SampledFrom(e.Segments).Draw(t, "segment").Name
	n.Subnets = slices.Clone(n.Subnets)
	for i := range n.Subnets {
		n.Subnets[i].Segment = ""
	}
	return &next
}

// TestGeneratedEstatesAreRevisedInPlace holds rows of edits of generated estates to matrices
// anew. They have what drawn ones lack: so many groups that most combinations of
// rules meet at two places alone, of one network perhaps, between which all paths are local.
func TestGeneratedEstatesAreRevisedInPlace(t *testing.T) {
	t.Parallel()
	wants := meet.Wants{"an edit in place": 100, "other flows": 50, "a network moves": 50, "a policy after a network moved": 20}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		size := synth.Sizes["S"]
		size.Segments, size.Networks = rapid.IntRange(2, 5).Draw(t, "segments"), rapid.IntRange(6, 14).Draw(t, "networks")
		size.Workloads = rapid.IntRange(20, 80).Draw(t, "workloads")
		e := synth.New("generated", size, rapid.Uint64Range(0, 1<<20).Draw(t, "seed"))
		s := New(verdict.New(e))
		last := ""
		for range 3 {
			next, what := e, ""
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0, 1:
				next, what = movedNetwork(t, e), "a network moves"
			case 2:
				next, what = editPolicy(t, e), "a policy"
			default:
				next, what = draw.Edit(t, e)
			}
			if !sound(next) {
				continue
			}
			revised, d := s.Revise(next)
			anew := New(verdict.New(next))
			want := difference.Compare(matrix.New(verdict.New(e)), anew.Matrix)
			require.Equal(t, changesOf(&want), changesOf(&d), what)
			for _, row := range query.Nodes(anew.Matrix, func(string) bool { return false }) {
				for _, col := range query.Nodes(anew.Matrix, func(string) bool { return false }) {
					require.Equal(t, markWords(anew.Between(row, col)), markWords(revised.Between(row, col)), "%s: %v to %v", what, row, col)
				}
			}
			met.If(ofOneFamily(revised, s), "an edit in place")
			met.If(len(d.Changes) > 0, "other flows")
			met.If(what == "a network moves", what)
			met.If(what == "a policy" && last == "a network moves", "a policy after a network moved")
			e, s, last = next, revised, what
		}
	})
}
