package paths

import (
	"cmp"
	"encoding/binary"
	"maps"
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

// reason is why a prefix matters to paths. A route matters by itself; of the prefixes
// that an attachment bears in a segment one is like another of its length, and of any
// length where nothing else leads to the addresses.
type reason struct {
	kind        byte
	at, segment int
	length      int // where it may decide, or 0
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
		borne := func(kind byte, tables prefixTables, lengths bool) {
			for segment, t := range tables {
				for p := range t.All() {
					r := reason{kind: kind, at: i, segment: segment}
					if lengths {
						r.length = p.Bits()
					}
					put(p, r)
				}
			}
		}
		borne('b', a.bears, n.lengthMatters(a.Network))
		borne('s', a.statics, true)
	}
	for i := range n.Networks {
		if !n.lengthMatters(i) {
			continue
		}
		for _, k := range n.Networks[i].Subnets { // by their length they are weighed against what is borne
			if s := &n.Subnets[k]; s.Segment != None {
				put(s.Prefix, reason{kind: 'u', at: i, segment: s.Segment, length: s.Prefix.Bits()})
			}
		}
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

// Aligned returns other marks under the numbers of these, as far as that goes, and
// the ranges of addresses, in order, that have another number than here. Marks of
// which nothing here is left get numbers that these do not use. Cost: the prefixes
// of both, in look-ups.
func (m *RouteMarks) Aligned(other *RouteMarks) (*RouteMarks, []netipx.IPRange) {
	starts := m.starts(other)
	type pair struct{ is, was int }
	votes := map[pair]int{}
	next := 0
	for _, a := range starts {
		votes[pair{other.At(a), m.At(a)}]++
		next = max(next, m.At(a)+1)
	}
	pairs := slices.SortedFunc(maps.Keys(votes), func(x, y pair) int {
		return cmp.Or(votes[y]-votes[x], x.is-y.is, x.was-y.was)
	})
	number, taken := map[int]int{None: None}, map[int]bool{None: true}
	for _, p := range pairs {
		if _, known := number[p.is]; !known && !taken[p.was] {
			number[p.is], taken[p.was] = p.was, true
		}
	}
	out := &RouteMarks{}
	for _, x := range other.list {
		n, known := number[x.mark]
		if !known {
			n = next
			number[x.mark] = n
			next++
		}
		out.table.Insert(x.prefix, n)
		out.list = append(out.list, marked{x.prefix, n})
	}
	var moved []netipx.IPRange
	for i, a := range starts {
		if out.At(a) == m.At(a) {
			continue
		}
		to := netipx.PrefixLastIP(netip.PrefixFrom(a, 0))
		if i+1 < len(starts) && starts[i+1].Is4() == a.Is4() {
			to = starts[i+1].Prev()
		}
		moved = append(moved, netipx.IPRangeFrom(a, to))
	}
	return out, moved
}

// starts returns where stretches of addresses begin that neither marks tell apart,
// sorted. What lies before the first has no mark.
func (m *RouteMarks) starts(other *RouteMarks) []netip.Addr {
	var out []netip.Addr
	for _, list := range [][]marked{m.list, other.list} {
		for _, x := range list {
			out = append(out, x.prefix.Addr())
			if after := netipx.PrefixLastIP(x.prefix).Next(); after.IsValid() {
				out = append(out, after)
			}
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	return slices.Compact(out)
}
