package dataplane

import (
	"cmp"
	"math"
	"net/netip"
	"slices"
	"strings"
)

// internet is the segment of packets from there.
const internet = "internet"

// place is where an address lives.
type place struct {
	segment, network, subnet string
	addr, inside             netip.Addr
}

// Send carries the first packet of a flow, and its reply.
func (w *World) Send(p Packet) Fate {
	t := &trip{World: w, Packet: p}
	if p.From == p.To || p.From.Is4() != p.To.Is4() {
		return t.stop("address", p.From.String(), 0, "no such packet")
	}
	if p.Segment == internet {
		return t.fromInternet()
	}
	src, ok := w.home(p.Segment, p.From)
	if !ok {
		return t.stop("address", p.From.String(), 0, "no endpoint has it")
	}
	t.src = src
	if t.dst, ok = w.find(p.Segment, p.To); !ok {
		return t.stop("address", p.To.String(), 0, "no endpoint has it")
	}
	t.seen, t.back = p.To, p.From
	if t.dst.segment != "" {
		t.back = w.seenAs(src.segment, p.From, t.dst.segment)
	}
	if t.local() {
		if !t.list(&t.src, t.seen, true) || !t.list(&t.dst, t.back, false) {
			return t.fate
		}
		return t.arrived(true)
	}
	enter, kind := t.route(&t.src, t.seen, &t.dst)
	t.met("route table", src.network, 0, kind)
	switch kind {
	case "bypass":
		if !t.list(&t.src, t.seen, true) {
			return t.fate
		}
		return t.arrived(true)
	case "peered":
		if !t.list(&t.src, t.seen, true) || !t.list(&t.dst, t.back, false) {
			return t.fate
		}
		return t.arrived(t.reply())
	case "hub":
	default:
		return t.fate
	}
	way, ok := t.overHubs(enter, &t.src, t.seen, &t.dst)
	if !ok {
		t.met("hubs", "", 0, "no path")
		return t.fate
	}
	if !t.list(&t.src, t.seen, true) || !t.match(way) {
		return t.fate
	}
	if t.dst.segment != "" && !t.list(&t.dst, t.back, false) {
		t.fate.Pools = nil
		return t.fate
	}
	if t.dst.segment == "" {
		return t.arrived(true)
	}
	return t.arrived(t.reply())
}

// trip is a packet on its way.
type trip struct {
	*World
	Packet
	src, dst   place
	seen, back netip.Addr // the destination as the source's segment sees it, and the other way round
	in, out    string     // the exits by which it comes from the internet, or goes there
	fate       Fate
}

func (t *trip) met(at, name string, rule int, said string) {
	t.fate.Hops = append(t.fate.Hops, Hop{at, name, rule, said})
}

func (t *trip) stop(at, name string, rule int, said string) Fate {
	t.met(at, name, rule, said)
	return t.fate
}

func (t *trip) arrived(answered bool) Fate {
	t.fate.Delivered, t.fate.Answered = true, answered
	return t.fate
}

// local reports whether both ends live at one network, in one segment: no router but its own
// sees the packet.
func (t *trip) local() bool {
	return t.dst.segment == t.src.segment && t.dst.network == t.src.network
}

// home finds who has an address in a segment: the longest subnet, and failing that the longest
// prefix that is routed to a network.
func (w *World) home(segment string, a netip.Addr) (place, bool) {
	best, found := place{}, -1
	for name, n := range w.Networks {
		for _, s := range n.Subnets {
			seen := w.shownAs(name, s)
			if s.Segment == segment && seen.Contains(a) && seen.Bits() > found {
				found, best = seen.Bits(), place{segment, name, s.Name, a, moved(a, seen, s.Prefix)}
			}
		}
	}
	if found >= 0 {
		return best, true
	}
	for name, n := range w.Networks {
		for _, h := range n.Held {
			if h.Segment == segment && h.Prefix.Contains(a) && (h.Prefix.Bits() > found || h.Prefix.Bits() == found && name < best.network) {
				found, best = h.Prefix.Bits(), place{segment, name, "", a, a}
			}
		}
	}
	return best, found >= 0
}

// translation returns that of a subnet, at whatever attachment it stands.
func (w *World) translation(network string, s Subnet) (Translation, bool) {
	for _, h := range w.Hubs {
		for _, a := range h.Attachments {
			if a.Network != network {
				continue
			}
			for _, t := range a.Translate {
				if t.Segment == s.Segment && within(s.Prefix, t.Inside) {
					return t, true
				}
			}
		}
	}
	return Translation{}, false
}

func within(p, q netip.Prefix) bool { return p.Bits() >= q.Bits() && q.Contains(p.Addr()) }

// shownAs returns the prefix by which its segment sees a subnet.
func (w *World) shownAs(network string, s Subnet) netip.Prefix {
	if t, ok := w.translation(network, s); ok {
		return netip.PrefixFrom(moved(s.Prefix.Addr(), t.Inside, t.Outside), s.Prefix.Bits())
	}
	return s.Prefix
}

// moved returns the address at the same place of another prefix.
func moved(a netip.Addr, from, to netip.Prefix) netip.Addr {
	x, y := a.AsSlice(), to.Masked().Addr().AsSlice()
	for i := range x {
		for bit := range 8 {
			if at := 8*i + bit; at >= from.Bits() {
				mask := byte(0x80) >> bit
				y[i] = y[i]&^mask | x[i]&mask
			}
		}
	}
	out, _ := netip.AddrFromSlice(y)
	return out
}

// find looks a destination up in a segment: at home, by imports, and in the internet.
func (w *World) find(segment string, a netip.Addr) (place, bool) {
	if p, ok := w.home(segment, a); ok {
		return p, true
	}
	best := Import{}
	if s := w.Segments[segment]; s != nil {
		for _, i := range s.Imports {
			if i.Seen.Contains(a) && (!best.Seen.IsValid() || i.Seen.Bits() > best.Seen.Bits()) {
				best = i
			}
		}
	}
	if best.Seen.IsValid() {
		if p, ok := w.home(best.Of, moved(a, best.Seen, best.Own)); ok {
			return p, true
		}
	}
	return place{addr: a, inside: a}, public(a)
}

// seenAs returns the address by which a segment sees one of another.
func (w *World) seenAs(segment string, a netip.Addr, by string) netip.Addr {
	s := w.Segments[by]
	if s == nil || by == segment {
		return a
	}
	best := Import{}
	for _, i := range s.Imports {
		if i.Of == segment && i.Own.Contains(a) && (!best.Own.IsValid() || i.Own.Bits() > best.Own.Bits()) {
			best = i
		}
	}
	if !best.Own.IsValid() {
		return a
	}
	return moved(a, best.Own, best.Seen)
}

// reserved are the addresses that nobody in the internet has.
var reserved = []string{"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.168.0.0/16", "224.0.0.0/3", "::/8", "fc00::/7", "fe80::/10", "ff00::/8"}

func public(a netip.Addr) bool {
	return !slices.ContainsFunc(reserved, func(p string) bool { return netip.MustParsePrefix(p).Contains(a) })
}

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

// fromInternet carries a packet that a publication lets in.
func (t *trip) fromInternet() Fate {
	if !public(t.From) {
		return t.stop("address", t.From.String(), 0, "not a public address")
	}
	type published struct {
		Publication
		hub string
	}
	var all []published
	for name, h := range t.Hubs {
		for _, p := range h.Publications {
			if i := slices.IndexFunc(h.Exits, func(x Exit) bool { return x.Name == p.Exit }); i >= 0 && h.Exits[i].Up && slices.Contains(h.Exits[i].Segments, p.Segment) {
				all = append(all, published{p, name})
			}
		}
	}
	slices.SortFunc(all, func(a, b published) int { return cmp.Compare(a.Name, b.Name) })
	for _, p := range all {
		if t.Publication != "" && t.Publication != p.Name || !p.Any && !t.in1(p.Services) || !inside(p.To, t.To) {
			continue
		}
		dst, ok := t.home(p.Segment, t.To)
		if !ok {
			continue
		}
		t.dst, t.seen, t.back, t.in = dst, t.To, t.From, p.Exit
		t.src = place{addr: t.From, inside: t.From}
		way, ok := t.fromHub(p.hub, p.Segment, &dst)
		if !ok {
			return t.stop("hubs", "", 0, "no path")
		}
		if !t.match(way) {
			return t.fate
		}
		if !t.list(&t.dst, t.back, false) {
			t.fate.Pools = nil
			return t.fate
		}
		return t.arrived(t.answersInternet())
	}
	return t.stop("publication", "", 0, "none")
}

// answersInternet reports whether the destination's network leads the source's address to a hub.
func (t *trip) answersInternet() bool {
	enter, kind := t.route(&t.dst, t.From, &place{addr: t.From, inside: t.From})
	return kind == "hub" && slices.ContainsFunc(t.attached(enter), func(a at) bool {
		return t.carries(a.Attachment, &t.dst, enter) && told(a.Announces, t.From)
	})
}

// reply sends the answer back: state lets it pass every list, but it needs a path.
func (t *trip) reply() bool {
	enter, kind := t.route(&t.dst, t.back, &t.src)
	switch kind {
	case "peered":
		return len(t.fate.Pools) == 0
	case "hub":
		_, ok := (&trip{World: t.World}).overHubs(enter, &t.dst, t.back, &t.src)
		return ok
	}
	return false
}
