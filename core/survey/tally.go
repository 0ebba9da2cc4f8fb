package survey

import (
	"math/big"
	"math/bits"
)

// tally is an exact sum of numbers that are nearly always small: 128 bits for
// those, and a big number for the rest. The zero tally is 0.
type tally struct {
	hi, lo uint64
	large  *big.Int
}

func (t *tally) addLarge(n *big.Int) {
	if t.large == nil {
		t.large = new(big.Int)
	}
	t.large.Add(t.large, n)
}

// sum adds the tally to n.
func (t *tally) sum(n *big.Int) {
	if t.large != nil {
		n.Add(n, t.large)
	}
	high := new(big.Int).SetUint64(t.hi)
	n.Add(n, high.Lsh(high, 64))
	n.Add(n, new(big.Int).SetUint64(t.lo))
}

// amount returns the number of addresses of a member.
func (s *Survey) amount(m Member) size {
	if m.Only.IsValid() {
		return size{0, 1}
	}
	return s.classes[m.Class].size
}

// product adds the product of two sizes, or takes it away.
func (t *tally) product(a, b size, sign int) {
	if a.hi == 0 && b.hi == 0 {
		if hi, lo := bits.Mul64(a.lo, b.lo); sign > 0 {
			var carry uint64
			t.lo, carry = bits.Add64(t.lo, lo, 0)
			if t.hi, carry = bits.Add64(t.hi, hi, carry); carry == 0 {
				return
			}
			t.addLarge(new(big.Int).Lsh(big.NewInt(1), 128))
			return
		}
	}
	n := new(big.Int).Mul(a.big(), b.big())
	if sign < 0 {
		n.Neg(n)
	}
	t.addLarge(n)
}

// sumInto adds the tally to another.
func (t *tally) sumInto(to *tally) {
	var carry uint64
	to.lo, carry = bits.Add64(to.lo, t.lo, 0)
	if to.hi, carry = bits.Add64(to.hi, t.hi, carry); carry != 0 {
		to.addLarge(new(big.Int).Lsh(big.NewInt(1), 128))
	}
	if t.large != nil {
		to.addLarge(t.large)
	}
}

// zero reports whether the sum is 0.
func (t *tally) zero() bool {
	n := new(big.Int)
	t.sum(n)
	return n.Sign() == 0
}
