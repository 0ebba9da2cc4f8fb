package classes

import (
	"maps"
	"net/netip"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"go4.org/netipx"

	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/membership"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/recompile"
	"bivium/core/verdict"
)

// LastPartition counts the partitions that were made.
var LastPartition atomic.Int64

// Update says how a partition came of another: all endpoints that it does not refer to
// are in the same classes, which have the same numbers.
type Update struct {
	Origin  int64            // the id of the other
	changed []bool           // by class: it has other endpoints than before
	moved   []bool           // by network: its paths may be others
	Domains []bool           // those in which a class has changed, or a network is whose paths may be others
	Altered []bool           // those in which a class has changed
	Turned  []bool           // by network: it enforces verdicts in one of the two alone
	Ways    bool             // paths may be others without it saying so
	Gates   bool             // so may be what is published
	Touched intervals.Ranges // addresses whose endpoints may be others
}

// Changes reports whether a class has other endpoints in one of the two partitions.
func (g *Update) Changes(class int) bool { return class >= len(g.changed) || g.changed[class] }

// Moves reports whether the paths of a network may be others; of none, they are not.
func (g *Update) Moves(network int32) bool { return network != paths.None && g.moved[network] }

// mostDead is how many classes without endpoints a partition may carry along, for
// each that has some: then it is worth while to begin anew.
const mostDead = 1

// Revise returns the partition of a revised judge: this one, if endpoints are the same, or
// one that comes of it, in which those are put into classes anew that
// may be others. It is nil if it is better to begin anew.
func (p *Partition) Revise(from, to *verdict.Judge, r *recompile.Revision) *Partition {
	g := &updater{Partition: p, judge: from, to: to, revision: r}
	g.findTouched()
	g.findAffected()
	if len(g.touched) == 0 && len(r.Networks) == 0 && r.Subnets == nil && r.Workloads == nil {
		if to.Net == p.Net {
			return p
		}
		next := *p // the same endpoints, on other paths
		next.Net, next.Alike, next.RouteMarks, next.Split = to.Net, g.alike, g.roads, nil
		return &next
	}
	return g.update()
}

// updater makes a partition out of another.
type updater struct {
	*Partition
	judge    *verdict.Judge // of that
	to       *verdict.Judge
	revision *recompile.Revision
	alike    map[string]int
	roads    *paths.RouteMarks
	touched  intervals.Ranges // addresses whose endpoints may be others
	affected []bool           // by class: one that has some of them
}

// findTouched finds which addresses are touched, and what makes paths alike now.
func (g *updater) findTouched() {
	var set netipx.IPSetBuilder
	for _, p := range g.revision.Touched {
		set.AddPrefix(p)
	}
	g.roads, g.alike = g.Partition.RouteMarks, maps.Clone(g.Partition.Alike) // builders add to it
	if net := g.to.Net; net != g.Net {
		var moved []netipx.IPRange
		g.roads, moved = g.roads.Aligned(net.Marks())
		for _, r := range moved {
			set.AddRange(r)
		}
		split := g.Split
		if g.revision.Links {
			var more []int
			g.alike, more = g.rematched()
			split = slices.Concat(split, more)
		}
		for _, net := range []*paths.Net{g.Net, net}[:min(2, 2*len(split))] {
			net.EachHome(func(_, network int, p netip.Prefix) {
				if slices.Contains(split, network) {
					set.AddPrefix(p)
				}
			})
		}
	}
	for i := range g.Classes {
		if !g.revision.Outside && !g.revision.Reoffers() {
			break
		}
		c := g.Classes[i]
		if c.Internal() && g.revision.Offers(c.End.Segment, c.End.Groups) || !c.Internal() && g.revision.Outside {
			for _, r := range c.Ranges {
				set.AddRange(netipx.IPRangeFrom(r.From, r.To))
			}
		}
	}
	g.touched = g.seenToo(intervals.RangesOf(&set))
}

// seenToo returns ranges with those by which segments see their addresses, and with
// those that they see by them.
func (g *updater) seenToo(t intervals.Ranges) intervals.Ranges {
	judges := []*verdict.Judge{g.judge, g.to}
	if !judges[0].Shows() && !judges[1].Shows() {
		return t
	}
	for range 3 { // to the other side, back from there, and to a third
		var set netipx.IPSetBuilder
		for _, r := range t {
			set.AddRange(netipx.IPRangeFrom(r.From, r.To))
		}
		for _, j := range judges {
			j.EachShown(func(_, _ int, inside, outside netip.Prefix) {
				for _, p := range [2][2]netip.Prefix{{inside, outside}, {outside, inside}} {
					first, last := p[0].Addr(), intervals.LastOf(p[0])
					for _, r := range t {
						from, to := r.From, r.To
						if from.Compare(first) < 0 {
							from = first
						}
						if to.Compare(last) > 0 {
							to = last
						}
						if from.Compare(to) <= 0 {
							set.AddRange(netipx.IPRangeFrom(estate.Rebase(from, p[1]), estate.Rebase(to, p[1])))
						}
					}
				}
			})
		}
		t = intervals.RangesOf(&set)
	}
	return t
}

// findAffected finds the classes that have touched addresses. All of their addresses are
// touched then, and so are the classes that have some of those in other segments;
// of external classes, all.
func (g *updater) findAffected() {
	g.affected = make([]bool, len(g.Classes))
	for fresh := g.touched; len(fresh) > 0; {
		var more []int
		take := func(i int) {
			g.affected[i] = true
			more = append(more, i)
		}
		outside := false
		for _, met := range g.meeting(fresh) {
			for _, i := range met {
				outside = outside || !g.Classes[i].Internal()
				take(i)
			}
		}
		for _, i := range g.Outside {
			if outside && !g.affected[i] {
				take(i)
			}
		}
		var all, added netipx.IPSetBuilder
		for _, r := range g.touched {
			all.AddRange(netipx.IPRangeFrom(r.From, r.To))
		}
		for _, i := range more {
			for _, r := range g.Classes[i].Ranges {
				all.AddRange(netipx.IPRangeFrom(r.From, r.To))
				if !g.touched.Holds(r) {
					added.AddRange(netipx.IPRangeFrom(r.From, r.To))
				}
			}
		}
		g.touched, fresh = intervals.RangesOf(&all), intervals.RangesOf(&added)
	}
}

// meeting returns the classes that are not affected yet and have addresses in intervals,
// in shares: there are many.
func (g *updater) meeting(fresh intervals.Ranges) [][]int {
	out := make([][]int, max(1, min(runtime.GOMAXPROCS(0), len(g.Classes)/4096)))
	if len(fresh) == 0 {
		return out
	}
	spans, all := g.spans.ranges(g.Partition), intervals.Range{From: fresh[0].From, To: fresh[len(fresh)-1].To}
	parallel.Shares(len(g.Classes), len(out), func(share, first, last int) {
		for i := first; i < last; i++ {
			if spans[i].Meets(all) && !g.affected[i] && slices.ContainsFunc(g.Classes[i].Ranges, fresh.Meets) {
				out[share] = append(out[share], i)
			}
		}
	})
	return out
}

// update makes the partition.
func (g *updater) update() *Partition {
	old, j := g.Partition, g.to
	if live := g.live(); len(old.Classes)-live > mostDead*live+1000 {
		return nil
	}
	p := &Partition{
		Net: j.Net, Classes: slices.Clone(old.Classes), Inside: slices.Clone(old.Inside), Outside: old.Outside, Sets: slices.Clip(old.Sets),
		Local: slices.Clone(old.Local), PathClasses: slices.Clone(old.PathClasses), PathClassesIn: slices.Clone(old.PathClassesIn), Alike: g.alike, RouteMarks: g.roads,
		ID: LastPartition.Add(1), Numbering: old.Numbering, Addresses: &Directory{}, spans: &spans{}, Numbers: &Numbers{},
	}
	r := newClassInterner(p, j, old)
	g.renumber(r)
	for i, affected := range g.affected {
		if affected {
			r.empty(i)
		}
	}
	r.settle(intervals.Elementary(j, g.touched))
	r.finish()
	p.Update, p.Stores = g.describe(p, r.owned), old.rollsAfter(r.owned)
	return p
}

// live returns how many classes have endpoints.
func (p *Partition) live() int {
	n := len(p.Outside)
	for _, classes := range p.Inside {
		n += len(classes)
	}
	return n
}

// describe says how the partition came of the old one.
func (g *updater) describe(p *Partition, domains []bool) *Update {
	networks := len(p.Net.Networks)
	out := &Update{
		Origin: g.ID, changed: make([]bool, len(p.Classes)), moved: make([]bool, networks), Domains: domains,
		Altered: make([]bool, len(domains)), Turned: make([]bool, networks), Ways: g.revision.Ways, Gates: g.revision.Gates, Touched: g.touched,
	}
	for i, c := range p.Classes {
		out.changed[i] = i >= len(g.Classes) || c != g.Classes[i] && !slices.Equal(c.Ranges, g.Classes[i].Ranges)
		if out.changed[i] {
			out.Altered[p.DomainOf(c)] = true
		}
	}
	for _, n := range g.revision.Networks {
		out.moved[n] = true
		out.Turned[n] = p.Net.Networks[n].Enforces != g.Net.Networks[n].Enforces
	}
	return out
}

// renumber gives the classes and path classes of the partition the numbers that workloads and
// subnets have now.
func (g *updater) renumber(r *classInterner) {
	subnets, workloads := g.revision.Subnets, g.revision.Workloads
	if subnets == nil && workloads == nil {
		return
	}
	at := func(end *membership.Endpoint) {
		if subnets != nil && end.Internal() && end.Home.Subnet != paths.None {
			end.Home.Subnet = subnets[end.Home.Subnet]
		}
		if workloads != nil && end.Workload != paths.None {
			end.Workload = workloads[end.Workload]
		}
	}
	for i := range r.PathClasses {
		at(&r.PathClasses[i].One)
		at(&r.PathClasses[i].Other)
	}
	for i, shared := range r.Classes {
		if len(shared.Ranges) == 0 || g.affected[i] {
			continue
		}
		c := r.edit(i)
		at(&c.End)
		if workloads == nil || len(c.Workloads) == 0 {
			continue
		}
		list := make([]int, len(c.Workloads))
		for k, w := range c.Workloads {
			list[k] = workloads[w]
		}
		slices.Sort(list)
		c.Workloads = list
	}
}

// rematched returns the numbers of what makes paths alike in a net whose links are
// others, and the networks that are told apart there, and were not before.
func (g *updater) rematched() (out map[string]int, split []int) {
	stays := func(n int) int {
		if slices.Contains(g.revision.Networks, n) {
			return paths.None
		}
		return n
	}
	out, used, split := Rematch(g.Net, g.to.Net, stays, g.Partition.Alike)
	for key, number := range g.Partition.Alike {
		if used[number] {
			continue
		}
		if strings.HasPrefix(key, "i") || strings.HasPrefix(key, "a") { // of links as they were; no other gets its number
			key = GoneKey(number)
		}
		out[key] = number
	}
	return out, split
}

// Rematch returns the numbers of what makes paths alike in a net, of networks that
// another net has too; now tells the number that a network has, or None for one to be
// left out. used tells which numbers it gives, and split the networks, by the number that
// they have now, that are not alike any more to those that keep their number.
func Rematch(was, is *paths.Net, now func(network int) int, known map[string]int) (out map[string]int, used map[int]bool, split []int) {
	out, used = make(map[string]int, len(known)), map[int]bool{}
	keys := map[string]string{}
	for n := range was.Networks {
		to := now(n)
		if to == paths.None {
			continue
		}
		homes := []int{paths.None}
		if was.Translates(n) {
			homes = append(homes, was.Networks[n].Subnets...)
		}
		for _, subnet := range homes {
			theirs, ok := sameSubnet(was, is, subnet, to)
			if !ok {
				continue
			}
			before, after := was.Alike(paths.Home{Network: n, Subnet: subnet}), is.Alike(paths.Home{Network: to, Subnet: theirs})
			if key, ok := keys[before]; ok && key != after {
				split = append(split, to)
				break
			}
			keys[before] = after
			number, ok := known[before]
			if _, taken := out[after]; ok && !taken {
				out[after] = number
				used[number] = true
			}
		}
	}
	return out, used, split
}

// sameSubnet returns the number that a subnet has in another net, where its network has a
// given number; None is that of no subnet.
func sameSubnet(was, is *paths.Net, subnet, network int) (int, bool) {
	if subnet == paths.None {
		return paths.None, true
	}
	for _, s := range is.Networks[network].Subnets {
		if is.Subnets[s].Name == was.Subnets[subnet].Name {
			return s, true
		}
	}
	return paths.None, false
}

// GoneKey is the key of a number that nothing has any more.
func GoneKey(number int) string { return "was " + strconv.Itoa(number) }
