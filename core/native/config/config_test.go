package config_test

import (
	"net/netip"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/space"
	"bivium/core/testing/meet"
)

func drawPrefix(t *rapid.T) netip.Prefix {
	a := netip.AddrFrom4([4]byte{10, 0, 0, byte(rapid.IntRange(0, 15).Draw(t, "address"))})
	if rapid.Bool().Draw(t, "six") {
		a = netip.AddrFrom16([16]byte{0xfd, 15: byte(rapid.IntRange(0, 15).Draw(t, "address"))})
	}
	return netip.PrefixFrom(a, a.BitLen()-rapid.IntRange(0, 4).Draw(t, "size"))
}

func drawSets(t *rapid.T) []*config.Set {
	return rapid.SampledFrom([][]*config.Set{
		nil, {}, {{Prefixes: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/30")}}}, {{Name: "a", Prefixes: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/30")}}},
		{{Prefixes: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/30"), netip.MustParsePrefix("fd00::/64")}}},
	}).Draw(t, "sets")
}

func drawRefs(t *rapid.T) []config.Ref {
	return rapid.SampledFrom([][]config.Ref{nil, {{Kind: estate.KindPolicy, Name: "p", Rule: 1}}, {{Kind: estate.KindPolicy, Name: "p", Rule: 2}}}).Draw(t, "for")
}

func drawServices(t *rapid.T) []space.Box {
	return rapid.SampledFrom([][]space.Box{nil, {config.Anything}, {{FirstProtocol: 6, LastProtocol: 6, SourcePorts: estate.AllPorts, Ports: estate.Range{Lo: 22, Hi: 22}}}}).Draw(t, "services")
}

// TestWhatIsEqualIsDeeplyEqual holds the quick comparisons of lists to those of everything in them:
// nothing that differs is taken for equal.
func TestWhatIsEqualIsDeeplyEqual(t *testing.T) {
	rule := rapid.Custom(func(t *rapid.T) config.Rule {
		return config.Rule{
			Order: rapid.IntRange(1, 2).Draw(t, "order"), Out: rapid.Bool().Draw(t, "out"), Allow: rapid.Bool().Draw(t, "allow"),
			Target: rapid.SampledFrom([]string{"", "tag"}).Draw(t, "target"), Own: drawSets(t), Peer: drawSets(t), Services: drawServices(t), For: drawRefs(t),
		}
	})
	hubRule := rapid.Custom(func(t *rapid.T) config.HubRule {
		ends := func() []config.End {
			out := []config.End{}
			for _, s := range append(drawSets(t), nil) {
				out = append(out, config.End{Exit: rapid.SampledFrom([]string{"", "x"}).Draw(t, "exit"), Set: s})
			}
			return out
		}
		r := config.HubRule{From: ends(), To: ends(), Services: drawServices(t), Verb: rapid.SampledFrom([]config.Verb{config.Permit, config.Deny, config.Steer}).Draw(t, "verb"), For: drawRefs(t)}
		if r.Verb == config.Steer {
			r.Through = []config.Step{{Pool: "p", OnFailure: rapid.SampledFrom([]string{"open", "closed"}).Draw(t, "failure")}}
		}
		return r
	})
	entry := rapid.Custom(func(t *rapid.T) config.Entry {
		return config.Entry{Out: rapid.Bool().Draw(t, "out"), Service: config.Anything, Peer: drawPrefix(t), Peers: rapid.SampledFrom([]string{"", "l"}).Draw(t, "peers"), For: drawRefs(t)}
	})
	meet.Check(t, meet.Wants{"equal": 20, "differ": 20, "rules that do the same for other reasons": 3}, func(t *rapid.T, met meet.Met) {
		a, b := rule.Draw(t, "a"), rule.Draw(t, "b")
		if rapid.Bool().Draw(t, "copied") {
			b = a
			b.For = drawRefs(t)
		}
		x, y := []config.List{{On: "s", Rules: []config.Rule{a}}}, []config.List{{On: "s", Rules: []config.Rule{b}}}
		same := config.EqualLists(x, y)
		require.Equal(t, reflect.DeepEqual(x, y), same)
		met.If(same, "equal")
		met.If(!same, "differ")
		if a.Does(&b) {
			b.For, b.Order = a.For, a.Order
			require.Equal(t, a, b, "what does the same differs at most in its place, and what it is for")
			met.If(!same, "rules that do the same for other reasons")
		}
		h, k := []config.HubRule{hubRule.Draw(t, "a")}, []config.HubRule{hubRule.Draw(t, "b")}
		require.Equal(t, reflect.DeepEqual(h, k), config.EqualRules(h, k))
		require.True(t, config.EqualRules(h, slices.Clone(h)))
		e, f := []config.Entry{entry.Draw(t, "a")}, []config.Entry{entry.Draw(t, "b")}
		require.Equal(t, reflect.DeepEqual(e, f), config.EqualEntries(e, f))
	})
}

// TestDisjointPrefixesHaveTheSameAddresses holds them to what they are made of, address by address.
func TestDisjointPrefixesHaveTheSameAddresses(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := rapid.SliceOf(rapid.Custom(drawPrefix)).Draw(t, "prefixes")
		got := config.Disjoint(all)
		require.True(t, slices.IsSortedFunc(got, netip.Prefix.Compare))
		holds := func(list []netip.Prefix, a netip.Addr) (n int) {
			for _, p := range list {
				if p.Masked().Contains(a) {
					n++
				}
			}
			return n
		}
		for i := range 32 {
			for _, a := range []netip.Addr{netip.AddrFrom4([4]byte{10, 0, 0, byte(i)}), netip.AddrFrom16([16]byte{0xfd, 15: byte(i)})} {
				require.Equal(t, min(1, holds(all, a)), holds(got, a), "%s of %v in %v", a, all, got)
			}
		}
	})
}

// TestEntriesMatchWhatTheirServicesMatch holds the entries of one protocol each to the services that
// they are made of.
func TestEntriesMatchWhatTheirServicesMatch(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var boxes []space.Box
		for range rapid.IntRange(1, 3).Draw(t, "boxes") {
			first := rapid.SampledFrom([]uint8{0, 1, 5, 6, 17, 58, 250}).Draw(t, "first")
			b := space.Box{FirstProtocol: first, LastProtocol: uint8(rapid.IntRange(int(first), 255).Draw(t, "last")), SourcePorts: estate.AllPorts, Ports: estate.AllPorts}
			if first == b.LastProtocol && (first == 6 || first == 17) {
				b.Ports = estate.Range{Lo: 22, Hi: uint16(rapid.IntRange(22, 90).Draw(t, "port"))}
			}
			boxes = append(boxes, b)
		}
		entries := config.Entries(boxes)
		require.True(t, space.Of(entries).Equal(space.Of(boxes)), "%v became %v", boxes, entries)
		require.Equal(t, len(entries), len(config.Entries(entries)), "entries are entries already")
	})
}
