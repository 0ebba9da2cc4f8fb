package standin

import (
	"fmt"
	"net/netip"
	"strings"
)

// accessList is an access list of RFC 8519, as far as routers here know it.
type accessList struct {
	Name string `json:"name"`
	Type string `json:"type"`
	ACEs struct {
		ACE []accessEntry `json:"ace"`
	} `json:"aces"`
}

type accessEntry struct {
	Name    string `json:"name"`
	Matches struct {
		IPv4 *accessHeader `json:"ipv4,omitempty"`
		IPv6 *accessHeader `json:"ipv6,omitempty"`
		TCP  *accessPorts  `json:"tcp,omitempty"`
		UDP  *accessPorts  `json:"udp,omitempty"`
		ICMP *struct {
			Type int `json:"type"`
		} `json:"icmp,omitempty"`
	} `json:"matches"`
	Actions struct {
		Forwarding string `json:"forwarding"`
	} `json:"actions"`
}

type accessHeader struct {
	Protocol     *int          `json:"protocol,omitempty"`
	Source4      *netip.Prefix `json:"source-ipv4-network,omitempty"`
	Destination4 *netip.Prefix `json:"destination-ipv4-network,omitempty"`
	Source6      *netip.Prefix `json:"source-ipv6-network,omitempty"`
	Destination6 *netip.Prefix `json:"destination-ipv6-network,omitempty"`
}

type accessPorts struct {
	Source      *accessRange `json:"source-port,omitempty"`
	Destination *accessRange `json:"destination-port,omitempty"`
}

type accessRange struct {
	Lower int `json:"lower-port"`
	Upper int `json:"upper-port"`
}

const (
	accept = "ietf-access-control-list:accept"
	drop   = "ietf-access-control-list:drop"
	mixed  = "ietf-access-control-list:mixed-eth-ipv4-ipv6-acl-type"
)

// accessLists returns the lines of a lan as two access lists. Each line has one prefix a side
// and one protocol.
func accessLists(lan string, lines []Line) []accessList {
	out := []accessList{{Name: lan + ":in", Type: mixed}, {Name: lan + ":out", Type: mixed}}
	for i := range lines {
		l := &lines[i]
		x := &out[0]
		if l.Out {
			x = &out[1]
		}
		x.ACEs.ACE = append(x.ACEs.ACE, accessEntryOf(l, len(x.ACEs.ACE)+1))
	}
	return out
}

func accessEntryOf(l *Line, place int) accessEntry {
	e := accessEntry{Name: fmt.Sprintf("%d", place)}
	if e.Actions.Forwarding = drop; l.Allow {
		e.Actions.Forwarding = accept
	}
	from, to := first(l.Peer), first(l.Own)
	if l.Out {
		from, to = to, from
	}
	h := &accessHeader{}
	if len(l.Matches) > 0 && l.Matches[0].Protocols != everything.Protocols {
		h.Protocol = &l.Matches[0].Protocols[0]
	}
	six := from != nil && from.Addr().Is6() || to != nil && to.Addr().Is6()
	if six {
		h.Source6, h.Destination6, e.Matches.IPv6 = from, to, h
	} else {
		h.Source4, h.Destination4, e.Matches.IPv4 = from, to, h
	}
	if len(l.Matches) == 0 {
		return e
	}
	switch m := &l.Matches[0]; m.Protocols {
	case [2]int{6, 6}:
		e.Matches.TCP = accessPortsOf(m)
	case [2]int{17, 17}:
		e.Matches.UDP = accessPortsOf(m)
	case [2]int{1, 1}, [2]int{58, 58}:
		if m.Ports[0] == m.Ports[1] {
			e.Matches.ICMP = &struct {
				Type int `json:"type"`
			}{m.Ports[0]}
		}
	}
	return e
}

func first(p []netip.Prefix) *netip.Prefix {
	if len(p) == 0 {
		return nil
	}
	return &p[0]
}

func accessPortsOf(m *Match) *accessPorts {
	p := &accessPorts{}
	if m.Sources != everything.Sources {
		p.Source = &accessRange{m.Sources[0], m.Sources[1]}
	}
	if m.Ports != everything.Ports {
		p.Destination = &accessRange{m.Ports[0], m.Ports[1]}
	}
	if p.Source == nil && p.Destination == nil {
		return nil
	}
	return p
}

// lines reads an access list.
func (x *accessList) lines() ([]Line, error) {
	_, way, ok := strings.Cut(x.Name, ":")
	if !ok || way != "in" && way != "out" {
		return nil, fmt.Errorf("access list %q: its name must end in :in or :out", x.Name)
	}
	var out []Line
	for i := range x.ACEs.ACE {
		e := &x.ACEs.ACE[i]
		l := Line{Order: i + 1, Out: way == "out", Allow: e.Actions.Forwarding == accept}
		h, from, to := e.Matches.IPv4, (*netip.Prefix)(nil), (*netip.Prefix)(nil)
		every := netip.MustParsePrefix("0.0.0.0/0")
		switch {
		case h != nil:
			from, to = h.Source4, h.Destination4
		case e.Matches.IPv6 != nil:
			h, every = e.Matches.IPv6, netip.MustParsePrefix("::/0")
			from, to = h.Source6, h.Destination6
		default:
			return nil, fmt.Errorf("access list %s, entry %s: it matches no IP header", x.Name, e.Name)
		}
		if from == nil {
			from = &every
		}
		if to == nil {
			to = &every
		}
		l.Peer, l.Own = []netip.Prefix{*from}, []netip.Prefix{*to}
		if l.Out {
			l.Peer, l.Own = l.Own, l.Peer
		}
		m := everything
		if h.Protocol != nil {
			m.Protocols = [2]int{*h.Protocol, *h.Protocol}
		}
		for _, p := range []*accessPorts{e.Matches.TCP, e.Matches.UDP} {
			if p != nil && p.Source != nil {
				m.Sources = [2]int{p.Source.Lower, p.Source.Upper}
			}
			if p != nil && p.Destination != nil {
				m.Ports = [2]int{p.Destination.Lower, p.Destination.Upper}
			}
		}
		if e.Matches.ICMP != nil {
			m.Ports = [2]int{e.Matches.ICMP.Type, e.Matches.ICMP.Type}
		}
		l.Matches = []Match{m}
		out = append(out, l)
	}
	return out, nil
}
