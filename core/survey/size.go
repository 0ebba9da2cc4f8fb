package survey

import (
	"cmp"
	"encoding/binary"
	"math/big"
	"math/bits"
	"net/netip"
)

// size is a number of addresses: 128 bits hold every one, since the addresses
// of no class are a whole family of 2¹²⁸.
type size struct{ hi, lo uint64 }

func (s *size) add(t size) {
	var carry uint64
	s.lo, carry = bits.Add64(s.lo, t.lo, 0)
	s.hi, _ = bits.Add64(s.hi, t.hi, carry)
}

func (s size) big() *big.Int {
	n := new(big.Int).SetUint64(s.hi)
	return n.Lsh(n, 64).Add(n, new(big.Int).SetUint64(s.lo))
}

// about returns the size as a float.
func (s size) about() float64 { return float64(s.hi)*(1<<64) + float64(s.lo) }

// one reports whether it is 1.
func (s size) one() bool { return s.hi == 0 && s.lo == 1 }

// sizeOf returns the number of addresses of a range.
func sizeOf(r Range) size {
	from, to := numberOf(r.From), numberOf(r.To)
	lo, borrow := bits.Sub64(to.lo, from.lo, 0)
	hi, _ := bits.Sub64(to.hi, from.hi, borrow)
	n := size{hi, lo}
	n.add(size{0, 1})
	return n
}

// numberOf returns an address as a number, within its family.
func numberOf(a netip.Addr) size {
	if a.Is4() {
		b := a.As4()
		return size{0, uint64(binary.BigEndian.Uint32(b[:]))}
	}
	b := a.As16()
	return size{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}
}

// subtract takes away a size that is not larger.
func (s *size) subtract(t size) {
	var borrow uint64
	s.lo, borrow = bits.Sub64(s.lo, t.lo, 0)
	s.hi, _ = bits.Sub64(s.hi, t.hi, borrow)
}

// compare returns -1, 0 or 1 as the size is less than, equal to or more than another.
func (s size) compare(t size) int { return cmp.Or(cmp.Compare(s.hi, t.hi), cmp.Compare(s.lo, t.lo)) }
