package paths

import (
	"net/netip"
	"slices"

	"bivium/core/estate"
)

// Kind is the sort of a path.
type Kind uint8

// The kinds of paths. The zero kind is no path at all.
const (
	NoPath Kind = iota
	Local
	Peered
	Bypass
	HubPath
)

// String returns the word for the kind.
func (k Kind) String() string {
	return [...]string{"none", "local", "peered", "bypass", "hub"}[k]
}

// Absence says why there is no path.
type Absence uint8

// The reasons for which there is no path, in the order in which M7 meets them.
const (
	Present           Absence = iota // there is a path
	NoEntry                          // the route table has no entry for the destination
	RouteToNone                      // the entry says none
	InternetForInside                // the entry leads an internal destination to the internet
	NotAttached                      // the entry leads to the hub, and the network has no attachment that is up
	PeerEnds                         // the entry leads to a peer that neither holds the destination nor offers a hub that is up
	FarNotAttached                   // the hubs are reached, and nothing there leads to the destination
	NoLinks                          // entering and leaving hub are not joined by links that carry the segment
	NoExit                           // no exit that is up serves the segment and can be reached
	NoPublication                    // no publication for the destination
	Shadowed                         // the source's network has the address inside (M12.5)
	NotTranslated                    // no attachment at which the flow may enter translates the source (M12.3)
	NotAnnounced                     // the hubs do not tell the network the way there
	NotAccepted                      // no hub takes the way to the destination from its network
	PeeringTranslates                // the entry leads over a peering, which does not translate the source (M12.4)
)

// String returns the code of the reason.
func (a Absence) String() string {
	return [...]string{"", "no-entry", "route-none", "internet-for-inside", "not-attached", "peer-ends",
		"far-not-attached", "no-links", "no-exit", "no-publication", "shadowed", "not-translated", "not-announced", "not-accepted", "peering-translates"}[a]
}

// Entry is the entry of a route table that a destination met.
type Entry struct {
	Prefix   netip.Prefix // invalid for none
	Via      estate.Via
	Explicit bool
}

// Path is one way through the estate, or the reason why there is none.
type Path struct {
	Kind     Kind
	Absence  Absence
	Network  int   // the source's home network, or None from the internet
	Entry    Entry // of that network's table
	Peer     int   // the peer that the path passes to or enters through, or None
	Enter    int   // entering attachment, or None
	Leave    int   // leaving attachment, or None
	Exit     int   // the exit to or from the internet, or None
	Hubs     []int // in order; never changed after the path is made
	Links    []int // between the hubs
	Cost     int
	Segment  int  // whose links the path may use (M7.4, M7.5)
	External bool // the destination is external

	Translated bool // the source is seen in its segment under another address (M12)
	OneSubnet  bool // of a local path: both ends are in one subnet, or both in none
}

// Target is a destination: an address, and, unless it is external, its segment
// and home.
type Target struct {
	Addr     netip.Addr // as the source's segment sees it
	Own      netip.Addr // in its own segment, where that is another; else invalid (M14.4)
	External bool
	Segment  int
	Home     Home
	// SourceShown says that the target's segment sees the source under another address
	// (M14.5).
	SourceShown bool
}

// own returns the address in its own segment.
func (to *Target) own() netip.Addr {
	if to.Own.IsValid() {
		return to.Own
	}
	return to.Addr
}

// Forward returns the path from an internal endpoint, by its segment and home,
// to a target (M7.1–M7.5). The way back (M7.7) of an internal flow is Forward
// with the ends exchanged. Cost: one look-up of a longest prefix, and entering
// times leaving attachments.
func (n *Net) Forward(segment int, home Home, to Target) Path {
	p := Path{Network: home.Network, Peer: None, Enter: None, Leave: None, Exit: None, Segment: segment, External: to.External, Translated: n.translated(home) != nil}
	if !to.External {
		p.Segment = to.Segment
		if home.Network == to.Home.Network && segment == to.Segment {
			p.Kind, p.OneSubnet = Local, home.Subnet == to.Home.Subnet
			return p
		}
	}
	if n.shadowed(home.Network, to) {
		p.Absence = Shadowed
		return p
	}
	enter, absence := n.follow(&p, segment, to)
	switch {
	case absence != Present:
		p.Absence = absence
	case p.Kind == Peered && p.Translated:
		p.Kind, p.Absence = NoPath, PeeringTranslates
	case p.Kind != NoPath: // peered or bypass, settled without a hub
	default:
		n.overHubs(&p, n.entering(home, enter), to)
	}
	return p
}

// overHubs completes a path that enters at one of some attachments.
func (n *Net) overHubs(p *Path, enter []int, to Target) {
	told := n.carrying(enter, func(a *Attachment) bool { return a.Announces(to.Addr) })
	switch {
	case len(enter) == 0:
		p.Absence = NotTranslated
	case len(told) == 0:
		p.Absence = NotAnnounced
	case to.External:
		n.toExit(p, told)
	default:
		n.toHome(p, told, None, to)
	}
}

// follow looks the target up in the route table of p.Network (M7.2, M7.3) and
// records the entry in p. It returns the network at whose attachments the flow
// enters; for a bypass or a peered path it sets p.Kind instead.
func (n *Net) follow(p *Path, segment int, to Target) (int, Absence) {
	network := &n.Networks[p.Network]
	route, implicitPeer := n.lookup(p, network, segment, to)
	if route == nil && implicitPeer == None {
		return n.followDefault(p, network, to.Addr)
	}
	via, peer := estate.Via("peer"), implicitPeer
	if route != nil {
		via, peer = route.Via, route.Peer
	}
	switch via {
	case "none":
		return None, RouteToNone
	case "internet":
		if !to.External {
			return None, InternetForInside
		}
		p.Kind = Bypass
		return None, Present
	case "hub":
		if len(network.Attachments) == 0 {
			return None, NotAttached
		}
		return p.Network, Present
	}
	return n.followPeer(p, network, peer, to)
}

// lookup finds the longest entry for the target: an explicit route, or the
// number of the peer in whose subnet of the segment the target lives, or
// neither, if only the implicit default is left.
func (n *Net) lookup(p *Path, network *Network, segment int, to Target) (*Route, int) {
	var route *Route
	if network.table != nil {
		if i, ok := network.table.Lookup(to.Addr); ok {
			route = &network.Routes[i]
		}
	}
	if !to.External && !p.Translated && to.Segment == segment && to.Home.Subnet != None && network.peer(to.Home.Network) != nil && n.translated(to.Home) == nil {
		if route == nil || route.To.Bits() < to.Home.Prefix.Bits() {
			p.Entry = Entry{Prefix: to.Home.Prefix, Via: estate.Via("peer:" + n.Networks[to.Home.Network].Name)}
			return nil, to.Home.Network
		}
	}
	if route != nil {
		p.Entry = Entry{Prefix: route.To, Via: route.Via, Explicit: true}
	}
	return route, None
}

// peer returns the peering with the network of that number, or nil.
func (n *Network) peer(number int) *Peer {
	if i := slices.IndexFunc(n.Peers, func(p Peer) bool { return p.Network == number }); i >= 0 {
		return &n.Peers[i]
	}
	return nil
}

// followDefault takes the implicit default route (M7.2).
func (n *Net) followDefault(p *Path, network *Network, a netip.Addr) (int, Absence) {
	anywhere := netip.PrefixFrom(netip.IPv6Unspecified(), 0)
	if a.Is4() {
		anywhere = netip.PrefixFrom(netip.IPv4Unspecified(), 0)
	}
	if len(network.Attachments) > 0 {
		p.Entry = Entry{Prefix: anywhere, Via: "hub"}
		return p.Network, Present
	}
	for _, peer := range network.Peers {
		if peer.Offers && len(n.Networks[peer.Network].Attachments) > 0 {
			p.Entry = Entry{Prefix: anywhere, Via: estate.Via("peer:" + n.Networks[peer.Network].Name)}
			p.Peer = peer.Network
			return peer.Network, Present
		}
	}
	return None, NoEntry
}

// followPeer passes to a peer, or enters at its attachments (M7.3).
func (n *Net) followPeer(p *Path, network *Network, peer int, to Target) (int, Absence) {
	if peer == None {
		return None, PeerEnds
	}
	p.Peer = peer
	if !to.External && n.holds(peer, to) {
		p.Kind = Peered
		return None, Present
	}
	if network.peer(peer).Offers && len(n.Networks[peer].Attachments) > 0 {
		return peer, Present
	}
	return None, PeerEnds
}

// holds reports whether the target is in a subnet, of its segment, of the network.
func (n *Net) holds(network int, to Target) bool {
	return to.Home.Subnet != None && to.Home.Network == network && n.translated(to.Home) == nil && !to.Own.IsValid() && !to.SourceShown
}

// toHome completes a hub path to an internal target (M7.4). enter is the
// attachments at which it may enter, or nil for a path that starts at a hub.
func (n *Net) toHome(p *Path, enter []int, start int, to Target) {
	var memory [4]candidate
	all := n.candidates(memory[:0], to)
	mesh := n.meshes[to.Segment]
	best, longest := unreachable, None
	bestIn, bestOut, inHub, outHub := None, None, None, None
	accepted := false
	for _, out := range all {
		o := &n.Attachments[out.attachment]
		if !o.Accepts(to.own()) {
			continue
		}
		accepted = true
		if out.length < longest {
			continue
		}
		try := func(in, hub, cost int) {
			total := cost + mesh.distance(hub, o.Hub) + o.Cost
			switch {
			case total >= unreachable:
			case out.length > longest || total < best || total == best && (hub < inHub || hub == inHub && o.Hub < outHub):
				best, longest, bestIn, bestOut, inHub, outHub = total, out.length, in, out.attachment, hub, o.Hub
			}
		}
		if enter == nil {
			try(None, start, 0)
		}
		for _, in := range enter {
			try(in, n.Attachments[in].Hub, n.Attachments[in].Cost)
		}
	}
	switch {
	case longest != None:
		p.Kind, p.Enter, p.Leave, p.Cost = HubPath, bestIn, bestOut, best
		p.Hubs, p.Links = mesh.walk(inHub, outHub)
	case accepted:
		p.Absence = NoLinks
	case len(all) > 0:
		p.Absence = NotAccepted
	default:
		p.Absence = FarNotAttached
	}
}

// toExit completes a hub path to the internet (M7.5).
func (n *Net) toExit(p *Path, enter []int) {
	mesh := n.meshes[p.Segment]
	best, bestIn, bestExit := unreachable, None, None
	for x := range n.Exits {
		exit := &n.Exits[x]
		if !exit.Up || !exit.Serves(p.Segment) {
			continue
		}
		for _, in := range enter {
			a := &n.Attachments[in]
			// Exits and attachments come in order of name, so the first of
			// equals is the one that the tie goes to.
			if total := a.Cost + mesh.distance(a.Hub, exit.Hub); total < best {
				best, bestIn, bestExit = total, in, x
			}
		}
	}
	if best >= unreachable {
		p.Absence = NoExit
		return
	}
	p.Kind, p.Enter, p.Exit, p.Cost = HubPath, bestIn, bestExit, best
	p.Hubs, p.Links = mesh.walk(n.Attachments[bestIn].Hub, n.Exits[bestExit].Hub)
}

// FromExit returns the path of a flow from the internet that comes in at an
// exit, to an internal target (M7.6).
func (n *Net) FromExit(exit int, to Target) Path {
	p := Path{Network: None, Peer: None, Enter: None, Leave: None, Exit: exit, Segment: to.Segment}
	n.toHome(&p, nil, n.Exits[exit].Hub, to)
	return p
}

// AnswersOutside reports whether the network's route table leads an external
// address to an attachment that is up: the way back of a flow that came from
// the internet (M7.7). The path says which entry, and why not.
func (n *Net) AnswersOutside(segment int, home Home, external netip.Addr) (Path, bool) {
	p := Path{Network: home.Network, Peer: None, Enter: None, Leave: None, Exit: None, Segment: segment, External: true}
	to := Target{Addr: external, External: true}
	if n.shadowed(home.Network, to) {
		p.Absence = Shadowed
		return p, false
	}
	enter, absence := n.follow(&p, segment, to)
	p.Absence = absence
	if absence != Present || p.Kind == Bypass {
		return p, false
	}
	at := n.entering(home, enter)
	if len(at) == 0 {
		p.Absence = NotTranslated
		return p, false
	}
	if at = n.carrying(at, func(a *Attachment) bool { return a.Announces(external) }); len(at) == 0 {
		p.Absence = NotAnnounced
		return p, false
	}
	p.Kind, p.Enter = HubPath, at[0]
	return p, true
}

// Nearest returns the hub among hubs with the least cost of links from a hub,
// over links that carry the segment, the first by name of equals, and whether
// any can be reached (M8.4).
func (n *Net) Nearest(segment, from int, hubs []int) (int, bool) {
	best, nearest := unreachable, None
	for _, h := range hubs {
		if d := n.meshes[segment].distance(from, h); d < best || d == best && d < unreachable && h < nearest {
			best, nearest = d, h
		}
	}
	return nearest, nearest != None
}
