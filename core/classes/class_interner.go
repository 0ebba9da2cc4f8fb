package classes

import (
	"slices"

	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/membership"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// classInterner takes the classes of builders into a partition: a new one, or one that
// came of another, of which it changes nothing that it does not own.
type classInterner struct {
	*Partition
	judge       *verdict.Judge
	from        *Partition // the one that it came of, or nil
	first       int        // the classes before it were there already
	before      *Numbers   // of sets and path classes that were there already
	setOf       map[string]int
	pathClassOf map[PathKey]int
	seenAt      map[string]int // what each segment sees, to a number
	seen        [][]Visibility // by number
	known       map[classKey]int
	shows       []witnessRank // by class: what its example is
	mine        []bool        // by class: it is not shared with another partition
	owned       []bool        // by domain
	left        []int         // the path classes of classes in which nobody is left
	taken       []taken
	room        []Class // for classes to come
	wanted      int     // about how many there will be
}

// witnessRank is how good the example of a class is.
type witnessRank uint8

const (
	unasked witnessRank = iota // the class was there already
	nobody                     // it was emptied, or is new
	anybody
	workload
)

// shown returns how good the example of a class is.
func (r *classInterner) shown(i int) witnessRank {
	if r.shows[i] == unasked {
		if r.shows[i] = anybody; len(r.Classes[i].Workloads) > 0 {
			r.shows[i] = workload
		}
	}
	return r.shows[i]
}

// taken is the pieces of a builder, with the classes of the partition that its own are.
type taken struct {
	pieces []draftPiece
	class  []int32
}

// newClassInterner returns a classInterner for a partition that comes of another, or of none: its
// sets, path classes and classes keep their numbers.
func newClassInterner(p *Partition, j *verdict.Judge, from *Partition) *classInterner {
	r := &classInterner{
		Partition: p, judge: j, from: from, first: len(p.Classes), before: &Numbers{}, setOf: map[string]int{}, pathClassOf: map[PathKey]int{},
		seenAt: map[string]int{}, known: map[classKey]int{}, shows: make([]witnessRank, len(p.Classes)), mine: make([]bool, len(p.Classes)), owned: make([]bool, len(p.Inside)+1),
	}
	if from != nil {
		r.before = from.Numbers.filled(from)
	}
	return r
}

// Numbers finds the numbers of the sets of groups and of the path classes of a partition. They
// are told when they are first asked for.
type Numbers struct {
	once        parallel.Once
	setOf       map[string]int
	pathClassOf map[PathKey]int
}

// filled returns those of a partition.
func (n *Numbers) filled(p *Partition) *Numbers {
	n.once.Do(func() {
		n.setOf, n.pathClassOf = make(map[string]int, len(p.Sets)), make(map[PathKey]int, len(p.PathClasses))
		for i, set := range p.Sets {
			n.setOf[lists.Key(set)] = i
		}
		for i := range p.PathClasses {
			n.pathClassOf[p.PathClasses[i].PathKey] = i
		}
	})
	return n
}

// edit returns a class that may be changed.
func (r *classInterner) edit(i int) *Class {
	if !r.mine[i] {
		r.mine[i] = true
		c := *r.Classes[i]
		r.Classes[i] = &c
	}
	return r.Classes[i]
}

// empty takes all endpoints out of a class.
func (r *classInterner) empty(i int) {
	c := r.edit(i)
	r.left = append(r.left, c.PathClass)
	r.own(r.DomainOf(c))
	c.Ranges, c.Workloads, c.Amount, c.Weight = nil, nil, intervals.Size{}, 0
	r.shows[i] = nobody
}

// own makes a domain's lists the classInterner's own, so that it may change them.
func (r *classInterner) own(domain int) {
	if r.owned[domain] {
		return
	}
	r.owned[domain] = true
	if domain == len(r.Inside) {
		r.Outside = slices.Clone(r.Outside)
		return
	}
	r.Inside[domain] = slices.Clone(r.Inside[domain])
	r.Local[domain] = r.Local[domain].clone()
}

// know notes the classes of the networks of some builders, so that endpoints come
// into those that are there already. External classes are never found again.
func (r *classInterner) know(made []*builder) {
	if r.first == 0 {
		return
	}
	networks := make([]bool, len(r.Net.Networks))
	domains := make([]bool, len(r.Inside))
	for _, b := range made {
		for i := range b.classes {
			if k := b.classes[i].key; k.network != paths.None {
				networks[k.network], domains[k.domain] = true, true
			}
		}
	}
	numbers := map[*Visibility]int{}
	for d, classes := range r.Inside {
		if !domains[d] {
			continue
		}
		r.addClasses(classes, networks, numbers)
	}
}

// addClasses notes some classes, of some networks.
func (r *classInterner) addClasses(classes []int, networks []bool, numbers map[*Visibility]int) {
	for _, i := range classes {
		c := r.Classes[i]
		if !networks[c.Network] {
			continue
		}
		seen, ok := numbers[&c.Seen[0]]
		if !ok {
			bytes := make([]byte, len(c.Seen))
			for s, what := range c.Seen {
				bytes[s] = byte(what)
			}
			seen = r.visibility(string(bytes))
			numbers[&c.Seen[0]] = seen
		}
		r.known[classKey{c.Header.Domain, int32(r.Local[c.Header.Domain].Sets[c.Set]), c.Network, int32(c.PathClass), int32(seen), c.Part}] = i
	}
}

// addBuilt takes what a builder has made.
func (r *classInterner) addBuilt(b *builder) {
	sets, pathClasses, seen := make([]int, len(b.sets)), make([]int, len(b.pathClasses)), make([]int, len(b.seen))
	for i, set := range b.sets {
		sets[i] = r.set(set)
	}
	for i, key := range b.pathClasses {
		pathClasses[i] = r.pathClass(key)
	}
	for i, bytes := range b.seen {
		seen[i] = r.visibility(bytes)
	}
	t := taken{b.pieces, make([]int32, len(b.classes))}
	for i := range b.classes {
		x := &b.classes[i]
		key := x.key
		key.pathClass, key.seen = int32(pathClasses[key.pathClass]), int32(seen[key.seen])
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
	i, fresh := Numbered(r.setOf, key, len(r.Sets))
	if fresh {
		r.Sets = append(r.Sets, groups)
	}
	return i
}

func (r *classInterner) pathClass(key PathKey) int {
	if i, known := r.before.pathClassOf[key]; known {
		return i
	}
	i, fresh := Numbered(r.pathClassOf, key, len(r.PathClasses))
	if fresh {
		r.PathClasses = append(r.PathClasses, PathClass{PathKey: key})
	}
	return i
}

// visibility returns the number of what each segment sees: classes share the lists.
func (r *classInterner) visibility(bytes string) int {
	i, fresh := Numbered(r.seenAt, bytes, len(r.seen))
	if fresh {
		seen := make([]Visibility, len(bytes))
		for s := range seen {
			seen[s] = Visibility(bytes[s])
		}
		r.seen = append(r.seen, seen)
	}
	return i
}

// class returns the class of the partition that a builder's is.
func (r *classInterner) class(x *classDraft, key classKey) int {
	r.own(int(key.domain))
	i, ok := r.known[key]
	if !ok {
		i = len(r.Classes)
		r.known[key] = i
		c := r.fresh()
		*c = Class{PathClass: int(key.pathClass), Four: x.end.Addr.Is4(), Seen: r.seen[key.seen], Header: Header{Domain: key.domain, Network: key.network, Part: key.part}}
		if x.end.Internal() {
			c.Set = r.Local[key.domain].add(int(key.set))
			r.Inside[key.domain] = append(r.Inside[key.domain], i)
		} else {
			r.Outside = append(r.Outside, i)
		}
		r.Classes, r.shows, r.mine = append(r.Classes, c), append(r.shows, nobody), append(r.mine, true)
	}
	c := r.edit(i)
	c.Amount.Add(x.size)
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
	if r.PathClassesIn == nil { // a new partition, of which everything is the classInterner's
		r.PathClassesIn = make([][]int, len(r.Inside)+1)
		for d := range r.owned {
			r.owned[d] = true
		}
	}
	groups := len(r.judge.GroupNames())
	for d, owned := range r.owned {
		if owned {
			r.order(d)
		}
		if owned && d < len(r.Local) {
			r.Local[d].index(r.Sets, groups)
		}
	}
}

// fill gives classes what was taken into them.
func (r *classInterner) fill() {
	ranges, workloads := make([]int, len(r.Classes)), make([]int, len(r.Classes))
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
	for i := range r.Classes {
		if c := r.Classes[i]; ranges[i] > 0 {
			pieces += len(c.Ranges) + ranges[i]
			held += len(c.Workloads) + workloads[i]
		}
	}
	allRanges, allWorkloads := make([]intervals.Range, pieces), make([]int, held)
	for i := range r.Classes {
		if ranges[i] == 0 {
			continue
		}
		c := r.edit(i)
		n, m := len(c.Ranges)+ranges[i], len(c.Workloads)+workloads[i]
		c.Ranges, allRanges = append(allRanges[:0:n], c.Ranges...), allRanges[n:]
		c.Workloads, allWorkloads = append(allWorkloads[:0:m], c.Workloads...), allWorkloads[m:]
		c.Weight = c.Amount.About()
	}
	for _, t := range r.taken {
		for i := range t.pieces {
			x := &t.pieces[i]
			c := r.Classes[t.class[x.class]]
			c.Ranges = append(c.Ranges, x.Range)
			if x.workload != paths.None {
				c.Workloads = append(c.Workloads, int(x.workload))
			}
		}
	}
	for i := range r.Classes {
		if ranges[i] > 0 {
			c := r.Classes[i]
			slices.SortFunc(c.Ranges, func(a, b intervals.Range) int { return a.From.Compare(b.From) })
			slices.Sort(c.Workloads)
			c.Workloads = slices.Compact(c.Workloads)
		}
	}
}

// order takes the classes out of a domain in which nobody is left, and tells the
// new ones their places. The others keep theirs, but for some that fill a gap.
func (r *classInterner) order(domain int) {
	left := r.ClassesIn(domain)
	for at := 0; at < len(left); at++ {
		fills := false
		for at < len(left) && r.mine[left[at]] && len(r.Classes[left[at]].Ranges) == 0 {
			left[at] = left[len(left)-1]
			left, fills = left[:len(left)-1], true
		}
		if at < len(left) && (fills || r.mine[left[at]]) {
			r.edit(left[at]).At = int32(at)
		}
	}
	if domain == len(r.Inside) {
		r.Outside = left
		for _, a := range examples {
			if c, ok := r.Holding(left, a); ok {
				r.edit(c).End = r.judge.External(a, paths.None)
			}
		}
	} else {
		r.Inside[domain] = left
		list := &r.Local[domain]
		list.noteClasses(left, func(at int) int32 { return r.headerAt(domain, at).Set })
	}
	r.findPathClasses(domain)
}

// headerAt returns the header of the class at a place of a domain: of one that is as it
// was, at hand in the columns of before. Its pathClassAt is that of before.
func (r *classInterner) headerAt(domain, at int) *Header {
	if n := r.ClassesIn(domain)[at]; r.mine[n] {
		return &r.Classes[n].Header
	}
	return &r.from.Columns(domain).Headers[at]
}

// findPathClasses finds the path classes of a domain: those of its classes, which show them. Those that
// were there keep their places, but for some that fill a gap.
func (r *classInterner) findPathClasses(domain int) {
	known := slices.Clone(r.PathClassesIn[domain])
	was := make([]bool, len(r.PathClasses))
	for _, s := range known {
		was[s] = true
	}
	classes, pathClasses := r.ClassesIn(domain), make([]int32, len(r.ClassesIn(domain))) // the path class of each class
	seen, others := make([]bool, len(r.PathClasses)), make([]bool, len(r.PathClasses))
	for _, s := range r.left {
		others[s] = true
	}
	var fresh []int
	for at, n := range classes {
		s := r.classPathClass(domain, at)
		pathClasses[at] = int32(s)
		others[s] = others[s] || r.mine[n]
		if !seen[s] && !was[s] {
			fresh = append(fresh, s)
		}
		seen[s] = true
	}
	r.markNetworks(classes, pathClasses, others)
	slices.Sort(fresh)
	known = append(known, fresh...)
	for at := 0; at < len(known); at++ {
		for at < len(known) && !seen[known[at]] {
			known[at] = known[len(known)-1]
			known = known[:len(known)-1]
		}
		if at < len(known) {
			r.PathClasses[known[at]].At = at
		}
	}
	for i, n := range classes {
		if at := int32(r.PathClasses[pathClasses[i]].At); r.mine[n] || r.headerAt(domain, i).PathClassAt != at {
			r.edit(n).PathClassAt = at
		}
	}
	r.PathClassesIn[domain] = known
}

// classPathClass returns the path class of the class at a place of a domain.
func (r *classInterner) classPathClass(domain, at int) int {
	if n := r.ClassesIn(domain)[at]; r.mine[n] {
		return r.Classes[n].PathClass
	}
	return r.from.PathClassesIn[domain][r.from.Columns(domain).Headers[at].PathClassAt]
}

// markNetworks finds who shows some path classes: the first of their classes, and the first of
// another network.
func (r *classInterner) markNetworks(classes []int, pathClasses []int32, which []bool) {
	shown := make([]bool, len(r.PathClasses))
	for at, n := range classes {
		switch s := pathClasses[at]; {
		case !which[s]:
		case !shown[s]:
			shown[s] = true
			r.PathClasses[s].One, r.PathClasses[s].Other = r.Classes[n].End, membership.Endpoint{}
		default:
			r.PathClasses[s].addNetwork(&r.Classes[n].End)
		}
	}
}

// addNetwork notes an endpoint at a path class, if it is the first of another network.
func (s *PathClass) addNetwork(end *membership.Endpoint) {
	if !s.Other.Addr.IsValid() && s.One.Home.Network != end.Home.Network {
		s.Other = *end
	}
}
