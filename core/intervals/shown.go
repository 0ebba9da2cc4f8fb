package intervals

import (
	"cmp"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// shownPrefix is a prefix that one segment sees under another (M14.1).
type shownPrefix struct {
	Of, To          int
	Inside, Outside netip.Prefix
}

// ShownPrefixes are those of an estate, in a fixed order: there are few.
type ShownPrefixes []shownPrefix

func ShownIn(j *verdict.Judge) ShownPrefixes {
	var out ShownPrefixes
	j.EachShown(func(of, to int, inside, outside netip.Prefix) {
		out = append(out, shownPrefix{of, to, inside, outside})
	})
	slices.SortFunc(out, func(a, b shownPrefix) int {
		return cmp.Or(a.Of-b.Of, a.To-b.To, a.Inside.Addr().Compare(b.Inside.Addr()), a.Inside.Bits()-b.Inside.Bits())
	})
	return out
}

// On reports whether addresses of an interval are shown under others, or are those
// that others are shown under.
func (v ShownPrefixes) On(x *Interval) bool {
	return slices.ContainsFunc(v, func(w shownPrefix) bool { return w.Inside.Contains(x.From) || w.Outside.Contains(x.From) })
}

// workloadsIn returns the addresses in an interval by which segments see workloads of
// others.
func (v ShownPrefixes) workloadsIn(j *verdict.Judge, x *Interval) []netip.Addr {
	var out []netip.Addr
	for _, w := range v {
		if !w.Outside.Contains(x.From) {
			continue
		}
		from := estate.Rebase(x.From, w.Inside)
		home, ok := j.Net.Home(w.Of, from)
		if !ok || home.Subnet == paths.None {
			continue
		}
		j.EachHeld(home, from, estate.Rebase(x.To, w.Inside), func(a netip.Addr, _ int) {
			out = append(out, estate.Rebase(a, w.Outside))
		})
	}
	return out
}
