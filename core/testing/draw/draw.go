// Package draw draws random estates that use every clause of the model, and
// flows that hit them where it matters: first and last addresses of prefixes,
// and their neighbours, workloads, and the ports at the bounds of services.
package draw

import (
	"fmt"
	"net/netip"
	"slices"

	"pgregory.net/rapid"

	"bivium/core/estate"
)

type drawer struct {
	t        *rapid.T
	e        *estate.Estate
	hubs     []string
	segments []string
	networks []string
	prefixes []netip.Prefix
	next     int
}

func (d *drawer) chance(percent int) bool { return rapid.IntRange(0, 99).Draw(d.t, "chance") < percent }

func (d *drawer) number(lo, hi int) int { return rapid.IntRange(lo, hi).Draw(d.t, "number") }

func pick[T any](d *drawer, from ...T) T { return from[d.number(0, len(from)-1)] }

func some[T any](d *drawer, most int, from ...T) []T {
	var out []T
	for range d.number(1, most) {
		out = append(out, pick(d, from...))
	}
	return out
}

func unique(in []string) []string {
	slices.Sort(in)
	return slices.Compact(in)
}

// Estate draws an estate. It may have faults; callers that need none ask
// estate.Check and survey.ShareFaults, and draw again.
func Estate(t *rapid.T) *estate.Estate {
	d := &drawer{t: t, e: &estate.Estate{Version: 1, Name: "drawn"}}
	d.world()
	d.place()
	d.name()
	d.rule()
	estate.NameConnections(d.e)
	return d.e
}

func (d *drawer) world() {
	e := d.e
	e.Accounts = []estate.Account{{Name: "own", Provider: "premises"}, {Name: "c", Provider: "cirra"}, {Name: "k", Provider: "stratok"}, {Name: "v", Provider: "velum"}}
	e.Accounts[d.number(0, 3)].Observed = d.chance(12)
	for i := range d.number(1, 4) {
		d.hubs = append(d.hubs, fmt.Sprintf("h%d", i))
		e.Hubs = append(e.Hubs, estate.Hub{Name: d.hubs[i], Account: "own"})
	}
	for i := range d.number(1, 3) {
		d.segments = append(d.segments, fmt.Sprintf("s%d", i))
		e.Segments = append(e.Segments, estate.Segment{Name: d.segments[i], Default: pick(d, estate.Allow, estate.Deny, estate.Deny), Approval: pick(d, estate.ApproveNone, estate.ApproveOpened)})
	}
	for i, a := range d.hubs {
		for _, b := range d.hubs[i+1:] {
			if d.chance(75) {
				l := estate.Link{Between: pick(d, [2]string{a, b}, [2]string{b, a}), Cost: pick(d, 5, 10, 10, 20), State: pick(d, "up", "up", "up", "up", "down")}
				if d.chance(20) {
					l.Segments = some(d, 2, d.segments...)
				}
				e.Links = append(e.Links, l)
			}
		}
	}
	for i := range d.number(0, 3) {
		e.Exits = append(e.Exits, estate.Exit{Name: fmt.Sprintf("x%d", i), Hub: pick(d, d.hubs...), Segments: unique(some(d, 3, d.segments...)), State: pick(d, "up", "up", "up", "down")})
	}
}

// fresh returns a prefix that was not drawn before, or now and then one that
// was: another segment may use the same addresses.
func (d *drawer) fresh() netip.Prefix {
	if len(d.prefixes) > 0 && d.chance(12) {
		return pick(d, d.prefixes...)
	}
	d.next++
	text := fmt.Sprintf("10.%d.%d.0/%d", d.next%5, d.next, pick(d, 24, 28, 30))
	switch d.number(0, 11) {
	case 0, 1:
		text = fmt.Sprintf("fd00:0:0:%x::/64", d.next)
	case 2:
		text = fmt.Sprintf("192.0.2.%d/28", 16*(d.next%15))
	}
	p := netip.MustParsePrefix(text)
	d.prefixes = append(d.prefixes, p)
	return p
}

func (d *drawer) place() {
	e := d.e
	for i := range d.number(2, 6) {
		n := estate.Network{Name: fmt.Sprintf("n%d", i), Kind: pick(d, "cloud", "site", "remote", "partner"), Account: "own", Labels: map[string]string{"tier": pick(d, "core", "edge")}}
		n.Account = pick(d, "own", "c", "c", "k", "k", "v")
		n.Enforcement = d.fits(&n)
		if d.chance(80) {
			n.Segment = pick(d, d.segments...)
		}
		for k := range d.number(1, 3) {
			s := estate.Subnet{Name: fmt.Sprintf("u%d", k), Prefix: d.fresh()}
			if d.chance(30) {
				s.Segment = pick(d, d.segments...)
			}
			n.Subnets = append(n.Subnets, s)
		}
		d.networks = append(d.networks, n.Name)
		e.Networks = append(e.Networks, n)
	}
	for i, a := range d.networks {
		for _, b := range d.networks[i+1:] {
			if d.chance(35) {
				e.Peerings = append(e.Peerings, estate.Peering{Between: [2]string{a, b}, OffersHub: pick(d, "", a, b)})
			}
		}
	}
	for _, n := range d.networks {
		for range pick(d, 0, 1, 1, 1, 2) {
			d.attach(n)
		}
	}
	for i := range e.Networks {
		d.routes(&e.Networks[i])
	}
	for i := range e.Attachments {
		d.translate(&e.Attachments[i])
	}
	for i := range d.number(3, 14) {
		d.workload(i)
	}
}

// fits returns an enforcement that the provider of a network has: lists of subnets see no flows
// inside one.
func (d *drawer) fits(n *estate.Network) string {
	switch {
	case n.Account == "c" || n.Account == "k":
		return pick(d, "", "native", "native", "subnets", "none")
	case n.Kind != "cloud":
		return pick(d, "", "subnets", "subnets", "none")
	}
	return pick(d, "subnets", "subnets", "none")
}

func (d *drawer) attach(network string) {
	a := estate.Attachment{Network: network, Hub: pick(d, d.hubs...), Cost: pick(d, 0, 1, 1, 10), State: pick(d, "up", "up", "up", "up", "down")}
	for range pick(d, 0, 0, 1, 2) {
		s := estate.Static{Prefix: d.fresh(), Segment: pick(d, d.segments...)}
		switch {
		case d.chance(15):
			s.Prefix = d.resized(pick(d, d.prefixes...)) // often a fault
		case d.chance(50):
			s = d.over(network)
		}
		a.Static = append(a.Static, s)
	}
	for range pick(d, 0, 0, 1) {
		a.Learned = append(a.Learned, estate.Learned{Prefix: d.fresh(), Segment: pick(d, d.segments...), Status: pick(d, "accepted", "accepted", "waiting", "refused", "withdrawn")})
	}
	d.e.Attachments = append(d.e.Attachments, a)
}

// over returns a static prefix over a subnet of a network or of one of its peers, in its
// segment.
func (d *drawer) over(network string) estate.Static {
	near := []string{network}
	for _, p := range d.e.Peerings {
		if p.Between[0] == network {
			near = append(near, p.Between[1])
		} else if p.Between[1] == network {
			near = append(near, p.Between[0])
		}
	}
	name := pick(d, near...)
	at := slices.IndexFunc(d.e.Networks, func(n estate.Network) bool { return n.Name == name })
	n := &d.e.Networks[at]
	s := pick(d, n.Subnets...)
	out := estate.Static{Prefix: d.resized(s.Prefix), Segment: n.SegmentOf(&s)}
	if out.Segment == "" {
		out.Segment = pick(d, d.segments...)
	}
	return out
}

// resized returns a prefix, or one that is longer or shorter: of several that lead to an
// address, the longest decides.
func (d *drawer) resized(p netip.Prefix) netip.Prefix {
	bits := p.Bits() + pick(d, 0, 0, 1, 2, -1, -2)
	return netip.PrefixFrom(p.Addr(), min(bits, p.Addr().BitLen())).Masked()
}

// show lets a share show a subnet, or a part of one, under other addresses: fresh
// ones, or those of another subnet.
func (d *drawer) show(s *estate.Share) {
	segment := pick(d, s.Owner.Segment, s.Guest.Segment)
	var there []netip.Prefix
	for i := range d.e.Networks {
		for k := range d.e.Networks[i].Subnets {
			if x := &d.e.Networks[i].Subnets[k]; d.e.Networks[i].SegmentOf(x) == segment {
				there = append(there, x.Prefix)
			}
		}
	}
	if len(there) == 0 {
		return
	}
	for range d.number(1, 2) {
		inside := pick(d, there...)
		if d.chance(30) {
			inside = netip.PrefixFrom(inside.Addr(), min(inside.Bits()+1, inside.Addr().BitLen()))
		}
		outside := d.fresh()
		if d.chance(15) {
			outside = pick(d, d.prefixes...)
		}
		if outside.Addr().Is4() != inside.Addr().Is4() {
			continue
		}
		outside = netip.PrefixFrom(outside.Addr(), inside.Bits()).Masked()
		s.Show = append(s.Show, estate.Translation{Inside: inside, Outside: outside, Segment: segment})
	}
}

// translate lets an attachment show a subnet of its network under other addresses:
// fresh ones, those of another, or, at a second attachment, the same as at the first.
func (d *drawer) translate(a *estate.Attachment) {
	if d.chance(15) {
		a.Accepts = some(d, 3, append(slices.Clone(d.prefixes), netip.MustParsePrefix("10.0.0.0/9"))...)
	}
	if d.chance(15) {
		a.Announces = some(d, 3, append(slices.Clone(d.prefixes), netip.MustParsePrefix("198.51.100.0/25"), netip.MustParsePrefix("10.0.0.0/9"))...)
	}
	if d.chance(4) {
		a.Accepts = []netip.Prefix{} // nothing
	}
	if d.chance(4) {
		a.Announces = []netip.Prefix{}
	}
	if !d.chance(25) {
		return
	}
	for i := range d.e.Attachments {
		if o := &d.e.Attachments[i]; o.Network == a.Network && len(o.Translate) > 0 && d.chance(60) {
			a.Translate = o.Translate
			return
		}
	}
	for i := range d.e.Networks {
		n := &d.e.Networks[i]
		if n.Name != a.Network {
			continue
		}
		s := pick(d, n.Subnets...)
		t := estate.Translation{Inside: s.Prefix, Segment: n.SegmentOf(&s)}
		d.next++
		base := netip.MustParseAddr(fmt.Sprintf("100.%d.%d.0", 64+d.next%3, d.next))
		if s.Prefix.Addr().Is6() {
			base = netip.MustParseAddr(fmt.Sprintf("fd99:0:0:%x::", d.next))
		} else if d.chance(20) {
			base = netip.MustParseAddr(fmt.Sprintf("203.0.%d.0", d.next))
		}
		t.Outside = netip.PrefixFrom(base, s.Prefix.Bits())
		if other := pick(d, d.prefixes...); d.chance(25) && other.Bits() == s.Prefix.Bits() && other.Addr().Is4() == s.Prefix.Addr().Is4() {
			t.Outside = other
		}
		if wider := t.Inside.Bits() - 2; d.chance(30) && t.Inside.Addr().Is4() {
			t.Inside, t.Outside = netip.PrefixFrom(t.Inside.Addr(), wider).Masked(), netip.PrefixFrom(t.Outside.Addr(), wider).Masked()
		}
		if t.Segment != "" {
			d.prefixes = append(d.prefixes, t.Outside)
			a.Translate = append(a.Translate, t)
		}
	}
}

func (d *drawer) routes(n *estate.Network) {
	vias := []estate.Via{"hub", "hub", "none", "internet"}
	for _, p := range d.e.Peerings {
		if p.Between[0] == n.Name {
			vias = append(vias, estate.Via("peer:"+p.Between[1]))
		} else if p.Between[1] == n.Name {
			vias = append(vias, estate.Via("peer:"+p.Between[0]))
		}
	}
	// Past a peering by the hub, so that the reply comes back another way.
	for _, p := range d.e.Peerings {
		if p.Between[0] == n.Name && d.chance(40) {
			for i := range d.e.Networks {
				if peer := &d.e.Networks[i]; peer.Name == p.Between[1] {
					n.Routes = append(n.Routes, estate.Route{To: peer.Subnets[0].Prefix, Via: "hub"})
				}
			}
			break
		}
	}
	for range pick(d, 0, 0, 1, 2) {
		to := pick(d, d.prefixes...)
		if d.chance(30) {
			to = netip.MustParsePrefix(pick(d, "0.0.0.0/0", "::/0", "198.51.100.0/25", "10.0.0.0/9"))
		}
		if !slices.ContainsFunc(n.Routes, func(r estate.Route) bool { return r.To == to }) {
			n.Routes = append(n.Routes, estate.Route{To: to, Via: pick(d, vias...)})
		}
	}
}

func (d *drawer) workload(i int) {
	n := &d.e.Networks[d.number(0, len(d.e.Networks)-1)]
	s := pick(d, n.Subnets...)
	a := s.Prefix.Addr()
	for range d.number(0, 2) {
		a = a.Next()
	}
	for _, w := range d.e.Workloads {
		if w.Network == n.Name && slices.Contains(w.Addresses, a) {
			return
		}
	}
	d.e.Workloads = append(d.e.Workloads, estate.Workload{Name: fmt.Sprintf("w%d", i), Network: n.Name, Addresses: []netip.Addr{a}, Labels: map[string]string{"env": pick(d, "prod", "dev"), "app": pick(d, "web", "db")}})
}

// terms are what services are made of.
func terms() []estate.Term {
	var out []estate.Term
	for _, s := range []string{"tcp/443", "tcp/80-90", "tcp", "udp/53", "udp", "icmp", "icmp/8", "icmpv6/128", "proto/47", "any"} {
		t, err := estate.ParseTerm(s)
		if err != nil {
			panic(err)
		}
		out = append(out, t)
	}
	for _, bounded := range [][3]string{{"tcp", "22", "1024-65535"}, {"udp", "53", "0-1023"}} {
		t, err := estate.ParseTermObject(bounded[0], bounded[1], bounded[2])
		if err != nil {
			panic(err)
		}
		out = append(out, t)
	}
	return out
}

func (d *drawer) services() []estate.ServiceRef {
	var out []estate.ServiceRef
	for range d.number(1, 2) {
		r := estate.ServiceRef{Term: pick(d, terms()...)}
		if d.chance(25) {
			r = estate.ServiceRef{Name: "mixed"}
		}
		out = append(out, r)
	}
	return out
}

func (d *drawer) name() {
	e := d.e
	e.Mappings = []estate.Mapping{{Name: "tags", Rules: []estate.MappingRule{{Key: "env|stage", Label: "env"}, {Account: e.Accounts[3].Name, Key: "*", Label: "tag"}}}}
	e.Services = []estate.Service{{Name: "mixed", Terms: some(d, 3, terms()...)}}
	count := d.number(3, 9)
	for i := range count {
		g := estate.Group{Name: fmt.Sprintf("g%d", i)}
		if i > 0 && d.chance(45) {
			g.Within = fmt.Sprintf("g%d", d.number(0, i-1))
		}
		for range d.number(1, 2) {
			d.select1(&g)
		}
		e.Groups = append(e.Groups, g)
	}
	if len(e.Exits) > 0 { // so that the internet is spoken of in most estates
		e.Groups = append(e.Groups, estate.Group{Name: "out", Exits: []string{e.Exits[0].Name}, Prefixes: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}})
	}
	for i := range d.number(0, 2) {
		b := estate.Rulebook{Name: fmt.Sprintf("b%d", i)}
		for range d.number(1, 3) {
			b.Rules = append(b.Rules, estate.BookRule{From: d.side(60), To: d.side(60), Services: d.services(), Action: pick(d, "pass", "pass", "drop", "reject")})
		}
		e.Rulebooks = append(e.Rulebooks, b)
	}
	for i := range d.number(1, 3) {
		p := estate.Pool{Name: fmt.Sprintf("p%d", i), OnFailure: pick(d, "closed", "open")}
		if len(e.Rulebooks) > 0 && d.chance(60) {
			p.Rulebook = pick(d, e.Rulebooks...).Name
		}
		for k := range d.number(0, 3) {
			p.Firewalls = append(p.Firewalls, estate.Firewall{Name: fmt.Sprintf("p%d-f%d", i, k), Hub: pick(d, d.hubs...), State: pick(d, "healthy", "healthy", "failed", "draining")})
		}
		e.Pools = append(e.Pools, p)
	}
}

func (d *drawer) select1(g *estate.Group) {
	switch d.number(0, 6) {
	case 0:
		g.Match = pick(d, "env=prod", "app in (web)", "!env", "env!=prod,app")
	case 1:
		g.Networks = unique(some(d, 2, d.networks...))
	case 2:
		g.NetworkMatch = pick(d, "tier=core", "tier notin (core)")
	case 3:
		n := &d.e.Networks[d.number(0, len(d.e.Networks)-1)]
		g.Subnets = append(g.Subnets, estate.SubnetRef{Network: n.Name, Subnet: pick(d, n.Subnets...).Name})
	case 4:
		g.Prefixes = append(g.Prefixes, netip.MustParsePrefix(pick(d, "10.0.0.0/8", "10.0.0.0/9", "0.0.0.0/0", "fd00::/8", "::/0", "198.51.100.0/25", "192.0.2.0/24")))
	case 5:
		g.Prefixes = append(g.Prefixes, pick(d, d.prefixes...))
	case 6:
		if len(d.e.Exits) > 0 {
			g.Exits = append(g.Exits, pick(d, d.e.Exits...).Name)
			return
		}
		g.Networks = unique(some(d, 2, d.networks...))
	}
}

func (d *drawer) side(any int) estate.Side {
	if d.chance(any) {
		return estate.Side{Any: true}
	}
	var names []string
	for range d.number(1, 2) {
		names = append(names, pick(d, d.e.Groups...).Name)
	}
	return estate.Side{Groups: unique(names)}
}

func (d *drawer) rules(actions ...estate.Action) []estate.Rule {
	var out []estate.Rule
	for range d.number(1, 3) {
		r := estate.Rule{Services: d.services(), Action: pick(d, actions...)}
		if r.Action == estate.Inspect {
			r.Pool = pick(d, d.e.Pools...).Name
		}
		if d.chance(10) {
			r.Until, r.Review = pick(d, "", "2026-06-30", "2026-07-07"), pick(d, "", "2026-06-30")
		}
		out = append(out, r)
	}
	return out
}

func (d *drawer) scope() estate.Scope {
	if d.chance(60) {
		return estate.Scope{All: true}
	}
	return estate.Scope{Names: unique(some(d, 2, d.segments...))}
}

func (d *drawer) rule() {
	e := d.e
	for i := range d.number(1, 8) {
		e.Policies = append(e.Policies, estate.Policy{
			Name: fmt.Sprintf("q%d", i), Tier: "standard", Segments: d.scope(), From: d.side(30), To: d.side(30), Enabled: d.chance(92),
			Rules: d.rules(estate.Allow, estate.Allow, estate.Inspect, estate.Inspect, estate.Deny),
		})
	}
	for i := range pick(d, 0, 0, 1, 2) {
		e.Policies = append(e.Policies, estate.Policy{
			Name: fmt.Sprintf("rail%d", i), Tier: "guardrail", FromSegments: d.scope(), ToSegments: d.scope(), From: d.side(50), To: d.side(50), Enabled: true,
			Rules: d.rules(estate.Inspect, estate.Deny),
		})
	}
	for i := range d.number(0, 3) {
		if len(d.segments) < 2 {
			break
		}
		e.Shares = append(e.Shares, d.share(fmt.Sprintf("sh%d", i)))
	}
	for i := range d.number(0, 3) {
		if len(e.Exits) == 0 {
			break
		}
		x := pick(d, e.Exits...)
		e.Publications = append(e.Publications, estate.Publication{
			Name: fmt.Sprintf("pub%d", i), Exit: x.Name, Address: netip.MustParseAddr(fmt.Sprintf("203.0.113.%d", 10+i)), Services: d.services(),
			To: estate.Party{Segment: pick(d, x.Segments...), Groups: d.side(40)}, Enabled: d.chance(90),
		})
	}
}

// share draws a share between two segments.
func (d *drawer) share(name string) estate.Share {
	a := d.number(0, len(d.segments)-1)
	b := (a + d.number(1, len(d.segments)-1)) % len(d.segments)
	s := estate.Share{
		Name: name, Owner: estate.Party{Segment: d.segments[a], Groups: d.side(40)}, Guest: estate.Party{Segment: d.segments[b], Groups: d.side(40)},
		Direction: pick(d, "inbound", "both"), Enabled: d.chance(90), Rules: d.rules(estate.Allow, estate.Inspect, estate.Deny),
	}
	if d.chance(60) {
		d.show(&s)
	}
	return s
}

// Ends returns the addresses at which flows are worth asking about: the bounds
// of every prefix with their neighbours, every workload, and some of nobody.
func Ends(e *estate.Estate) []netip.Addr {
	var out []netip.Addr
	add := func(p netip.Prefix) {
		first := p.Masked().Addr()
		out = append(out, first, first.Next(), first.Next().Next())
		if before := first.Prev(); before.IsValid() {
			out = append(out, before)
		}
	}
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			add(s.Prefix)
		}
	}
	for _, a := range e.Attachments {
		for _, s := range a.Static {
			add(s.Prefix)
		}
		for _, l := range a.Learned {
			add(l.Prefix)
		}
		for _, t := range a.Translate {
			add(t.Outside)
			for _, w := range e.Workloads {
				for _, x := range w.Addresses {
					if w.Network == a.Network && t.Inside.Contains(x) {
						out = append(out, estate.Rebase(x, t.Outside))
					}
				}
			}
		}
	}
	for _, s := range e.Shares {
		for _, t := range s.Show {
			add(t.Outside)
			for _, a := range slices.Clone(out) {
				if t.Inside.Contains(a) {
					out = append(out, estate.Rebase(a, t.Outside))
				}
			}
		}
	}
	for _, w := range e.Workloads {
		out = append(out, w.Addresses...)
		for _, s := range e.Shares {
			for _, t := range s.Show {
				for _, a := range w.Addresses {
					if t.Inside.Contains(a) {
						out = append(out, estate.Rebase(a, t.Outside))
					}
				}
			}
		}
	}
	for _, s := range []string{"198.51.100.7", "198.51.100.200", "203.0.113.99", "2001:db8:1::1", "10.250.0.1", "fd00:ff::1"} {
		out = append(out, netip.MustParseAddr(s))
	}
	return out
}

// Port is a protocol with its ports.
type Port struct {
	Protocol     uint8
	Source, Dest uint16
}

// Ports are the services worth asking about: at the bounds of every term.
func Ports() []Port {
	return []Port{
		{6, 50000, 443}, {6, 50000, 444}, {6, 50000, 80}, {6, 50000, 90}, {6, 50000, 91}, {6, 1023, 22}, {6, 1024, 22},
		{17, 50000, 53}, {17, 1023, 53}, {17, 50000, 54}, {1, 0, 8}, {1, 0, 0}, {58, 0, 128}, {47, 0, 0}, {50, 0, 0},
	}
}
