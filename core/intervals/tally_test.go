package intervals

import (
	"math/big"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestATallyIsTheSumOfItsProducts holds the words of a tally to big numbers.
func TestATallyIsTheSumOfItsProducts(t *testing.T) {
	word := rapid.OneOf(rapid.SampledFrom([]uint64{0, 1, 1<<32 - 1, 1 << 63, 1<<64 - 1}), rapid.Uint64())
	rapid.Check(t, func(t *rapid.T) {
		var one, other Tally
		want := new(big.Int)
		for range rapid.IntRange(0, 8).Draw(t, "products") {
			a, b := Size{Hi: word.Draw(t, "hi"), Lo: word.Draw(t, "lo")}, Size{Hi: word.Draw(t, "hi"), Lo: word.Draw(t, "lo")}
			sign := rapid.SampledFrom([]int{1, -1}).Draw(t, "sign")
			of := &one
			if rapid.Bool().Draw(t, "other") {
				of = &other
			}
			of.Product(a, b, sign)
			p := new(big.Int).Mul(a.Big(), b.Big())
			want.Add(want, p.Mul(p, big.NewInt(int64(sign))))
		}
		if rapid.Bool().Draw(t, "large") {
			other.AddLarge(big.NewInt(-7))
			want.Sub(want, big.NewInt(7))
		}
		other.SumInto(&one)
		got := new(big.Int)
		one.Sum(got)
		require.Zero(t, want.Cmp(got), "%v, not %v", got, want)
		require.Equal(t, want.Sign() == 0, one.Zero())
	})
}
