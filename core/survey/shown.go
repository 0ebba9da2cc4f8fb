package survey

import (
	"cmp"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// sight is a prefix that one segment sees under another (M14.1).
type sight struct {
	of, to          int
	inside, outside netip.Prefix
}

// sights are those of an estate, in a fixed order: there are few.
type sights []sight

func sightsOf(j *verdict.Judge) sights {
	var out sights
	j.EachShown(func(of, to int, inside, outside netip.Prefix) { out = append(out, sight{of, to, inside, outside}) })
	slices.SortFunc(out, func(a, b sight) int {
		return cmp.Or(a.of-b.of, a.to-b.to, a.inside.Addr().Compare(b.inside.Addr()), a.inside.Bits()-b.inside.Bits())
	})
	return out
}

// on reports whether addresses of a stretch are shown under others, or are those
// that others are shown under.
func (v sights) on(x *stretch) bool {
	return slices.ContainsFunc(v, func(w sight) bool { return w.inside.Contains(x.From) || w.outside.Contains(x.From) })
}

// held returns the addresses in a stretch by which segments see workloads of
// others.
func (v sights) held(j *verdict.Judge, x *stretch) []netip.Addr {
	var out []netip.Addr
	for _, w := range v {
		if !w.outside.Contains(x.From) {
			continue
		}
		from := estate.Rebase(x.From, w.inside)
		home, ok := j.Net().Home(w.of, from)
		if !ok || home.Subnet == paths.None {
			continue
		}
		j.EachHeld(home, from, estate.Rebase(x.To, w.inside), func(a netip.Addr, _ int) {
			out = append(out, estate.Rebase(a, w.outside))
		})
	}
	return out
}
