package survey

import (
	"maps"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"

	"bivium/core/paths"
	"bivium/core/verdict"
)

// partitions counts the partitions that were made.
var partitions atomic.Int64

// graft says how a partition came of another: some networks are placed
// otherwise, and all other classes keep their numbers.
type graft struct {
	from    int64        // the id of the other
	touched map[int]bool // networks
	domains []bool       // by segment: some class of them is or was there
}

// mostGrafted is the share of the networks that a graft is worth while for: one in
// so many. Tests, whose estates are small, want more.
var mostGrafted = 8

// placed returns the survey of an estate in which some networks are placed
// otherwise, or nil if more must be looked at than those: where their addresses
// are also others', or public, or ways of others may change with them.
func (s *Survey) placed(j *verdict.Judge, r *verdict.Revision) *Survey {
	if len(r.Networks)*mostGrafted > len(s.net.Networks) || j.Shows() {
		return nil
	}
	g := &grafter{old: s.partition, judge: j, graft: &graft{from: s.id, touched: map[int]bool{}, domains: make([]bool, len(s.inside))}}
	for _, n := range r.Networks {
		g.touched[n] = true
	}
	if !g.apart() {
		return nil
	}
	p := g.partition()
	if p == nil {
		return nil
	}
	next := *s
	next.judge, next.partition, next.cellers = j, p, &sync.Pool{}
	next.spotIn = g.spotIn(s.spotIn, p)
	v := &surveyor{partition: p, judge: j, ledger: s.ledger, spotIn: next.spotIn}
	next.gates = slices.Clone(s.gates)
	for d, touched := range g.domains {
		if touched {
			next.gates[d] = v.gatesOf(d)
		}
	}
	rebuilt := next.regrow(s, v, g.domains)
	next.resettle(s, r, rebuilt)
	touched := func(from, to int) bool {
		return from < len(g.domains) && g.domains[from] || to < len(g.domains) && g.domains[to]
	}
	next.lookAll(&s.overview, touched, func(int, int) bool { return false })
	return &next
}

// regrow builds the blocks from and to some domains anew.
func (s *Survey) regrow(before *Survey, v *surveyor, domains []bool) map[[2]int]bool {
	rebuilt := map[[2]int]bool{}
	out := len(s.inside)
	s.blocks = slices.Clone(before.blocks)
	var pairs [][2]int
	for from := range s.blocks {
		s.blocks[from] = slices.Clone(before.blocks[from])
		for to := range s.blocks[from] {
			if !(from < out && domains[from]) && !(to < out && domains[to]) {
				continue
			}
			s.blocks[from][to] = nil
			if len(v.of(from)) == 0 || from == out && to == out || !s.reaches(from, to) {
				continue
			}
			rebuilt[[2]int{from, to}] = true
			pairs = append(pairs, [2]int{from, to})
		}
	}
	for i, b := range v.wholeBlocks(pairs) {
		s.blocks[pairs[i][0]][pairs[i][1]] = b
	}
	return rebuilt
}

// reaches reports whether there are flows from a domain to another.
func (s *Survey) reaches(from, to int) bool {
	return slices.ContainsFunc(s.of(to), func(n int) bool {
		c := &s.classes[n]
		return from == len(s.inside) && c.Internal() || from < len(s.inside) && c.seen[from] == seesIt
	})
}

// grafter makes a partition out of another.
type grafter struct {
	*graft
	old   *partition
	judge *verdict.Judge
	homes []netip.Prefix // of touched networks, before and after
	roads *paths.RouteMarks
}

// apart reports whether the touched networks have their addresses to themselves,
// before and after, and no two other addresses are told apart by ways that were
// alike.
func (g *grafter) apart() bool {
	nets := []*paths.Net{g.old.net, g.judge.Net()}
	for _, net := range nets {
		net.EachHome(func(segment, network int, p netip.Prefix) {
			if g.touched[network] {
				g.homes = append(g.homes, p)
				g.domains[segment] = true
			}
		})
	}
	slices.SortFunc(g.homes, func(a, b netip.Prefix) int {
		if c := a.Addr().Compare(b.Addr()); c != 0 {
			return c
		}
		return a.Bits() - b.Bits()
	})
	g.homes = slices.Compact(g.homes)
	roads, ok := g.old.roads.Renamed(g.judge.Net().Marks(), g.homes)
	g.roads = roads
	inside := paths.PrivatePrefixes()
	for _, p := range g.homes {
		ok = ok && slices.ContainsFunc(inside, func(o netip.Prefix) bool { return o.Bits() <= p.Bits() && o.Contains(p.Addr()) })
	}
	for _, net := range nets {
		net.EachHome(func(_, network int, p netip.Prefix) {
			ok = ok && (g.touched[network] || !slices.ContainsFunc(g.homes, p.Overlaps))
		})
	}
	return ok
}

// partition returns the classes of others, and those of the touched networks
// anew; nil if an address is in two segments.
func (g *grafter) partition() *partition {
	old, net := g.old, g.judge.Net()
	p := &partition{
		net: net, classes: slices.Clone(old.classes), inside: slices.Clone(old.inside), outside: old.outside, sets: slices.Clip(old.sets),
		local: slices.Clone(old.local), spots: slices.Clone(old.spots), alike: maps.Clone(old.alike), roads: g.roads, id: partitions.Add(1), graft: g.graft, rolls: &rolls{},
	}
	for d, touched := range g.domains {
		if touched {
			g.clear(p, d)
		}
	}
	likeness := make([]int, len(net.Networks))
	for _, n := range slices.Sorted(maps.Keys(g.touched)) {
		likeness[n] = number(p.alike, net.Alike(paths.Home{Network: n, Subnet: paths.None}))
	}
	b := newBuilder(p, g.judge, likeness)
	for _, x := range g.stretches() {
		switch len(x.homes) {
		case 0:
		case 1:
			b.lone(&x)
		default:
			return nil
		}
	}
	r := newRegistrar(p)
	r.take(b)
	r.finish()
	for d, touched := range g.domains {
		if touched {
			p.local[d].index(p.sets, len(g.judge.GroupNames()))
		}
	}
	return p
}

// clear takes the classes of touched networks out of a domain. They keep their
// numbers, and nothing is left of them.
func (g *grafter) clear(p *partition, domain int) {
	was := g.old.local[domain]
	p.inside[domain], p.local[domain] = nil, setList{}
	nobody := make([]see, len(p.inside))
	for i := range nobody {
		nobody[i] = seesNothing
	}
	for _, n := range g.old.inside[domain] {
		c := &p.classes[n]
		if g.touched[c.End.Home.Network] {
			c.Ranges, c.Workloads, c.size, c.weight, c.seen = nil, nil, size{}, 0, nobody
			continue
		}
		c.set = p.local[domain].add(was.sets[c.set])
		p.local[domain].classes[c.set] = append(p.local[domain].classes[c.set], n)
		c.at = int32(len(p.inside[domain]))
		p.inside[domain] = append(p.inside[domain], n)
	}
}

// stretches returns the line of addresses within the homes that touched networks
// have now or had before.
func (g *grafter) stretches() []stretch {
	net := g.judge.Net()
	var starts []netip.Addr
	for _, p := range g.homes {
		starts = append(starts, p.Masked().Addr())
		if after := lastOf(p).Next(); after.IsValid() {
			starts = append(starts, after)
		}
	}
	g.judge.EachCut(func(p netip.Prefix) {
		from, after := p.Masked().Addr(), lastOf(p).Next()
		for _, h := range g.homes {
			if h.Contains(from) {
				starts = append(starts, from)
			}
			if after.IsValid() && h.Contains(after) {
				starts = append(starts, after)
			}
		}
	})
	slices.SortFunc(starts, netip.Addr.Compare)
	starts = slices.Compact(starts)
	var out []stretch
	for i, from := range starts {
		if !slices.ContainsFunc(g.homes, func(p netip.Prefix) bool { return p.Contains(from) }) {
			continue // between two homes
		}
		x := stretch{Range: Range{from, from}}
		x.To = starts[i+1].Prev() // a home ends somewhere, and that is a start
		for s := range net.Segments {
			if _, ok := net.Home(s, from); ok {
				x.homes = append(x.homes, s)
			}
		}
		out = append(out, x)
	}
	return out
}

// spotIn returns the spots of each domain, with those of the touched ones found
// anew: of spots that are left, what shows them must be left too.
func (g *grafter) spotIn(before [][]int, p *partition) [][]int {
	out := slices.Clone(before)
	for d, touched := range g.domains {
		if !touched {
			continue
		}
		seen := map[int]bool{}
		var list []int
		for _, n := range p.inside[d] {
			c := &p.classes[n]
			s := &p.spots[c.spot]
			switch {
			case !seen[c.spot]:
				seen[c.spot] = true
				list = append(list, c.spot)
				s.one, s.other = c.End, verdict.Endpoint{}
			case !s.other.Addr.IsValid() && s.one.Home.Network != c.End.Home.Network:
				s.other = c.End
			}
		}
		slices.Sort(list)
		for at, n := range list {
			p.spots[n].at = at
		}
		for _, n := range p.inside[d] {
			p.classes[n].spotAt = int32(p.spots[p.classes[n].spot].at)
		}
		out[d] = list
	}
	return out
}

// grafted returns how the partition of one of two surveys came of the other's, or
// nil if it did not, or if the rules are not the same.
func grafted(old, new *Survey) *graft {
	switch {
	case old.ledger != new.ledger || !old.judge.SameRules(new.judge):
	case new.graft != nil && new.graft.from == old.id:
		return new.graft
	case old.graft != nil && old.graft.from == new.id:
		return old.graft
	}
	return nil
}

// moves reports whether some network of a territory is placed otherwise.
func (g *graft) moves(t *territory) bool {
	return t.node.Kind != NodeInternet && g.domains[t.new]
}
