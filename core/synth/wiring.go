package synth

import (
	"fmt"
	"net/netip"

	"bivium/core/estate"
)

// wiring adds what networks have beside a segment and an attachment, to some of
// them: a second address family, peerings, a network behind another, routes of
// their own, prefixes that sites announce, and addresses published at exits.
func (m *maker) wiring() {
	m.secondFamily()
	m.peerings()
	m.routes()
	m.learned()
	m.publications()
}

// secondFamily gives a fifth of the networks an IPv6 subnet, in which every
// fourth of their workloads has an address.
func (m *maker) secondFamily() {
	dual := map[string]netip.Addr{}
	for i := range m.e.Networks {
		n := &m.e.Networks[i]
		if !m.chance(20) {
			continue
		}
		a := netip.AddrFrom16([16]byte{0xfd, 0x6b, byte(i >> 8), byte(i)})
		n.Subnets = append(n.Subnets, estate.Subnet{Name: "sub-v6", Prefix: netip.PrefixFrom(a, 64)})
		dual[n.Name] = a
	}
	for i := range m.e.Workloads {
		w := &m.e.Workloads[i]
		if a, ok := dual[w.Network]; ok && m.chance(25) {
			next := a.As16()
			next[13], next[14], next[15] = byte(i>>16), byte(i>>8), byte(i)|1
			next[12] = byte(i & 1) // two workloads never share the last bits
			w.Addresses = append(w.Addresses, netip.AddrFrom16(next))
		}
	}
}

// peerings joins one network in forty to one of its segment, if both have room for many workloads. Of every third pair
// the second network has no attachment of its own: the first offers its hub, and
// bears a static prefix for the way back.
func (m *maker) peerings() {
	attached := map[string]int{}
	for i := range m.e.Attachments {
		attached[m.e.Attachments[i].Network] = i
	}
	drop := map[string]bool{}
	last := map[string]int{} // by segment: a network that is in no peering yet
	for i := range m.e.Networks {
		n := &m.e.Networks[i]
		first, found := last[n.Segment]
		switch {
		case !found && m.chance(50):
			last[n.Segment] = i
			continue
		case !found || !m.chance(5):
			continue
		}
		near := &m.e.Networks[first]
		if few(near) || few(n) {
			continue
		}
		delete(last, n.Segment)
		p := estate.Peering{Between: [2]string{near.Name, n.Name}}
		if len(m.e.Peerings)%3 == 2 {
			p.OffersHub = near.Name
			drop[n.Name] = true
			at := &m.e.Attachments[attached[near.Name]]
			for _, s := range n.Subnets {
				at.Static = append(at.Static, estate.Static{Prefix: s.Prefix, Segment: n.SegmentOf(&s)})
			}
		}
		m.e.Peerings = append(m.e.Peerings, p)
	}
	kept := m.e.Attachments[:0]
	for _, a := range m.e.Attachments {
		if !drop[a.Network] {
			kept = append(kept, a)
		}
	}
	m.e.Attachments = kept
}

// routes gives one network in thirty a route of its own: the internet past the
// hubs for some clouds' networks, a hole for the others.
func (m *maker) routes() {
	for i := range m.e.Networks {
		n := &m.e.Networks[i]
		if !m.chance(3) {
			continue
		}
		r := estate.Route{To: netip.MustParsePrefix("198.51.100.0/24"), Via: "none"}
		if n.Kind == "cloud" && m.chance(30) {
			r = estate.Route{To: netip.MustParsePrefix("203.0.113.0/24"), Via: "internet"}
		}
		n.Routes = append(n.Routes, r)
	}
}

// learned lets every sixth site announce prefixes of 172.16.0.0/12, of which one
// in eight waits.
func (m *maker) learned() {
	next := 0
	segment, site := map[string]string{}, map[string]bool{}
	for i := range m.e.Networks {
		segment[m.e.Networks[i].Name], site[m.e.Networks[i].Name] = m.e.Networks[i].Segment, m.e.Networks[i].Kind == "site"
	}
	for i := range m.e.Attachments {
		a := &m.e.Attachments[i]
		if !site[a.Network] || !m.chance(16) {
			continue
		}
		for range 1 + m.r.IntN(3) {
			status := "accepted"
			if m.chance(12) {
				status = "waiting"
			}
			p := netip.PrefixFrom(netip.AddrFrom4([4]byte{172, 16 + byte(next>>8), byte(next), 0}), 24)
			a.Learned = append(a.Learned, estate.Learned{Prefix: p, Segment: segment[a.Network], Status: status})
			next++
		}
	}
}

// publications publishes two groups of applications at every exit.
func (m *maker) publications() {
	for i, x := range m.e.Exits {
		for k := range 2 {
			m.e.Publications = append(m.e.Publications, estate.Publication{
				Name: fmt.Sprintf("public-%02d-%d", i, k), Exit: x.Name, Enabled: true,
				Address:  netip.AddrFrom4([4]byte{192, 0, 2, byte(2*i + k + 1)}),
				Services: []estate.ServiceRef{{Term: term("tcp/443")}},
				To:       estate.Party{Segment: m.segments[m.tail(len(m.segments))], Groups: groupSide(m.offered[m.tail(len(m.offered))])},
			})
		}
	}
}
