package paths

import (
	"cmp"
	"net/netip"
	"slices"

	"bivium/core/estate"
)

// Origin is where a route comes from.
type Origin string

// The origins of routes.
const (
	OriginAttached Origin = "attached" // a subnet of a network that is attached
	OriginStatic   Origin = "static"
	OriginLearned  Origin = "learned"
	OriginExit     Origin = "exit"
	OriginExplicit Origin = "explicit" // an entry of a network's own table
	OriginPeering  Origin = "peering"  // implicit, to the subnets of a peer
	OriginDefault  Origin = "default"  // implicit, to the hub
)

// HubRoute is a route of a segment at a hub.
type HubRoute struct {
	Prefix netip.Prefix
	Origin Origin
	Home   Home // of what is inside; its Network is None for an exit
	Path   Path // from the hub; its kind is NoPath where the route leads nowhere
	// OneWay is a network of the segment at this hub that hears no reply from
	// there, or None.
	OneWay int
	Reply  Path // of that reply, which has no path
}

// HubTable returns the routes of a segment at a hub: one for each prefix by which
// an address has a home there, and the ways to the internet. In order of prefix.
// Cost: the prefixes of the segment times the networks of it at the hub.
func (n *Net) HubTable(segment, hub int) []HubRoute {
	var out []HubRoute
	near := n.attachedAt(segment, hub)
	n.EachHubRoute(segment, hub, n.RoutedHomes(segment), func(home Home, p Path) {
		r := HubRoute{Prefix: home.Prefix, Origin: OriginAttached, Home: home, Path: p, OneWay: None}
		switch {
		case home.Network == None:
			r.Origin = OriginExit
		case home.Subnet == None:
			r.Origin = n.originOf(home.Network, segment, home.Prefix)
		case p.Leave != None && n.Attachments[p.Leave].Network != home.Network:
			r.Origin = OriginStatic
		}
		if home.Network != None {
			n.findOneWay(&r, segment, near)
		}
		out = append(out, r)
	})
	slices.SortFunc(out, func(a, b HubRoute) int { return comparePrefixes(a.Prefix, b.Prefix) })
	return out
}

// RoutedHomes returns the homes that hubs have routes to in a segment: one for each prefix
// by which an address has its home there, in no order, and the internet of either family,
// whose home has no network.
func (n *Net) RoutedHomes(segment int) []Home {
	var out []Home
	for _, s := range n.homes[segment].subnets.All() {
		out = append(out, Home{n.Subnets[s].Network, s, n.Subnets[s].Prefix})
	}
	for p, network := range n.homes[segment].prefixes.All() {
		if _, covered := n.homes[segment].subnets.Get(p); !covered { // nobody's home is that of the prefix then
			out = append(out, Home{network, None, p})
		}
	}
	for _, zero := range []netip.Addr{netip.IPv4Unspecified(), netip.IPv6Unspecified()} {
		out = append(out, Home{Network: None, Subnet: None, Prefix: netip.PrefixFrom(zero, 0)})
	}
	return out
}

// EachHubRoute calls f for each of some homes that a hub has a route to in a segment,
// with the path from the hub: to the internet, only if there is one.
func (n *Net) EachHubRoute(segment, hub int, homes []Home, f func(home Home, p Path)) {
	outside := n.exitFromHub(segment, hub)
	for _, home := range homes {
		switch {
		case home.Network != None:
			f(home, n.FromHub(hub, Target{Addr: home.Prefix.Addr(), Segment: segment, Home: home}))
		case outside.Kind == HubPath:
			f(home, outside)
		}
	}
}

// comparePrefixes orders prefixes by address, wide ones before narrow ones.
func comparePrefixes(a, b netip.Prefix) int {
	return cmp.Or(a.Addr().Compare(b.Addr()), cmp.Compare(a.Bits(), b.Bits()))
}

// originOf returns what brings a prefix of a network to a segment.
func (n *Net) originOf(network, segment int, p netip.Prefix) Origin {
	for _, i := range n.Networks[network].Attached {
		if t, ok := n.Attachments[i].statics[segment]; ok && t.Get(p) {
			return OriginStatic
		}
	}
	return OriginLearned
}

// attachedAt returns an endpoint of each network that is attached at a hub and
// has a home in a segment, in the order of their names.
func (n *Net) attachedAt(segment, hub int) []Target {
	var out []Target
	for i := range n.Attachments {
		a := &n.Attachments[i]
		if a.Hub != hub || !a.Up {
			continue
		}
		for _, s := range n.Networks[a.Network].Subnets {
			if x := &n.Subnets[s]; x.Segment == segment {
				out = append(out, Target{Addr: x.Prefix.Addr(), Segment: segment, Home: Home{a.Network, s, x.Prefix}})
				break
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Target) int { return cmp.Compare(a.Home.Network, b.Home.Network) })
	return out
}

// findOneWay finds a network near the hub that hears no reply to what it sends by
// a route.
func (n *Net) findOneWay(r *HubRoute, segment int, near []Target) {
	if r.Path.Kind == NoPath {
		return
	}
	for _, at := range near {
		if at.Home.Network == r.Home.Network || at.Addr.Is4() != r.Prefix.Addr().Is4() {
			continue
		}
		if reply := n.Forward(segment, r.Home, at); reply.Kind == NoPath {
			r.OneWay, r.Reply = at.Home.Network, reply
			return
		}
	}
}

// FromHub returns the path from a hub to an internal target (M7.4).
func (n *Net) FromHub(hub int, to Target) Path {
	p := Path{Network: None, Peer: None, Enter: None, Leave: None, Exit: None, Segment: to.Segment}
	n.toHome(&p, nil, hub, to)
	return p
}

// exitFromHub returns the path from a hub to the internet (M7.5).
func (n *Net) exitFromHub(segment, hub int) Path {
	p := Path{Network: None, Peer: None, Enter: None, Leave: None, Exit: None, Segment: segment, External: true, Absence: NoExit}
	best := unreachable
	for i := range n.Exits {
		x := &n.Exits[i]
		if !x.Up || !x.Serves(segment) {
			continue
		}
		if d := n.meshes[segment].distance(hub, x.Hub); d < best {
			best, p.Exit = d, i
		}
	}
	if best < unreachable {
		p.Kind, p.Absence, p.Cost = HubPath, Present, best
		p.Hubs, p.Links = n.meshes[segment].walk(hub, n.Exits[p.Exit].Hub)
	}
	return p
}

// NetworkRoute is an entry of a network's own table, explicit or implicit (M7.2).
type NetworkRoute struct {
	Prefix  netip.Prefix
	Origin  Origin
	Via     estate.Via
	Absence Absence // why it leads nowhere
	Past    bool    // it leads past every hub
	Unused  bool    // an explicit entry has its prefix
}

// NetworkTable returns the route table of a network for flows of a segment: its
// explicit entries, and the implicit ones, in order of prefix.
func (n *Net) NetworkTable(network, segment int) []NetworkRoute {
	x := &n.Networks[network]
	var out []NetworkRoute
	explicit := func(p netip.Prefix) bool {
		return slices.ContainsFunc(x.Routes, func(r Route) bool { return r.To == p })
	}
	for _, r := range x.Routes {
		e := NetworkRoute{Prefix: r.To, Origin: OriginExplicit, Via: r.Via}
		switch r.Via {
		case "none":
			e.Absence = RouteToNone
		case "internet":
			e.Past = true
		case "hub":
			if len(x.Attachments) == 0 {
				e.Absence = NotAttached
			}
		default:
			e.Past = true
			if r.Peer == None {
				e.Absence = PeerEnds
			}
		}
		out = append(out, e)
	}
	for _, p := range x.Peers { // a source that is translated has none of them (M12.4)
		for _, s := range n.Networks[p.Network].Subnets {
			if n.Subnets[s].Segment == segment && !n.Subnets[s].Translated {
				out = append(out, NetworkRoute{
					Prefix: n.Subnets[s].Prefix, Origin: OriginPeering, Via: estate.Via("peer:" + n.Networks[p.Network].Name),
					Past: true, Unused: explicit(n.Subnets[s].Prefix),
				})
			}
		}
	}
	for _, a := range []netip.Addr{netip.IPv4Unspecified(), netip.IPv6Unspecified()} {
		p := Path{Network: network, Peer: None}
		e := NetworkRoute{Prefix: netip.PrefixFrom(a, 0), Origin: OriginDefault}
		_, e.Absence = n.followDefault(&p, x, a)
		e.Via = p.Entry.Via
		e.Unused = explicit(e.Prefix)
		out = append(out, e)
	}
	slices.SortStableFunc(out, func(a, b NetworkRoute) int { return comparePrefixes(a.Prefix, b.Prefix) })
	return out
}
