package survey

import (
	"net/netip"
	"slices"

	"bivium/core/lists"
	"bivium/core/parallel"
)

// directory finds the classes of an address, of all domains. Addresses of IPv4 are
// looked up by their bits, those of IPv6 among all ranges.
type directory struct {
	once    parallel.Once
	four    multibitTrie
	six     []slot
	lists   [][]int32 // of classes, the first empty
	entries []entry   // by class
	sights  [][]see
}

// holding is who has an address: nobody, one class, or the classes of a list of the
// directory.
type holding int32

func heldBy(class int32) holding   { return holding(class)<<2 | 1 }
func heldByAll(list int32) holding { return holding(list) << 2 }

// slot is one range of addresses, up to the next.
type slot struct {
	start size
	hold  holding
}

// entry is what is asked of a class to which an address leads.
type entry struct {
	ticket
	sight int32 // number of what the segments see of it
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
		return lists.OneIf(b.ends) - lists.OneIf(a.ends)
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
		hold := holding(0)
		if len(now) == 1 {
			hold = heldBy(now[0])
		} else {
			slices.Sort(now)
			key := lists.Key32(now)
			list, ok := known[key]
			if !ok {
				list = int32(len(d.lists))
				known[key] = list
				d.lists = append(d.lists, slices.Clone(now))
			}
			hold = heldByAll(list)
		}
		if at.Is6() {
			d.six = append(d.six, slot{numberOf(at), hold})
			continue
		}
		last := uint32(1<<32 - 1)
		if i < len(edges) && edges[i].at.Is4() {
			last = uint32(numberOf(edges[i].at).lo) - 1
		}
		d.four.put(uint32(numberOf(at).lo), last, hold)
	}
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

// at returns the class that holds an address, or, where it is not one alone, -1 and
// those that do.
func (d *directory) at(a netip.Addr) (one int32, more []int32) {
	hold := holding(0)
	if n := numberOf(a); a.Is4() {
		hold = d.four.at(uint32(n.lo))
	} else if i := d.below(n); i >= 0 {
		hold = d.six[i].hold
	}
	if hold&1 != 0 {
		return int32(hold >> 2), nil
	}
	return -1, d.lists[hold>>2]
}

// below returns the last range of IPv6 that begins at or below an address, or -1.
func (d *directory) below(n size) int {
	lo, hi := 0, len(d.six)
	for lo < hi {
		mid := (lo + hi) / 2
		if start := &d.six[mid].start; start.hi < n.hi || start.hi == n.hi && start.lo <= n.lo {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo - 1
}

// multibitTrie holds what there is at each address of IPv4 by its upper 16 bits, where those
// do not tell by the next 8, and else by the last 8: three steps at most, whatever there
// is (P. Gupta, S. Lin and N. McKeown, Routing lookups in hardware at memory access
// speeds, 1998).
type multibitTrie struct {
	upper []holding
	next  [][256]holding
}

// further is the holding of addresses that share no more bits: those of a table of the
// next ones.
func further(table int) holding { return holding(table)<<2 | 2 }

func (t *multibitTrie) at(a uint32) holding {
	if len(t.upper) == 0 {
		return 0
	}
	hold := t.upper[a>>16]
	if hold&2 != 0 {
		if hold = t.next[hold>>2][a>>8&255]; hold&2 != 0 {
			hold = t.next[hold>>2][a&255]
		}
	}
	return hold
}

// put notes who has the addresses of a range.
func (t *multibitTrie) put(first, last uint32, hold holding) {
	if t.upper == nil {
		t.upper = make([]holding, 1<<16)
	}
	for u := first >> 16; u <= last>>16; u++ {
		lo, hi := within16(first, last, u)
		if lo == 0 && hi == 1<<16-1 {
			t.upper[u] = hold
			continue
		}
		table := t.under(&t.upper[u])
		for m := lo >> 8; m <= hi>>8; m++ {
			from, to := max(lo, m<<8)&255, min(hi, m<<8+255)&255
			if from == 0 && to == 255 {
				t.next[table][m] = hold
				continue
			}
			fine := t.under(&t.next[table][m])
			for at := from; at <= to; at++ {
				t.next[fine][at] = hold
			}
		}
	}
}

// within16 returns the lower 16 bits of the first and last addresses of a range that
// have some upper ones.
func within16(first, last, upper uint32) (lo, hi uint32) {
	hi = 1<<16 - 1
	if first>>16 == upper {
		lo = first & hi
	}
	if last>>16 == upper {
		hi = last & hi
	}
	return lo, hi
}

// under returns the table of the next bits at a place, which it makes if there is none.
func (t *multibitTrie) under(place *holding) int {
	if *place&2 == 0 {
		var fresh [256]holding
		for i := range fresh {
			fresh[i] = *place
		}
		*place = further(len(t.next))
		t.next = append(t.next, fresh)
	}
	return int(*place >> 2)
}
