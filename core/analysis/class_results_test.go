package analysis

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/classes"
	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/query"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// TestEveryFlowIsInExactlyOneStrand counts, for each pair of classes and each
// atom of services, the class results that hold it. Inside there is at most one, and
// none only where the two have no flow; from the internet at most one for each
// publication, and their masks hold what the publication lets in.
func TestEveryFlowIsInExactlyOneStrand(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Wants{"a strand": 10000, "a pair without flows": 1}, func(t *rapid.T, met meet.Met) {
		s := New(verdict.New(drawValid(t)))
		for a := range s.Classes {
			for b := range s.Classes {
				src, dst := s.Classes[a], s.Classes[b]
				held := map[int][]int{} // by publication: how often each atom
				s.EachResult(a, b, func(x matrix.ClassResult) {
					met["a strand"]++
					if held[x.Publication] == nil {
						held[x.Publication] = make([]int, s.Atoms.Len())
					}
					require.Less(t, int(x.Vector), len(s.Vectors))
					for atom := range s.Atoms.Len() {
						if x.Mask == nil || x.Mask.Test(uint(atom)) {
							held[x.Publication][atom]++
							require.GreaterOrEqual(t, s.Vectors[x.Vector][atom], int32(0), "a strand without a result")
						}
					}
				})
				for publication, counts := range held {
					for atom, n := range counts {
						require.LessOrEqual(t, n, 1, "classes %d to %d, publication %d, atom %d", a, b, publication, atom)
					}
				}
				if src.Internal() && src.Four == dst.Four && !matrix.Alone(src, dst) && dst.Seen[src.End.Segment] != classes.SeesOther {
					require.Len(t, held, 1, "flows from %s to %s are in no strand", src.End.Addr, dst.End.Addr)
				} else if src.Internal() {
					met["a pair without flows"]++
					require.Empty(t, held, "flows that cannot be from %s to %s", src.End.Addr, dst.End.Addr)
				}
			}
		}
	})
}

// TestManyReviseOneMatrix lets several edits be tried at once, as a server does: on one
// matrix, then on that of one of them and on the first again, which share what was settled
// by then. It holds each against a matrix anew; the race detector sees what
// they share.
func TestManyReviseOneMatrix(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		type based struct {
			e *estate.Estate
			s *Analysis
		}
		type trial struct {
			based
			next    *estate.Estate
			revised *Analysis
			changes []string
		}
		e := drawValid(t)
		bases := []based{{e, New(verdict.New(e))}}
		for range 2 {
			var trials []*trial
			for _, from := range bases {
				trials = append(trials, &trial{based: from, next: editPolicy(t, from.e)}, &trial{based: from, next: editPlace(t, from.e)})
				for range 2 {
					if next, _ := draw.Edit(t, from.e); sound(next) {
						trials = append(trials, &trial{based: from, next: next})
					}
				}
			}
			var wait parallel.Group
			for _, x := range trials {
				wait.Go(func() {
					revised, d := x.s.Revise(x.next)
					x.revised, x.changes = revised, changesOf(&d)
				})
			}
			wait.Wait()
			for _, x := range trials {
				anew := New(verdict.New(x.next))
				want := difference.Compare(matrix.New(verdict.New(x.e)), anew.Matrix)
				require.Equal(t, changesOf(&want), x.changes)
				nodes := query.Nodes(anew.Matrix, func(string) bool { return true })
				for _, row := range nodes {
					for _, col := range nodes {
						require.Equal(t, markWords(anew.Between(row, col)), markWords(x.revised.Between(row, col)), "%v to %v", row, col)
					}
				}
			}
			last := rapid.SampledFrom(trials).Draw(t, "goes on")
			bases = append(bases, based{last.next, last.revised})
		}
	})
}
