package survey

import (
	"cmp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// passagesOneByOne looks at each pair of classes, and at each service.
func passagesOneByOne(s *Analysis) []Passage {
	found := map[Passage]bool{}
	name := func(c *Class) string {
		if c.Internal() {
			return s.net.Segments[c.End.Segment]
		}
		return ""
	}
	for a := range s.classes {
		for b := range s.classes {
			src, dst := s.classes[a], s.classes[b]
			s.eachStrand(a, b, func(t strand) {
				if t.vector == 0 || !dst.Internal() && !src.Internal() {
					return
				}
				for atom, r := range s.spread(&column{strand: t}) {
					if r < 0 || t.mask != nil && !t.mask.Test(uint(atom)) || len(s.results[r].Pools) == 0 {
						continue
					}
					way := s.judge.WayTo(&src.End, &dst.End)
					if t.publication >= 0 {
						external := s.judge.External(src.End.Addr, s.judge.PublicationExit(t.publication))
						way = s.judge.WayFrom(t.publication, &external, &dst.End)
					}
					for _, pool := range s.results[r].Pools {
						hub := s.judge.PassedAt(slices.Index(s.judge.PoolNames(), pool), &way)
						found[Passage{pool, s.net.Hubs[hub], name(src), name(dst)}] = true
					}
				}
			})
		}
	}
	out := []Passage{}
	for p := range found {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Passage) int {
		return cmp.Or(cmp.Compare(a.Pool, b.Pool), cmp.Compare(a.Hub, b.Hub), cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To))
	})
	return out
}

func TestPassagesAreWherePoolsSeeFlows(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Often(1, "a pool that sees flows"), func(t *rapid.T, met meet.Met) {
		s := NewAnalysis(verdict.New(drawValid(t)))
		got := s.Findings.Passages(unpaced)
		require.ElementsMatch(t, passagesOneByOne(s), got)
		met["a pool that sees flows"] += len(got)
	})
	demo := NewAnalysis(verdict.New(readEstate(t, "../../demo/grayshoal.yaml")))
	assert.Equal(t, passagesOneByOne(demo), demo.Findings.Passages(unpaced))
	assert.Contains(t, demo.Findings.Passages(unpaced), Passage{"breakwater", "fjord", "contractor", "turbine"}, "what enters turbine passes breakwater")
}
