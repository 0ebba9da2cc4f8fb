package survey

import (
	"net/netip"
	"slices"

	"bivium/core/parallel"
)

// joint is the endpoints that are in one class of each of two surveys; -1 for
// none.
type joint struct {
	old, new int
	size     size
	ranges   []Range
	addrs    [2]netip.Addr // two of them, or one twice; the class's example first
	workload bool          // the first is a workload
	four     bool
}

// alignedDomain is a segment, or the internet, in two surveys.
type alignedDomain struct {
	node     Node
	old, new int // domains; -1 where there is none
	joints   []joint
	was, is  []end   // by joint
	moved    []int32 // the joints of other classes than before, or of networks whose ways may be others
	once     *parallel.Once
}

// alignedDomains returns the segments of both surveys, and the internet.
func alignedDomains(old, new *Survey) []alignedDomain {
	names := slices.Concat(old.net.Segments, new.net.Segments)
	slices.Sort(names)
	var out []alignedDomain
	domain := func(s *Survey, name string) int { return s.net.Segment(name) }
	for _, name := range slices.Compact(names) {
		out = append(out, alignedDomain{node: Node{Kind: NodeSegment, Segment: name}, old: domain(old, name), new: domain(new, name), once: &parallel.Once{}})
	}
	out = append(out, alignedDomain{node: Node{Kind: NodeInternet}, old: len(old.inside), new: len(new.inside), once: &parallel.Once{}})
	return out
}

// land returns an aligned domain with its joints.
func (c *comparer) land(i int) *alignedDomain {
	t := &c.lands[i]
	t.once.Do(func() {
		if !c.touched(t) {
			s := c.old.selves(t.old)
			t.joints, t.was, t.is = s.joints, s.ends, s.ends
			return
		}
		if c.graft != nil {
			c.follow(t)
		} else {
			c.join(t, func(int) bool { return true })
		}
		for i := range t.joints {
			if j := &t.joints[i]; j.old != j.new || c.graft == nil || c.graft.moves(c.new.classes[j.new].network) {
				t.moved = append(t.moved, int32(i))
			}
		}
	})
	return t
}

// follow finds the joints of an aligned domain whose endpoints came of those of the other
// survey: classes that have the same endpoints are as they were, but for their places.
func (c *comparer) follow(t *alignedDomain) {
	s := c.old.selves(t.old)
	room := len(s.joints) + mostJoined
	t.joints, t.was, t.is = make([]joint, 0, room), make([]end, 0, room), make([]end, 0, room)
	for i := range s.joints {
		n := s.joints[i].new
		if c.graft.changes(n) {
			continue
		}
		j, is := s.joints[i], s.ends[i]
		if c.new.classes[n] != c.old.classes[n] {
			j, is = c.new.jointOf(n), c.new.endOf(n)
		}
		t.joints, t.was, t.is = append(t.joints, j), append(t.was, s.ends[i]), append(t.is, is)
	}
	c.join(t, c.graft.changes)
}

// mostJoined is for how many joints more than there were room is made at once.
const mostJoined = 1 << 10

// join adds the joints of some classes of an aligned domain.
func (c *comparer) join(t *alignedDomain, some func(class int) bool) {
	for _, j := range join(c.old, c.new, t, some) {
		t.joints, t.was, t.is = append(t.joints, j), append(t.was, c.old.endOf(j.old)), append(t.is, c.new.endOf(j.new))
	}
}

// selves are the classes of a domain as joints with themselves, with their ends. They
// are made when they are first asked for.
type selves struct {
	joints []joint
	ends   []end
}

// selves returns those of a domain.
func (p *partition) selves(domain int) *selves {
	return p.roll(domain).derived.get(func() any {
		classes := p.of(domain)
		s := &selves{make([]joint, len(classes)), make([]end, len(classes))}
		for i, n := range classes {
			s.joints[i], s.ends[i] = p.jointOf(n), p.endOf(n)
		}
		return s
	}).(*selves)
}

// jointOf returns the joint of a class with itself.
func (p *partition) jointOf(n int) joint {
	c := p.classes[n]
	j := joint{old: n, new: n, size: c.size, ranges: c.Ranges, addrs: [2]netip.Addr{c.End.Addr, c.End.Addr}, workload: len(c.Workloads) > 0, four: c.four}
	for i := 0; i < len(c.Ranges) && j.addrs[1] == j.addrs[0]; i++ {
		if j.addrs[1] = c.Ranges[i].From; j.addrs[1] == j.addrs[0] {
			j.addrs[1] = c.Ranges[i].To
		}
	}
	return j
}

// piece is a range of a class.
type piece struct {
	Range
	class int
}

func (s *Survey) piecesOf(domain int, some func(class int) bool) []piece {
	var out []piece
	if domain < 0 {
		return nil
	}
	for _, class := range s.of(domain) {
		if !some(class) {
			continue
		}
		for _, r := range s.classes[class].Ranges {
			out = append(out, piece{r, class})
		}
	}
	slices.SortFunc(out, func(a, b piece) int { return a.From.Compare(b.From) })
	return out
}

// join returns the joints of some classes of an aligned domain.
func join(old, new *Survey, t *alignedDomain, some func(class int) bool) []joint {
	at := map[[2]int]int{}
	var out []joint
	eachJoint(old.piecesOf(t.old, some), new.piecesOf(t.new, some), func(r Range, a, b int) {
		key := [2]int{a, b}
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key] = i
			out = append(out, joint{old: a, new: b, addrs: [2]netip.Addr{r.From, r.To}, four: r.From.Is4()})
		}
		out[i].size.add(sizeOf(r))
		out[i].ranges = append(out[i].ranges, r)
		class := old.classes[max(a, 0)]
		if b >= 0 {
			class = new.classes[b]
		}
		out[i].exemplify(class, r)
	})
	return out
}

// exemplify keeps two addresses of a joint, a workload's first if it can.
func (j *joint) exemplify(class *Class, r Range) {
	if j.addrs[0] == j.addrs[1] {
		j.addrs[1] = r.To
	}
	at := class.End.Addr
	if j.workload || at.Compare(r.From) < 0 || at.Compare(r.To) > 0 {
		return
	}
	if j.addrs[0] != at {
		j.addrs = [2]netip.Addr{at, j.addrs[0]}
	}
	j.workload = len(class.Workloads) > 0
}

// eachJoint sweeps two sorted lists of disjoint pieces, and calls f for each
// stretch that lies in at least one of them.
func eachJoint(a, b []piece, f func(r Range, a, b int)) {
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].To.Compare(b[0].From) < 0: // a lies before b
			f(a[0].Range, a[0].class, -1)
			a = a[1:]
		case len(a) == 0 || b[0].To.Compare(a[0].From) < 0: // b lies before a
			f(b[0].Range, -1, b[0].class)
			b = b[1:]
		case a[0].From.Compare(b[0].From) < 0: // a begins first: cut it where b begins
			f(Range{a[0].From, b[0].From.Prev()}, a[0].class, -1)
			a[0].From = b[0].From
		case b[0].From.Compare(a[0].From) < 0: // b begins first
			f(Range{b[0].From, a[0].From.Prev()}, -1, b[0].class)
			b[0].From = a[0].From
		default: // both begin here: up to where the first ends
			to := a[0].To
			if b[0].To.Compare(to) < 0 {
				to = b[0].To
			}
			f(Range{a[0].From, to}, a[0].class, b[0].class)
			a, b = after(a, to), after(b, to)
		}
	}
}

// after returns the pieces without what lies up to an address that is in the
// first of them.
func after(p []piece, to netip.Addr) []piece {
	if p[0].To == to {
		return p[1:]
	}
	p[0].From = to.Next()
	return p
}

// apart returns an address of each of two joints, two that differ.
func (j *joint) apart(other *joint) (src, dst netip.Addr, ok bool) {
	for _, src = range j.addrs {
		for _, dst = range other.addrs {
			if src != dst {
				return src, dst, true
			}
		}
	}
	return src, dst, false
}

// asSeen returns the address by which flows from a node name an address of a joint:
// as it is now, or as it was if they are gone.
func (c *comparer) asSeen(j *joint, a netip.Addr, from Node, gone bool) netip.Addr {
	s, class := c.new, j.new
	if gone || class < 0 {
		s, class = c.old, j.old
	}
	if segment := s.net.Segment(from.Segment); class >= 0 && from.Kind != NodeInternet && segment >= 0 {
		return asSeen(s.judge, s.classes[class], a, segment)
	}
	return a
}
