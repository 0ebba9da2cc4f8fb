package trace

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/recompile"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/testing/oracle"
	"bivium/core/verdict"
)

// TestWhatStandsIdleChangesNothing holds both ends of a bridge, of estates into which
// something was drawn that comes or out of which it goes, to the slow evaluator on the
// estates as they are.
func TestWhatStandsIdleChangesNothing(t *testing.T) {
	edits := draw.Named()
	meet.Check(t, meet.Often(20, edits...), func(t *rapid.T, met meet.Met) {
		e := drawValid(t)
		what := rapid.SampledFrom(edits).Draw(t, "edit")
		next := draw.EditOf(t, e, what)
		j, r := recompile.Revise(verdict.New(e), next)
		if len(estate.Check(next)) > 0 || len(findings.ShareFaults(j)) > 0 || r.Bridge == nil {
			return // a fault, or there was nothing to go
		}
		require.False(t, r.Whole)
		met[what]++
		for judge, alone := range map[*verdict.Judge]*estate.Estate{r.Bridge.Before: e, r.Bridge.After: next} {
			ends := draw.Ends(alone)
			for range 10 {
				p := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
				f := verdict.Flow{
					Segment: rapid.SampledFrom(alone.Segments).Draw(t, "segment").Name, Source: rapid.SampledFrom(ends).Draw(t, "source"),
					Destination: rapid.SampledFrom(ends).Draw(t, "destination"), Service: verdict.Service{Protocol: p.Protocol, SourcePort: p.Source, Port: p.Dest},
				}
				want := oracle.Judge(alone, oracle.Flow{Segment: f.Segment, Source: f.Source, Destination: f.Destination, Protocol: f.Protocol, SourcePort: f.SourcePort, Port: f.Port})
				got := judge.Judge(f)
				require.Equal(t, want.Outcome+" "+want.Reason+" "+want.Intended, string(got.Outcome)+" "+string(got.Reason)+" "+string(got.Intended), "%v", f)
			}
		}
	})
}

// TestEffectsGoThereAndBack takes the effects of drawn paths to a judge that has other
// pools and exits, and back: of what both have they say the same, and of a pool that was
// gone between, that it is not passed.
func TestEffectsGoThereAndBack(t *testing.T) {
	meet.Check(t, meet.Wants{"an effect that is kept": 200, "an effect that is gone": 5}, func(t *rapid.T, met meet.Met) {
		e := drawValid(t)
		next := draw.EditOf(t, e, rapid.SampledFrom([]string{"a pool comes", "a pool goes", "an exit comes", "an exit goes"}).Draw(t, "edit"))
		was, is := verdict.New(e), verdict.New(next)
		there, back := recompile.NewRenumbering(was, is), recompile.NewRenumbering(is, was)
		var stays []bool // by pool, in the order of names
		pools := slices.Clone(e.Pools)
		slices.SortFunc(pools, func(a, b estate.Pool) int { return strings.Compare(a.Name, b.Name) })
		for _, p := range pools {
			stays = append(stays, slices.ContainsFunc(next.Pools, func(q estate.Pool) bool { return q.Name == p.Name }))
		}
		for _, f := range knownEnds(e, was).from {
			if f.Segment == verdict.Internet {
				continue
			}
			src, ok := was.Internal(was.Net.Segment(f.Segment), f.Source)
			dst, how := was.Find(was.Net.Segment(f.Segment), rapid.SampledFrom(draw.Ends(e)).Draw(t, "destination"))
			if !ok || how == verdict.LookupUnknown || dst.Addr.Is4() != f.Source.Is4() || dst.Addr == f.Source {
				continue
			}
			way := was.WayTo(&src, &dst)
			effect := was.EffectOf(&way)
			moved, kept := there.Effect(effect)
			if !kept {
				met["an effect that is gone"]++
				continue
			}
			met["an effect that is kept"]++
			again, kept := back.Effect(moved)
			require.True(t, kept)
			require.Equal(t, effect.Exit, again.Exit)
			require.Len(t, again.Reach, len(effect.Reach))
			for i := range effect.Reach {
				require.Equal(t, stays[i] && effect.Reach[i] == '1', again.Reach[i] == '1', "pool %s", pools[i].Name)
			}
		}
	})
}
