package paths_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
)

// TestATableSaysWhatFlowsDo holds the table of a hub to the ways of networks that
// enter there and nowhere else.
func TestATableSaysWhatFlowsDo(t *testing.T) {
	wants := meet.Often(1, "a route", "a dead route", "a route without a return path")
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		for range 60 { // few have networks that can be compared
			e := draw.Estate(t)
			if len(estate.Check(e)) > 0 {
				continue
			}
			n := paths.New(e)
			for segment := range n.Segments {
				for hub := range n.Hubs {
					for _, r := range n.HubTable(segment, hub) {
						for _, near := range nearby(n, segment, hub) {
							if !n.Attachments[n.Networks[near.Network].Attachments[0]].Announces(target(segment, &r).Addr) {
								continue // its hub has the route, and does not tell it
							}
							if r.Home.Network == near.Network || near.Prefix.Addr().Is4() != r.Prefix.Addr().Is4() {
								continue
							}
							met["a route"]++
							met.If(r.Path.Kind == paths.NoPath, "a dead route")
							met.If(r.OneWay != paths.None, "a route without a return path")
							agree(t, n, segment, &r, near)
						}
					}
				}
			}
		}
	})
}

// agree holds a route of a hub to the way from a network that is attached there.
func agree(t *rapid.T, n *paths.Net, segment int, r *paths.HubRoute, near paths.Home) {
	to := target(segment, r)
	way := n.Forward(segment, near, to)
	require.Equal(t, r.Path.Kind, way.Kind, "%s of %s", r.Prefix, n.Segments[segment])
	if way.Kind == paths.NoPath {
		require.Equal(t, r.Path.Absence, way.Absence)
		return
	}
	require.Equal(t, r.Path.Hubs, way.Hubs)
	require.Equal(t, r.Path.Cost+n.Attachments[way.Enter].Cost, way.Cost)
	if to.External {
		return
	}
	back := n.Forward(segment, r.Home, paths.Target{Addr: near.Prefix.Addr(), Segment: segment, Home: near})
	if r.OneWay == paths.None {
		require.NotEqual(t, paths.NoPath, back.Kind, "%s has a return path", r.Prefix)
	} else {
		require.Equal(t, paths.NoPath, r.Reply.Kind)
	}
}

// nearby returns homes of networks that have no way but the one hub.
func nearby(n *paths.Net, segment, hub int) []paths.Home {
	var out []paths.Home
	for i := range n.Networks {
		x := &n.Networks[i]
		if n.Translates(i) || len(x.Routes) > 0 || len(x.Peers) > 0 || len(x.Attachments) != 1 || n.Attachments[x.Attachments[0]].Hub != hub {
			continue
		}
		for _, s := range x.Subnets {
			if n.Subnets[s].Segment == segment {
				out = append(out, paths.Home{Network: i, Subnet: s, Prefix: n.Subnets[s].Prefix})
				break
			}
		}
	}
	return out
}

func target(segment int, r *paths.HubRoute) paths.Target {
	if r.Home.Network == paths.None {
		outside := netip.MustParseAddr("198.51.100.250")
		if !r.Prefix.Addr().Is4() {
			outside = netip.MustParseAddr("2001:db8:ffff::250")
		}
		return paths.Target{Addr: outside, External: true, Segment: paths.None}
	}
	return paths.Target{Addr: r.Prefix.Addr(), Segment: segment, Home: r.Home}
}

func TestTheTableOfANetworkFindsWhatItDoes(t *testing.T) {
	n := from(t, "{name: near, kind: site, segment: s,", "{name: near, kind: site, segment: s, routes: [{to: 0.0.0.0/0, via: internet}, {to: 10.0.1.0/24, via: none}, {to: 10.7.0.0/16, via: 'peer:far'}],")
	var got []string
	for _, r := range n.NetworkTable(n.Network("near"), n.Segment("s")) {
		words := r.Prefix.String() + " " + string(r.Via) + " " + r.Absence.String()
		if r.Past {
			words += " past"
		}
		if r.Unused {
			words += " unused"
		}
		got = append(got, words)
	}
	assert.Equal(t, []string{
		"0.0.0.0/0 internet  past", "0.0.0.0/0 hub  unused", "10.0.1.0/24 none route-none", "10.7.0.0/16 peer:far peer-ends past", "::/0 hub ",
	}, got)
}
