package estate_test

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
)

// holder is what claims a prefix in the one segment of the estates below.
type holder struct {
	network string
	prefix  netip.Prefix
	kind    string // subnet, static or learned
	name    string // as faults write it
}

// mayNot says F2 once more, for two holders at a time: of two prefixes that overlap, the
// overlap is the narrower.
func mayNot(a, b holder, all []holder, peered map[[2]string]bool) bool {
	if a.network == b.network || !a.prefix.Overlaps(b.prefix) {
		return false
	}
	overlap := a.prefix
	if b.prefix.Bits() > overlap.Bits() {
		overlap = b.prefix
	}
	switch {
	case a.kind == "subnet" && b.kind == "subnet":
		return true
	case a.kind == "subnet":
		return b.kind == "learned" || !peered[[2]string{b.network, a.network}]
	case b.kind == "subnet":
		return a.kind == "learned" || !peered[[2]string{a.network, b.network}]
	}
	return !slices.ContainsFunc(all, func(s holder) bool {
		return s.kind == "subnet" && s.prefix.Overlaps(overlap) && s.prefix.Bits() <= overlap.Bits()
	})
}

// TestOverlapsAreThoseOfEachTwo holds the faults of drawn networks of one segment against
// a look at each two: every overlap is told, once, and nothing else is.
func TestOverlapsAreThoseOfEachTwo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := &estate.Estate{Version: 1, Segments: []estate.Segment{{Name: "s"}}, Hubs: []estate.Hub{{Name: "h"}}}
		prefix := func() netip.Prefix {
			bits := rapid.SampledFrom([]int{8, 16, 24, 25}).Draw(t, "bits")
			return netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(rapid.IntRange(0, 1).Draw(t, "second")), 0, 0}), bits).Masked()
		}
		var all []holder
		peered := map[[2]string]bool{}
		for i := range rapid.IntRange(2, 4).Draw(t, "networks") {
			n := estate.Network{Name: fmt.Sprint("n", i), Segment: "s"}
			at := estate.Attachment{Network: n.Name, Hub: "h", State: "live"}
			for k := range rapid.IntRange(0, 1).Draw(t, "subnets") {
				s := estate.Subnet{Name: fmt.Sprint(k), Prefix: prefix()}
				n.Subnets = append(n.Subnets, s)
				all = append(all, holder{n.Name, s.Prefix, "subnet", fmt.Sprintf("s subnet %s/%s (%s)", n.Name, s.Name, s.Prefix)})
			}
			bears := func(kind string) {
				p := prefix()
				if kind == "static" {
					at.Static = append(at.Static, estate.Static{Segment: "s", Prefix: p})
				} else {
					at.Learned = append(at.Learned, estate.Learned{Segment: "s", Prefix: p, Status: "accepted"})
				}
				all = append(all, holder{n.Name, p, kind, fmt.Sprintf("s attachment %s@h (%s)", n.Name, p)})
			}
			for _, kind := range rapid.SliceOfN(rapid.SampledFrom([]string{"static", "learned"}), 0, 1).Draw(t, "borne") {
				bears(kind)
			}
			e.Networks, e.Attachments = append(e.Networks, n), append(e.Attachments, at)
			if i > 0 && rapid.Bool().Draw(t, "peered") {
				to := fmt.Sprint("n", rapid.IntRange(0, i-1).Draw(t, "peer"))
				e.Peerings = append(e.Peerings, estate.Peering{Between: [2]string{n.Name, to}})
				peered[[2]string{n.Name, to}], peered[[2]string{to, n.Name}] = true, true
			}
		}
		want := map[string]bool{}
		for i, a := range all {
			for _, b := range all[:i] {
				if mayNot(a, b, all, peered) {
					want[min(a.name, b.name)+" / "+max(a.name, b.name)] = true
				}
			}
		}
		got, rows := map[string]bool{}, 0
		for _, f := range estate.Check(e) {
			if f.Code != estate.Overlap {
				continue
			}
			rows++
			require.False(t, f.Clash.More)
			for _, with := range f.Clash.With {
				got[min(f.Clash.Of, with)+" / "+max(f.Clash.Of, with)] = true
			}
		}
		assert.Equal(t, want, got)
		assert.LessOrEqual(t, rows, len(all))
	})
}

// TestAClashOfManyIsARowEach puts thousands of networks on one prefix: each is told once,
// with a few of those that it clashes with.
func TestAClashOfManyIsARowEach(t *testing.T) {
	const many = 5000
	e := &estate.Estate{Segments: []estate.Segment{{Name: "s"}}}
	for i := range many {
		e.Networks = append(e.Networks, estate.Network{Name: fmt.Sprint("n", i), Segment: "s", Subnets: []estate.Subnet{{Name: "a", Prefix: netip.MustParsePrefix("10.0.0.0/8")}}})
	}
	faults := estate.Check(e)
	require.Len(t, faults, many-1)
	assert.Equal(t, []string{"s", "subnet n2/a (10.0.0.0/8)", "subnet n0/a (10.0.0.0/8)", "subnet n1/a (10.0.0.0/8)"}, faults[1].Args)
	last := faults[many-2]
	assert.True(t, last.Clash.More)
	assert.Len(t, last.Refs, 9)
}
