package plan

import (
	"net/netip"
	"slices"

	"bivium/core/native/config"
	"bivium/core/space"
)

// PartOf reports whether a list holds nothing but rules of another, or parts of them: what is
// left of a write that broke off. It says false for documents other than lists.
func PartOf(part, whole *Body) bool {
	switch {
	case part == nil || whole == nil:
		return false
	case part.List != nil && whole.List != nil:
		return !slices.ContainsFunc(part.List.Rules, func(r config.Rule) bool {
			return !slices.ContainsFunc(whole.List.Rules, func(of config.Rule) bool { return isPart(&r, &of) })
		})
	case part.Entries != nil && whole.Entries != nil:
		known := map[string]bool{}
		for i := range whole.Entries.Entries {
			known[entryKey(&whole.Entries.Entries[i])] = true
		}
		return !slices.ContainsFunc(part.Entries.Entries, func(e config.Entry) bool { return !known[entryKey(&e)] })
	}
	return false
}

// isPart reports whether a rule does nothing that another does not.
func isPart(r, of *config.Rule) bool {
	if r.Out != of.Out || r.Allow != of.Allow || r.Target != of.Target || !allWithin(r.Own, of.Own) || !allWithin(r.Peer, of.Peer) {
		return false
	}
	if of.Services == nil || r.Services == nil {
		return of.Services == nil
	}
	mine := space.Of(r.Services)
	return mine.Intersect(space.Of(of.Services)).Equal(mine)
}

// allWithin reports whether each prefix of some sets lies in one of others; nil stands for all.
func allWithin(sets, others []*config.Set) bool {
	if others == nil || sets == nil {
		return others == nil
	}
	wide := prefixesOf(others)
	return !slices.ContainsFunc(prefixesOf(sets), func(p netip.Prefix) bool {
		return !slices.ContainsFunc(wide, func(w netip.Prefix) bool { return w.Bits() <= p.Bits() && w.Contains(p.Addr()) })
	})
}
