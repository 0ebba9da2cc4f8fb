package native

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/intervals"
)

// TestWidenedKeepsWhatItMust joins drawn prefixes: all of their addresses stay, and none comes
// that is to be left out.
func TestWidenedKeepsWhatItMust(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var in, without []intervals.Range
		for i := range rapid.IntRange(1, 40).Draw(t, "ranges") {
			from := netip.AddrFrom4([4]byte{10, 0, byte(i), byte(rapid.IntRange(0, 200).Draw(t, "from"))})
			r := intervals.Range{From: from, To: from}
			if rapid.IntRange(0, 9).Draw(t, "left out") == 0 {
				without = append(without, r)
			} else {
				in = append(in, r)
			}
		}
		prefixes, most := prefixesOf(in), rapid.IntRange(1, 10).Draw(t, "most")
		out := widened(prefixes, without, most)
		require.True(t, len(out) <= most || len(without) > 0)
		for _, r := range in {
			require.True(t, slices.ContainsFunc(out, func(p netip.Prefix) bool { return p.Contains(r.From) }))
		}
		for _, r := range without {
			require.False(t, slices.ContainsFunc(out, func(p netip.Prefix) bool { return p.Contains(r.From) }))
		}
	})
}
