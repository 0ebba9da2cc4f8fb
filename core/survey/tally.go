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

func (t *tally) add(n uint64) {
	var carry uint64
	t.lo, carry = bits.Add64(t.lo, n, 0)
	t.hi += carry
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

// smallClass is the size of the largest class whose pairs are counted in 64 bits.
const smallClass = 1 << 31

// count adds the pairs of addresses from one member to another.
func (s *Survey) count(t *tally, a, b Member) {
	x, y := &s.classes[a.Class], &s.classes[b.Class]
	if x.Internal() && !a.Only.IsValid() && !b.Only.IsValid() && x.weight < smallClass && y.weight < smallClass {
		n := uint64(x.weight) * uint64(y.weight) // exact: both are whole, and below 2³¹
		if a.Class == b.Class {
			n -= uint64(x.weight)
		}
		t.add(n)
		return
	}
	t.addLarge(s.pairs(a, b))
}
