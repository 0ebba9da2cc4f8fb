package dataplane

import (
	"math"
	"net/netip"
	"slices"
	"strings"
)

// route asks the table of a network where a packet goes: to which network's attachments, or
// past every hub.
func (w *World) route(src *place, to netip.Addr, dst *place) (enter, kind string) {
	n := w.Networks[src.network]
	if w.ownInside(src.network, to) {
		return "", "its own address"
	}
	best, via := -1, ""
	for _, r := range n.Table {
		if r.To.Contains(to) && r.To.Bits() > best {
			best, via = r.To.Bits(), r.Via
		}
	}
	if peer, bits := w.besidePeers(src, to); bits > best {
		best, via = bits, "peer:"+peer
	}
	switch {
	case best < 0 && len(w.attached(src.network)) > 0, via == "hub":
		if len(w.attached(src.network)) == 0 {
			return "", "not attached"
		}
		return src.network, "hub"
	case best < 0:
		return w.byPeersHub(n)
	case via == "internet" && dst.segment == "":
		return "", "bypass"
	case via == "internet", via == "none":
		return "", "no route"
	}
	return w.overPeer(src, strings.TrimPrefix(via, "peer:"), to, dst)
}

// ownInside reports whether an address is an inside one of a network's translated subnets.
func (w *World) ownInside(network string, a netip.Addr) bool {
	return slices.ContainsFunc(w.Networks[network].Subnets, func(s Subnet) bool {
		_, translated := w.translation(network, s)
		return translated && s.Prefix.Contains(a)
	})
}

// besidePeers returns the peer whose subnet of the source's segment has the address.
func (w *World) besidePeers(src *place, to netip.Addr) (string, int) {
	name, best := "", -1
	if w.isTranslated(src) {
		return name, best
	}
	for _, p := range w.Networks[src.network].Peers {
		for _, s := range w.Networks[p.Network].Subnets {
			if _, t := w.translation(p.Network, s); s.Segment == src.segment && !t && s.Prefix.Contains(to) && !w.explicit(src.network, s.Prefix) && s.Prefix.Bits() > best {
				name, best = p.Network, s.Prefix.Bits()
			}
		}
	}
	return name, best
}

// isTranslated reports whether an endpoint's segment sees it under another address.
func (w *World) isTranslated(p *place) bool {
	for _, s := range w.Networks[p.network].Subnets {
		if s.Name == p.subnet && p.subnet != "" {
			_, t := w.translation(p.network, s)
			return t
		}
	}
	return false
}

func (w *World) explicit(network string, p netip.Prefix) bool {
	return slices.ContainsFunc(w.Networks[network].Table, func(r Route) bool { return r.To == p })
}

// byPeersHub follows the default that a network without attachments has: by the first peer that
// offers its hub and is attached.
func (w *World) byPeersHub(n *Network) (string, string) {
	var names []string
	for _, p := range n.Peers {
		if p.Offers && len(w.attached(p.Network)) > 0 {
			names = append(names, p.Network)
		}
	}
	if len(names) == 0 {
		return "", "no route"
	}
	return slices.Min(names), "hub"
}

// overPeer follows a route to a peer: to what lives there, or to its hub.
func (w *World) overPeer(src *place, peer string, to netip.Addr, dst *place) (string, string) {
	i := slices.IndexFunc(w.Networks[src.network].Peers, func(p Peer) bool { return p.Network == peer })
	if i < 0 {
		return "", "no peer"
	}
	if dst.segment != "" && dst.network == peer && dst.subnet != "" && !w.isTranslated(dst) && w.seenAs(dst.segment, dst.addr, src.segment) == dst.addr {
		if w.isTranslated(src) || w.seenAs(src.segment, src.addr, dst.segment) != src.addr {
			return "", "a peering does not translate"
		}
		return "", "peered"
	}
	if w.Networks[src.network].Peers[i].Offers && len(w.attached(peer)) > 0 {
		return peer, "hub"
	}
	return "", "the peer ends"
}

// at is an attachment at its hub.
type at struct {
	hub string
	*Attachment
}

// attached returns the attachments of a network that are up.
func (w *World) attached(network string) []at {
	var out []at
	for name, h := range w.Hubs {
		for i := range h.Attachments {
			if a := &h.Attachments[i]; a.Network == network && a.Up {
				out = append(out, at{name, a})
			}
		}
	}
	return out
}

func told(filter []netip.Prefix, a netip.Addr) bool {
	return filter == nil || slices.ContainsFunc(filter, func(p netip.Prefix) bool { return p.Contains(a) })
}

// way is a path over hubs.
type way struct {
	hubs    []string
	segment string // whose links it may use
	exit    string
	cost    int
	key     string
}

func (a *way) before(b *way) bool { return a.cost < b.cost || a.cost == b.cost && a.key < b.key }

// overHubs finds the path from a network's attachments to a destination.
func (t *trip) overHubs(enter string, src *place, to netip.Addr, dst *place) (*way, bool) {
	var best *way
	for _, a := range t.attached(enter) {
		if !t.carries(a.Attachment, src, enter) || !told(a.Announces, to) {
			continue
		}
		if w, ok := t.fromHub(a.hub, src.segment, dst); ok {
			w.cost += a.Cost
			if best == nil || w.before(best) {
				best = w
			}
		}
	}
	if best != nil && best.exit != "" {
		t.out = best.exit
	}
	return best, best != nil
}

// carries reports whether a packet may enter, or leave, at an attachment of a translated
// endpoint's network: one that translates it so.
func (w *World) carries(a *Attachment, p *place, network string) bool {
	if !w.isTranslated(p) {
		return true
	}
	return network == p.network && slices.ContainsFunc(a.Translate, func(t Translation) bool {
		return t.Segment == p.segment && t.Inside.Contains(p.inside) && moved(p.inside, t.Inside, t.Outside) == p.addr
	})
}

// fromHub finds the path from a hub to a destination, inside or out.
func (w *World) fromHub(hub, segment string, dst *place) (*way, bool) {
	if dst.segment == "" {
		return w.toExit(hub, segment)
	}
	reach := w.reach(hub, dst.segment)
	longest, best := -1, (*way)(nil)
	for name, h := range w.Hubs {
		r, ok := reach[name]
		if !ok {
			continue
		}
		for i := range h.Attachments {
			a := &h.Attachments[i]
			bits := w.brings(a, dst)
			if !a.Up || bits < 0 || !told(a.Accepts, dst.addr) || bits < longest {
				continue
			}
			x := &way{hubs: r.hubs, segment: dst.segment, cost: r.cost + a.Cost}
			x.key = hub + "\x00" + name + "\x00" + strings.Join(r.hubs, "\x00")
			if bits > longest || x.before(best) {
				longest, best = bits, x
			}
		}
	}
	return best, best != nil
}

// brings returns the length of the longest prefix by which an attachment leads to a
// destination; -1 for none. Those of the destination's own network lead to its subnets, and those of its peers to what
// they have by order.
func (w *World) brings(a *Attachment, dst *place) int {
	best := -1
	own := a.Network == dst.network
	if !own && !slices.ContainsFunc(w.Networks[dst.network].Peers, func(p Peer) bool { return p.Network == a.Network }) {
		return best
	}
	if w.isTranslated(dst) && (!own || !w.carries(a, dst, dst.network)) {
		return best
	}
	for _, r := range a.Routes {
		if r.Segment == dst.segment && r.Prefix.Contains(dst.addr) && r.Prefix.Bits() > best && (own || r.Static) {
			best = r.Prefix.Bits()
		}
	}
	return best
}

// toExit finds the exit with the least cost that serves a segment.
func (w *World) toExit(hub, segment string) (*way, bool) {
	var best *way
	for name, r := range w.reach(hub, segment) {
		for _, x := range w.Hubs[name].Exits {
			if !x.Up || !slices.Contains(x.Segments, segment) {
				continue
			}
			v := &way{hubs: r.hubs, segment: segment, exit: x.Name, cost: r.cost, key: x.Name + "\x00" + hub + "\x00" + strings.Join(r.hubs, "\x00")}
			if best == nil || v.before(best) {
				best = v
			}
		}
	}
	return best, best != nil
}

// reached is how a hub is reached from another.
type reached struct {
	hubs []string
	cost int
}

// reach returns all hubs that links which carry a segment join to one, each by the way of least
// cost, and of those the first by name, hub by hub.
func (w *World) reach(from, segment string) map[string]reached {
	done, open := map[string]reached{}, map[string]reached{from: {[]string{from}, 0}}
	for len(open) > 0 {
		next, least := "", reached{cost: math.MaxInt}
		for name, r := range open {
			if r.cost < least.cost || r.cost == least.cost && slices.Compare(r.hubs, least.hubs) < 0 {
				next, least = name, r
			}
		}
		delete(open, next)
		done[next] = least
		for _, l := range w.Hubs[next].Links {
			if _, known := done[l.To]; known || !l.Up || len(l.Segments) > 0 && !slices.Contains(l.Segments, segment) {
				continue
			}
			r := reached{append(slices.Clone(least.hubs), l.To), least.cost + l.Cost}
			was, known := open[l.To]
			if !known || r.cost < was.cost || r.cost == was.cost && slices.Compare(r.hubs, was.hubs) < 0 {
				open[l.To] = r
			}
		}
	}
	return done
}
