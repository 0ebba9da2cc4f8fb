package consequence

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"go4.org/netipx"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/membership"
	"bivium/core/query"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
	"bivium/internal/app/view"
)

func faults(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// TestSharedRoutesAreAllThatDiffer compares what shares bring into each segment before and after
// drawn edits, as it is worked out from the ground: that much is told, and nothing else.
func TestSharedRoutesAreAllThatDiffer(t *testing.T) {
	meet.Check(t, meet.Often(3, "added", "taken"), func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faults)
		before := view.NewSnapshot(e, 1)
		next, what := draw.Edit(t, e)
		if len(faults(next)) > 0 || !slices.Equal(names(e), names(next)) {
			return
		}
		p := &view.Plan{Next: next}
		before.WorkOut(p)
		touched := touchedBy(e, p)
		got := sharedChanges(before, before.Ahead(p), touched)
		was, is := brought(before.Matrix), brought(matrix.New(verdict.New(next)))
		told := map[string]bool{}
		for _, c := range got {
			told[c.Segment+" "+c.Before+" > "+c.After+" "+c.Prefix] = true
			met.If(c.After != "", "added")
			met.If(c.Before != "", "taken")
		}
		want := map[string]bool{}
		for key := range merged(was, is) {
			for _, c := range turned(was[key], is[key], RouteChange{Segment: key[0], After: "shared by " + key[1]}) {
				want[c.Segment+"  > "+c.After+" "+c.Prefix] = true
			}
			for _, c := range turned(is[key], was[key], RouteChange{Segment: key[0], Before: "shared by " + key[1]}) {
				want[c.Segment+" "+c.Before+" >  "+c.Prefix] = true
			}
		}
		require.Equal(t, want, told, what)
	})
}

func merged(a, b map[[2]string]*netipx.IPSet) map[[2]string]*netipx.IPSet {
	out := maps.Clone(a)
	maps.Copy(out, b)
	return out
}

func names(e *estate.Estate) []string {
	var out []string
	for i := range e.Segments {
		out = append(out, e.Segments[i].Name)
	}
	slices.Sort(out)
	return out
}

// brought returns what shares bring into each segment, by the segment that it is of.
func brought(m *matrix.Matrix) map[[2]string]*netipx.IPSet {
	builders := map[[2]string]*netipx.IPSetBuilder{}
	for i, segment := range m.Net.Segments {
		for _, x := range query.BroughtInto(m, i, func(*membership.Endpoint) string { return "" }) {
			key := [2]string{segment, x.Segment}
			if builders[key] == nil {
				builders[key] = &netipx.IPSetBuilder{}
			}
			for _, p := range x.Prefixes {
				builders[key].AddPrefix(p)
			}
		}
	}
	out := map[[2]string]*netipx.IPSet{}
	for key, b := range builders {
		out[key] = setOf(b)
	}
	return out
}
