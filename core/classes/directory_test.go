package classes

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestBitTableHoldsWhatWasPut cuts all addresses of IPv4 into drawn ranges, puts them in any
// order, and asks for their bounds, and for addresses between.
func TestBitTableHoldsWhatWasPut(t *testing.T) {
	near := rapid.Custom(func(t *rapid.T) uint32 { // bounds share bits, as those of prefixes do
		a := rapid.SampledFrom([]uint32{0, 0x0a000000, 0x0a00ff00, 0x0a010000, 0xc0000200, 0xffffff00, 0xffff0000}).Draw(t, "base")
		return a + rapid.SampledFrom([]uint32{0, 1, 2, 254, 255, 256, 257, 511, 65535, 65536, 65537, 1 << 20}).Draw(t, "step")
	})
	var empty MultibitTrie
	require.Zero(t, empty.Lookup(7), "of no ranges, nobody has an address")
	rapid.Check(t, func(t *rapid.T) {
		starts := append(rapid.SliceOfN(near, 1, 30).Draw(t, "starts"), rapid.SliceOf(rapid.Uint32()).Draw(t, "more")...)
		starts = append(starts, 0)
		slices.Sort(starts)
		starts = slices.Compact(starts)
		last := func(i int) uint32 {
			if i+1 < len(starts) {
				return starts[i+1] - 1
			}
			return 1<<32 - 1
		}
		var table MultibitTrie
		order := make([]int, len(starts))
		for i := range order {
			order[i] = i
		}
		for _, i := range rapid.Permutation(order).Draw(t, "order") {
			hold := HeldBy(int32(i))
			if i%3 == 0 {
				hold = HeldByAll(int32(i))
			}
			table.Put(starts[i], last(i), hold)
		}
		ask := func(i int, a uint32) {
			hold := table.Lookup(a)
			require.Equal(t, i, int(hold>>2), "%x", a)
			require.Equal(t, i%3 != 0, hold&1 == 1, "%x", a)
		}
		for i, first := range starts {
			ask(i, first)
			ask(i, last(i))
			ask(i, first+(last(i)-first)/2)
		}
	})
}
