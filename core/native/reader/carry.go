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

// packets are first packets of one flow each, between the same two ends, with where they are from
// and to.
type packets struct {
	services     []verdict.Service
	fates        []Fate // by service
	going        []int  // the services whose packets nothing has stopped yet
	src, dst     endpoint
	seen         netip.Addr // the destination as the source's segment sees it
	seenBack     netip.Addr // the source as the destination's segment sees it
	fromInternet string     // the exit that they come in by
	toInternet   string     // the exit that they go out by
}

// ask stops those packets that do not pass, and notes what they meet. The question is asked once for
// each service.
func (p *packets) ask(passes func(verdict.Service, *Fate) bool) {
	left := p.going[:0]
	for _, i := range p.going {
		if passes(p.services[i], &p.fates[i]) {
			left = append(left, i)
		}
	}
	p.going = left
}

// stop stops all packets at a place.
func (p *packets) stop(at Place) {
	for _, i := range p.going {
		p.fates[i].At = at
	}
	p.going = nil
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
	return r.CarryAll(f, []verdict.Service{f.Service})[0]
}

// CarryAll returns what becomes of the first packets of flows that differ in their services alone, by
// service; that of the flow itself is not looked at. Cost: as of one packet, and for each service the
// rules that hold both ends.
func (r *Reader) CarryAll(f *verdict.Flow, services []verdict.Service) []Fate {
	p := &packets{services: services, fates: make([]Fate, len(services)), going: make([]int, len(services))}
	for i := range p.going {
		p.going[i] = i
	}
	switch {
	case f.Source == f.Destination || f.Source.Is4() != f.Destination.Is4():
		p.stop(Place{Kind: StopUnknown})
	case f.Segment == verdict.Internet:
		r.carryIn(p, f)
	default:
		r.carry(p, f)
	}
	return p.fates
}

// carry carries packets that come from a segment.
func (r *Reader) carry(p *packets, f *verdict.Flow) {
	p.seen = f.Destination
	segment := r.Net.Segment(f.Segment)
	if segment == paths.None {
		p.stop(Place{Kind: StopUnknown})
		return
	}
	home, ok := r.Net.Home(segment, f.Source)
	if !ok {
		p.stop(Place{Kind: StopUnknown})
		return
	}
	p.src = endpoint{f.Source, segment, home}
	target := paths.Target{Addr: f.Destination, Segment: segment}
	if p.dst, ok = r.find(segment, f.Destination); !ok {
		p.stop(Place{Kind: StopUnknown})
		return
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
		p.stop(Place{StopNoPath, path.Absence.String(), "", 0})
		return
	}
	if path.Exit != paths.None {
		p.toInternet = r.Net.Exits[path.Exit].Name
	}
	r.native(p, &p.src, p.seen, true, p.dst.home.Network == home.Network)
	r.carryOn(p, &path)
}

// find looks a destination up in a segment: what is at home there, what it imports, and the
// internet.
func (r *Reader) find(segment int, a netip.Addr) (endpoint, bool) {
	if home, ok := r.Net.Home(segment, a); ok {
		return endpoint{a, segment, home}, true
	}
	if seen, i, ok := longest(&r.imports[segment], a); ok {
		own := Rebase(a, seen, i.own)
		if home, ok := r.Net.Home(i.segment, own); ok {
			return endpoint{own, i.segment, home}, true
		}
	}
	return endpoint{a, paths.None, paths.Home{Network: paths.None, Subnet: paths.None}}, !paths.Private(a)
}

// carryIn carries packets that come from the internet, each by the first publication that takes its
// service.
func (r *Reader) carryIn(p *packets, f *verdict.Flow) {
	if paths.Private(f.Source) {
		p.stop(Place{Kind: StopUnknown})
		return
	}
	outside := endpoint{f.Source, paths.None, paths.Home{Network: paths.None, Subnet: paths.None}}
	waiting := p.going
	for i := range r.Publications {
		x := &r.Publications[i]
		if len(waiting) == 0 {
			break
		}
		if f.Publication != "" && f.Publication != x.Name || x.Of == paths.None || x.By == paths.None || !r.Net.Exits[x.By].Up || !r.Net.Exits[x.By].Serves(x.Of) {
			continue
		}
		home, ok := r.Net.Home(x.Of, f.Destination)
		if !ok || !slices.ContainsFunc(x.To, func(to netip.Prefix) bool { return to.Contains(f.Destination) }) {
			continue
		}
		var others []int
		p.going = nil
		for _, i := range waiting {
			if InServices(x.Services, p.services[i]) {
				p.going = append(p.going, i)
			} else {
				others = append(others, i)
			}
		}
		waiting = others
		p.src, p.dst = outside, endpoint{f.Destination, x.Of, home}
		p.seen, p.seenBack, p.fromInternet = f.Destination, f.Source, x.Exit
		path := r.Net.FromExit(x.By, paths.Target{Addr: f.Destination, Segment: x.Of, Home: home})
		if path.Kind == paths.NoPath {
			p.stop(Place{StopNoPath, path.Absence.String(), "", 0})
			continue
		}
		r.carryOn(p, &path)
	}
	p.going = waiting
	p.stop(Place{Kind: StopNoPath, Name: paths.NoPublication.String()})
}

// carryOn carries packets that their own side has let go.
func (r *Reader) carryOn(p *packets, path *paths.Path) {
	if path.Kind == paths.HubPath {
		r.overHubs(p, path)
	}
	if p.dst.segment != paths.None {
		r.native(p, &p.dst, p.seenBack, false, p.src.home.Network == p.dst.home.Network)
	}
	for _, i := range p.going {
		p.fates[i].Delivered = true
	}
	p.going = nil
}

// overHubs asks the match list of the first hub, and the pools that it steers through.
func (r *Reader) overHubs(p *packets, path *paths.Path) {
	if len(p.going) == 0 {
		return
	}
	segment := p.src.segment
	if segment == paths.None {
		segment = p.dst.segment
	}
	list := r.segments[segment]
	if list == nil {
		p.stop(Place{StopHub, r.Net.Segments[segment], "", 0})
		return
	}
	rules := list.holding(p.src.addr, p.seen, p.fromInternet, p.toInternet)
	books := map[string][]int{}
	p.ask(func(s verdict.Service, f *Fate) bool {
		for _, i := range rules {
			m := &list.Rules[i]
			if !InServices(m.Services, s) {
				continue
			}
			switch m.Verb {
			case config.Permit:
				return true
			case config.Steer:
				return r.through(m.Through, p, s, path, books, f)
			}
			f.At = Place{StopHub, list.Name, "", i + 1}
			return false
		}
		f.At = Place{StopHub, list.Name, "", 0}
		return false
	})
}

// through leads a packet through pools. The rules of rulebooks that hold both its ends are found once.
func (r *Reader) through(steps []config.Step, p *packets, service verdict.Service, path *paths.Path, books map[string][]int, f *Fate) bool {
	for _, s := range steps {
		if !r.passable(s.Pool, path) {
			if s.OnFailure != "open" {
				*f = Fate{At: Place{StopFirewall, s.Pool, "", 0}}
				return false
			}
			continue
		}
		f.Pools = append(f.Pools, s.Pool)
		pool := r.pools[s.Pool]
		if pool == nil || pool.Rulebook == "" {
			continue
		}
		rules, known := books[s.Pool]
		if !known {
			rules = r.inBook(pool, p)
			books[s.Pool] = rules
		}
		i := slices.IndexFunc(rules, func(i int) bool { return InServices(pool.Rules[i].Services, service) })
		if i < 0 || pool.Rules[rules[i]].Verb != "pass" {
			rule := 0
			if i >= 0 {
				rule = rules[i] + 1
			}
			*f = Fate{Blocked: s.Pool, At: Place{StopRulebook, s.Pool, "", rule}}
			return false
		}
	}
	return true
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

// inBook returns the rules of a rulebook that hold both ends.
func (r *Reader) inBook(pool *config.Pool, p *packets) []int {
	var out []int
	for i := range pool.Rules {
		if b := &pool.Rules[i]; r.inSide(b.From, b.Any[0], &p.src, p.fromInternet) && r.inSide(b.To, b.Any[1], &p.dst, p.toInternet) {
			out = append(out, i)
		}
	}
	return out
}

func (r *Reader) inSide(ends []config.End, anybody bool, e *endpoint, exit string) bool {
	if anybody {
		return true
	}
	segment := ""
	if e.segment != paths.None {
		segment, exit = r.Net.Segments[e.segment], ""
	}
	for i := range ends {
		if x := &ends[i]; x.Segment == segment && x.Exit == exit && r.inSet(x.Set, e.addr) {
			return true
		}
	}
	return false
}

// InSets reports whether one of some sets has an address; nil has every address.
func (r *Reader) InSets(sets []*config.Set, a netip.Addr) bool {
	return sets == nil || slices.ContainsFunc(sets, func(s *config.Set) bool { return r.inSet(s, a) })
}

// inSet reports whether a set has an address. Large ones are sorted once, and then halved.
func (r *Reader) inSet(s *config.Set, a netip.Addr) bool {
	const large = 16
	if s == nil || len(s.Prefixes) < large {
		return InSet(s, a)
	}
	known, ok := r.sorted.Load(s)
	if !ok {
		known = config.Disjoint(s.Prefixes)
		r.sorted.Store(s, known)
	}
	p := known.([]netip.Prefix)
	i, exact := slices.BinarySearchFunc(p, a, func(x netip.Prefix, a netip.Addr) int { return x.Addr().Compare(a) })
	return exact || i > 0 && p[i-1].Contains(a)
}

// InSet reports whether a set has an address; nil has every address.
func InSet(s *config.Set, a netip.Addr) bool {
	return s == nil || slices.ContainsFunc(s.Prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
}

// InServices reports whether a service is one of some; nil is all.
func InServices(boxes []space.Box, s verdict.Service) bool {
	return boxes == nil || slices.ContainsFunc(boxes, func(b space.Box) bool { return InBox(b, s) })
}

// InBox reports whether a service is in a box of them.
func InBox(b space.Box, s verdict.Service) bool {
	return b.FirstProtocol <= s.Protocol && s.Protocol <= b.LastProtocol && holdsPort(b.SourcePorts, s.SourcePort) && holdsPort(b.Ports, s.Port)
}

func holdsPort(r estate.Range, p uint16) bool { return r.Lo <= p && p <= r.Hi }

// native asks the lists that the provider has for an endpoint, of flows with another that it
// sees under an address.
func (r *Reader) native(p *packets, e *endpoint, other netip.Addr, out, near bool) {
	n := r.Networks[e.home.Network]
	if n == nil || len(p.going) == 0 {
		return
	}
	inside := r.Net.Inside(e.home, e.addr)
	switch n.Provider {
	case config.Cirra:
		r.entries(p, n, inside, other, out)
	case config.Stratok:
		r.ordered(p, n, n.Whole, inside, other, out)
	case config.Velum, config.Premises:
		if near && p.src.segment == p.dst.segment && p.src.home.Subnet == p.dst.home.Subnet {
			return // it leaves no subnet
		}
		r.ordered(p, n, n.Subnets[r.SubnetOf(e.home.Network, inside)], inside, other, out)
	}
}

func stopOf(out bool) Stop {
	if out {
		return StopOutward
	}
	return StopInward
}

// SubnetOf returns the subnet of a network that an inside address lies in, or config.Routed.
func (r *Reader) SubnetOf(network int, inside netip.Addr) string {
	for _, i := range r.Net.Networks[network].Subnets {
		if s := &r.Net.Subnets[i]; s.Inside.Contains(inside) {
			return s.Name
		}
	}
	return config.Routed
}

// entries asks the lists that a workload of Cirra bears.
func (r *Reader) entries(p *packets, n *Network, inside, other netip.Addr, out bool) {
	lists, bound := n.Bearers[inside]
	if !bound {
		lists = n.Standard
	}
	var entries []*config.Entry // that hold the other end
	for _, l := range lists {
		for i := range l.Entries {
			x := &l.Entries[i]
			if x.Out == out && (x.Peers == "" && x.Peer.Contains(other) || x.Peers != "" && slices.Contains(n.Bearing[x.Peers], other)) {
				entries = append(entries, x)
			}
		}
	}
	p.ask(func(s verdict.Service, f *Fate) bool {
		if slices.ContainsFunc(entries, func(x *config.Entry) bool { return InBox(x.Service, s) }) {
			return true
		}
		*f = Fate{At: Place{stopOf(out), n.Name, "", 0}}
		return false
	})
}

// ordered asks an ordered list: a subnet or network without one lets everything pass that its
// provider does not deny by itself.
func (r *Reader) ordered(p *packets, n *Network, l *config.List, inside, other netip.Addr, out bool) {
	on, rules := "", []int(nil) // that hold both ends
	if l != nil {
		on = l.On
		for i := range l.Rules {
			if x := &l.Rules[i]; x.Out == out && r.InSets(x.Own, inside) && r.InSets(x.Peer, other) {
				rules = append(rules, i)
			}
		}
	}
	p.ask(func(s verdict.Service, f *Fate) bool {
		for _, i := range rules {
			if x := &l.Rules[i]; InServices(x.Services, s) {
				if !x.Allow {
					*f = Fate{At: Place{stopOf(out), n.Name, on, i + 1}}
				}
				return x.Allow
			}
		}
		if out && n.Provider != config.Premises {
			return true
		}
		*f = Fate{At: Place{stopOf(out), n.Name, on, 0}}
		return false
	})
}
