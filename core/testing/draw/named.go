package draw

import (
	"maps"
	"slices"

	"bivium/core/estate"
)

// named are the edits by which something comes or goes that others speak of by name. What
// comes is spoken of at once, more often than not; what goes is spoken of nowhere
// afterwards.
var named = map[string]func(*drawer){
	"a network comes":  (*drawer).networkComes,
	"a network goes":   (*drawer).networkGoes,
	"a segment comes":  (*drawer).segmentComes,
	"a segment goes":   (*drawer).segmentGoes,
	"a hub comes":      (*drawer).hubComes,
	"a hub goes":       (*drawer).hubGoes,
	"an exit comes":    (*drawer).exitComes,
	"an exit goes":     (*drawer).exitGoes,
	"a pool comes":     (*drawer).poolComes,
	"a pool goes":      (*drawer).poolGoes,
	"a rulebook comes": (*drawer).rulebookComes,
	"a rulebook goes":  (*drawer).rulebookGoes,
}

func init() { maps.Copy(edits, named) }

// Named returns the names of those edits, sorted.
func Named() []string { return slices.Sorted(maps.Keys(named)) }

func (d *drawer) networkComes() {
	n := estate.Network{Name: free(d, d.e.Networks, pick(d, "a", "n", "z"), func(n *estate.Network) string { return n.Name }), Kind: "cloud", Account: "k", Segment: pick(d, d.segments...)}
	n.Subnets = []estate.Subnet{{Name: "u0", Prefix: d.fresh()}}
	if n.Labels = nil; d.chance(50) {
		n.Labels = map[string]string{"tier": pick(d, "core", "edge")}
	}
	with(d, &d.e.Networks, n)
	if d.chance(60) {
		d.e.Attachments = slices.Clone(d.e.Attachments)
		d.attach(n.Name)
	}
	if d.chance(40) {
		w := estate.Workload{Name: free(d, d.e.Workloads, "w", func(w *estate.Workload) string { return w.Name }), Network: n.Name, Labels: map[string]string{"env": "prod", "app": "web"}}
		w.Addresses = append(w.Addresses, n.Subnets[0].Prefix.Addr().Next())
		with(d, &d.e.Workloads, w)
	}
	if d.chance(30) {
		with(d, &d.e.Peerings, estate.Peering{Between: [2]string{n.Name, pick(d, d.networks...)}})
	}
	if g := one(d, &d.e.Groups); g != nil && d.chance(40) {
		g.Networks = append(slices.Clone(g.Networks), n.Name)
	}
}

// not keeps what a list has that is not told.
func not[T any](list *[]T, told func(*T) bool) {
	var out []T
	for _, x := range *list {
		if !told(&x) {
			out = append(out, x)
		}
	}
	*list = out
}

// each changes a copy of everything in a list.
func each[T any](list *[]T, change func(*T)) {
	*list = slices.Clone(*list)
	for i := range *list {
		change(&(*list)[i])
	}
}

// but returns names without one of them.
func but(names []string, gone string) []string {
	out := slices.Clone(names)
	return slices.DeleteFunc(out, func(s string) bool { return s == gone })
}

func (d *drawer) networkGoes() {
	if len(d.networks) < 3 {
		return
	}
	name, e := pick(d, d.networks...), d.e
	not(&e.Networks, func(n *estate.Network) bool { return n.Name == name })
	each(&e.Networks, func(n *estate.Network) {
		n.Routes = slices.DeleteFunc(slices.Clone(n.Routes), func(r estate.Route) bool { return r.Via == estate.Via("peer:"+name) })
	})
	not(&e.Attachments, func(a *estate.Attachment) bool { return a.Network == name })
	not(&e.Peerings, func(p *estate.Peering) bool { return slices.Contains(p.Between[:], name) })
	not(&e.Workloads, func(w *estate.Workload) bool { return w.Network == name })
	each(&e.Groups, func(g *estate.Group) {
		g.Networks = but(g.Networks, name)
		g.Subnets = slices.DeleteFunc(slices.Clone(g.Subnets), func(s estate.SubnetRef) bool { return s.Network == name })
		d.fill(g)
	})
}

// fill lets a group select something that selects nothing any more.
func (d *drawer) fill(g *estate.Group) {
	if g.Empty() {
		g.Match = "env=prod"
	}
}

func (d *drawer) segmentComes() {
	name := free(d, d.e.Segments, pick(d, "a", "s", "z"), func(s *estate.Segment) string { return s.Name })
	with(d, &d.e.Segments, estate.Segment{Name: name, Default: pick(d, estate.Allow, estate.Deny), Approval: estate.ApproveNone})
	if n := one(d, &d.e.Networks); d.chance(60) {
		n.Segment = name
	}
	if x := one(d, &d.e.Exits); x != nil && d.chance(40) {
		x.Segments = append(slices.Clone(x.Segments), name)
	}
	if d.segments = append(d.segments, name); d.chance(40) {
		with(d, &d.e.Shares, d.share(free(d, d.e.Shares, "sh", func(s *estate.Share) string { return s.Name })))
	}
}

func (d *drawer) segmentGoes() {
	if len(d.segments) < 2 {
		return
	}
	name, e := pick(d, d.segments...), d.e
	heir := pick(d, "", but(d.segments, name)[0])
	not(&e.Segments, func(s *estate.Segment) bool { return s.Name == name })
	each(&e.Networks, func(n *estate.Network) {
		if n.Segment == name {
			n.Segment = heir
		}
		each(&n.Subnets, func(s *estate.Subnet) {
			if s.Segment == name {
				s.Segment = heir
			}
		})
	})
	each(&e.Attachments, func(a *estate.Attachment) {
		not(&a.Static, func(s *estate.Static) bool { return s.Segment == name })
		not(&a.Learned, func(l *estate.Learned) bool { return l.Segment == name })
		not(&a.Translate, func(t *estate.Translation) bool { return t.Segment == name })
	})
	each(&e.Links, func(l *estate.Link) {
		if l.Segments = but(l.Segments, name); len(l.Segments) == 0 {
			l.Segments = nil
		}
	})
	each(&e.Exits, func(x *estate.Exit) { x.Segments = but(x.Segments, name) })
	each(&e.Policies, func(p *estate.Policy) {
		for _, s := range []*estate.Scope{&p.Segments, &p.FromSegments, &p.ToSegments} {
			if !s.All && s.Names != nil {
				s.Names = but(s.Names, name)
			}
		}
	})
	not(&e.Shares, func(s *estate.Share) bool { return s.Owner.Segment == name || s.Guest.Segment == name })
	not(&e.Publications, func(p *estate.Publication) bool { return p.To.Segment == name })
	not(&e.Expectations, func(x *estate.Expectation) bool { return x.From.Party.Segment == name || x.To.Party.Segment == name })
}

func (d *drawer) hubComes() {
	name := free(d, d.e.Hubs, pick(d, "a", "h", "z"), func(h *estate.Hub) string { return h.Name })
	with(d, &d.e.Hubs, estate.Hub{Name: name, Account: "own"})
	if d.chance(70) {
		with(d, &d.e.Links, estate.Link{Between: [2]string{pick(d, d.hubs...), name}, Cost: 5, State: "up"})
	}
	if d.hubs = append(d.hubs, name); d.chance(70) {
		with(d, &d.e.Attachments, estate.Attachment{Network: pick(d, d.networks...), Hub: name, Cost: 1, State: "up"})
	}
	if p := one(d, &d.e.Pools); p != nil && d.chance(40) {
		p.Firewalls = append(slices.Clone(p.Firewalls), estate.Firewall{Name: p.Name + "-new", Hub: name, State: "healthy"})
	}
}

func (d *drawer) hubGoes() {
	if len(d.hubs) < 2 {
		return
	}
	name, e := pick(d, d.hubs...), d.e
	heir := but(d.hubs, name)[0]
	not(&e.Hubs, func(h *estate.Hub) bool { return h.Name == name })
	not(&e.Links, func(l *estate.Link) bool { return slices.Contains(l.Between[:], name) })
	not(&e.Attachments, func(a *estate.Attachment) bool { return a.Hub == name })
	each(&e.Exits, func(x *estate.Exit) {
		if x.Hub == name {
			x.Hub = heir
		}
	})
	each(&e.Pools, func(p *estate.Pool) {
		not(&p.Firewalls, func(f *estate.Firewall) bool { return f.Hub == name })
	})
}

func (d *drawer) exitComes() {
	name := free(d, d.e.Exits, pick(d, "a", "x", "z"), func(x *estate.Exit) string { return x.Name })
	with(d, &d.e.Exits, estate.Exit{Name: name, Hub: pick(d, d.hubs...), Segments: unique(some(d, 3, d.segments...)), State: "up"})
	if g := one(d, &d.e.Groups); g != nil && d.chance(60) {
		g.Exits = append(slices.Clone(g.Exits), name)
	}
}

func (d *drawer) exitGoes() {
	if len(d.e.Exits) == 0 {
		return
	}
	name, e := pick(d, d.e.Exits...).Name, d.e
	not(&e.Exits, func(x *estate.Exit) bool { return x.Name == name })
	not(&e.Publications, func(p *estate.Publication) bool { return p.Exit == name })
	each(&e.Groups, func(g *estate.Group) {
		g.Exits = but(g.Exits, name)
		d.fill(g)
	})
}

func (d *drawer) poolComes() {
	p := estate.Pool{Name: free(d, d.e.Pools, pick(d, "a", "p", "z"), func(p *estate.Pool) string { return p.Name }), OnFailure: pick(d, "closed", "open")}
	if d.chance(70) {
		p.Firewalls = []estate.Firewall{{Name: p.Name + "-f", Hub: pick(d, d.hubs...), State: "healthy"}}
	}
	if len(d.e.Rulebooks) > 0 && d.chance(50) {
		p.Rulebook = pick(d, d.e.Rulebooks...).Name
	}
	with(d, &d.e.Pools, p)
	if q := one(d, &d.e.Policies); q != nil && d.chance(80) {
		r := one(d, &q.Rules)
		r.Action, r.Pool = estate.Inspect, p.Name
	}
}

func (d *drawer) poolGoes() {
	if len(d.e.Pools) < 2 {
		return
	}
	name, e := pick(d, d.e.Pools...).Name, d.e
	not(&e.Pools, func(p *estate.Pool) bool { return p.Name == name })
	other := e.Pools[0].Name
	change := func(r *estate.Rule) {
		if r.Pool == name {
			r.Pool = other
		}
	}
	each(&e.Policies, func(p *estate.Policy) { each(&p.Rules, change) })
	each(&e.Shares, func(s *estate.Share) { each(&s.Rules, change) })
}

func (d *drawer) rulebookComes() {
	b := estate.Rulebook{Name: free(d, d.e.Rulebooks, pick(d, "a", "b", "z"), func(b *estate.Rulebook) string { return b.Name })}
	for range d.number(1, 2) {
		b.Rules = append(b.Rules, estate.BookRule{From: d.side(70), To: d.side(70), Services: d.services(), Action: pick(d, "pass", "drop")})
	}
	with(d, &d.e.Rulebooks, b)
	if p := one(d, &d.e.Pools); p != nil && d.chance(80) {
		p.Rulebook = b.Name
	}
}

func (d *drawer) rulebookGoes() {
	if len(d.e.Rulebooks) == 0 {
		return
	}
	name, e := pick(d, d.e.Rulebooks...).Name, d.e
	not(&e.Rulebooks, func(b *estate.Rulebook) bool { return b.Name == name })
	each(&e.Pools, func(p *estate.Pool) {
		if p.Rulebook == name {
			p.Rulebook = pick(d, "", func() string {
				if len(e.Rulebooks) > 0 {
					return e.Rulebooks[0].Name
				}
				return ""
			}())
		}
	})
}
