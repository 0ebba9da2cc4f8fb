package consequence

import (
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/internal/app/view"
)

// GroupChange is a group whose members are others than before.
type GroupChange struct {
	Name   string   `json:"name"`
	Before int      `json:"before"` // workloads
	After  int      `json:"after"`
	Gained []string `json:"gained"` // the first of them
	Lost   []string `json:"lost"`
}

// groupChanges returns the groups whose workloads are others, by name. Groups that were
// renamed are the same. Cost: the workloads, where groups, networks or workloads changed.
func groupChanges(before, after *view.Snapshot, former map[estate.Ref]string) []GroupChange {
	out := []GroupChange{}
	if document.SameLists(before.Estate, after.Estate, "groups", "workloads") {
		return out
	}
	was, is := memberNames(before), memberNames(after)
	name := func(ref estate.Ref) string {
		if old := former[ref]; old != "" {
			return old
		}
		return ref.Name
	}
	seen := map[string]bool{}
	for i := range after.Estate.Groups {
		g := after.Estate.Groups[i].Name
		old := name(estate.Ref{Kind: estate.KindGroup, Name: g})
		seen[old] = true
		if c, other := groupChange(g, was(old), is(g)); other {
			out = append(out, c)
		}
	}
	for i := range before.Estate.Groups {
		if g := before.Estate.Groups[i].Name; !seen[g] {
			if c, other := groupChange(g, was(g), nil); other {
				out = append(out, c)
			}
		}
	}
	slices.SortFunc(out, func(a, b GroupChange) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// memberNames returns the names of the workloads in each group, sorted, when a group is asked
// for.
func memberNames(s *view.Snapshot) func(group string) []string {
	by := s.MembersOf()
	return func(group string) []string {
		out := make([]string, len(by[group]))
		for i, w := range by[group] {
			out[i] = s.Estate.Workloads[w].Name
		}
		slices.Sort(out)
		return out
	}
}

func groupChange(name string, was, is []string) (GroupChange, bool) {
	c := GroupChange{Name: name, Before: len(was), After: len(is), Gained: beyond(is, was), Lost: beyond(was, is)}
	return c, len(c.Gained) > 0 || len(c.Lost) > 0
}

// maxNamedMembers is how many members that come or go are named.
const maxNamedMembers = 12

// beyond returns the first of those names of a that are not in b; both are sorted.
func beyond(a, b []string) []string {
	out := []string{}
	for i, k := 0, 0; i < len(a) && len(out) < maxNamedMembers; {
		switch {
		case k == len(b) || a[i] < b[k]:
			out = append(out, a[i])
			i++
		case a[i] == b[k]:
			i++
			k++
		default:
			k++
		}
	}
	return out
}
