package analysis

import (
	"fmt"
	"math/big"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// tallied is the flows of a cell that have one verdict on one atom.
type tallied struct {
	pairs    *big.Int
	from, to map[int]bool // workloads
}

// pairByPair adds up a cell for each atom and verdict, one pair of members after the other.
func pairByPair(s *matrix.Matrix, from, to matrix.Set) []map[string]*tallied {
	out := make([]map[string]*tallied, s.Atoms.Len())
	for atom := range out {
		out[atom] = map[string]*tallied{}
	}
	for _, a := range from {
		for _, b := range to {
			if !s.Distinct(a, b) && !matrix.Elsewhere(s.Classes[a.Class], s.Classes[b.Class]) {
				continue
			}
			s.EachResult(a.Class, b.Class, func(t matrix.ClassResult) {
				for atom, r := range query.Spread(s, &query.Column{ClassResult: t}) {
					if r < 0 {
						continue
					}
					key := matrix.VerdictKey(&s.Results[r])
					if out[atom][key] == nil {
						out[atom][key] = &tallied{new(big.Int), map[int]bool{}, map[int]bool{}}
					}
					x := out[atom][key]
					x.pairs.Add(x.pairs, s.Pairs(a, b))
					for _, w := range query.WorkloadsOf(s, a) {
						x.from[w] = true
					}
					for _, w := range query.WorkloadsOf(s, b) {
						x.to[w] = true
					}
				}
			})
		}
	}
	return out
}

// outcomesOf returns the verdicts of each line, by its services.
func outcomesOf(lines []query.Line) map[string]map[string]bool {
	out := map[string]map[string]bool{}
	for _, l := range lines {
		key := fmt.Sprint(l.Services)
		out[key] = map[string]bool{}
		for i := range l.Parts {
			out[key][matrix.VerdictKey(&l.Parts[i].Verdict)] = true
		}
	}
	return out
}

// TestACellIsAllOfItsFlows holds the lines of a cell to its flows, pair by pair: how many
// there are, and between how many workloads.
func TestACellIsAllOfItsFlows(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Wants{"a part": 1000, "a part of a segment with itself": 100, "a part of some of the workloads": 100}, func(t *rapid.T, met meet.Met) {
		s := matrix.New(verdict.New(drawValid(t)))
		nodes := query.Nodes(s, func(string) bool { return true })
		for range 6 {
			row, col := rapid.SampledFrom(nodes).Draw(t, "row"), rapid.SampledFrom(nodes).Draw(t, "col")
			from, to := s.SetOf(row), s.SetOf(col)
			flows := pairByPair(s, from, to)
			var everyone [2]map[int]bool
			for i, set := range []matrix.Set{from, to} {
				everyone[i] = map[int]bool{}
				for _, m := range set {
					for _, w := range query.WorkloadsOf(s, m) {
						everyone[i][w] = true
					}
				}
			}
			lines := query.Detail(s, from, to, nil, 0)
			require.Equal(t, outcomesOf(lines), outcomesOf(query.Outcomes(s, row, col)), "%v to %v", row, col)
			for atom := range s.Atoms.Len() {
				protocol, sport, dport, _ := s.Atoms.Set(atom).Witness()
				told := 0
				for _, line := range lines {
					if !line.Services.Contains(protocol, sport, dport) {
						continue
					}
					for i := range line.Parts {
						p := &line.Parts[i]
						want := flows[atom][matrix.VerdictKey(&p.Verdict)]
						require.NotNil(t, want, "%v to %v: nothing is %v", row, col, p.Verdict)
						require.Equal(t, want.pairs.String(), p.Pairs.String(), "%v to %v: %v", row, col, p.Verdict)
						require.Equal(t, [2]int{len(want.from), len(want.to)}, [2]int{p.From, p.To}, "%v to %v: workloads of %v", row, col, p.Verdict)
						told++
						met["a part"]++
						met.If(row.Segment == col.Segment, "a part of a segment with itself")
						met.If(p.From < len(everyone[0]) || p.To < len(everyone[1]), "a part of some of the workloads")
					}
				}
				require.Len(t, flows[atom], told, "%v to %v: verdicts on %d/%d", row, col, protocol, dport)
			}
		}
	})
}
