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
	Workloads []int            // of the estate, sorted; each once
	Ranges    []Range          // sorted, disjoint

	size   size
	weight float64 // size, about
	four   bool    // of IPv4
	at     int     // its place among the classes of its domain
	set    int     // number of its set of groups among those of its segment
	spot   int     // number of what its ways through the hubs depend on
	spotAt int     // the same, among the spots of its domain
	seen   []see   // by segment: what an address of the class is there
}

// Size returns how many addresses the class has.
func (c *Class) Size() *big.Int { return c.size.big() }

// Internal reports whether the class is of internal endpoints.
func (c *Class) Internal() bool { return c.End.Internal() }

// see is what a segment finds under the addresses of a class (M6.4).
type see uint8

const (
	seesOther   see = iota // an endpoint of another class: the address is used twice
	seesNothing            // nothing has the address there
	seesIt                 // the class itself
)

// partition is all endpoints of an estate, in classes. Domains are the segments,
// by number, and the internet after them.
type partition struct {
	net     *paths.Net
	classes []Class
	inside  [][]int   // by segment: its classes
	outside []int     // the external classes
	sets    [][]int   // the different sets of groups
	local   []setList // by segment: its sets of groups
	spots   []spot

	alike map[string]int // numbers of what makes ways alike, see spotKey
	roads *paths.RouteMarks
	id    int64  // no partition of other classes has it
	graft *graft // how it came of another, if it did

	rolls     *rolls
	addresses directory
}

// setList is the different sets of groups that a segment's endpoints have.
type setList struct {
	sets    []int     // among those of the partition
	byGroup [][]int32 // by group: which of the list hold it
	classes [][]int   // by place in the list: the classes that have it
	at      map[int]int
}

// divide returns all endpoints of the estate in classes. Within a stretch of
// the line of addresses, workloads with the same labels share their groups, so
// groups are found once for each set of labels and each place that groups tell
// from others.
func divide(j *verdict.Judge) *partition {
	p := &partition{net: j.Net(), inside: make([][]int, len(j.Net().Segments)), rolls: &rolls{}}
	p.alike, p.roads, p.id = map[string]int{}, j.Net().Marks(), partitions.Add(1)
	p.local = make([]setList, len(p.inside))
	b := newBuilder(p, j)
	b.sights = sightsOf(j)
	for n := range b.likeness {
		b.likeness[n] = number(b.alike, j.Net().Alike(paths.Home{Network: n, Subnet: paths.None}))
	}
	for _, x := range lineOf(j) {
		switch {
		case b.sights.on(&x):
			b.sighted(&x)
		case len(x.homes) == 1 && paths.Private(x.From):
			b.lone(&x)
		case len(x.homes) > 0:
			b.crowded(&x)
		case !paths.Private(x.From):
			b.external(x.Range, nil)
		}
	}
	for i := range p.classes {
		c := &p.classes[i]
		c.weight = c.size.about()
		slices.Sort(c.Workloads)
		c.Workloads = slices.Compact(c.Workloads)
	}
	for i := range p.local {
		p.local[i].index(p.sets, len(j.GroupNames()))
	}
	for _, a := range examples {
		if c, ok := p.holding(p.outside, a); ok {
			p.classes[c].End = j.External(a, paths.None)
		}
	}
	return p
}

// add returns the place of a set in the list.
func (l *setList) add(set int) int {
	i, ok := l.at[set]
	if !ok {
		if l.at == nil {
			l.at = map[int]int{}
		}
		i = len(l.sets)
		l.at[set] = i
		l.sets = append(l.sets, set)
		l.classes = append(l.classes, nil)
	}
	return i
}

// index finds the sets of each group.
func (l *setList) index(sets [][]int, groups int) {
	l.byGroup = make([][]int32, groups)
	for i, set := range l.sets {
		for _, g := range sets[set] {
			l.byGroup[g] = append(l.byGroup[g], int32(i))
		}
	}
}

// domain returns the number of the domain of a class.
func (p *partition) domain(c *Class) int {
	if c.Internal() {
		return c.End.Segment
	}
	return len(p.inside)
}

// of returns the classes of a domain.
func (p *partition) of(domain int) []int {
	if domain < len(p.inside) {
		return p.inside[domain]
	}
	return p.outside
}

type builder struct {
	*partition
	judge    *verdict.Judge
	marks    *paths.RouteMarks
	sights   sights
	known    map[classKey]int
	bases    map[string]int // groups that a place is in, to a number
	setOf    map[string]int // groups, to a number of a set
	inBase   map[[2]int]int // base and kin, to a number of a set
	seenIn   map[[2]int]int // segment and set of groups, to the number of what is seen
	seenAt   map[string]int // what each segment sees, to a number
	seen     [][]see        // by number
	spotOf   map[spotKey]int
	alike    map[string]int
	likeness []int // by network: number of its Alike
}

// newBuilder returns a builder of more classes for a partition.
func newBuilder(p *partition, j *verdict.Judge) *builder {
	return &builder{
		partition: p, judge: j, marks: p.roads, alike: p.alike, likeness: make([]int, len(j.Net().Networks)),
		known: map[classKey]int{}, bases: map[string]int{}, setOf: map[string]int{}, inBase: map[[2]int]int{}, spotOf: map[spotKey]int{},
		seenIn: map[[2]int]int{}, seenAt: map[string]int{},
	}
}

// classKey is what tells a class from another.
type classKey struct {
	domain, set, network, spot, seen int
}

// spot is what the ways of endpoints through the hubs depend on, with one of
// them, and another of a different network if there is one.
type spot struct {
	spotKey
	one, other verdict.Endpoint // other has no address if all are of one network
	at         int              // its place among the spots of its domain
}

type spotKey struct {
	segment, likeness, mark int
	four, subnet            bool
}

// spotAt returns the spot of an endpoint.
func (b *builder) spotAt(end *verdict.Endpoint) int {
	likeness := b.likeness[end.Home.Network]
	if b.judge.Net().Translates(end.Home.Network) {
		likeness = number(b.alike, b.judge.Net().Alike(end.Home))
	}
	key := spotKey{end.Segment, likeness, b.mark(end), end.Addr.Is4(), end.Home.Subnet != paths.None}
	i, ok := b.spotOf[key]
	if !ok {
		i = len(b.spots)
		b.spotOf[key] = i
		b.spots = append(b.spots, spot{spotKey: key, one: *end})
	}
	if s := &b.spots[i]; !s.other.Addr.IsValid() && s.one.Home.Network != end.Home.Network {
		s.other = *end
	}
	return i
}

// lone adds the endpoints of a private stretch that one segment alone has.
func (b *builder) lone(x *stretch) {
	home, ok := b.judge.Net().Home(x.homes[0], x.From)
	if !ok {
		return
	}
	place := b.judge.PlaceOf(x.homes[0], home, x.From)
	base := number(b.bases, keyOf(place.Base()))
	rest := b.member(&place, base, x.From, paths.None)
	spot := b.spotAt(&rest)
	add := func(a netip.Addr, workload int, r Range) {
		end := rest
		end.Addr = a
		if workload != paths.None {
			end = b.member(&place, base, a, workload)
		}
		set := b.set(end.Groups())
		b.put(classKey{end.Segment, set, home.Network, spot, b.seenAlone(&end, set)}, end, r, set, spot)
	}
	from := x.From
	last := netip.Addr{}
	if home.Subnet != paths.None {
		b.judge.EachHeld(home, x.From, x.To, func(a netip.Addr, workload int) {
			if from != a {
				add(from, paths.None, Range{from, a.Prev()})
			}
			add(a, workload, Range{a, a})
			from, last = a.Next(), a
		})
	}
	if last != x.To {
		add(from, paths.None, Range{from, x.To})
	}
}

// member returns the endpoint of a place with its groups, which are found once
// for each base and kin.
func (b *builder) member(p *verdict.Place, base int, a netip.Addr, workload int) verdict.Endpoint {
	key := [2]int{base, paths.None}
	if workload != paths.None {
		key[1] = b.judge.Kin(workload)
	}
	set, known := b.inBase[key]
	if !known {
		set = b.set(b.judge.In(p, workload))
		b.inBase[key] = set
	}
	return p.At(a, workload, b.sets[set])
}

// set returns the number of a set of groups.
func (b *builder) set(groups []int) int {
	key := keyOf(groups)
	i, ok := b.setOf[key]
	if !ok {
		i = len(b.sets)
		b.setOf[key] = i
		b.sets = append(b.sets, groups)
	}
	return i
}

// seenAlone returns what the segments see of an endpoint whose private address
// no other segment has.
func (b *builder) seenAlone(end *verdict.Endpoint, set int) int {
	key := [2]int{end.Segment, set}
	seen, known := b.seenIn[key]
	if !known {
		bytes := make([]byte, len(b.inside))
		for s := range bytes {
			bytes[s] = byte(seesNothing)
		}
		bytes[end.Segment] = byte(seesIt)
		b.judge.EachReach(end, func(r verdict.Reach) { bytes[r.Segment] = byte(seesIt) })
		seen = b.sight(bytes)
		b.seenIn[key] = seen
	}
	return seen
}

// crowded adds the endpoints of a stretch that several segments have, or that
// is not private, piece by piece.
func (b *builder) crowded(x *stretch) {
	for _, r := range x.pieces(b.judge, x.subnetsAt(b.judge), nil) {
		var ends []verdict.Endpoint
		brought := make([][]int, len(b.inside)) // by segment: the segments from which shares bring the address
		for _, s := range x.homes {
			if end, ok := b.judge.Internal(s, r.From); ok {
				ends = append(ends, end)
				b.judge.EachReach(&end, func(reach verdict.Reach) {
					if !slices.Contains(brought[reach.Segment], s) {
						brought[reach.Segment] = append(brought[reach.Segment], s)
					}
				})
			}
		}
		for i := range ends {
			end := &ends[i]
			set, spot := b.set(end.Groups()), b.spotAt(end)
			b.put(classKey{end.Segment, set, end.Home.Network, spot, b.seenAmong(x, ends, brought, end.Segment)}, *end, r, set, spot)
		}
		if !paths.Private(r.From) {
			b.external(r, brought, ends...)
		}
	}
}

// seenAmong returns what the segments see of an endpoint of one of several
// segments that have its address.
func (b *builder) seenAmong(x *stretch, ends []verdict.Endpoint, brought [][]int, of int) int {
	bytes := make([]byte, len(b.inside))
	for s := range bytes {
		own := slices.ContainsFunc(ends, func(e verdict.Endpoint) bool { return e.Segment == s })
		switch {
		case s == of, !own && len(brought[s]) == 1 && brought[s][0] == of:
			bytes[s] = byte(seesIt)
		case !own && len(brought[s]) != 1 && paths.Private(x.From):
			bytes[s] = byte(seesNothing)
		}
	}
	return b.sight(bytes)
}

// sight returns the number of what each segment sees.
func (b *builder) sight(bytes []byte) int {
	i, ok := b.seenAt[string(bytes)]
	if !ok {
		i = len(b.seen)
		b.seenAt[string(bytes)] = i
		seen := make([]see, len(bytes))
		for s, what := range bytes {
			seen[s] = see(what)
		}
		b.seen = append(b.seen, seen)
	}
	return i
}

// external adds external endpoints: a segment sees them where it has no home
// for them, and no share brings one.
func (b *builder) external(r Range, brought [][]int, ends ...verdict.Endpoint) {
	bytes := make([]byte, len(b.inside))
	for s := range bytes {
		own := slices.ContainsFunc(ends, func(e verdict.Endpoint) bool { return e.Segment == s })
		if !own && (brought == nil || len(brought[s]) != 1) {
			bytes[s] = byte(seesIt)
		}
	}
	b.outsider(r, b.sight(bytes))
}

// outsider adds external endpoints of which is known who sees them.
func (b *builder) outsider(r Range, seen int) {
	end := b.judge.External(r.From, paths.None)
	set := number(b.bases, "outside "+b.judge.PrefixKey(r.From))
	mark := b.marks.At(r.From)
	key := spotKey{segment: paths.None, likeness: paths.None, mark: mark, four: r.From.Is4()}
	spotNumber, ok := b.spotOf[key]
	if !ok {
		spotNumber = len(b.spots)
		b.spotOf[key] = spotNumber
		b.spots = append(b.spots, spot{spotKey: key, one: end})
	}
	b.put(classKey{len(b.inside), set, paths.None, spotNumber, seen}, end, r, set, spotNumber)
}

// put puts a piece into its class.
func (b *builder) put(key classKey, end verdict.Endpoint, r Range, set, spot int) {
	i, ok := b.known[key]
	if !ok {
		i = len(b.classes)
		b.known[key] = i
		c := Class{End: end, spot: spot, four: end.Addr.Is4(), seen: b.seen[key.seen]}
		if end.Internal() {
			c.set = b.local[end.Segment].add(set)
			b.local[end.Segment].classes[c.set] = append(b.local[end.Segment].classes[c.set], i)
			c.at = len(b.inside[end.Segment])
			b.inside[end.Segment] = append(b.inside[end.Segment], i)
		} else {
			c.at = len(b.outside)
			b.outside = append(b.outside, i)
		}
		b.classes = append(b.classes, c)
	}
	c := &b.classes[i]
	c.size.add(sizeOf(r))
	c.Ranges = append(c.Ranges, r)
	if end.Workload != paths.None {
		if len(c.Workloads) == 0 {
			c.End = end
		}
		c.Workloads = append(c.Workloads, end.Workload)
	}
}

// examples are addresses set aside for documentation (RFC 5737, RFC 3849),
// preferred for witnesses because they are nobody's.
var examples = []netip.Addr{netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8:ffff::7")}

// holding returns the one of some classes that holds an address, or false.
func (p *partition) holding(classes []int, a netip.Addr) (int, bool) {
	for _, c := range classes {
		if p.classes[c].holds(a) {
			return c, true
		}
	}
	return 0, false
}

func (c *Class) holds(a netip.Addr) bool {
	i, exact := slices.BinarySearchFunc(c.Ranges, a, func(r Range, a netip.Addr) int { return r.From.Compare(a) })
	if !exact {
		i--
	}
	return i >= 0 && c.Ranges[i].To.Compare(a) >= 0
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

// keyOf returns a string that is equal for equal lists.
func keyOf(numbers []int) string {
	b := make([]byte, 0, 2*len(numbers))
	for _, n := range numbers {
		b = binary.AppendUvarint(b, uint64(n))
	}
	return string(b)
}
