package intervals

import (
	"cmp"
	"encoding/binary"
	"math/big"
	"math/bits"
	"net/netip"
)

// Size is a number of addresses: 128 bits hold every one, since the addresses
// of no class are a whole family of 2¹²⁸.
type Size struct{ Hi, Lo uint64 }

func (s *Size) Add(t Size) {
	var carry uint64
	s.Lo, carry = bits.Add64(s.Lo, t.Lo, 0)
	s.Hi, _ = bits.Add64(s.Hi, t.Hi, carry)
}

func (s Size) Big() *big.Int {
	n := new(big.Int).SetUint64(s.Hi)
	return n.Lsh(n, 64).Add(n, new(big.Int).SetUint64(s.Lo))
}

// About returns the size as a float.
func (s Size) About() float64 { return float64(s.Hi)*(1<<64) + float64(s.Lo) }

// One reports whether it is 1.
func (s Size) One() bool { return s.Hi == 0 && s.Lo == 1 }

// SizeOf returns the number of addresses of a range.
func SizeOf(r Range) Size {
	from, to := NumberOf(r.From), NumberOf(r.To)
	lo, borrow := bits.Sub64(to.Lo, from.Lo, 0)
	hi, _ := bits.Sub64(to.Hi, from.Hi, borrow)
	n := Size{hi, lo}
	n.Add(Size{0, 1})
	return n
}

// NumberOf returns an address as a number, within its family.
func NumberOf(a netip.Addr) Size {
	if a.Is4() {
		b := a.As4()
		return Size{0, uint64(binary.BigEndian.Uint32(b[:]))}
	}
	b := a.As16()
	return Size{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}
}

// Subtract takes away a size that is not larger.
func (s *Size) Subtract(t Size) {
	var borrow uint64
	s.Lo, borrow = bits.Sub64(s.Lo, t.Lo, 0)
	s.Hi, _ = bits.Sub64(s.Hi, t.Hi, borrow)
}

// Compare returns -1, 0 or 1 as the size is less than, equal to or more than another.
func (s Size) Compare(t Size) int { return cmp.Or(cmp.Compare(s.Hi, t.Hi), cmp.Compare(s.Lo, t.Lo)) }
