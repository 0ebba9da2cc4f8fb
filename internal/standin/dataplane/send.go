package dataplane

import (
	"cmp"
	"net/netip"
	"slices"
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
		t.noPath(enter)
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

func (t *trip) met(at, name string, rule int, said string) { t.metOn(at, name, "", rule, said) }

func (t *trip) metOn(at, name, on string, rule int, said string) {
	t.fate.Hops = append(t.fate.Hops, Hop{at, name, on, rule, said})
}

func (t *trip) stop(at, name string, rule int, said string) Fate {
	t.met(at, name, rule, said)
	return t.fate
}

func (t *trip) arrived(answered bool) Fate {
	t.fate.Delivered, t.fate.Answered = true, answered
	t.nobody()
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
