package proof

import (
	"maps"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/space"
)

// TestCutsAreCountedAsFromTheGround changes a configuration again and again, each time with lists that
// it shares with the one before, and holds what is counted to that of the last one alone.
func TestCutsAreCountedAsFromTheGround(t *testing.T) {
	prefix := rapid.Custom(func(t *rapid.T) netip.Prefix {
		a := netip.AddrFrom4([4]byte{10, 0, 0, byte(rapid.IntRange(0, 31).Draw(t, "address"))})
		return netip.PrefixFrom(a, rapid.IntRange(27, 32).Draw(t, "bits")).Masked()
	})
	service := rapid.Custom(func(t *rapid.T) space.Box {
		port := uint16(rapid.IntRange(1, 4).Draw(t, "port"))
		return space.Box{FirstProtocol: 6, LastProtocol: 6, SourcePorts: estate.AllPorts, Ports: estate.Range{Lo: port, Hi: port}}
	})
	rapid.Check(t, func(t *rapid.T) {
		shared := make([]*config.Set, 4) // by several rules of several lists
		for i := range shared {
			shared[i] = &config.Set{Prefixes: rapid.SliceOfN(prefix, 1, 3).Draw(t, "prefixes")}
		}
		set := rapid.SampledFrom(shared)
		rules := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) config.Rule {
			return config.Rule{Own: []*config.Set{set.Draw(t, "own")}, Peer: []*config.Set{set.Draw(t, "peer")}, Services: []space.Box{service.Draw(t, "service")}}
		}), 0, 3)
		hubRules := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) config.HubRule {
			return config.HubRule{From: []config.End{{Set: set.Draw(t, "from")}, {}}, To: []config.End{{Set: set.Draw(t, "to")}}, Services: []space.Box{service.Draw(t, "service")}}
		}), 0, 3)
		entries := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) config.Entry {
			return config.Entry{Service: service.Draw(t, "service"), Peer: prefix.Draw(t, "peer"), Peers: rapid.SampledFrom([]string{"", "", "l"}).Draw(t, "peers")}
		}), 0, 4)
		parts := func(name string) int { return rapid.IntRange(0, 3).Draw(t, name) }
		keep := func() bool { return rapid.Bool().Draw(t, "keep") }
		cfg := &config.Config{}
		p := &Proof{cuts: newCutting(cfg, nil, nil)}
		for range 5 {
			next := &config.Config{Accounts: []config.Account{{Name: "a"}}}
			for i := range parts("segments") {
				s := config.Segment{Name: string(rune('a' + i)), Rules: hubRules.Draw(t, "rules"), Imports: []config.Import{{Seen: prefix.Draw(t, "seen"), Own: prefix.Draw(t, "own")}}}
				if i < len(cfg.Segments) && keep() {
					s = cfg.Segments[i]
				}
				next.Segments = append(next.Segments, s)
			}
			for i := range parts("networks") {
				n := config.Network{Name: string(rune('a' + i)), Lists: []config.List{{On: "x", Rules: rules.Draw(t, "rules")}, {On: "y", Rules: rules.Draw(t, "rules")}}}
				if i < len(cfg.Networks) && keep() {
					n = cfg.Networks[i]
				}
				next.Networks = append(next.Networks, n)
			}
			for i := range parts("lists") {
				l := config.EntryList{Name: string(rune('a' + i)), Entries: entries.Draw(t, "entries")}
				if len(cfg.Accounts) > 0 && i < len(cfg.Accounts[0].Lists) && keep() {
					l = cfg.Accounts[0].Lists[i]
				}
				next.Accounts[0].Lists = append(next.Accounts[0].Lists, l)
			}
			p = &Proof{cuts: newCutting(next, nil, p)}
			want := newCutting(next, nil, nil)
			require.Equal(t, want.bounds, p.cuts.bounds)
			require.Equal(t, want.boxes(), p.cuts.boxes())
			require.True(t, maps.Equal(want.sets, p.cuts.sets))
			require.True(t, slices.Equal(want.counted, p.cuts.counted))
			cfg = next
		}
	})
}
