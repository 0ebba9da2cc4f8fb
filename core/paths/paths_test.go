package paths_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/paths"
)

const ground = `
bivium: 1
estate: ways
accounts: [{name: own, provider: premises}]
hubs: [{name: a}, {name: b}, {name: c}, {name: d}]
links:
  - {between: [a, b], cost: 10}
  - {between: [a, c], cost: 10}
  - {between: [b, d], cost: 10}
  - {between: [c, d], cost: 10}
  - {between: [a, d], cost: 30}
segments: [{name: s}, {name: t}]
networks:
  - {name: near, kind: site, segment: s, subnets: [{name: u, prefix: 10.0.0.0/24}, {name: v, prefix: 10.0.9.0/24, segment: t}]}
  - {name: far, kind: site, segment: s, subnets: [{name: u, prefix: 10.0.1.0/24}]}
  - {name: lone, kind: site, segment: s, subnets: [{name: u, prefix: 10.0.2.0/24}]}
attachments:
  - {network: near, hub: a}
  - {network: far, hub: d}
exits: [{name: x-c, hub: c, segments: [s]}, {name: x-b, hub: b, segments: [s]}]
`

// from reads the ground with some of its text replaced or added.
func from(t *testing.T, changes ...string) *paths.Net {
	t.Helper()
	text := ground
	for i := 0; i+1 < len(changes); i += 2 {
		require.Contains(t, text, changes[i])
		text = strings.Replace(text, changes[i], changes[i+1], 1)
	}
	e, err := document.Read([]byte(text))
	require.NoError(t, err)
	return paths.New(e)
}

// way asks for the path from an address of segment s to another, or, outside, to
// an external one.
func way(t *testing.T, n *paths.Net, src, dst string) paths.Path {
	t.Helper()
	s := n.Segment("s")
	home, ok := n.Home(s, netip.MustParseAddr(src))
	require.True(t, ok, src)
	to := paths.Target{Addr: netip.MustParseAddr(dst), External: true, Segment: paths.None}
	if far, ok := n.Home(s, to.Addr); ok {
		to.External, to.Segment, to.Home = false, s, far
	}
	return n.Forward(s, home, to)
}

func hubs(n *paths.Net, p paths.Path) string {
	var names []string
	for _, h := range p.Hubs {
		names = append(names, n.Hubs[h])
	}
	return strings.Join(names, " ")
}

func TestTiesGoToTheFirstByName(t *testing.T) {
	n := from(t)
	assert.Equal(t, "a b d", hubs(n, way(t, n, "10.0.0.1", "10.0.1.1")), "b comes before c")
	n = from(t, "{between: [a, d], cost: 30}", "{between: [a, d], cost: 20}")
	assert.Equal(t, "a d", hubs(n, way(t, n, "10.0.0.1", "10.0.1.1")), "nothing between comes before b")
	n = from(t, "{between: [a, b], cost: 10}", "{between: [a, b], cost: 11}")
	assert.Equal(t, "a c d", hubs(n, way(t, n, "10.0.0.1", "10.0.1.1")))
	out := way(t, n, "10.0.0.1", "198.51.100.1")
	assert.Equal(t, "x-c", n.Exits[out.Exit].Name, "the cheaper exit")
	n = from(t)
	out = way(t, n, "10.0.0.1", "198.51.100.1")
	assert.Equal(t, "x-b", n.Exits[out.Exit].Name, "of equals the first by name")
}

func TestLinksThatAreDownOrCarryOthersAreNotTaken(t *testing.T) {
	n := from(t, "{between: [a, b], cost: 10}", "{between: [a, b], cost: 10, state: down}")
	assert.Equal(t, "a c d", hubs(n, way(t, n, "10.0.0.1", "10.0.1.1")))
	n = from(t, "{between: [a, b], cost: 10}", "{between: [a, b], cost: 10, segments: [t]}")
	assert.Equal(t, "a c d", hubs(n, way(t, n, "10.0.0.1", "10.0.1.1")))
}

func TestWhyThereIsNoPath(t *testing.T) {
	for _, c := range []struct {
		given    string
		changes  []string
		src, dst string
		expect   paths.Absence
	}{
		{"nothing attached and nobody offers", nil, "10.0.2.1", "10.0.0.1", paths.NoEntry},
		{"the far network is not attached", nil, "10.0.0.1", "10.0.2.1", paths.FarNotAttached},
		{"a route to nothing", []string{"{name: near, kind: site,", "{name: near, kind: site, routes: [{to: 10.0.1.0/24, via: none}],"}, "10.0.0.1", "10.0.1.1", paths.RouteToNone},
		{"a route to the internet for an inside address", []string{"{name: near, kind: site,", "{name: near, kind: site, routes: [{to: 10.0.0.0/8, via: internet}],"}, "10.0.0.1", "10.0.1.1", paths.InternetForInside},
		{"a route to a hub that is not attached", []string{"{name: lone, kind: site,", "{name: lone, kind: site, routes: [{to: 10.0.0.0/8, via: hub}],"}, "10.0.2.1", "10.0.0.1", paths.NotAttached},
		{"a route to nobody's peer", []string{"{name: near, kind: site,", `{name: near, kind: site, routes: [{to: 10.0.1.0/24, via: "peer:lone"}],`}, "10.0.0.1", "10.0.1.1", paths.PeerEnds},
		{"no exit serves", []string{"{name: x-c, hub: c, segments: [s]}, {name: x-b, hub: b, segments: [s]}", "{name: x-c, hub: c, segments: [t]}"}, "10.0.0.1", "198.51.100.1", paths.NoExit},
		{"no links join", []string{"{network: far, hub: d}", "{network: far, hub: d}", "{between: [b, d], cost: 10}", "{between: [b, d], state: down}", "{between: [c, d], cost: 10}", "{between: [c, d], state: down}", "{between: [a, d], cost: 30}", "{between: [a, d], state: down}"}, "10.0.0.1", "10.0.1.1", paths.NoLinks},
	} {
		p := way(t, from(t, c.changes...), c.src, c.dst)
		assert.Equal(t, paths.NoPath, p.Kind, c.given)
		assert.Equal(t, c.expect, p.Absence, c.given)
	}
}

func TestPeerings(t *testing.T) {
	const peered = "exits:"
	n := from(t, peered, "peerings: [{between: [near, lone]}]\nexits:")
	p := way(t, n, "10.0.0.1", "10.0.2.1")
	assert.Equal(t, paths.Peered, p.Kind, "an implicit route to the peer's subnet")
	assert.Equal(t, "10.0.2.0/24", p.Entry.Prefix.String())
	assert.Equal(t, paths.NoEntry, way(t, n, "10.0.2.1", "10.0.1.1").Absence, "a peering is not transitive")

	n = from(t, peered, "peerings: [{between: [near, lone], offersHub: near}]\nexits:")
	p = way(t, n, "10.0.2.1", "10.0.1.1")
	require.Equal(t, paths.HubPath, p.Kind, "the peer offers its hub")
	assert.Equal(t, "near", n.Networks[n.Attachments[p.Enter].Network].Name)
	assert.Equal(t, paths.FarNotAttached, way(t, n, "10.0.1.1", "10.0.2.1").Absence, "and back nothing leads, without a static prefix")

	n = from(t, peered, "peerings: [{between: [near, lone], offersHub: near}]\nexits:", "{network: near, hub: a}", "{network: near, hub: a, static: [{prefix: 10.0.2.0/24, segment: s}]}")
	p = way(t, n, "10.0.1.1", "10.0.2.1")
	require.Equal(t, paths.HubPath, p.Kind, "the peer's attachment announces it")
	assert.Equal(t, "near", n.Networks[n.Attachments[p.Leave].Network].Name)

	home, ok := n.Home(n.Segment("s"), netip.MustParseAddr("10.0.2.1"))
	require.True(t, ok)
	assert.Equal(t, "lone", n.Networks[home.Network].Name, "a subnet comes before a prefix that lies over it")
	back, ok := n.AnswersOutside(n.Segment("s"), home, netip.MustParseAddr("198.51.100.1"))
	assert.True(t, ok)
	assert.Equal(t, estate.Via("peer:near"), back.Entry.Via)
}

func TestLocalPathsAreOfOneSegment(t *testing.T) {
	n := from(t)
	assert.Equal(t, paths.Local, way(t, n, "10.0.0.1", "10.0.0.2").Kind)
	home, ok := n.Home(n.Segment("s"), netip.MustParseAddr("10.0.0.1"))
	require.True(t, ok)
	other, ok := n.Home(n.Segment("t"), netip.MustParseAddr("10.0.9.1"))
	require.True(t, ok)
	p := n.Forward(n.Segment("s"), home, paths.Target{Addr: netip.MustParseAddr("10.0.9.1"), Segment: n.Segment("t"), Home: other})
	assert.Equal(t, paths.HubPath, p.Kind, "another segment of the same network is reached by the hub")
	assert.Equal(t, 2, p.Cost)
}

func TestPrivateAddresses(t *testing.T) {
	for a, want := range map[string]bool{
		"10.0.0.0": true, "9.255.255.255": false, "172.31.255.255": true, "172.32.0.0": false, "100.63.255.255": false, "100.64.0.0": true,
		"223.255.255.255": false, "224.0.0.0": true, "255.255.255.255": true, "fbff::1": false, "fc00::": true, "fe80::1": true, "fec0::1": false, "2001:db8::1": false, "::1": true,
	} {
		assert.Equal(t, want, paths.Private(netip.MustParseAddr(a)), a)
	}
}

func TestLostWaysSayWhy(t *testing.T) {
	n := from(t, "{network: near, hub: a}", "{network: near, hub: a}\n  - {network: near, hub: b, cost: 40}\n  - {network: far, hub: b, state: down}",
		"{name: near, kind: site,", "{name: near, kind: site, routes: [{to: 10.0.1.0/24, via: hub}, {to: 10.0.0.0/16, via: none}],",
		"{name: x-b, hub: b, segments: [s]}", "{name: x-b, hub: b, segments: [s]}, {name: x-d, hub: d, segments: [t]}, {name: x-e, hub: d, segments: [s], state: down}")
	lost := func(dst string) map[string]string {
		s := n.Segment("s")
		home, _ := n.Home(s, netip.MustParseAddr("10.0.0.1"))
		to := paths.Target{Addr: netip.MustParseAddr(dst), External: true, Segment: paths.None}
		if there, ok := n.Home(s, to.Addr); ok {
			to.External, to.Segment, to.Home = false, s, there
		}
		p := n.Forward(s, home, to)
		out := map[string]string{}
		for _, l := range n.Lost(&p, to) {
			out[l.What+" "+l.Name] = strings.Join(append([]string{string(l.Why)}, l.Args...), " ")
		}
		return out
	}
	assert.Equal(t, map[string]string{
		"route 10.0.0.0/16 via none": "less-specific 10.0.1.0/24",
		"route 0.0.0.0/0 via hub":    "less-specific 10.0.1.0/24",
		"attachment near at b":       "costs-more 51 22",
		"attachment far at b":        "down",
	}, lost("10.0.1.1"))
	assert.Equal(t, map[string]string{
		"attachment near at b": "costs-more 40 11",
		"exit x-c":             "later-by-name 11",
		"exit x-d":             "serves-not s",
		"exit x-e":             "down",
	}, lost("198.51.100.1"))
	assert.Empty(t, lost("10.0.0.2"), "a local way has no rivals")
}

func TestTheLongestPrefixThatIsReachedWins(t *testing.T) {
	const peered = "peerings: [{between: [far, lone]}]\nexits:"
	at := func(changes ...string) string {
		n := from(t, append([]string{"exits:", peered}, changes...)...)
		p := way(t, n, "10.0.0.1", "10.0.1.1")
		if p.Kind != paths.HubPath {
			return p.Absence.String()
		}
		out := n.Attachments[p.Leave]
		return n.Networks[out.Network].Name + " at " + n.Hubs[out.Hub]
	}
	const far = "{network: far, hub: d}"
	lone := func(prefix, hub string) string {
		return far + "\n  - {network: lone, hub: " + hub + ", static: [{prefix: " + prefix + ", segment: s}]}"
	}
	assert.Equal(t, "far at d", at(), "its own subnet")
	assert.Equal(t, "far at d", at(far, lone("10.0.0.0/22", "a")), "a shorter static prefix of a peer, though it is cheaper")
	assert.Equal(t, "lone at a", at(far, lone("10.0.1.0/24", "a")), "one as long is weighed by cost")
	assert.Equal(t, "lone at d", at(far, "{network: far, hub: a}\n  - {network: lone, hub: d, static: [{prefix: 10.0.1.0/25, segment: s}]}"), "a longer one, though it is dearer")
	assert.Equal(t, "far at d", at(far, lone("10.0.1.128/25", "a")), "one that does not contain the destination is none")
	cut := []string{"{between: [b, d], cost: 10}", "{between: [b, d], state: down}", "{between: [c, d], cost: 10}", "{between: [c, d], state: down}", "{between: [a, d], cost: 30}", "{between: [a, d], state: down}"}
	assert.Equal(t, "lone at a", at(append(cut, far, lone("10.0.0.0/22", "a"))...), "a longer one at a hub that nobody can reach does not count")
	assert.Equal(t, "no-links", at(cut...))
}

func TestFiltersLetEverythingPassWhereTheyAreLeftOutAndNothingWhereTheyAreEmpty(t *testing.T) {
	for filter, want := range map[string]paths.Absence{
		"accepts: []": paths.NotAccepted, "accepts: [10.0.1.0/24]": paths.Present, "accepts: [10.0.1.128/25]": paths.NotAccepted,
	} {
		p := way(t, from(t, "{network: far, hub: d}", "{network: far, hub: d, "+filter+"}"), "10.0.0.1", "10.0.1.1")
		assert.Equal(t, want, p.Absence, filter)
	}
	p := way(t, from(t, "{network: near, hub: a}", "{network: near, hub: a, announces: []}"), "10.0.0.1", "10.0.1.1")
	assert.Equal(t, paths.NotAnnounced, p.Absence)
}
