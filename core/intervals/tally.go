package intervals

import (
	"encoding/binary"
	"math/big"
	"math/bits"
)

// Tally is an exact sum of products of sizes: 320 bits hold any that can occur, in two's
// complement, and a big number holds what comes as one. The zero tally is 0.
type Tally struct {
	words [5]uint64 // the lowest first
	large *big.Int
}

func (t *Tally) AddLarge(n *big.Int) {
	if t.large == nil {
		t.large = new(big.Int)
	}
	t.large.Add(t.large, n)
}

// Sum adds the tally to n.
func (t *Tally) Sum(n *big.Int) {
	if t.large != nil {
		n.Add(n, t.large)
	}
	words, negative := t.words, t.words[4]>>63 == 1
	if negative {
		words = [5]uint64{}
		subtractWords(&words, &t.words)
	}
	var bytes [40]byte
	for i, w := range words {
		binary.BigEndian.PutUint64(bytes[32-8*i:], w)
	}
	x := new(big.Int).SetBytes(bytes[:])
	if negative {
		x.Neg(x)
	}
	n.Add(n, x)
}

// Total returns the sum.
func (t *Tally) Total() *big.Int {
	if t.large == nil && t.words[1]|t.words[2]|t.words[3]|t.words[4] == 0 {
		return new(big.Int).SetUint64(t.words[0]) // nearly always
	}
	n := new(big.Int)
	t.Sum(n)
	return n
}

// Product adds the product of two sizes, or takes it away.
func (t *Tally) Product(a, b Size, sign int) {
	var p [5]uint64
	p[1], p[0] = bits.Mul64(a.Lo, b.Lo)
	if a.Hi != 0 || b.Hi != 0 {
		for i, x := range [2]uint64{a.Lo, a.Hi} {
			y := [2]uint64{b.Lo, b.Hi}
			for k := range y {
				if i+k == 0 {
					continue // it is there already
				}
				hi, lo := bits.Mul64(x, y[k])
				var carry uint64
				p[i+k], carry = bits.Add64(p[i+k], lo, 0)
				p[i+k+1], carry = bits.Add64(p[i+k+1], hi, carry)
				for at := i + k + 2; carry != 0; at++ {
					p[at], carry = bits.Add64(p[at], 0, carry)
				}
			}
		}
	}
	if sign > 0 {
		addWords(&t.words, &p)
	} else {
		subtractWords(&t.words, &p)
	}
}

func addWords(t, x *[5]uint64) {
	var carry uint64
	for i := range t {
		t[i], carry = bits.Add64(t[i], x[i], carry)
	}
}

func subtractWords(t, x *[5]uint64) {
	var borrow uint64
	for i := range t {
		t[i], borrow = bits.Sub64(t[i], x[i], borrow)
	}
}

// SumInto adds the tally to another.
func (t *Tally) SumInto(to *Tally) {
	addWords(&to.words, &t.words)
	if t.large != nil {
		to.AddLarge(t.large)
	}
}

// Zero reports whether the sum is 0.
func (t *Tally) Zero() bool {
	if t.large == nil {
		return t.words == [5]uint64{}
	}
	return t.Total().Sign() == 0
}
