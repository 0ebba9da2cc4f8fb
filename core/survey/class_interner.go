package survey

import (
	"slices"

	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// classInterner takes the classes of builders into a partition: a new one, or one that
// came of another, of which it changes nothing that it does not own.
type classInterner struct {
	*partition
	judge  *verdict.Judge
	from   *partition // the one that it came of, or nil
	first  int        // the classes before it were there already
	before *numbers   // of sets and spots that were there already
	setOf  map[string]int
	spotOf map[spotKey]int
	seenAt map[string]int // what each segment sees, to a number
	seen   [][]see        // by number
	known  map[classKey]int
	shows  []exemplar // by class: what its example is
	mine   []bool     // by class: it is not shared with another partition
	owned  []bool     // by domain
	left   []int      // the spots of classes in which nobody is left
	taken  []taken
	room   []Class // for classes to come
	wanted int     // about how many there will be
}

// exemplar is how good the example of a class is.
type exemplar uint8

const (
	unasked exemplar = iota // the class was there already
	nobody                  // it was emptied, or is new
	anybody
	workload
)

// shown returns how good the example of a class is.
func (r *classInterner) shown(i int) exemplar {
	if r.shows[i] == unasked {
		if r.shows[i] = anybody; len(r.classes[i].Workloads) > 0 {
			r.shows[i] = workload
		}
	}
	return r.shows[i]
}

// taken is the pieces of a builder, with the classes of the partition that its own are.
type taken struct {
	pieces []bit
	class  []int32
}

// newClassInterner returns a classInterner for a partition that comes of another, or of none: its
// sets, spots and classes keep their numbers.
func newClassInterner(p *partition, j *verdict.Judge, from *partition) *classInterner {
	r := &classInterner{
		partition: p, judge: j, from: from, first: len(p.classes), before: &numbers{}, setOf: map[string]int{}, spotOf: map[spotKey]int{},
		seenAt: map[string]int{}, known: map[classKey]int{}, shows: make([]exemplar, len(p.classes)), mine: make([]bool, len(p.classes)), owned: make([]bool, len(p.inside)+1),
	}
	if from != nil {
		r.before = from.numbers.of(from)
	}
	return r
}

// numbers finds the numbers of the sets of groups and of the spots of a partition. They
// are told when they are first asked for.
type numbers struct {
	once   parallel.Once
	setOf  map[string]int
	spotOf map[spotKey]int
}

// of returns those of a partition.
func (n *numbers) of(p *partition) *numbers {
	n.once.Do(func() {
		n.setOf, n.spotOf = make(map[string]int, len(p.sets)), make(map[spotKey]int, len(p.spots))
		for i, set := range p.sets {
			n.setOf[lists.Key(set)] = i
		}
		for i := range p.spots {
			n.spotOf[p.spots[i].spotKey] = i
		}
	})
	return n
}

// edit returns a class that may be changed.
func (r *classInterner) edit(i int) *Class {
	if !r.mine[i] {
		r.mine[i] = true
		c := *r.classes[i]
		r.classes[i] = &c
	}
	return r.classes[i]
}

// empty takes all endpoints out of a class.
func (r *classInterner) empty(i int) {
	c := r.edit(i)
	r.left = append(r.left, c.spot)
	r.own(r.domain(c))
	c.Ranges, c.Workloads, c.size, c.weight = nil, nil, size{}, 0
	r.shows[i] = nobody
}

// own makes a domain's lists the classInterner's own, so that it may change them.
func (r *classInterner) own(domain int) {
	if r.owned[domain] {
		return
	}
	r.owned[domain] = true
	if domain == len(r.inside) {
		r.outside = slices.Clone(r.outside)
		return
	}
	r.inside[domain] = slices.Clone(r.inside[domain])
	r.local[domain] = r.local[domain].clone()
}

// know notes the classes of the networks of some builders, so that endpoints come
// into those that are there already. External classes are never found again.
func (r *classInterner) know(made []*builder) {
	if r.first == 0 {
		return
	}
	networks := make([]bool, len(r.net.Networks))
	domains := make([]bool, len(r.inside))
	for _, b := range made {
		for i := range b.classes {
			if k := b.classes[i].key; k.network != paths.None {
				networks[k.network], domains[k.domain] = true, true
			}
		}
	}
	numbers := map[*see]int{}
	for d, classes := range r.inside {
		if !domains[d] {
			continue
		}
		r.enter(classes, networks, numbers)
	}
}

// enter notes some classes, of some networks.
func (r *classInterner) enter(classes []int, networks []bool, numbers map[*see]int) {
	for _, i := range classes {
		c := r.classes[i]
		if !networks[c.network] {
			continue
		}
		seen, ok := numbers[&c.seen[0]]
		if !ok {
			bytes := make([]byte, len(c.seen))
			for s, what := range c.seen {
				bytes[s] = byte(what)
			}
			seen = r.sight(string(bytes))
			numbers[&c.seen[0]] = seen
		}
		r.known[classKey{c.ticket.domain, int32(r.local[c.ticket.domain].sets[c.set]), c.network, int32(c.spot), int32(seen), c.part}] = i
	}
}

// take takes what a builder has made.
func (r *classInterner) take(b *builder) {
	sets, spots, seen := make([]int, len(b.sets)), make([]int, len(b.spots)), make([]int, len(b.seen))
	for i, set := range b.sets {
		sets[i] = r.set(set)
	}
	for i, key := range b.spots {
		spots[i] = r.spot(key)
	}
	for i, bytes := range b.seen {
		seen[i] = r.sight(bytes)
	}
	t := taken{b.pieces, make([]int32, len(b.classes))}
	for i := range b.classes {
		x := &b.classes[i]
		key := x.key
		key.spot, key.seen = int32(spots[key.spot]), int32(seen[key.seen])
		if x.end.Internal() { // else it is what prefixes hold it, which one builder alone numbers
			key.set = int32(sets[key.set])
		}
		t.class[i] = int32(r.class(x, key))
	}
	r.taken = append(r.taken, t)
}

func (r *classInterner) set(groups []int) int {
	key := lists.Key(groups)
	if i, known := r.before.setOf[key]; known {
		return i
	}
	i, fresh := numbered(r.setOf, key, len(r.sets))
	if fresh {
		r.sets = append(r.sets, groups)
	}
	return i
}

func (r *classInterner) spot(key spotKey) int {
	if i, known := r.before.spotOf[key]; known {
		return i
	}
	i, fresh := numbered(r.spotOf, key, len(r.spots))
	if fresh {
		r.spots = append(r.spots, spot{spotKey: key})
	}
	return i
}

// sight returns the number of what each segment sees: classes share the lists.
func (r *classInterner) sight(bytes string) int {
	i, fresh := numbered(r.seenAt, bytes, len(r.seen))
	if fresh {
		seen := make([]see, len(bytes))
		for s := range seen {
			seen[s] = see(bytes[s])
		}
		r.seen = append(r.seen, seen)
	}
	return i
}

// class returns the class of the partition that a builder's is.
func (r *classInterner) class(x *proto, key classKey) int {
	r.own(int(key.domain))
	i, ok := r.known[key]
	if !ok {
		i = len(r.classes)
		r.known[key] = i
		c := r.fresh()
		*c = Class{spot: int(key.spot), four: x.end.Addr.Is4(), seen: r.seen[key.seen], ticket: ticket{domain: key.domain, network: key.network, part: key.part}}
		if x.end.Internal() {
			c.set = r.local[key.domain].add(int(key.set))
			r.inside[key.domain] = append(r.inside[key.domain], i)
		} else {
			r.outside = append(r.outside, i)
		}
		r.classes, r.shows, r.mine = append(r.classes, c), append(r.shows, nobody), append(r.mine, true)
	}
	c := r.edit(i)
	c.size.add(x.size)
	shows := anybody
	if x.workload {
		shows = workload
	}
	if shows > r.shown(i) {
		c.End, r.shows[i] = x.end, shows
	}
	return i
}

// fresh returns memory for a class: many at once are made side by side.
func (r *classInterner) fresh() *Class {
	if len(r.room) == 0 {
		r.room = make([]Class, max(64, r.wanted))
		r.wanted = 0
	}
	c := &r.room[0]
	r.room = r.room[1:]
	return c
}

// finish gives classes the ranges and workloads that were taken into them, and puts
// the lists of the domains that changed in order.
func (r *classInterner) finish() {
	r.fill()
	if r.spotIn == nil { // a new partition, of which everything is the classInterner's
		r.spotIn = make([][]int, len(r.inside)+1)
		for d := range r.owned {
			r.owned[d] = true
		}
	}
	groups := len(r.judge.GroupNames())
	for d, owned := range r.owned {
		if owned {
			r.order(d)
		}
		if owned && d < len(r.local) {
			r.local[d].index(r.sets, groups)
		}
	}
}

// fill gives classes what was taken into them.
func (r *classInterner) fill() {
	ranges, workloads := make([]int, len(r.classes)), make([]int, len(r.classes))
	pieces, held := 0, 0
	for _, t := range r.taken {
		for i := range t.pieces {
			at := t.class[t.pieces[i].class]
			ranges[at]++
			if t.pieces[i].workload != paths.None {
				workloads[at]++
			}
		}
	}
	for i := range r.classes {
		if c := r.classes[i]; ranges[i] > 0 {
			pieces += len(c.Ranges) + ranges[i]
			held += len(c.Workloads) + workloads[i]
		}
	}
	allRanges, allWorkloads := make([]Range, pieces), make([]int, held)
	for i := range r.classes {
		if ranges[i] == 0 {
			continue
		}
		c := r.edit(i)
		n, m := len(c.Ranges)+ranges[i], len(c.Workloads)+workloads[i]
		c.Ranges, allRanges = append(allRanges[:0:n], c.Ranges...), allRanges[n:]
		c.Workloads, allWorkloads = append(allWorkloads[:0:m], c.Workloads...), allWorkloads[m:]
		c.weight = c.size.about()
	}
	for _, t := range r.taken {
		for i := range t.pieces {
			x := &t.pieces[i]
			c := r.classes[t.class[x.class]]
			c.Ranges = append(c.Ranges, x.Range)
			if x.workload != paths.None {
				c.Workloads = append(c.Workloads, int(x.workload))
			}
		}
	}
	for i := range r.classes {
		if ranges[i] > 0 {
			c := r.classes[i]
			slices.SortFunc(c.Ranges, func(a, b Range) int { return a.From.Compare(b.From) })
			slices.Sort(c.Workloads)
			c.Workloads = slices.Compact(c.Workloads)
		}
	}
}

// order takes the classes out of a domain in which nobody is left, and tells the
// new ones their places. The others keep theirs, but for some that fill a gap.
func (r *classInterner) order(domain int) {
	left := r.of(domain)
	for at := 0; at < len(left); at++ {
		fills := false
		for at < len(left) && r.mine[left[at]] && len(r.classes[left[at]].Ranges) == 0 {
			left[at] = left[len(left)-1]
			left, fills = left[:len(left)-1], true
		}
		if at < len(left) && (fills || r.mine[left[at]]) {
			r.edit(left[at]).at = int32(at)
		}
	}
	if domain == len(r.inside) {
		r.outside = left
		for _, a := range examples {
			if c, ok := r.holding(left, a); ok {
				r.edit(c).End = r.judge.External(a, paths.None)
			}
		}
	} else {
		r.inside[domain] = left
		list := &r.local[domain]
		list.hold(left, func(at int) int32 { return r.ticketAt(domain, at).set })
	}
	r.findSpots(domain)
}

// ticketAt returns the ticket of the class at a place of a domain: of one that is as it
// was, at hand in the roll of before. Its spotAt is that of before.
func (r *classInterner) ticketAt(domain, at int) *ticket {
	if n := r.of(domain)[at]; r.mine[n] {
		return &r.classes[n].ticket
	}
	return &r.from.roll(domain).tickets[at]
}

// findSpots finds the spots of a domain: those of its classes, which show them. Those that
// were there keep their places, but for some that fill a gap.
func (r *classInterner) findSpots(domain int) {
	known := slices.Clone(r.spotIn[domain])
	was := make([]bool, len(r.spots))
	for _, s := range known {
		was[s] = true
	}
	classes, spots := r.of(domain), make([]int32, len(r.of(domain))) // the spot of each class
	seen, others := make([]bool, len(r.spots)), make([]bool, len(r.spots))
	for _, s := range r.left {
		others[s] = true
	}
	var fresh []int
	for at, n := range classes {
		s := r.classSpot(domain, at)
		spots[at] = int32(s)
		others[s] = others[s] || r.mine[n]
		if !seen[s] && !was[s] {
			fresh = append(fresh, s)
		}
		seen[s] = true
	}
	r.showSpots(classes, spots, others)
	slices.Sort(fresh)
	known = append(known, fresh...)
	for at := 0; at < len(known); at++ {
		for at < len(known) && !seen[known[at]] {
			known[at] = known[len(known)-1]
			known = known[:len(known)-1]
		}
		if at < len(known) {
			r.spots[known[at]].at = at
		}
	}
	for i, n := range classes {
		if at := int32(r.spots[spots[i]].at); r.mine[n] || r.ticketAt(domain, i).spotAt != at {
			r.edit(n).spotAt = at
		}
	}
	r.spotIn[domain] = known
}

// classSpot returns the spot of the class at a place of a domain.
func (r *classInterner) classSpot(domain, at int) int {
	if n := r.of(domain)[at]; r.mine[n] {
		return r.classes[n].spot
	}
	return r.from.spotIn[domain][r.from.roll(domain).tickets[at].spotAt]
}

// showSpots finds who shows some spots: the first of their classes, and the first of
// another network.
func (r *classInterner) showSpots(classes []int, spots []int32, which []bool) {
	shown := make([]bool, len(r.spots))
	for at, n := range classes {
		switch s := spots[at]; {
		case !which[s]:
		case !shown[s]:
			shown[s] = true
			r.spots[s].one, r.spots[s].other = r.classes[n].End, verdict.Endpoint{}
		default:
			r.spots[s].meet(&r.classes[n].End)
		}
	}
}

// meet notes an endpoint at a spot, if it is the first of another network.
func (s *spot) meet(end *verdict.Endpoint) {
	if !s.other.Addr.IsValid() && s.one.Home.Network != end.Home.Network {
		s.other = *end
	}
}
