package native

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"bivium/core/intervals"
	"bivium/core/native/config"
)

// prefixesOf returns the fewest prefixes that have the addresses of some ranges, in order.
func prefixesOf(ranges []intervals.Range) []netip.Prefix {
	var out []netip.Prefix
	for _, r := range merged(ranges) {
		out = netipx.IPRangeFrom(r.From, r.To).AppendPrefixes(out)
	}
	return out
}

// merged returns ranges in order, with those that touch as one.
func merged(ranges []intervals.Range) []intervals.Range {
	sorted := slices.Clone(ranges)
	slices.SortFunc(sorted, func(a, b intervals.Range) int { return a.From.Compare(b.From) })
	out := sorted[:0]
	for _, r := range sorted {
		if n := len(out); n > 0 && out[n-1].To.BitLen() == r.From.BitLen() && (out[n-1].To.Next() == r.From || out[n-1].To.Compare(r.From) >= 0) {
			if out[n-1].To.Compare(r.To) < 0 {
				out[n-1].To = r.To
			}
			continue
		}
		out = append(out, r)
	}
	return out
}

// less returns a range without those of a sorted list.
func less(r intervals.Range, without []intervals.Range) []intervals.Range {
	var out []intervals.Range
	i, _ := slices.BinarySearchFunc(without, r.From, func(w intervals.Range, a netip.Addr) int { return w.To.Compare(a) })
	for ; i < len(without) && without[i].From.Compare(r.To) <= 0; i++ {
		if without[i].From.Compare(r.From) > 0 {
			out = append(out, intervals.Range{From: r.From, To: without[i].From.Prev()})
		}
		next := without[i].To.Next()
		if !next.IsValid() || next.Compare(r.To) > 0 {
			return out
		}
		r.From = next
	}
	return append(out, r)
}

// rangeOf returns the addresses of a prefix.
func rangeOf(p netip.Prefix) intervals.Range {
	r := netipx.RangeOfPrefix(p)
	return intervals.Range{From: r.From(), To: r.To()}
}

// compareSets orders sets that have a name by their first address.
func compareSets(a, b *config.Set) int {
	return cmp.Or(a.Prefixes[0].Compare(b.Prefixes[0]), strings.Compare(a.Name, b.Name))
}
