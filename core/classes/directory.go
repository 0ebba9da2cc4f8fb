package classes

import (
	"net/netip"
	"slices"

	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/parallel"
)

// Directory finds the classes of an address, of all domains. Addresses of IPv4 are
// looked up by their bits, those of IPv6 among all ranges.
type Directory struct {
	once    parallel.Once
	four    MultibitTrie
	six     []slot
	lists   [][]int32 // of classes, the first empty
	Entries []entry   // by class
	sights  [][]Visibility
}

// holding is who has an address: nobody, one class, or the classes of a list of the
// directory.
type holding int32

func HeldBy(class int32) holding   { return holding(class)<<2 | 1 }
func HeldByAll(list int32) holding { return holding(list) << 2 }

// slot is one range of addresses, up to the next.
type slot struct {
	start intervals.Size
	hold  holding
}

// entry is what is asked of a class to which an address leads.
type entry struct {
	Header
	sight int32 // number of what the segments see of it
}

// Within returns the class of a segment that holds an address, or -1.
func (d *Directory) Within(segment int, a netip.Addr) int32 {
	one, more := d.Lookup(a)
	if one >= 0 && d.Entries[one].Domain == int32(segment) {
		return one
	}
	for _, c := range more {
		if d.Entries[c].Domain == int32(segment) {
			return c
		}
	}
	return -1
}

// SeenBy returns the class of which a segment sees an address, as if none was shown
// under another, or -1.
func (d *Directory) SeenBy(segment int, a netip.Addr) int32 {
	one, more := d.Lookup(a)
	if one >= 0 && d.sights[d.Entries[one].sight][segment] == SeesIt {
		return one
	}
	for _, c := range more {
		if d.sights[d.Entries[c].sight][segment] == SeesIt {
			return c
		}
	}
	return -1
}

// Directory returns the directory of the partition.
func (p *Partition) Directory() *Directory {
	p.Addresses.once.Do(func() { p.Addresses.finish(p) })
	return p.Addresses
}

// finish sweeps the ranges of all classes.
func (d *Directory) finish(p *Partition) {
	type edge struct {
		at    netip.Addr
		class int32
		ends  bool
	}
	var edges []edge
	for i := range p.Classes {
		for _, r := range p.Classes[i].Ranges {
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
	d.fill(p)
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
			hold = HeldBy(now[0])
		} else {
			slices.Sort(now)
			key := lists.Key32(now)
			list, ok := known[key]
			if !ok {
				list = int32(len(d.lists))
				known[key] = list
				d.lists = append(d.lists, slices.Clone(now))
			}
			hold = HeldByAll(list)
		}
		if at.Is6() {
			d.six = append(d.six, slot{intervals.NumberOf(at), hold})
			continue
		}
		last := uint32(1<<32 - 1)
		if i < len(edges) && edges[i].at.Is4() {
			last = uint32(intervals.NumberOf(edges[i].at).Lo) - 1
		}
		d.four.Put(uint32(intervals.NumberOf(at).Lo), last, hold)
	}
}

// fill makes the entries.
func (d *Directory) fill(p *Partition) {
	d.Entries = make([]entry, len(p.Classes))
	known := map[*Visibility]int32{} // classes that are seen alike share a list
	for i := range p.Classes {
		c := p.Classes[i]
		var first *Visibility
		if len(c.Seen) > 0 {
			first = &c.Seen[0]
		}
		sight, ok := known[first]
		if !ok {
			sight = int32(len(d.sights))
			known[first] = sight
			d.sights = append(d.sights, c.Seen)
		}
		d.Entries[i] = entry{c.Header, sight}
	}
}

// Lookup returns the class that holds an address, or, where it is not one alone, -1 and
// those that do.
func (d *Directory) Lookup(a netip.Addr) (one int32, more []int32) {
	hold := holding(0)
	if n := intervals.NumberOf(a); a.Is4() {
		hold = d.four.Lookup(uint32(n.Lo))
	} else if i := d.below(n); i >= 0 {
		hold = d.six[i].hold
	}
	if hold&1 != 0 {
		return int32(hold >> 2), nil
	}
	return -1, d.lists[hold>>2]
}

// below returns the last range of IPv6 that begins at or below an address, or -1.
func (d *Directory) below(n intervals.Size) int {
	lo, hi := 0, len(d.six)
	for lo < hi {
		mid := (lo + hi) / 2
		if start := &d.six[mid].start; start.Hi < n.Hi || start.Hi == n.Hi && start.Lo <= n.Lo {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo - 1
}

// MultibitTrie holds what there is at each address of IPv4 by its upper 16 bits, where those
// do not tell by the next 8, and else by the last 8: three steps at most, whatever there
// is (P. Gupta, S. Lin and N. McKeown, Routing lookups in hardware at memory access
// speeds, 1998).
type MultibitTrie struct {
	upper []holding
	next  [][256]holding
}

// further is the holding of addresses that share no more bits: those of a table of the
// next ones.
func further(table int) holding { return holding(table)<<2 | 2 }

func (t *MultibitTrie) Lookup(a uint32) holding {
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

// Put notes who has the addresses of a range.
func (t *MultibitTrie) Put(first, last uint32, hold holding) {
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
func (t *MultibitTrie) under(place *holding) int {
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
