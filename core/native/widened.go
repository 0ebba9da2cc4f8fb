package native

import (
	"net/netip"

	"bivium/core/intervals"
)

// widened returns at most so many prefixes, if that can be done, that have all addresses of
// some, and none of those that are to be left out. Smaller ones are joined first. Cost: the
// prefixes times the different sizes.
func widened(p []netip.Prefix, without []intervals.Range, most int) []netip.Prefix {
	for size := 1; size <= 128 && len(p) > most; size++ {
		left := len(p)
		out := make([]netip.Prefix, 0, len(p))
		for _, next := range p {
			for len(out) > 0 && left > most {
				c, ok := common(out[len(out)-1], next)
				if !ok || c.Addr().BitLen()-c.Bits() > size || meetsAny(rangeOf(c), without) {
					break
				}
				out, next = out[:len(out)-1], c
				left--
			}
			out = append(out, next)
		}
		p = out
	}
	return p
}

func meetsAny(r intervals.Range, sorted []intervals.Range) bool {
	return intervals.Ranges(sorted).Meets(r)
}

// common returns the longest prefix that has two others, of one family.
func common(a, b netip.Prefix) (netip.Prefix, bool) {
	if a.Addr().Is4() != b.Addr().Is4() {
		return netip.Prefix{}, false
	}
	bits := min(a.Bits(), b.Bits())
	for {
		p := netip.PrefixFrom(a.Addr(), bits).Masked()
		if p.Contains(b.Addr()) {
			return p, true
		}
		bits--
	}
}
