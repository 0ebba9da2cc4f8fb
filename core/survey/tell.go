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
	d := s.directory()
	src, dst := d.within(segment, f.Source), int32(-1)
	if s.judge.Shows() {
		dst = s.findShown(segment, f.Destination)
	} else {
		dst = d.seenBy(segment, f.Destination)
	}
	if src < 0 || dst < 0 {
		return s.results[s.vectors[0][0]]
	}
	c, ok := s.combine(&d.entries[src].ticket, &d.entries[dst].ticket)
	if !ok {
		return s.results[s.vectors[0][0]]
	}
	return s.results[s.vectors[s.verdicts[c.effect][c.stance]][s.atoms.At(f.Protocol, f.SourcePort, f.Port)]]
}

// findShown returns the class of which a segment sees an address under the given
// one, which may be its own, or -1.
func (s *Survey) findShown(segment int, a netip.Addr) int32 {
	d := s.directory()
	one, more := d.at(a)
	if one >= 0 {
		more = []int32{one}
	}
	for _, c := range more {
		if x := s.classes[c]; x.seen[segment] == seesIt && s.asSeen(x, a, segment) == a {
			return c
		}
	}
	found := int32(-1)
	s.judge.EachOwn(segment, a, func(of int, own netip.Addr) {
		if c := d.within(of, own); c >= 0 && s.classes[c].seen[segment] == seesIt {
			found = c
		}
	})
	return found
}

// directory finds the classes of an address, of all domains.
type directory struct {
	once    sync.Once
	four    shelf[uint32]
	six     shelf[size]
	lists   [][]int32 // of classes, the first empty
	entries []entry   // by class
	sights  [][]see
}

// entry is what is asked of a class to which an address leads.
type entry struct {
	ticket
	sight int32 // number of what the segments see of it
}

// shelf is ranges of addresses of one family, in order.
type shelf[A any] struct {
	starts []A
	hold   []int32 // the class of the range; where it is not one alone, ^i for the list i
	upper  []int32 // by the upper 16 bits of an address: the first range that may hold it
}

// within returns the class of a segment that holds an address, or -1.
func (d *directory) within(segment int, a netip.Addr) int32 {
	one, more := d.at(a)
	if one >= 0 && d.entries[one].domain == int32(segment) {
		return one
	}
	for _, c := range more {
		if d.entries[c].domain == int32(segment) {
			return c
		}
	}
	return -1
}

// seenBy returns the class of which a segment sees an address, as if none was shown
// under another, or -1.
func (d *directory) seenBy(segment int, a netip.Addr) int32 {
	one, more := d.at(a)
	if one >= 0 && d.sights[d.entries[one].sight][segment] == seesIt {
		return one
	}
	for _, c := range more {
		if d.sights[d.entries[c].sight][segment] == seesIt {
			return c
		}
	}
	return -1
}

// directory returns the directory of the partition.
func (p *partition) directory() *directory {
	p.addresses.once.Do(func() { p.addresses.fill(p) })
	return p.addresses
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
	d.enter(p)
	d.lists = [][]int32{nil}
	known := map[string]int32{"": 0}
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
		hold := int32(0)
		if len(now) == 1 {
			hold = now[0]
		} else {
			slices.Sort(now)
			key := unitsKey(now)
			list, ok := known[key]
			if !ok {
				list = int32(len(d.lists))
				known[key] = list
				d.lists = append(d.lists, slices.Clone(now))
			}
			hold = ^list
		}
		n := numberOf(at)
		if at.Is4() {
			d.four.starts, d.four.hold = append(d.four.starts, uint32(n.lo)), append(d.four.hold, hold)
		} else {
			d.six.starts, d.six.hold = append(d.six.starts, n), append(d.six.hold, hold)
		}
	}
	d.four.index(func(a uint32) int { return int(a >> 16) })
	d.six.index(func(a size) int { return int(a.hi >> 48) })
}

// enter makes the entries.
func (d *directory) enter(p *partition) {
	d.entries = make([]entry, len(p.classes))
	known := map[*see]int32{} // classes that are seen alike share a list
	for i := range p.classes {
		c := p.classes[i]
		var first *see
		if len(c.seen) > 0 {
			first = &c.seen[0]
		}
		sight, ok := known[first]
		if !ok {
			sight = int32(len(d.sights))
			known[first] = sight
			d.sights = append(d.sights, c.seen)
		}
		d.entries[i] = entry{c.ticket, sight}
	}
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

// at returns the class that holds an address, or, where it is not one alone, -1 and
// those that do.
func (d *directory) at(a netip.Addr) (one int32, more []int32) {
	n := numberOf(a)
	if a.Is4() {
		key := uint32(n.lo)
		return d.found(d.four.hold, search(d.four.starts, &d.four, int(key>>16), func(b uint32) bool { return b <= key }))
	}
	return d.found(d.six.hold, search(d.six.starts, &d.six, int(n.hi>>48), func(b size) bool { return b.hi < n.hi || b.hi == n.hi && b.lo <= n.lo }))
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

func (d *directory) found(hold []int32, i int) (one int32, more []int32) {
	switch {
	case i < 0:
		return -1, nil
	case hold[i] >= 0:
		return hold[i], nil
	}
	return -1, d.lists[^hold[i]]
}
