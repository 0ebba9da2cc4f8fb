package analysis

import (
	"cmp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/classes"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// passagesOneByOne looks at each pair of classes, and at each service.
func passagesOneByOne(s *Analysis) []findings.Passage {
	found := map[findings.Passage]bool{}
	name := func(c *classes.Class) string {
		if c.Internal() {
			return s.Net.Segments[c.End.Segment]
		}
		return ""
	}
	for a := range s.Classes {
		for b := range s.Classes {
			src, dst := s.Classes[a], s.Classes[b]
			s.EachResult(a, b, func(t matrix.ClassResult) {
				if t.Vector == 0 || !dst.Internal() && !src.Internal() {
					return
				}
				for atom, r := range query.Spread(s.Matrix, &query.Column{ClassResult: t}) {
					if r < 0 || t.Mask != nil && !t.Mask.Test(uint(atom)) || len(s.Results[r].Pools) == 0 {
						continue
					}
					way := s.Judge.WayTo(&src.End, &dst.End)
					if t.Publication >= 0 {
						external := s.Judge.External(src.End.Addr, s.Judge.PublicationExit(t.Publication))
						way = s.Judge.WayFrom(t.Publication, &external, &dst.End)
					}
					for _, pool := range s.Results[r].Pools {
						hub := s.Judge.PassedAt(slices.Index(s.Judge.PoolNames(), pool), &way)
						found[findings.Passage{Pool: pool, Hub: s.Net.Hubs[hub], From: name(src), To: name(dst)}] = true
					}
				}
			})
		}
	}
	out := []findings.Passage{}
	for p := range found {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b findings.Passage) int {
		return cmp.Or(cmp.Compare(a.Pool, b.Pool), cmp.Compare(a.Hub, b.Hub), cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To))
	})
	return out
}

func TestPassagesAreWherePoolsSeeFlows(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Often(1, "a pool that sees flows"), func(t *rapid.T, met meet.Met) {
		s := New(verdict.New(drawValid(t)))
		got := s.Findings.Passages(unpaced)
		require.ElementsMatch(t, passagesOneByOne(s), got)
		met["a pool that sees flows"] += len(got)
	})
	demo := New(verdict.New(readEstate(t, "../../demo/grayshoal.yaml")))
	assert.Equal(t, passagesOneByOne(demo), demo.Findings.Passages(unpaced))
	assert.Contains(t, demo.Findings.Passages(unpaced), findings.Passage{Pool: "breakwater", Hub: "fjord", From: "contractor", To: "turbine"}, "what enters turbine passes breakwater")
}
