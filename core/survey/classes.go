package survey

import (
	"encoding/binary"
	"math/big"
	"net/netip"
	"slices"

	"bivium/core/paths"
	"bivium/core/verdict"
)

// Class is a set of endpoints of one segment, or of external endpoints, that
// no rule, no route and no share tells apart. Classes of one side are disjoint,
// and together they are all endpoints.
type Class struct {
	End       verdict.Endpoint // one of them: a workload, if any is
	Size      *big.Int         // in addresses
	Workloads []int            // of the estate, sorted; each once
	Ranges    []Range          // sorted, disjoint

	weight float64 // Size, about
	four   bool    // of IPv4
	party  int     // number of the party
	place  int     // number of the place
	seen   []see   // by segment: what an address of the class is there
}

// Range is a range of addresses of one family, bounds included.
type Range struct{ From, To netip.Addr }

// Internal reports whether the class is of internal endpoints.
func (c *Class) Internal() bool { return c.End.Internal() }

// see is what a segment finds under the addresses of a class (M6.4).
type see uint8

const (
	seesOther   see = iota // an endpoint of another class: the address is used twice
	seesNothing            // nothing has the address there
	seesIt                 // the class itself
)

// partition is all endpoints of an estate, in classes.
type partition struct {
	judge   *verdict.Judge
	classes []Class
	inside  [][]int // by segment: its classes
	outside []int   // the external classes
	places  int     // how many places there are
	spoken  []bool  // by group
	parties map[string]int
	exits   map[exitParty]int
}

// exitParty is an external class as it is reached through an exit.
type exitParty struct{ class, exit int }

// divide returns all endpoints of the estate in classes. It walks the line of
// all addresses from one bound to the next, and asks the judge about the first
// address of each piece. Cost: the number of bounds times the segments.
func divide(j *verdict.Judge) *partition {
	p := &partition{judge: j, spoken: j.Spoken(), parties: map[string]int{}, exits: map[exitParty]int{}}
	b := &builder{partition: p, marks: j.Net().Marks(), known: map[string]int{}, sets: map[string]int{}, placeOf: map[string]int{}}
	p.inside = make([][]int, len(j.Net().Segments))
	for s := range j.Net().Segments {
		b.segment(s)
	}
	b.internet()
	p.places = len(b.placeOf)
	for i := range p.classes {
		p.classes[i].weight, _ = new(big.Float).SetInt(p.classes[i].Size).Float64()
	}
	return p
}

type builder struct {
	*partition
	marks   *paths.RouteMarks
	known   map[string]int // classes
	sets    map[string]int // sets of groups
	placeOf map[string]int
}

// bounds collects the addresses at which pieces begin.
type bounds struct{ starts []netip.Addr }

func (b *bounds) prefix(p netip.Prefix) {
	b.starts = append(b.starts, p.Addr())
	if after := lastOf(p).Next(); after.IsValid() {
		b.starts = append(b.starts, after)
	}
}

func (b *bounds) address(a netip.Addr) {
	b.starts = append(b.starts, a)
	if after := a.Next(); after.IsValid() {
		b.starts = append(b.starts, after)
	}
}

// pieces calls f for each piece of the two lines of addresses.
func (b *bounds) pieces(f func(Range)) {
	starts := append(b.starts, netip.IPv4Unspecified(), netip.IPv6Unspecified())
	slices.SortFunc(starts, netip.Addr.Compare)
	starts = slices.Compact(starts)
	for i, from := range starts {
		to := lastOf(netip.PrefixFrom(from, 0))
		if i+1 < len(starts) && starts[i+1].Is4() == from.Is4() {
			to = starts[i+1].Prev()
		}
		f(Range{from, to})
	}
}

// lastOf returns the last address of a prefix.
func lastOf(p netip.Prefix) netip.Addr {
	bytes := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < 8*len(bytes); i++ {
		bytes[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(bytes)
	return a
}

// segment adds the classes of a segment's endpoints.
func (b *builder) segment(s int) {
	net := b.judge.Net()
	var cuts bounds
	b.judge.EachCut(cuts.prefix)
	lives := make([]bool, len(net.Networks))
	for i := range net.Subnets {
		if net.Subnets[i].Segment == s {
			lives[net.Subnets[i].Network] = true
		}
	}
	b.judge.EachWorkloadAddress(func(network int, a netip.Addr) {
		if lives[network] {
			cuts.address(a)
		}
	})
	cuts.pieces(func(r Range) {
		end, ok := b.judge.Internal(s, r.From)
		if !ok {
			return
		}
		seen := make([]see, len(net.Segments))
		for other := range seen {
			seen[other] = b.sees(other, s, r.From)
		}
		b.add(end, r, seen)
	})
}

// sees returns what a segment finds under an address of segment s.
func (b *builder) sees(from, s int, a netip.Addr) see {
	if from == s {
		return seesIt
	}
	found, how := b.judge.Find(from, a)
	switch {
	case how == verdict.LookupShared && found.Segment == s:
		return seesIt
	case how == verdict.LookupUnknown:
		return seesNothing
	}
	return seesOther
}

// internet adds the classes of external endpoints.
func (b *builder) internet() {
	var cuts bounds
	b.judge.EachCut(cuts.prefix)
	// A share may make a single workload with a public address reachable.
	b.judge.EachWorkloadAddress(func(_ int, a netip.Addr) {
		if !paths.Private(a) {
			cuts.address(a)
		}
	})
	cuts.pieces(func(r Range) {
		if paths.Private(r.From) {
			return
		}
		seen := make([]see, len(b.inside))
		for s := range seen {
			if _, how := b.judge.Find(s, r.From); how == verdict.LookupInternet {
				seen[s] = seesIt
			}
		}
		b.add(b.judge.External(r.From, paths.None), r, seen)
	})
	for _, a := range examples {
		if c, ok := b.holding(b.outside, a); ok {
			b.classes[c].End = b.judge.External(a, paths.None)
		}
	}
}

// examples are addresses set aside for documentation (RFC 5737, RFC 3849),
// preferred for witnesses because they are nobody's.
var examples = []netip.Addr{netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8:ffff::7")}

// holding returns the one of some classes that holds an address, or false.
func (p *partition) holding(classes []int, a netip.Addr) (int, bool) {
	for _, c := range classes {
		ranges := p.classes[c].Ranges
		i, exact := slices.BinarySearchFunc(ranges, a, func(r Range, a netip.Addr) int { return r.From.Compare(a) })
		if !exact {
			i--
		}
		if i >= 0 && ranges[i].To.Compare(a) >= 0 {
			return c, true
		}
	}
	return 0, false
}

// add puts a piece into its class.
func (b *builder) add(end verdict.Endpoint, r Range, seen []see) {
	groups, place := number(b.sets, end.GroupKey()), b.place(&end)
	if !end.Internal() {
		groups = number(b.sets, b.judge.PrefixKey(end.Addr))
	}
	key := binary.AppendVarint(binary.AppendVarint(binary.AppendVarint(nil, int64(end.Segment)), int64(groups)), int64(place))
	for _, s := range seen {
		key = append(key, byte(s))
	}
	i, ok := b.known[string(key)]
	if !ok {
		i = len(b.classes)
		b.known[string(key)] = i
		b.classes = append(b.classes, Class{End: end, Size: new(big.Int), party: b.party(&end), place: place, four: end.Addr.Is4(), seen: seen})
		if end.Internal() {
			b.inside[end.Segment] = append(b.inside[end.Segment], i)
		} else {
			b.outside = append(b.outside, i)
		}
	}
	c := &b.classes[i]
	c.Size.Add(c.Size, sizeOf(r))
	c.Ranges = append(c.Ranges, r)
	if end.Workload != paths.None {
		if len(c.Workloads) == 0 {
			c.End = end
		}
		if at, has := slices.BinarySearch(c.Workloads, end.Workload); !has {
			c.Workloads = slices.Insert(c.Workloads, at, end.Workload)
		}
	}
}

// number returns the number of a key, a new one if it has none.
func number(of map[string]int, key string) int {
	i, ok := of[key]
	if !ok {
		i = len(of)
		of[key] = i
	}
	return i
}

// party returns the number of what rules can see of an endpoint: its segment,
// and those of its groups that some side names.
func (p *partition) party(end *verdict.Endpoint) int {
	key := binary.AppendVarint(nil, int64(end.Segment))
	for _, g := range end.Groups() {
		if p.spoken[g] {
			key = binary.AppendUvarint(key, uint64(g))
		}
	}
	return number(p.parties, string(key))
}

// place returns the number of the place of an endpoint: what its ways, there
// and back, can depend on.
func (b *builder) place(end *verdict.Endpoint) int {
	key := binary.AppendVarint(nil, int64(end.Segment))
	if end.Internal() {
		key = binary.AppendVarint(binary.AppendVarint(key, int64(end.Home.Network)), int64(end.Home.Subnet))
	}
	key = binary.AppendVarint(key, int64(b.marks.At(end.Addr)))
	if end.Addr.Is4() {
		key = append(key, 4)
	}
	return number(b.placeOf, string(key))
}

// throughExit returns the party of an external class when it is reached through
// an exit, or none.
func (p *partition) throughExit(class, exit int) int {
	key := exitParty{class, exit}
	party, ok := p.exits[key]
	if !ok {
		end := p.judge.External(p.classes[class].End.Addr, exit)
		party = p.party(&end)
		p.exits[key] = party
	}
	return party
}

// sizeOf returns the number of addresses of a range.
func sizeOf(r Range) *big.Int {
	from, to := new(big.Int).SetBytes(r.From.AsSlice()), new(big.Int).SetBytes(r.To.AsSlice())
	return to.Sub(to, from).Add(to, big.NewInt(1))
}
