// Package acl writes and reads access lists as RFC 8519 models them, in the JSON of RFC 7951.
package acl

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/space"
	"bivium/internal/drivers"
)

// List is an access list.
type List struct {
	Name string `json:"name"`
	Type string `json:"type"`
	ACEs struct {
		ACE []Entry `json:"ace"`
	} `json:"aces"`
}

// Entry is an entry of an access list.
type Entry struct {
	Name    string  `json:"name"`
	Matches matches `json:"matches"`
	Actions struct {
		Forwarding string `json:"forwarding"`
	} `json:"actions"`
}

type matches struct {
	IPv4 *header `json:"ipv4,omitempty"`
	IPv6 *header `json:"ipv6,omitempty"`
	TCP  *ports  `json:"tcp,omitempty"`
	UDP  *ports  `json:"udp,omitempty"`
	ICMP *icmp   `json:"icmp,omitempty"`
}

type header struct {
	Protocol     *int          `json:"protocol,omitempty"`
	Source4      *netip.Prefix `json:"source-ipv4-network,omitempty"`
	Destination4 *netip.Prefix `json:"destination-ipv4-network,omitempty"`
	Source6      *netip.Prefix `json:"source-ipv6-network,omitempty"`
	Destination6 *netip.Prefix `json:"destination-ipv6-network,omitempty"`
}

type ports struct {
	Source      *portRange `json:"source-port,omitempty"`
	Destination *portRange `json:"destination-port,omitempty"`
}

type portRange struct {
	Lower uint16 `json:"lower-port"`
	Upper uint16 `json:"upper-port"`
}

type icmp struct {
	Type uint16 `json:"type"`
}

// Document is access lists as they stand in a document.
type Document struct {
	ACLs struct {
		ACL []List `json:"acl"`
	} `json:"ietf-access-control-list:acls"`
}

const (
	accept = "ietf-access-control-list:accept"
	drop   = "ietf-access-control-list:drop"
	mixed  = "ietf-access-control-list:mixed-eth-ipv4-ipv6-acl-type"
)

// Lists returns a list as two access lists: into the lan and out of it. An entry has one
// prefix a side and one protocol, so that a rule becomes as many as it takes.
func Lists(l *config.List) []List {
	out := []List{{Name: l.On + ":in", Type: mixed}, {Name: l.On + ":out", Type: mixed}}
	for i := range l.Rules {
		r := &l.Rules[i]
		x := &out[0]
		if r.Out {
			x = &out[1]
		}
		for _, m := range matchesOf(r) {
			e := Entry{Name: strconv.Itoa(len(x.ACEs.ACE) + 1), Matches: m}
			if e.Actions.Forwarding = drop; r.Allow {
				e.Actions.Forwarding = accept
			}
			x.ACEs.ACE = append(x.ACEs.ACE, e)
		}
	}
	return out
}

// matchesOf returns what the entries of a rule match.
func matchesOf(r *config.Rule) []matches {
	var out []matches
	services := config.Entries(r.Services)
	for _, own := range orBoth(r.Own) {
		for _, peer := range orBoth(r.Peer) {
			if own.Addr().Is4() != peer.Addr().Is4() {
				continue
			}
			from, to := peer, own
			if r.Out {
				from, to = own, peer
			}
			for _, s := range services {
				out = append(out, match(from, to, s))
			}
		}
	}
	return out
}

// orBoth returns the prefixes of a side, and all addresses of either family for every address.
func orBoth(sets []*config.Set) []netip.Prefix {
	if sets == nil {
		return []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0), netip.PrefixFrom(netip.IPv6Unspecified(), 0)}
	}
	return drivers.Prefixes(sets)
}

func match(from, to netip.Prefix, s space.Box) matches {
	h := &header{}
	var m matches
	if from.Addr().Is4() {
		m.IPv4, h.Source4, h.Destination4 = h, some(from), some(to)
	} else {
		m.IPv6, h.Source6, h.Destination6 = h, some(from), some(to)
	}
	if s == config.Anything {
		return m
	}
	protocol := int(s.FirstProtocol)
	h.Protocol = &protocol
	switch p := s.FirstProtocol; {
	case p == estate.TCP:
		m.TCP = portsOf(s)
	case p == estate.UDP:
		m.UDP = portsOf(s)
	case (p == estate.ICMP || p == estate.ICMPv6) && s.Ports.Lo == s.Ports.Hi:
		m.ICMP = &icmp{s.Ports.Lo}
	}
	return m
}

// some returns a prefix, or nil for all addresses.
func some(p netip.Prefix) *netip.Prefix {
	if p.Bits() == 0 {
		return nil
	}
	return &p
}

func portsOf(s space.Box) *ports {
	var p ports
	if s.SourcePorts != estate.AllPorts {
		p.Source = &portRange{s.SourcePorts.Lo, s.SourcePorts.Hi}
	}
	if s.Ports != estate.AllPorts {
		p.Destination = &portRange{s.Ports.Lo, s.Ports.Hi}
	}
	if p == (ports{}) {
		return nil
	}
	return &p
}

// Read appends the entries of an access list to a list.
func (a *List) Read(l *config.List) error {
	_, way, _ := strings.Cut(a.Name, ":")
	for i := range a.ACEs.ACE {
		e := &a.ACEs.ACE[i]
		h, six := e.Matches.IPv4, false
		if h == nil {
			h, six = e.Matches.IPv6, true
		}
		if h == nil {
			return fmt.Errorf("entry %s matches no IP header", e.Name)
		}
		from, to := side(h.Source4, h.Source6, six), side(h.Destination4, h.Destination6, six)
		r := config.Rule{Order: i + 1, Out: way == "out", Allow: e.Actions.Forwarding == accept, Own: to, Peer: from}
		if r.Out {
			r.Own, r.Peer = from, to
		}
		s := config.Anything
		if h.Protocol != nil {
			if *h.Protocol < 0 || *h.Protocol > 255 {
				return fmt.Errorf("entry %s: protocol %d", e.Name, *h.Protocol)
			}
			s.FirstProtocol, s.LastProtocol = uint8(*h.Protocol), uint8(*h.Protocol)
		}
		for _, p := range []*ports{e.Matches.TCP, e.Matches.UDP} {
			if p != nil && p.Source != nil {
				s.SourcePorts = estate.Range{Lo: p.Source.Lower, Hi: p.Source.Upper}
			}
			if p != nil && p.Destination != nil {
				s.Ports = estate.Range{Lo: p.Destination.Lower, Hi: p.Destination.Upper}
			}
		}
		if e.Matches.ICMP != nil {
			s.Ports = estate.Range{Lo: e.Matches.ICMP.Type, Hi: e.Matches.ICMP.Type}
		}
		if s != config.Anything {
			r.Services = []space.Box{s}
		}
		l.Rules = append(l.Rules, r)
	}
	return nil
}

// side returns one side of an entry: all addresses of its family where it names none.
func side(four, six *netip.Prefix, isSix bool) []*config.Set {
	p := netip.PrefixFrom(netip.IPv4Unspecified(), 0)
	switch {
	case isSix && six != nil:
		p = *six
	case isSix:
		p = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
	case four != nil:
		p = *four
	}
	return []*config.Set{{Prefixes: []netip.Prefix{p}}}
}
