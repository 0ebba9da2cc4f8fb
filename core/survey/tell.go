package survey

import (
	"net/netip"
	"slices"
	"sync"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Tell returns the verdict on one flow, the same as the judge's, by looking up
// what the survey knows. It is meant for many flows: the first call makes a
// table of all addresses. Flows from the internet are left to the judge. Cost:
// two look-ups of an address, in a table cut by its upper 16 bits.
func (s *Survey) Tell(f *verdict.Flow) verdict.Verdict {
	if f.Segment == verdict.Internet {
		return s.judge.Judge(*f)
	}
	ports, sources := estate.PortsOf(f.Protocol)
	segment := s.net.Segment(f.Segment)
	if segment == paths.None || f.Source == f.Destination || f.Source.Is4() != f.Destination.Is4() || f.Port > ports.Hi || f.SourcePort > sources.Hi {
		return s.results[s.vectors[0][0]]
	}
	t := s.directory()
	src, dst := -1, s.shownAs(segment, f.Destination)
	for _, c := range t.at(f.Source) {
		if s.classes[c].End.Segment == segment && s.classes[c].Internal() {
			src = int(c)
		}
	}
	for _, c := range t.at(f.Destination) {
		if x := &s.classes[c]; x.seen[segment] == seesIt && s.asSeen(x, f.Destination, segment) == f.Destination {
			dst = int(c)
		}
	}
	if src < 0 || dst < 0 {
		return s.results[s.vectors[0][0]]
	}
	c, ok := s.combine(&s.classes[src], &s.classes[dst])
	if !ok {
		return s.results[s.vectors[0][0]]
	}
	return s.results[s.vectors[s.verdicts[c.effect][c.stance]][s.atoms.At(f.Protocol, f.SourcePort, f.Port)]]
}

// shownAs returns the class of which a segment sees an address under the given one,
// or -1.
func (s *Survey) shownAs(segment int, a netip.Addr) int {
	found := -1
	s.judge.EachOwn(segment, a, func(of int, own netip.Addr) {
		for _, c := range s.directory().at(own) {
			if x := &s.classes[c]; x.End.Segment == of && x.Internal() && x.seen[segment] == seesIt {
				found = int(c)
			}
		}
	})
	return found
}

// directory finds the classes of an address, of all domains.
type directory struct {
	once  sync.Once
	four  shelf[uint32]
	six   shelf[size]
	lists [][]int32 // of classes
}

// shelf is ranges of addresses of one family, in order.
type shelf[A any] struct {
	starts []A
	list   []int32
	upper  []int32 // by the upper 16 bits of an address: the first range that may hold it
}

// directory returns the directory of the partition.
func (p *partition) directory() *directory {
	p.addresses.once.Do(func() { p.addresses.fill(p) })
	return &p.addresses
}

// fill sweeps the ranges of all classes.
func (d *directory) fill(p *partition) {
	type edge struct {
		at    netip.Addr
		class int32
		ends  bool
	}
	var edges []edge
	for i := range p.classes {
		for _, r := range p.classes[i].Ranges {
			edges = append(edges, edge{r.From, int32(i), false})
			if after := r.To.Next(); after.IsValid() && after.Is4() == r.To.Is4() {
				edges = append(edges, edge{after, int32(i), true})
			}
		}
	}
	slices.SortFunc(edges, func(a, b edge) int { // where one range of a class meets another, it ends first
		if d := a.at.Compare(b.at); d != 0 {
			return d
		}
		return oneIf(b.ends) - oneIf(a.ends)
	})
	known := map[string]int32{}
	var now []int32
	for i := 0; i < len(edges); {
		at := edges[i].at
		if i > 0 && at.Is4() != edges[i-1].at.Is4() {
			now = now[:0] // the last ranges of IPv4 have no end
		}
		for ; i < len(edges) && edges[i].at == at; i++ {
			if edges[i].ends {
				now = slices.DeleteFunc(now, func(c int32) bool { return c == edges[i].class })
			} else {
				now = append(now, edges[i].class)
			}
		}
		slices.Sort(now)
		key := unitsKey(now)
		list, ok := known[key]
		if !ok {
			list = int32(len(d.lists))
			known[key] = list
			d.lists = append(d.lists, slices.Clone(now))
		}
		n := numberOf(at)
		if at.Is4() {
			d.four.starts, d.four.list = append(d.four.starts, uint32(n.lo)), append(d.four.list, list)
		} else {
			d.six.starts, d.six.list = append(d.six.starts, n), append(d.six.list, list)
		}
	}
	d.four.index(func(a uint32) int { return int(a >> 16) })
	d.six.index(func(a size) int { return int(a.hi >> 48) })
}

// index notes where the ranges of each upper half begin.
func (s *shelf[A]) index(upper func(A) int) {
	s.upper = make([]int32, 1<<16+1)
	k := 0
	for u := range s.upper {
		for k < len(s.starts) && upper(s.starts[k]) < u {
			k++
		}
		s.upper[u] = int32(k)
	}
}

// at returns the classes that hold an address.
func (d *directory) at(a netip.Addr) []int32 {
	n := numberOf(a)
	if a.Is4() {
		key := uint32(n.lo)
		return d.found(d.four.list, search(d.four.starts, &d.four, int(key>>16), func(b uint32) bool { return b <= key }))
	}
	return d.found(d.six.list, search(d.six.starts, &d.six, int(n.hi>>48), func(b size) bool { return b.hi < n.hi || b.hi == n.hi && b.lo <= n.lo }))
}

// search returns the last range that begins at or below an address, -1 for none.
func search[A any](starts []A, s *shelf[A], upper int, below func(A) bool) int {
	lo, hi := int(s.upper[upper]), int(s.upper[upper+1])
	for lo < hi {
		if mid := (lo + hi) / 2; below(starts[mid]) {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo - 1
}

func (d *directory) found(list []int32, i int) []int32 {
	if i < 0 {
		return nil
	}
	return d.lists[list[i]]
}
