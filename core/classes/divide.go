package classes

import (
	"net/netip"
	"runtime"
	"slices"

	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/membership"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Divide returns all endpoints of the estate in classes.
func Divide(j *verdict.Judge) *Partition {
	net := j.Net
	p := &Partition{
		Net: net, Inside: make([][]int, len(net.Segments)), Local: make([]setList, len(net.Segments)),
		Alike: map[string]int{}, RouteMarks: net.Marks(), ID: LastPartition.Add(1), Stores: &ColumnStore{}, Addresses: &Directory{}, spans: &spans{}, Numbers: &Numbers{},
	}
	p.Numbering = p.ID
	r := newClassInterner(p, j, nil)
	r.settle(intervals.Elementary(j, intervals.Everywhere))
	r.finish()
	return p
}

// settle puts the endpoints of intervals into classes. Within an interval, workloads
// with the same labels share their groups, so groups are found once for each set of
// labels and each place that groups tell from others. Most intervals are of one
// segment alone: those are shared out.
func (r *classInterner) settle(line []intervals.Interval) {
	j := r.judge
	likeness := make([]int, len(j.Net.Networks))
	for n := range likeness {
		likeness[n] = Number(r.Alike, j.Net.Alike(paths.Home{Network: n, Subnet: paths.None}))
	}
	shown := intervals.ShownIn(j)
	var plain, others []intervals.Interval
	for _, x := range line {
		switch home, _ := x.OnlyHome(j); {
		case len(x.Homes) == 1 && paths.Private(x.From) && !shown.On(&x) && !j.Net.Translates(home.Network):
			plain = append(plain, x)
		default:
			others = append(others, x)
		}
	}
	made := loners(r.Partition, j, likeness, plain)
	b := newBuilder(r.Partition, j, likeness)
	b.sights = shown
	for i := range others {
		b.add(&others[i])
	}
	made = append(made, b)
	r.know(made)
	protos := 0
	for _, b := range made {
		protos += len(b.classes)
	}
	if r.first == 0 {
		r.Classes, r.wanted = slices.Grow(r.Classes, protos), protos
	}
	for _, b := range made {
		r.addBuilt(b)
	}
}

// fewest is how many intervals are worth a builder of their own.
const fewest = 256

// loners puts the endpoints of intervals that one segment alone has into classes,
// side by side, and returns the builders in the order of their intervals. What
// they make together does not depend on how many they are.
func loners(p *Partition, j *verdict.Judge, likeness []int, plain []intervals.Interval) []*builder {
	builders := make([]*builder, max(1, min(2*runtime.GOMAXPROCS(0), len(plain)/fewest)))
	for i := range builders {
		builders[i] = newBuilder(p, j, likeness)
	}
	parallel.Shares(len(plain), len(builders), func(share, first, last int) {
		for k := first; k < last; k++ {
			builders[share].lone(&plain[k])
		}
	})
	return builders
}

// add adds the endpoints of an interval.
func (b *builder) add(x *intervals.Interval) {
	switch {
	case b.sights.On(x):
		b.addShown(x)
	case len(x.Homes) == 1 && paths.Private(x.From):
		b.lone(x)
	case len(x.Homes) > 0:
		b.crowded(x)
	case !paths.Private(x.From):
		b.external(x.Range, nil)
	}
}

// builder puts endpoints into classes, numbered by itself.
type builder struct {
	judge    *verdict.Judge
	inside   int   // how many segments there are
	likeness []int // by network: number of its Alike
	alike    map[string]int
	marks    *paths.RouteMarks
	sights   intervals.ShownPrefixes

	bases       map[string]int // groups that a place is in, to a number
	inBase      map[[2]int]int // base and label set, to a number of a set
	setOf       map[string]int // groups, to a number of a set
	sets        [][]int
	seenIn      map[[2]int]int // segment and set of groups, to the number of what is seen
	offers      []offers       // by segment, made when they are asked for
	seenAt      map[string]int // what each segment sees, to a number
	seen        []string       // by number
	pathClassOf map[PathKey]int
	pathClasses []PathKey

	known   map[classKey]int
	classes []classDraft
	pieces  []draftPiece

	stretch int     // the number of the lone interval at hand
	here    []known // by label set: where its endpoints of the interval belong
}

// known is a set and a class that are known for an interval.
type known struct {
	stretch    int
	set, class int32
}

// offers are the segments in which shares make endpoints of a group reachable.
type offers map[int][]int

// newBuilder returns a builder of classes for a partition.
func newBuilder(p *Partition, j *verdict.Judge, likeness []int) *builder {
	return &builder{
		judge: j, inside: len(p.Inside), likeness: likeness, alike: p.Alike, marks: p.RouteMarks,
		bases: map[string]int{}, inBase: map[[2]int]int{}, setOf: map[string]int{}, seenIn: map[[2]int]int{}, seenAt: map[string]int{},
		offers: make([]offers, len(p.Inside)), pathClassOf: map[PathKey]int{}, known: map[classKey]int{},
	}
}

// offersOf returns the offers of a segment.
func (b *builder) offersOf(segment int) offers {
	if b.offers[segment] == nil {
		b.offers[segment] = offers{}
		b.judge.EachOffer(segment, func(group, seenBy int) {
			if list := b.offers[segment][group]; !slices.Contains(list, seenBy) {
				b.offers[segment][group] = append(list, seenBy)
			}
		})
	}
	return b.offers[segment]
}

// classKey is what tells a class from another.
type classKey struct {
	domain, set, network, pathClass, seen, part int32
}

// classDraft is a class in the making.
type classDraft struct {
	key      classKey
	end      membership.Endpoint
	size     intervals.Size
	workload bool // end is one
}

// draftPiece is a range of addresses of a class, with the workload that holds it, or
// paths.None.
type draftPiece struct {
	class, workload int32
	intervals.Range
}

// put puts a piece into its class.
func (b *builder) put(domain, network int, end membership.Endpoint, r intervals.Range, set, pathClass, seen int) {
	i := b.class(domain, network, &end, set, pathClass, seen)
	b.piece(i, end.Workload, r)
	if c := &b.classes[i]; end.Workload != paths.None && !c.workload {
		c.end, c.workload = end, true
	}
}

// class returns the class of an endpoint.
func (b *builder) class(domain, network int, end *membership.Endpoint, set, pathClass, seen int) int32 {
	key := classKey{int32(domain), int32(set), int32(network), int32(pathClass), int32(seen), 0}
	if end.Internal() {
		key.part = int32(b.judge.Net.LocalPart(end.Home))
	}
	i, fresh := Numbered(b.known, key, len(b.classes))
	if fresh {
		b.classes = append(b.classes, classDraft{key: key, end: *end})
	}
	return int32(i)
}

// piece adds a piece to a class.
func (b *builder) piece(class int32, workload int, r intervals.Range) {
	b.classes[class].size.Add(intervals.SizeOf(r))
	b.pieces = append(b.pieces, draftPiece{class, int32(workload), r})
}

// pathClassAt returns the path class of an endpoint.
func (b *builder) pathClassAt(end *membership.Endpoint) int {
	likeness := b.likeness[end.Home.Network]
	if b.judge.Net.Translates(end.Home.Network) {
		likeness = Number(b.alike, b.judge.Net.Alike(end.Home))
	}
	key := PathKey{end.Segment, likeness, b.mark(end), end.Addr.Is4(), end.Home.Subnet != paths.None, !paths.Private(end.Addr)}
	i, fresh := Numbered(b.pathClassOf, key, len(b.pathClasses))
	if fresh {
		b.pathClasses = append(b.pathClasses, key)
	}
	return i
}

// lone adds the endpoints of a private interval that one segment alone has.
func (b *builder) lone(x *intervals.Interval) {
	home, ok := x.OnlyHome(b.judge)
	if !ok {
		return
	}
	place := b.judge.PlaceOf(x.Homes[0], home, x.From)
	base := Number(b.bases, lists.Key(place.Base()))
	rest, _ := b.member(&place, base, x.From, paths.None)
	pathClass := b.pathClassAt(&rest)
	b.stretch++
	add := func(a netip.Addr, workload int, r intervals.Range) {
		labelSet := 0 // nobody's; those of workloads follow
		if workload != paths.None {
			labelSet = b.judge.LabelSet(workload) + 1
		}
		for labelSet >= len(b.here) {
			b.here = append(b.here, known{})
		}
		at := &b.here[labelSet]
		if at.stretch != b.stretch { // the first of the interval
			end, set := b.member(&place, base, a, workload)
			*at = known{b.stretch, int32(set), b.class(end.Segment, home.Network, &end, set, pathClass, b.seenAlone(&end, set))}
		}
		b.piece(at.class, workload, r)
		if c := &b.classes[at.class]; workload != paths.None && !c.workload {
			c.end, c.workload = place.At(a, workload, b.sets[at.set]), true
		}
	}
	from := x.From
	last := netip.Addr{}
	if home.Subnet != paths.None {
		b.judge.EachHeld(home, x.From, x.To, func(a netip.Addr, workload int) {
			if from != a {
				add(from, paths.None, intervals.Range{From: from, To: a.Prev()})
			}
			add(a, workload, intervals.Range{From: a, To: a})
			from, last = a.Next(), a
		})
	}
	if last != x.To {
		add(from, paths.None, intervals.Range{From: from, To: x.To})
	}
}

// member returns the endpoint of a place with its set of groups, which is found once
// for each base and label set.
func (b *builder) member(p *verdict.Place, base int, a netip.Addr, workload int) (membership.Endpoint, int) {
	key := [2]int{base, paths.None}
	if workload != paths.None {
		key[1] = b.judge.LabelSet(workload)
	}
	set, known := b.inBase[key]
	if !known {
		set = b.set(b.judge.In(p, workload))
		b.inBase[key] = set
	}
	return p.At(a, workload, b.sets[set]), set
}

// set returns the number of a set of groups.
func (b *builder) set(groups []int) int {
	i, fresh := Numbered(b.setOf, lists.Key(groups), len(b.sets))
	if fresh {
		b.sets = append(b.sets, groups)
	}
	return i
}

// seenAlone returns what the segments see of an endpoint whose private address
// no other segment has.
func (b *builder) seenAlone(end *membership.Endpoint, set int) int {
	key := [2]int{end.Segment, set}
	seen, known := b.seenIn[key]
	if !known {
		bytes := make([]byte, b.inside)
		for s := range bytes {
			bytes[s] = byte(SeesNothing)
		}
		bytes[end.Segment] = byte(SeesIt)
		offers := b.offersOf(end.Segment)
		for _, s := range offers[paths.None] {
			bytes[s] = byte(SeesIt)
		}
		for _, g := range end.Groups {
			for _, s := range offers[g] {
				bytes[s] = byte(SeesIt)
			}
		}
		seen = b.visibility(bytes)
		b.seenIn[key] = seen
	}
	return seen
}

// crowded adds the endpoints of an interval that several segments have, or that
// is not private, piece by piece.
func (b *builder) crowded(x *intervals.Interval) {
	for _, r := range x.Pieces(b.judge, x.SubnetsAt(b.judge), nil) {
		var ends []membership.Endpoint
		brought := make([][]int, b.inside) // by segment: the segments from which shares bring the address
		for _, s := range x.Homes {
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
			set, class := b.set(end.Groups), b.pathClassAt(end)
			b.put(end.Segment, end.Home.Network, *end, r, set, class, b.seenAmong(x, ends, brought, end.Segment))
		}
		if !paths.Private(r.From) {
			b.external(r, brought, ends...)
		}
	}
}

// seenAmong returns what the segments see of an endpoint of one of several
// segments that have its address.
func (b *builder) seenAmong(x *intervals.Interval, ends []membership.Endpoint, brought [][]int, of int) int {
	bytes := make([]byte, b.inside)
	for s := range bytes {
		own := slices.ContainsFunc(ends, func(e membership.Endpoint) bool { return e.Segment == s })
		switch {
		case s == of, !own && len(brought[s]) == 1 && brought[s][0] == of:
			bytes[s] = byte(SeesIt)
		case !own && len(brought[s]) != 1 && paths.Private(x.From):
			bytes[s] = byte(SeesNothing)
		}
	}
	return b.visibility(bytes)
}

// visibility returns the number of what each segment sees.
func (b *builder) visibility(bytes []byte) int {
	i, ok := b.seenAt[string(bytes)]
	if !ok {
		i = len(b.seen)
		b.seenAt[string(bytes)] = i
		b.seen = append(b.seen, string(bytes))
	}
	return i
}

// external adds external endpoints: a segment sees them where it has no home
// for them, and no share brings one.
func (b *builder) external(r intervals.Range, brought [][]int, ends ...membership.Endpoint) {
	bytes := make([]byte, b.inside)
	for s := range bytes {
		own := slices.ContainsFunc(ends, func(e membership.Endpoint) bool { return e.Segment == s })
		if !own && (brought == nil || len(brought[s]) != 1) {
			bytes[s] = byte(SeesIt)
		}
	}
	b.outsider(r, b.visibility(bytes))
}

// outsider adds external endpoints of which is known who sees them.
func (b *builder) outsider(r intervals.Range, seen int) {
	end := b.judge.External(r.From, paths.None)
	set := Number(b.bases, "outside "+b.judge.PrefixKey(r.From))
	mark := b.marks.At(r.From)
	key := PathKey{Segment: paths.None, Likeness: paths.None, mark: mark, Four: r.From.Is4(), public: true}
	pathClassNumber, ok := b.pathClassOf[key]
	if !ok {
		pathClassNumber = len(b.pathClasses)
		b.pathClassOf[key] = pathClassNumber
		b.pathClasses = append(b.pathClasses, key)
	}
	b.put(b.inside, paths.None, end, r, set, pathClassNumber, seen)
}
