package survey

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// TestEveryFlowIsInExactlyOneStrand counts, for each pair of classes and each
// atom of services, the strands that hold it. Inside there is at most one, and
// none only where the two have no flow; from the internet at most one for each
// publication, and their masks hold what the publication lets in.
func TestEveryFlowIsInExactlyOneStrand(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Wants{"a strand": 10000, "a pair without flows": 1}, func(t *rapid.T, met meet.Met) {
		s := New(verdict.New(drawValid(t)))
		for a := range s.classes {
			for b := range s.classes {
				src, dst := s.classes[a], s.classes[b]
				held := map[int][]int{} // by publication: how often each atom
				s.eachStrand(a, b, func(x strand) {
					met["a strand"]++
					if held[x.publication] == nil {
						held[x.publication] = make([]int, s.atoms.Len())
					}
					require.Less(t, int(x.vector), len(s.vectors))
					for atom := range s.atoms.Len() {
						if x.mask == nil || x.mask.Test(uint(atom)) {
							held[x.publication][atom]++
							require.GreaterOrEqual(t, s.vectors[x.vector][atom], int32(0), "a strand without a result")
						}
					}
				})
				for publication, counts := range held {
					for atom, n := range counts {
						require.LessOrEqual(t, n, 1, "classes %d to %d, publication %d, atom %d", a, b, publication, atom)
					}
				}
				if src.Internal() && src.four == dst.four && !alone(src, dst) && dst.seen[src.End.Segment] != seesOther {
					require.Len(t, held, 1, "flows from %s to %s are in no strand", src.End.Addr, dst.End.Addr)
				} else if src.Internal() {
					met["a pair without flows"]++
					require.Empty(t, held, "flows that cannot be from %s to %s", src.End.Addr, dst.End.Addr)
				}
			}
		}
	})
}

// TestManyReviseOneSurvey lets several edits be tried on one survey at once, as a
// server does, and holds each against a survey from the ground; the race detector
// sees what they share.
func TestManyReviseOneSurvey(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		e := drawValid(t)
		s := New(verdict.New(e))
		edits := []*estate.Estate{editPolicy(t, e), editPlace(t, e), e, e}
		for i := 2; i < len(edits); i++ {
			if next, _ := draw.Edit(t, e); sound(next) {
				edits[i] = next
			}
		}
		type outcome struct {
			revised *Survey
			changes []string
		}
		got := make([]outcome, len(edits))
		var wait sync.WaitGroup
		for i := range edits {
			wait.Go(func() {
				revised, d := s.Revise(edits[i])
				got[i] = outcome{revised, changesOf(&d)}
			})
		}
		wait.Wait()
		nodes := s.Nodes(func(string) bool { return true })
		for i := range edits {
			anew := New(verdict.New(edits[i]))
			want := Compare(New(verdict.New(e)), anew)
			require.Equal(t, changesOf(&want), got[i].changes)
			for _, row := range nodes {
				for _, col := range nodes {
					require.Equal(t, markWords(anew.Between(row, col)), markWords(got[i].revised.Between(row, col)), "%v to %v", row, col)
				}
			}
		}
	})
}
