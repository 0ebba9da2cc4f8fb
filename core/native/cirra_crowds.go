package native

import (
	"math/bits"
	"net/netip"

	"bivium/core/intervals"
	"bivium/core/native/config"
	"bivium/core/space"
)

// crowded adds the entries of a second line that is too long to be exact.
func (u *unit) crowded(drafts []draft, held []holding, way, room, level int) []draft {
	set := u.sets.At(0).Clone()
	for _, h := range held {
		for i := range h.part.ways[way].far {
			if n := h.part.ways[way].far[i].passes[h.own]; n != 0 {
				set.InPlaceUnion(u.sets.At(n))
			}
		}
	}
	if set.None() {
		return drafts
	}
	services := []space.Box{config.Anything}
	if some := u.services(set); some != nil && level == 1 {
		services = fromAnyPort(some)
	}
	return append(drafts, draft{way == 1, services, u.crowd(held, way, max(1, room/len(services))), set, func() {
		for _, h := range held {
			for i := range h.part.ways[way].far {
				if c := &h.part.ways[way].far[i]; c.passes[h.own] != 0 && len(u.grounds.asked.all) < 16 {
					c.ask(u.grounds, h.part, h.own)
				}
			}
		}
	}})
}

// crowdKey is what the far addresses of a network are asked for.
type crowdKey struct {
	part      *part
	way, most int
}

// crowd returns so many prefixes, or as few as there can be, that have all far addresses with
// which some workload of the network may speak, and none of those near.
func (u *unit) crowd(held []holding, way, most int) []netip.Prefix {
	most = 1 << (bits.Len(uint(most)) - 1) // so that workloads have the same
	var all []netip.Prefix
	for _, h := range held {
		all = append(all, u.crowdOf(crowdKey{h.part, way, most})...)
	}
	if len(held) == 1 {
		return all
	}
	stop := nearby(held, way)
	var ranges []intervals.Range
	for _, p := range all {
		ranges = append(ranges, less(rangeOf(p), stop)...)
	}
	return widened(prefixesOf(ranges), stop, most)
}

// crowdOf returns those of one part of the network. Fewer are made from more.
func (u *unit) crowdOf(key crowdKey) []netip.Prefix {
	if known, ok := u.scratch.crowds[key]; ok {
		return known
	}
	stop := nearby([]holding{{part: key.part}}, key.way)
	var out []netip.Prefix
	if key.most < config.CirraWorkload {
		out = widened(u.crowdOf(crowdKey{key.part, key.way, 2 * key.most}), stop, key.most)
	} else {
		var ranges []intervals.Range
		for _, s := range key.part.ways[key.way].spread() {
			ranges = append(ranges, s.Range)
		}
		out = widened(prefixesOf(ranges), stop, key.most)
	}
	u.scratch.crowds[key] = out
	return out
}
