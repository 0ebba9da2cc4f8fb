package app_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/internal/app/view"
)

// all returns every row of a look, window by window, and holds the windows
// against each other.
func all(t require.TestingT, s *view.Snapshot, look view.Look) []view.Row {
	var rows []view.Row
	for {
		look.From = len(rows)
		window := s.Rows(look)
		require.GreaterOrEqual(t, window.Total, len(rows))
		if len(window.Rows) == 0 {
			require.Equal(t, window.Total, len(rows), "the windows are all rows, each once")
			return rows
		}
		rows = append(rows, window.Rows...)
	}
}

func ids(rows []view.Row) []string {
	out := make([]string, len(rows))
	for i := range rows {
		out[i] = rows[i].ID
	}
	return out
}

// TestTheTreeHoldsEverythingOnce opens all rows of drawn estates.
func TestTheTreeHoldsEverythingOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := rapid.Custom(draw.Estate).Filter(func(e *estate.Estate) bool { return len(estate.Check(e)) == 0 }).Draw(t, "estate")
		s := view.NewSnapshot(e, 1)
		var open []string
		for {
			rows := all(t, s, view.Look{Open: open})
			more := false
			depth := map[string]int{}
			for i, r := range rows {
				depth[r.ID]++
				require.Equal(t, 1, depth[r.ID], "%s stands twice", r.ID)
				if i > 0 {
					require.LessOrEqual(t, r.Depth, rows[i-1].Depth+1)
				}
				if !r.Open && r.Parts > 0 {
					open = append(open, r.ID)
					more = true
				}
			}
			if !more {
				counts := map[string]int{}
				for _, r := range rows {
					counts[r.Kind]++
				}
				require.Equal(t, len(e.Networks), counts["network"])
				require.Equal(t, len(e.Workloads), counts["workload"])
				return
			}
		}
	})
}

// TestFindingFindsAllAndNothingElse looks for names, labels, addresses, prefixes
// and groups of the demo, and holds what is found against a look at each workload.
func TestFindingFindsAllAndNothingElse(t *testing.T) {
	s := snapshot(t)
	e := s.Estate
	names := s.Judge.GroupNames()
	members := s.Judge.GroupsOf()
	for _, c := range []struct {
		find string
		is   func(i int, w *estate.Workload) bool
	}{
		{"historian", func(_ int, w *estate.Workload) bool { return strings.Contains(w.Name, "historian") }},
		{"HISTORIAN-1 ", func(_ int, w *estate.Workload) bool { return w.Name == "historian-1" }},
		{"env=dev", func(_ int, w *estate.Workload) bool { return w.Labels["env"] == "dev" }},
		{"10.60.2.11", func(_ int, w *estate.Workload) bool {
			return slices.Contains(w.Addresses, netip.MustParseAddr("10.60.2.11"))
		}},
		{"2001:db8:61::/64", func(_ int, w *estate.Workload) bool {
			return slices.ContainsFunc(w.Addresses, netip.MustParsePrefix("2001:db8:61::/64").Contains)
		}},
		{"name-servers", func(i int, _ *estate.Workload) bool {
			return slices.Contains(members[i], slices.Index(names, "name-servers"))
		}},
		{"no such thing", func(int, *estate.Workload) bool { return false }},
	} {
		want := []string{}
		for i := range e.Workloads {
			if c.is(i, &e.Workloads[i]) {
				want = append(want, "workload:"+e.Workloads[i].Name)
			}
		}
		var got []string
		for _, r := range all(t, s, view.Look{Find: c.find}) {
			if r.Kind == "workload" && r.Found {
				got = append(got, r.ID)
			}
		}
		assert.ElementsMatch(t, want, got, c.find)
	}
	var unplaced []string
	for _, r := range all(t, s, view.Look{Unplaced: true}) {
		if r.Kind == "network" {
			unplaced = append(unplaced, r.Name)
		}
	}
	assert.Equal(t, []string{"tide-lab"}, unplaced)
}

// TestAMatchThatIsOpenedShowsWhatItHolds finds a subnet whose workloads do not
// match, and opens it.
func TestAMatchThatIsOpenedShowsWhatItHolds(t *testing.T) {
	s := snapshot(t)
	shut := all(t, s, view.Look{Find: "engines"})
	assert.Equal(t, []string{"account:velum-central", "region:velum-central/central", "network:trading", "subnet:trading/engines"}, ids(shut))
	opened := all(t, s, view.Look{Find: "engines", Open: []string{"subnet:trading/engines"}})
	assert.Equal(t, []string{"workload:bid-engine", "workload:price-feed"}, ids(opened)[4:])
}

// TestGroupsOfAWorkloadAreThoseOfItsEndpoints holds the groups of each workload
// against those of its endpoints, which flows are judged by.
func TestGroupsOfAWorkloadAreThoseOfItsEndpoints(t *testing.T) {
	meet.Check(t, meet.Often(1, "a workload that is placed"), func(t *rapid.T, met meet.Met) {
		e := rapid.Custom(draw.Estate).Filter(func(e *estate.Estate) bool { return len(estate.Check(e)) == 0 }).Draw(t, "estate")
		s := view.NewSnapshot(e, 1)
		groups := s.Judge.GroupsOf()
		for i := range e.Workloads {
			w := &e.Workloads[i]
			want := map[int]bool{}
			whole := true
			for _, a := range w.Addresses {
				found := false
				for _, segment := range e.Segments {
					end, ok := s.Judge.Internal(s.Judge.Net.Segment(segment.Name), a)
					if ok && end.Workload == i {
						found = true
						for _, g := range end.Groups {
							want[g] = true
						}
					}
				}
				whole = whole && found
			}
			if !whole {
				continue // no segment holds it, so nothing judges it
			}
			met["a workload that is placed"]++
			require.Len(t, groups[i], len(want), fmt.Sprint(w.Name, want, groups[i]))
			for _, g := range groups[i] {
				require.True(t, want[g])
			}
		}
	})
}

// TestMembersByLabels finds the members of groups of drawn estates that select by labels, by the
// labels alone.
func TestMembersByLabels(t *testing.T) {
	meet.Check(t, meet.Often(1, "by labels", "by more", "members", "within another"), func(t *rapid.T, met meet.Met) {
		s := view.NewSnapshot(rapid.Custom(draw.Estate).Filter(func(e *estate.Estate) bool { return len(estate.Check(e)) == 0 }).Draw(t, "estate"), 1)
		all := s.MembersOf()
		for i := range s.Estate.Groups {
			g := &s.Estate.Groups[i]
			members, ok := s.MembersByLabels(g.Name)
			if !ok {
				met["by more"]++
				continue
			}
			met["by labels"]++
			met.If(len(members) > 0, "members")
			met.If(g.Within != "", "within another")
			require.Equal(t, all[g.Name], members, "%+v", g)
		}
	})
}
