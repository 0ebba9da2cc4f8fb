package paths

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"
	"go4.org/netipx"
)

// RouteMarks tell addresses apart whose ways may differ although they have one
// home: by explicit routes, by what attachments bear and are told to carry, and
// by the inside of translated subnets.
type RouteMarks struct {
	table bart.Table[int]
	list  []marked
}

// marked is a prefix, with the number of what addresses in it have in common.
type marked struct {
	prefix netip.Prefix
	mark   int
}

// reason is why a prefix matters to ways. A route matters by itself; of the prefixes
// that an attachment bears in a segment one is like another.
type reason struct {
	kind        byte
	at, segment int
	prefix      netip.Prefix
}

// Marks returns the route marks of the estate. Cost: the prefixes, times how
// deep they are nested.
func (n *Net) Marks() *RouteMarks {
	numbers := map[reason]int{}
	reasons := map[netip.Prefix][]int{}
	put := func(p netip.Prefix, r reason) {
		i, ok := numbers[r]
		if !ok {
			i = len(numbers)
			numbers[r] = i
		}
		reasons[p] = append(reasons[p], i)
	}
	itself := func(p netip.Prefix) { put(p, reason{kind: 'r', prefix: p}) }
	for i := range n.Networks {
		for _, r := range n.Networks[i].Routes {
			itself(r.To)
		}
	}
	for i := range n.Subnets {
		if n.Subnets[i].Translated {
			itself(n.Subnets[i].Inside)
		}
	}
	for i := range n.Attachments {
		a := &n.Attachments[i]
		a.eachFiltered(itself)
		borne := func(kind byte, tables map[int]*bart.Lite) {
			for segment, t := range tables {
				for p := range t.All() {
					put(p, reason{kind: kind, at: i, segment: segment})
				}
			}
		}
		borne('b', a.bears)
		borne('s', a.statics)
	}
	for s := range n.homes { // some bear nothing: those of withdrawn prefixes
		for p, network := range n.homes[s].prefixes.All() {
			put(p, reason{kind: 'h', at: network, segment: s})
		}
	}
	return numbered(reasons)
}

// numbered numbers prefixes so that those with the same reasons, their own and those
// of the prefixes around them, have one number.
func numbered(reasons map[netip.Prefix][]int) *RouteMarks {
	m := &RouteMarks{}
	all := make([]netip.Prefix, 0, len(reasons))
	for p := range reasons {
		all = append(all, p)
	}
	slices.SortFunc(all, comparePrefixes)
	known := map[string]int{}
	var around []netip.Prefix // those that contain the one at hand
	var have [][]int          // by place in around: reasons so far
	for _, p := range all {
		for len(around) > 0 && !around[len(around)-1].Overlaps(p) {
			around, have = around[:len(around)-1], have[:len(have)-1]
		}
		set := slices.Clone(reasons[p])
		if len(have) > 0 {
			set = append(set, have[len(have)-1]...)
		}
		slices.Sort(set)
		set = slices.Compact(set)
		around, have = append(around, p), append(have, set)
		var key []byte
		for _, r := range set {
			key = binary.AppendUvarint(key, uint64(r))
		}
		mark, ok := known[string(key)]
		if !ok {
			mark = len(known)
			known[string(key)] = mark
		}
		m.table.Insert(p, mark)
		m.list = append(m.list, marked{p, mark})
	}
	return m
}

// At returns the mark of an address: the ways of two addresses with one mark, in
// one home, are alike. It is None where no prefix contains the address.
func (m *RouteMarks) At(a netip.Addr) int {
	if i, ok := m.table.Lookup(a); ok {
		return i
	}
	return None
}

// Renamed returns other marks under the numbers of these, as far as both tell the
// same addresses apart; marks that only the others have get numbers that these do
// not use. Addresses in some prefixes do not count. It is false if the others tell
// addresses apart that these do not. Cost: the prefixes of both, in look-ups.
func (m *RouteMarks) Renamed(other *RouteMarks, besides []netip.Prefix) (*RouteMarks, bool) {
	to, back := map[int]int{None: None}, map[int]int{}
	same := func(a netip.Addr) bool {
		if !a.IsValid() || slices.ContainsFunc(besides, func(p netip.Prefix) bool { return p.Contains(a) }) {
			return true
		}
		was, is := m.At(a), other.At(a)
		known, ok := to[was]
		if !ok {
			to[was], known = is, is
			if _, ok := back[is]; !ok && is != None {
				back[is] = was
			}
		}
		return known == is
	}
	bounds := func(p netip.Prefix) bool { return same(p.Addr()) && same(netipx.PrefixLastIP(p).Next()) }
	for _, p := range besides {
		if !bounds(p) {
			return nil, false
		}
	}
	next := 0
	for _, x := range m.list {
		if next = max(next, x.mark+1); !bounds(x.prefix) {
			return nil, false
		}
	}
	for _, x := range other.list {
		if !bounds(x.prefix) {
			return nil, false
		}
	}
	out := &RouteMarks{}
	for _, x := range other.list {
		mark, ok := back[x.mark]
		if !ok {
			mark, next = next, next+1
			back[x.mark] = mark
		}
		out.table.Insert(x.prefix, mark)
		out.list = append(out.list, marked{x.prefix, mark})
	}
	return out, true
}
