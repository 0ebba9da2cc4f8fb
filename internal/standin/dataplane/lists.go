package dataplane

import (
	"net/netip"
	"slices"
)

// in1 reports whether some services have the packet.
func (t *trip) in1(services []Service) bool {
	return slices.ContainsFunc(services, func(s Service) bool {
		return between(s.Protocols, t.Protocol) && between(s.Sources, t.SourcePort) && between(s.Ports, t.Port)
	})
}

func between(r [2]int, n int) bool { return r[0] <= n && n <= r[1] }

func inside(p []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(p, func(p netip.Prefix) bool { return p.Contains(a) })
}

// list asks the list of one end's provider, as far as it sees the packet, and says whether it
// passes.
func (t *trip) list(p *place, other netip.Addr, out bool) bool {
	n := t.Networks[p.network]
	name := "list into"
	if out {
		name = "list out of"
	}
	switch n.Provider {
	case "cirra":
		entries, bound := n.Bears[p.inside]
		if !bound {
			entries = n.Standard
		}
		for _, e := range entries {
			if e.Out == out && t.in1([]Service{e.Service}) && (e.Peer.IsValid() && e.Peer.Contains(other) || slices.Contains(e.Peers, other)) {
				t.metOn(name, p.network, e.List, e.Place, "allow")
				return true
			}
		}
		t.met(name, p.network, 0, "deny")
		return false
	case "stratok":
		return t.ordered(p, "", other, out, name)
	case "velum", "premises":
		if t.local() && t.src.subnet == t.dst.subnet {
			return true
		}
		return t.ordered(p, listOn(n, p), other, out, name)
	}
	return true
}

// listOn returns what the list of an endpoint hangs on.
func listOn(n *Network, p *place) string {
	for _, s := range n.Subnets {
		if s.Prefix.Contains(p.inside) {
			return s.Name
		}
	}
	return "*"
}

func (t *trip) ordered(p *place, on string, other netip.Addr, out bool, name string) bool {
	for i, r := range t.Networks[p.network].Lists[on] {
		if r.Out == out && (len(r.Services) == 0 || t.in1(r.Services)) && (r.AnyOwn || inside(r.Own, p.inside)) && (r.AnyPeer || inside(r.Peer, other)) {
			t.metOn(name, p.network, on, i+1, map[bool]string{true: "allow", false: "deny"}[r.Allow])
			return r.Allow
		}
	}
	passes := out && t.Networks[p.network].Provider != "premises"
	t.metOn(name, p.network, on, 0, map[bool]string{true: "allow", false: "deny"}[passes])
	return passes
}

// match asks the match list of the first hub, and takes the packet through the pools that it
// steers to.
func (t *trip) match(w *way) bool {
	segment := t.src.segment
	if segment == "" {
		segment = t.dst.segment
	}
	s := t.Segments[segment]
	if s == nil {
		t.met("match list", segment, 0, "deny")
		return false
	}
	for i, m := range s.Rules {
		if !m.Any && !t.in1(m.Services) || !ends(m.From, t.src.addr, t.in) || !ends(m.To, t.seen, t.out) {
			continue
		}
		t.met("match list", segment, i+1, m.Verb)
		if m.Verb != "steer" {
			return m.Verb == "permit"
		}
		return t.through(m.Through, w)
	}
	t.met("match list", segment, 0, "deny")
	return false
}

func ends(list []End, a netip.Addr, exit string) bool {
	return slices.ContainsFunc(list, func(e End) bool { return e.Exit == exit && (e.Every || inside(e.Prefixes, a)) })
}

func (t *trip) through(steps []Step, w *way) bool {
	for _, s := range steps {
		pool := t.Pools[s.Pool]
		if pool == nil || !t.works(pool, w) {
			if s.IsOpen {
				t.met("pool", s.Pool, 0, "no firewall works: passed by")
				continue
			}
			t.met("pool", s.Pool, 0, "no firewall works")
			t.fate.Pools = nil
			return false
		}
		t.fate.Pools = append(t.fate.Pools, s.Pool)
		rule, pass, reject := t.book(pool)
		if !pass {
			if t.met("pool", s.Pool, rule, map[bool]string{true: "reject", false: "drop"}[reject]); reject {
				t.rejects(s.Pool, w)
			}
			t.fate.Pools, t.fate.Blocked = nil, s.Pool
			return false
		}
		t.met("pool", s.Pool, rule, "pass")
	}
	return true
}

// works reports whether a packet can be led to a healthy firewall of a pool.
func (t *trip) works(pool *Pool, w *way) bool {
	reach := t.reach(w.hubs[0], w.segment)
	return slices.ContainsFunc(pool.Hubs, func(h string) bool {
		_, ok := reach[h]
		return ok || slices.Contains(w.hubs, h)
	})
}

// book asks the rulebook of a pool: the rule that decides, from 1, 0 for none; and what it says.
func (t *trip) book(pool *Pool) (rule int, pass, reject bool) {
	if !pool.Book {
		return 0, true, false
	}
	for i, r := range pool.Rules {
		if (r.Any || t.in1(r.Services)) && t.side(r.From, r.AnyFrom, &t.src, t.in) && t.side(r.To, r.AnyTo, &t.dst, t.out) {
			return i + 1, r.Pass, r.Reject
		}
	}
	return 0, false, false
}

func (t *trip) side(list []End, anybody bool, p *place, exit string) bool {
	return anybody || slices.ContainsFunc(list, func(e End) bool {
		return e.Segment == p.segment && (p.segment != "" || e.Exit == exit) && (e.Every || inside(e.Prefixes, p.addr))
	})
}
