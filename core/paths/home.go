package paths

import (
	"iter"
	"net/netip"

	"github.com/gaissmai/bart"

	"bivium/core/estate"
)

// Home is where an internal endpoint lives (M2.1): a network, and the subnet
// or, where Subnet is None, the prefix of an attachment that says so.
type Home struct {
	Network int
	Subnet  int
	Prefix  netip.Prefix
}

// homes finds the home of an address in one segment.
type homes struct {
	subnets  bart.Table[int] // to a number of Net.Subnets
	prefixes bart.Table[int] // to a number of Net.Networks
}

func (n *Net) compileHomes(e *estate.Estate) {
	n.homes = make([]homes, len(n.Segments))
	for i := range n.Subnets {
		s := &n.Subnets[i]
		if s.Segment == None {
			continue
		}
		h := &n.homes[s.Segment]
		if other, taken := h.subnets.Get(s.Prefix); !taken || n.Subnets[other].Network > s.Network {
			h.subnets.Insert(s.Prefix, i)
		}
	}
	bear := func(network int, segment string, p netip.Prefix) {
		number := n.Segment(segment)
		if network == None || number == None {
			return
		}
		h := &n.homes[number]
		if other, taken := h.prefixes.Get(p); !taken || other > network {
			h.prefixes.Insert(p, network)
		}
	}
	for _, a := range e.Attachments {
		network := n.Network(a.Network)
		for _, s := range a.Static {
			bear(network, s.Segment, s.Prefix)
		}
		for _, l := range a.Learned {
			if l.Claims() {
				bear(network, l.Segment, l.Prefix)
			}
		}
	}
}

// Crossing returns the homes of networks other than the given one that overlap a
// prefix in a segment. Cost: the prefixes that overlap.
func (n *Net) Crossing(segment, network int, p netip.Prefix) iter.Seq[Home] {
	return func(yield func(Home) bool) {
		h := &n.homes[segment]
		for _, list := range []iter.Seq2[netip.Prefix, int]{h.subnets.Supernets(p), below(&h.subnets, p)} {
			for _, i := range list {
				if s := &n.Subnets[i]; s.Network != network && !yield(Home{s.Network, i, s.Prefix}) {
					return
				}
			}
		}
		for _, list := range []iter.Seq2[netip.Prefix, int]{h.prefixes.Supernets(p), below(&h.prefixes, p)} {
			for at, i := range list {
				if i != network && !yield(Home{i, None, at}) {
					return
				}
			}
		}
	}
}

// below returns what a table has within a prefix, but not of the prefix itself.
func below(t *bart.Table[int], p netip.Prefix) iter.Seq2[netip.Prefix, int] {
	return func(yield func(netip.Prefix, int) bool) {
		for at, i := range t.Subnets(p) {
			if at != p && !yield(at, i) {
				return
			}
		}
	}
}

// Home returns the home of an address in a segment, and whether it has one.
// Cost: two look-ups of a longest prefix.
func (n *Net) Home(segment int, a netip.Addr) (Home, bool) {
	h := &n.homes[segment]
	if s, ok := h.subnets.Lookup(a); ok {
		return Home{n.Subnets[s].Network, s, n.Subnets[s].Prefix}, true
	}
	if p, network, ok := h.prefixes.LookupPrefixLPM(netip.PrefixFrom(a, a.BitLen())); ok {
		return Home{network, None, p}, true
	}
	return Home{}, false
}

// EachHomePrefix calls f for every prefix by which an address may have a home
// in the segment: those of subnets, and static and learned ones, accepted or
// withdrawn.
func (n *Net) EachHomePrefix(segment int, f func(netip.Prefix)) {
	for _, p := range Everything() {
		n.EachHomePrefixAt(segment, p, f)
	}
}

// Everything returns all addresses of both families.
func Everything() []netip.Prefix {
	return []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0), netip.PrefixFrom(netip.IPv6Unspecified(), 0)}
}

// EachHomePrefixAt is EachHomePrefix for the prefixes that overlap one. Cost: those.
func (n *Net) EachHomePrefixAt(segment int, at netip.Prefix, f func(netip.Prefix)) {
	h := &n.homes[segment]
	for _, t := range [2]*bart.Table[int]{&h.subnets, &h.prefixes} {
		if at.Bits() == 0 { // going through all takes no order, and less time
			for p := range t.All() {
				if p.Addr().Is4() == at.Addr().Is4() {
					f(p)
				}
			}
			continue
		}
		for p := range t.Supernets(at) {
			f(p)
		}
		for p := range below(t, at) {
			f(p)
		}
	}
}

var private = func() *bart.Lite {
	t := &bart.Lite{}
	for _, p := range PrivatePrefixes() {
		t.Insert(p)
	}
	return t
}()

// PrivatePrefixes returns the prefixes that no external endpoint has (M2.3).
func PrivatePrefixes() []netip.Prefix {
	var out []netip.Prefix
	for _, s := range []string{
		"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12",
		"192.168.0.0/16", "224.0.0.0/3", "::/8", "fc00::/7", "fe80::/10", "ff00::/8",
	} {
		out = append(out, netip.MustParsePrefix(s))
	}
	return out
}

// Private reports whether no external endpoint has the address (M2.3).
func Private(a netip.Addr) bool { return private.Contains(a) }

// EachBorne returns the prefixes that attachments bear in a segment, static and
// accepted learned ones, and the networks that are home to them.
func (n *Net) EachBorne(segment int) iter.Seq2[netip.Prefix, int] {
	return n.homes[segment].prefixes.All()
}

// EachHome calls f for every prefix by which a network is home to addresses, in
// any segment.
func (n *Net) EachHome(f func(segment, network int, p netip.Prefix)) {
	for s := range n.homes {
		for p, i := range n.homes[s].subnets.All() {
			f(s, n.Subnets[i].Network, p)
		}
		for p, network := range n.homes[s].prefixes.All() {
			f(s, network, p)
		}
	}
}
