package reader

import (
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Fate is what becomes of the first packet of a flow.
type Fate struct {
	Delivered bool
	Pools     []string // that it was taken through, in order
	Blocked   string   // the pool whose rulebook dropped it
	At        Place    // what stopped it, where anything did
}

// Same reports whether two packets fare alike: both arrive through the same pools, or neither
// does, stopped by the same pool or by none.
func (f *Fate) Same(o *Fate) bool {
	return f.Delivered == o.Delivered && f.Blocked == o.Blocked && (!f.Delivered || slices.Equal(f.Pools, o.Pools))
}

// Place is a list, and the rule of it, that decided.
type Place struct {
	Kind Stop   `json:"kind"`
	Name string `json:"name"` // of the segment, pool, network or workload
	On   string `json:"on"`   // the subnet, or the list of Cirra
	Rule int    `json:"rule"` // its place in the list, from 1; 0 where none matched
}

// Stop is the kind of what can stop a packet.
type Stop string

// What stops packets.
const (
	StopUnknown  Stop = "unknown"  // no such endpoint
	StopNoPath   Stop = "no-path"  //
	StopOutward  Stop = "outward"  // the list of the source
	StopHub      Stop = "hub"      // the match list
	StopFirewall Stop = "firewall" // no firewall of the pool works
	StopRulebook Stop = "rulebook"
	StopInward   Stop = "inward" // the list of the destination
)

// packet is one packet, with where it is from and to.
type packet struct {
	verdict.Service
	src, dst     endpoint
	seen         netip.Addr // the destination as the source's segment sees it
	seenBack     netip.Addr // the source as the destination's segment sees it
	fromInternet string     // the exit that it comes in by
	toInternet   string     // the exit that it goes out by
}

// endpoint is an end of a packet. Segment is paths.None in the internet.
type endpoint struct {
	addr    netip.Addr
	segment int
	home    paths.Home
}

// Carry returns what becomes of the first packet of a flow. Cost: two look-ups of prefixes, a
// path, and the rules of up to three lists and of the rulebooks that it is steered through.
func (r *Reader) Carry(f *verdict.Flow) Fate {
	if f.Source == f.Destination || f.Source.Is4() != f.Destination.Is4() {
		return Fate{At: Place{Kind: StopUnknown}}
	}
	if f.Segment == verdict.Internet {
		return r.carryIn(f)
	}
	p := packet{Service: f.Service, seen: f.Destination}
	segment := r.Net.Segment(f.Segment)
	if segment == paths.None {
		return Fate{At: Place{Kind: StopUnknown}}
	}
	home, ok := r.Net.Home(segment, f.Source)
	if !ok {
		return Fate{At: Place{Kind: StopUnknown}}
	}
	p.src = endpoint{f.Source, segment, home}
	target := paths.Target{Addr: f.Destination, Segment: segment}
	if p.dst, ok = r.find(segment, f.Destination); !ok {
		return Fate{At: Place{Kind: StopUnknown}}
	}
	if p.dst.segment == paths.None {
		target = paths.Target{Addr: f.Destination, External: true}
	} else {
		target.Segment, target.Home = p.dst.segment, p.dst.home
		p.seenBack = r.seenAs(segment, f.Source, p.dst.segment)
		if p.dst.addr != f.Destination {
			target.Own = p.dst.addr
		}
		target.SourceShown = p.seenBack != f.Source
	}
	path := r.Net.Forward(segment, home, target)
	if path.Kind == paths.NoPath {
		return Fate{At: Place{StopNoPath, path.Absence.String(), "", 0}}
	}
	if path.Exit != paths.None {
		p.toInternet = r.Net.Exits[path.Exit].Name
	}
	if at, passes := r.native(&p, &p.src, p.seen, true, p.dst.home.Network == home.Network); !passes {
		return Fate{At: at}
	}
	return r.carryOn(&p, &path)
}

// find looks a destination up in a segment: what is at home there, what it imports, and the
// internet.
func (r *Reader) find(segment int, a netip.Addr) (endpoint, bool) {
	if home, ok := r.Net.Home(segment, a); ok {
		return endpoint{a, segment, home}, true
	}
	if seen, i, ok := longest(&r.imports[segment], a); ok {
		own := rebase(a, seen, i.own)
		if home, ok := r.Net.Home(i.segment, own); ok {
			return endpoint{own, i.segment, home}, true
		}
	}
	return endpoint{a, paths.None, paths.Home{Network: paths.None, Subnet: paths.None}}, !paths.Private(a)
}

// carryIn carries a packet that comes from the internet, by a publication.
func (r *Reader) carryIn(f *verdict.Flow) Fate {
	if paths.Private(f.Source) {
		return Fate{At: Place{Kind: StopUnknown}}
	}
	for i := range r.published {
		p := &r.published[i]
		if f.Publication != "" && f.Publication != p.Name || p.segment == paths.None || p.exit == paths.None || !r.Net.Exits[p.exit].Up || !r.Net.Exits[p.exit].Serves(p.segment) {
			continue
		}
		home, ok := r.Net.Home(p.segment, f.Destination)
		if !ok || !inServices(p.Services, f.Service) || !slices.ContainsFunc(p.To, func(to netip.Prefix) bool { return to.Contains(f.Destination) }) {
			continue
		}
		k := packet{Service: f.Service, src: endpoint{f.Source, paths.None, paths.Home{Network: paths.None, Subnet: paths.None}}, dst: endpoint{f.Destination, p.segment, home}, seen: f.Destination, seenBack: f.Source, fromInternet: p.Exit}
		path := r.Net.FromExit(p.exit, paths.Target{Addr: f.Destination, Segment: p.segment, Home: home})
		if path.Kind == paths.NoPath {
			return Fate{At: Place{StopNoPath, path.Absence.String(), "", 0}}
		}
		return r.carryOn(&k, &path)
	}
	return Fate{At: Place{Kind: StopNoPath, Name: paths.NoPublication.String()}}
}

// carryOn carries a packet that its own side has let go.
func (r *Reader) carryOn(p *packet, path *paths.Path) Fate {
	var out Fate
	if path.Kind == paths.HubPath {
		if out = r.overHubs(p, path); out.At.Kind != "" {
			return out
		}
	}
	if p.dst.segment != paths.None {
		if at, passes := r.native(p, &p.dst, p.seenBack, false, p.src.home.Network == p.dst.home.Network); !passes {
			return Fate{At: at}
		}
	}
	out.Delivered = true
	return out
}

// overHubs asks the match list of the first hub, and the pools that it steers through.
func (r *Reader) overHubs(p *packet, path *paths.Path) (out Fate) {
	segment := p.src.segment
	if segment == paths.None {
		segment = p.dst.segment
	}
	list := r.segments[segment]
	if list == nil {
		return Fate{At: Place{StopHub, r.Net.Segments[segment], "", 0}}
	}
	for i := range list.Rules {
		m := &list.Rules[i]
		if !inServices(m.Services, p.Service) || !inEnds(m.From, p.src.addr, p.fromInternet) || !inEnds(m.To, p.seen, p.toInternet) {
			continue
		}
		at := Place{StopHub, list.Name, "", i + 1}
		switch m.Verb {
		case config.Deny:
			return Fate{At: at}
		case config.Permit:
			return Fate{}
		}
		return r.through(m.Through, p, path)
	}
	return Fate{At: Place{StopHub, list.Name, "", 0}}
}

func (r *Reader) through(steps []config.Step, p *packet, path *paths.Path) (out Fate) {
	for _, s := range steps {
		if !r.passable(s.Pool, path) {
			if s.OnFailure != "open" {
				return Fate{At: Place{StopFirewall, s.Pool, "", 0}}
			}
			continue
		}
		out.Pools = append(out.Pools, s.Pool)
		if rule, passes := r.bookPasses(r.pools[s.Pool], p); !passes {
			return Fate{Blocked: s.Pool, At: Place{StopRulebook, s.Pool, "", rule}}
		}
	}
	return out
}

// passable reports whether a firewall of a pool works that the path can be led to (M8.4).
func (r *Reader) passable(pool string, path *paths.Path) bool {
	hubs := r.firewalls[pool]
	if slices.ContainsFunc(path.Hubs, func(h int) bool { return slices.Contains(hubs, h) }) {
		return true
	}
	_, ok := r.Net.Nearest(path.Segment, path.Hubs[0], hubs)
	return ok
}

// bookPasses asks the rulebook of a pool.
func (r *Reader) bookPasses(pool *config.Pool, p *packet) (int, bool) {
	if pool == nil || pool.Rulebook == "" {
		return 0, true
	}
	for i := range pool.Rules {
		b := &pool.Rules[i]
		if inServices(b.Services, p.Service) && r.inSide(b.From, b.Any[0], &p.src, p.fromInternet) && r.inSide(b.To, b.Any[1], &p.dst, p.toInternet) {
			return i + 1, b.Verb == "pass"
		}
	}
	return 0, false
}

func (r *Reader) inSide(ends []config.End, anybody bool, e *endpoint, exit string) bool {
	return anybody || slices.ContainsFunc(ends, func(x config.End) bool {
		if e.segment == paths.None {
			return x.Segment == "" && x.Exit == exit && inSet(x.Set, e.addr)
		}
		return x.Segment == r.Net.Segments[e.segment] && inSet(x.Set, e.addr)
	})
}

func inEnds(ends []config.End, a netip.Addr, exit string) bool {
	return slices.ContainsFunc(ends, func(x config.End) bool { return x.Exit == exit && inSet(x.Set, a) })
}

func inSet(s *config.Set, a netip.Addr) bool {
	return s == nil || slices.ContainsFunc(s.Prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
}

func inSets(sets []*config.Set, a netip.Addr) bool {
	return sets == nil || slices.ContainsFunc(sets, func(s *config.Set) bool { return inSet(s, a) })
}

func inServices(boxes []space.Box, s verdict.Service) bool {
	return boxes == nil || slices.ContainsFunc(boxes, func(b space.Box) bool { return inBox(b, s) })
}

func inBox(b space.Box, s verdict.Service) bool {
	return b.FirstProtocol <= s.Protocol && s.Protocol <= b.LastProtocol && holdsPort(b.SourcePorts, s.SourcePort) && holdsPort(b.Ports, s.Port)
}

func holdsPort(r estate.Range, p uint16) bool { return r.Lo <= p && p <= r.Hi }

// native asks the lists that the provider has for an endpoint, of flows with another that it
// sees under an address.
func (r *Reader) native(p *packet, e *endpoint, other netip.Addr, out, near bool) (Place, bool) {
	n := r.networks[e.home.Network]
	inside := r.Net.Inside(e.home, e.addr)
	kind := StopInward
	if out {
		kind = StopOutward
	}
	switch {
	case n == nil:
		return Place{}, true
	case n.Provider == config.Cirra:
		return r.entries(n, kind, p.Service, inside, other, out)
	case n.Provider == config.Stratok:
		return ordered(n, n.whole, kind, p.Service, inside, other, out)
	case n.Provider == config.Velum || n.Provider == config.Premises:
		if near && p.src.segment == p.dst.segment && p.src.home.Subnet == p.dst.home.Subnet {
			return Place{}, true // it leaves no subnet
		}
		return ordered(n, n.subnets[r.subnetOf(e.home.Network, inside)], kind, p.Service, inside, other, out)
	}
	return Place{}, true
}

// subnetOf returns the subnet of a network that an inside address lies in, or config.Routed.
func (r *Reader) subnetOf(network int, inside netip.Addr) string {
	for _, i := range r.Net.Networks[network].Subnets {
		if s := &r.Net.Subnets[i]; s.Inside.Contains(inside) {
			return s.Name
		}
	}
	return config.Routed
}

// entries asks the lists that a workload of Cirra bears.
func (r *Reader) entries(n *network, kind Stop, s verdict.Service, inside, other netip.Addr, out bool) (Place, bool) {
	lists, bound := n.bearers[inside]
	if !bound {
		lists = n.standard
	}
	for _, l := range lists {
		for i := range l.Entries {
			x := &l.Entries[i]
			if x.Out == out && inBox(x.Service, s) && (x.Peers == "" && x.Peer.Contains(other) || x.Peers != "" && slices.Contains(n.bearing[x.Peers], other)) {
				return Place{kind, n.Name, l.Name, i + 1}, true
			}
		}
	}
	return Place{kind, n.Name, "", 0}, false
}

// ordered asks an ordered list: a subnet or network without one lets everything pass that its
// provider does not deny by itself.
func ordered(n *network, l *config.List, kind Stop, s verdict.Service, inside, other netip.Addr, out bool) (Place, bool) {
	if l == nil {
		return Place{kind, n.Name, "", 0}, out && n.Provider != config.Premises
	}
	for i := range l.Rules {
		x := &l.Rules[i]
		if x.Out == out && inServices(x.Services, s) && inSets(x.Own, inside) && inSets(x.Peer, other) {
			return Place{kind, n.Name, l.On, i + 1}, x.Allow
		}
	}
	return Place{kind, n.Name, l.On, 0}, out && n.Provider != config.Premises
}
