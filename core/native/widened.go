package native

import (
	"encoding/binary"
	"math/bits"
	"net/netip"

	"bivium/core/intervals"
)

// widened returns at most so many prefixes, if that can be done, that have all addresses of
// some, and none of those that are to be left out. Smaller ones are joined first. Cost: the
// prefixes times the different sizes.
func widened(p []netip.Prefix, without []intervals.Range, most int) []netip.Prefix {
	for size := 1; size <= 128 && len(p) > most; {
		left, next := len(p), 129 // the least size of what was too large this time
		out := make([]netip.Prefix, 0, len(p))
		for _, last := range p {
			for len(out) > 0 && left > most {
				c, ok := common(out[len(out)-1], last)
				if !ok {
					break
				}
				if needs := c.Addr().BitLen() - c.Bits(); needs > size {
					next = min(next, needs)
					break
				}
				if meetsAny(rangeOf(c), without) {
					break
				}
				out, last = out[:len(out)-1], c
				left--
			}
			out = append(out, last)
		}
		p, size = out, next
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
	x, y := a.Addr().As16(), b.Addr().As16()
	same := bits.LeadingZeros64(binary.BigEndian.Uint64(x[:8]) ^ binary.BigEndian.Uint64(y[:8]))
	if same == 64 {
		same += bits.LeadingZeros64(binary.BigEndian.Uint64(x[8:]) ^ binary.BigEndian.Uint64(y[8:]))
	}
	same -= 128 - a.Addr().BitLen()
	return netip.PrefixFrom(a.Addr(), min(a.Bits(), b.Bits(), same)).Masked(), true
}
