// Package intervals cuts the addresses of both families at every bound that matters to an
// estate, of a subnet, a route, a group or a translation, and counts addresses exactly.
package intervals

import (
	"net/netip"
	"slices"
	"sort"

	"go4.org/netipx"

	"bivium/core/paths"
	"bivium/core/verdict"
)

// Range is a range of addresses of one family, bounds included.
type Range struct{ From, To netip.Addr }

// Meets reports whether two ranges have an address in common.
func (r *Range) Meets(o Range) bool { return r.To.Compare(o.From) >= 0 && r.From.Compare(o.To) <= 0 }

// Interval is a range of addresses in which only workloads differ: no bound of a
// home, a route or a group lies inside.
type Interval struct {
	Range
	Homes []int // the segments that have homes there, sorted
}

// Everywhere is all addresses of both families.
var Everywhere = Ranges{{netip.IPv4Unspecified(), LastOf(netip.PrefixFrom(netip.IPv4Unspecified(), 0))}, {netip.IPv6Unspecified(), LastOf(netip.PrefixFrom(netip.IPv6Unspecified(), 0))}}

// Ranges are ranges of addresses, in order, disjoint.
type Ranges []Range

// RangesOf returns what a set holds.
func RangesOf(b *netipx.IPSetBuilder) Ranges {
	set, err := b.IPSet()
	if err != nil { // ranges are made from addresses of one family, in order
		panic("intervals: " + err.Error())
	}
	ranges := set.Ranges()
	out := make(Ranges, len(ranges))
	for i, r := range ranges {
		out[i] = Range{r.From(), r.To()}
	}
	return out
}

// Meets reports whether some address of a range is in one of the intervals.
func (t Ranges) Meets(r Range) bool {
	i := sort.Search(len(t), func(i int) bool { return t[i].To.Compare(r.From) >= 0 })
	return i < len(t) && t[i].From.Compare(r.To) <= 0
}

// Holds reports whether all addresses of a range are in one of the intervals.
func (t Ranges) Holds(r Range) bool {
	i := sort.Search(len(t), func(i int) bool { return t[i].To.Compare(r.From) >= 0 })
	return i < len(t) && t[i].From.Compare(r.From) <= 0 && t[i].To.Compare(r.To) >= 0
}

// prefixes returns some that have all addresses of the intervals; of many intervals, all
// there are.
func (t Ranges) prefixes() []netip.Prefix {
	var out []netip.Prefix
	for _, r := range t {
		if out = netipx.IPRangeFrom(r.From, r.To).AppendPrefixes(out); len(out) > mostPrefixes {
			return paths.Everything()
		}
	}
	return out
}

// mostPrefixes is how many are worth looking at one by one.
const mostPrefixes = 256

// Elementary returns the addresses of some ranges in intervals, in order. Cost: the bounds,
// and for each segment those within its homes.
func Elementary(j *verdict.Judge, within Ranges) []Interval {
	net := j.Net
	var starts []netip.Addr
	for _, r := range within {
		starts = append(starts, r.From)
	}
	cut := func(a netip.Addr) {
		if a.IsValid() && within.Meets(Range{a, a}) {
			starts = append(starts, a)
		}
	}
	prefixes := within.prefixes()
	j.EachCutAsSeen(prefixes, func(p netip.Prefix) {
		cut(p.Masked().Addr())
		cut(LastOf(p).Next())
	})
	slices.SortFunc(starts, netip.Addr.Compare)
	starts = slices.Compact(starts)
	line := make([]Interval, len(starts))
	k := 0
	for i, from := range starts {
		for within[k].To.Compare(from) < 0 {
			k++
		}
		to := within[k].To
		if i+1 < len(starts) && starts[i+1].Compare(to) <= 0 {
			to = starts[i+1].Prev()
		}
		line[i].Range = Range{from, to}
	}
	for s := range net.Segments {
		for _, within := range prefixes {
			net.EachHomePrefixAt(s, within, func(p netip.Prefix) {
				first, last := p.Masked().Addr(), LastOf(p)
				at := sort.Search(len(line), func(i int) bool { return line[i].From.Compare(first) >= 0 })
				for ; at < len(line) && line[at].From.Compare(last) <= 0; at++ {
					if homes := line[at].Homes; len(homes) == 0 || homes[len(homes)-1] != s {
						line[at].Homes = append(homes, s)
					}
				}
			})
		}
	}
	return line
}

// LastOf returns the last address of a prefix.
func LastOf(p netip.Prefix) netip.Addr {
	if p.Addr().Is4() {
		b := p.Addr().As4()
		fill(b[:], p.Bits())
		return netip.AddrFrom4(b)
	}
	b := p.Addr().As16()
	fill(b[:], p.Bits())
	return netip.AddrFrom16(b)
}

// fill sets all bits from one on.
func fill(b []byte, from int) {
	for i := from; i < 8*len(b); i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
}

// Pieces cuts an interval at the addresses that workloads of some homes hold, and
// at those by which other segments see them.
func (x *Interval) Pieces(j *verdict.Judge, homes []paths.Home, v ShownPrefixes) []Range {
	cuts := v.workloadsIn(j, x)
	for _, home := range homes {
		j.EachHeld(home, x.From, x.To, func(a netip.Addr, _ int) { cuts = append(cuts, a) })
	}
	slices.SortFunc(cuts, netip.Addr.Compare)
	var out []Range
	from := x.From
	for _, a := range slices.Compact(cuts) {
		if from != a {
			out = append(out, Range{from, a.Prev()})
		}
		out = append(out, Range{a, a})
		from = a.Next()
		if a == x.To {
			return out
		}
	}
	return append(out, Range{from, x.To})
}

// OnlyHome returns the home of the interval in the one segment that has it, or false
// if none or several have.
func (x *Interval) OnlyHome(j *verdict.Judge) (paths.Home, bool) {
	if len(x.Homes) != 1 {
		return paths.Home{}, false
	}
	return j.Net.Home(x.Homes[0], x.From)
}

// SubnetsAt returns the subnets in which the addresses of an interval have homes.
func (x *Interval) SubnetsAt(j *verdict.Judge) []paths.Home {
	var out []paths.Home
	for _, s := range x.Homes {
		if home, ok := j.Net.Home(s, x.From); ok && home.Subnet >= 0 {
			out = append(out, home)
		}
	}
	return out
}
