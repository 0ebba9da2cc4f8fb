package consequence

import (
	"maps"
	"reflect"
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
	if len(former) == 0 && document.SameLists(before.Estate, after.Estate, "workloads", "networks") {
		if few, ok := changesByLabels(before, after); ok {
			return few
		}
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

// mostByLabels is up to how many groups are looked at one by one.
const mostByLabels = 32

// changesByLabels is groupChanges where nothing but groups is another, and those, with what is
// within them, select by labels alone; ok says whether that is so. Cost: the workloads, for each
// of these groups.
func changesByLabels(before, after *view.Snapshot) (out []GroupChange, ok bool) {
	touched := groupsTouched(before.Estate, after.Estate)
	if len(touched) > mostByLabels {
		return nil, false
	}
	out = []GroupChange{}
	for _, g := range touched {
		was, one := before.MembersByLabels(g)
		is, other := after.MembersByLabels(g)
		if !one || !other {
			return nil, false
		}
		if slices.Equal(was, is) {
			continue
		}
		if c, other := groupChange(g, namesOf(before, was), namesOf(after, is)); other {
			out = append(out, c)
		}
	}
	return out, true
}

// groupsTouched returns the groups that two estates do not have alike, and those within them, by name.
func groupsTouched(before, after *estate.Estate) []string {
	was := make(map[string]*estate.Group, len(before.Groups))
	for i := range before.Groups {
		was[before.Groups[i].Name] = &before.Groups[i]
	}
	touched := map[string]bool{}
	for i := range after.Groups {
		g := &after.Groups[i]
		if old := was[g.Name]; old != g && (old == nil || !reflect.DeepEqual(old, g)) {
			touched[g.Name] = true
		}
		delete(was, g.Name)
	}
	for name := range was {
		touched[name] = true
	}
	withNested(touched, before, after)
	return slices.Sorted(maps.Keys(touched))
}

// withNested adds the groups of some estates that are within some.
func withNested(groups map[string]bool, in ...*estate.Estate) {
	for grown := true; grown; {
		grown = false
		for _, e := range in {
			for i := range e.Groups {
				if g := &e.Groups[i]; groups[g.Within] && !groups[g.Name] {
					groups[g.Name], grown = true, true
				}
			}
		}
	}
}

func namesOf(s *view.Snapshot, workloads []int) []string {
	out := make([]string, len(workloads))
	for i, w := range workloads {
		out[i] = s.Estate.Workloads[w].Name
	}
	slices.Sort(out)
	return out
}

// memberNames returns the names of the workloads in each group, sorted, when a group is asked
// for.
func memberNames(s *view.Snapshot) func(group string) []string {
	by := s.MembersOf()
	return func(group string) []string { return namesOf(s, by[group]) }
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
