package analysis

import (
	"fmt"
	"net/netip"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/estate"
	"bivium/core/limits"
	"bivium/core/matrix"
	"bivium/core/verdict"
)

// strangers returns an estate of so many segments with a network each, that share nothing.
func strangers(segments int) *estate.Estate {
	e := &estate.Estate{Version: estate.Version}
	for i := range segments {
		name := fmt.Sprintf("s%03d", i)
		e.Segments = append(e.Segments, estate.Segment{Name: name, Default: estate.Deny}, estate.Segment{Name: "empty-" + name, Default: estate.Deny})
		e.Networks = append(e.Networks, estate.Network{
			Name: name, Segment: name, Kind: "cloud",
			Subnets: []estate.Subnet{{Name: "a", Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i >> 8), byte(i), 0}), 24)}},
		})
	}
	return e
}

// TestSegmentsWithoutFlowsCostNothing counts what is allocated for segments that have
// nothing in common: twice as many take about twice as much, though there are four times as
// many pairs of them.
func TestSegmentsWithoutFlowsCostNothing(t *testing.T) {
	allocated := func(segments int) float64 {
		j := verdict.New(strangers(segments))
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		s := matrix.New(j)
		runtime.ReadMemStats(&after)
		require.Len(t, s.Blocks.Pairs(), 3*segments, "each has flows of its own, to the internet and from there")
		return float64(after.TotalAlloc - before.TotalAlloc)
	}
	allocated(10)
	some, more := allocated(100), allocated(200)
	assert.Less(t, more/some, 2.6, "%.0f and %.0f bytes", some, more)
}

// TestWhatIsTooMuchIsSaid lets policies tell every two of thousands of groups apart, which
// takes a few megabytes of text: it ends, says what there is too much of, and how to
// fix it.
func TestWhatIsTooMuchIsSaid(t *testing.T) {
	const many = 18_000
	e := &estate.Estate{Version: estate.Version, Segments: []estate.Segment{{Name: "s", Default: estate.Deny}}}
	n := estate.Network{Name: "n", Segment: "s", Kind: "cloud", Subnets: []estate.Subnet{{Name: "a", Prefix: netip.MustParsePrefix("10.0.0.0/8")}}}
	e.Networks = append(e.Networks, n)
	rules := []estate.Rule{{Services: []estate.ServiceRef{{Term: estate.Term{Protocol: 6}}}, Action: estate.Allow}}
	for i := range many {
		name := fmt.Sprintf("g%05d", i)
		e.Workloads = append(e.Workloads, estate.Workload{Name: name, Network: "n", Addresses: []netip.Addr{netip.AddrFrom4([4]byte{10, 1, byte(i >> 8), byte(i)})}, Labels: map[string]string{"g": name}})
		e.Groups = append(e.Groups, estate.Group{Name: name, Match: "g=" + name})
		side, any := estate.Side{Groups: []string{name}}, estate.Side{Any: true}
		for k, sides := range [][2]estate.Side{{side, any}, {any, side}} {
			e.Policies = append(e.Policies, estate.Policy{Name: fmt.Sprint(name, "-", k), Tier: "standard", Enabled: true, Segments: estate.Scope{All: true}, From: sides[0], To: sides[1], Rules: rules})
		}
	}
	defer func() {
		most := limits.Of(recover())
		require.NotNil(t, most)
		assert.Contains(t, most.Error(), "pairs of source and destination classes")
		assert.NotEmpty(t, most.Fix)
	}()
	matrix.New(verdict.New(e))
	t.Error("it was worked out")
}
