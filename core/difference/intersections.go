package difference

import (
	"net/netip"
	"slices"

	"bivium/core/classes"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/parallel"
)

// intersection is the endpoints that are in one class of each of two matrices; -1 for
// none.
type intersection struct {
	old, new int
	Size     intervals.Size
	Ranges   []intervals.Range
	addrs    [2]netip.Addr // two of them, or one twice; the class's example first
	workload bool          // the first is a workload
	Four     bool
}

// AlignedDomain is a segment, or the internet, in two matrices.
type AlignedDomain struct {
	node          matrix.Node
	old, new      int // domains; -1 where there is none
	Intersections []intersection
	was, is       []end   // by intersection
	moved         []int32 // the intersections of other classes than before, or of networks whose paths may be others
	once          *parallel.Once
}

// alignedDomains returns the segments of both matrices, and the internet.
func alignedDomains(old, new *matrix.Matrix) []AlignedDomain {
	names := slices.Concat(old.Net.Segments, new.Net.Segments)
	slices.Sort(names)
	var out []AlignedDomain
	domain := func(s *matrix.Matrix, name string) int { return s.Net.Segment(name) }
	for _, name := range slices.Compact(names) {
		out = append(out, AlignedDomain{node: matrix.Node{Kind: matrix.NodeSegment, Segment: name}, old: domain(old, name), new: domain(new, name), once: &parallel.Once{}})
	}
	out = append(out, AlignedDomain{node: matrix.Node{Kind: matrix.NodeInternet}, old: len(old.Inside), new: len(new.Inside), once: &parallel.Once{}})
	return out
}

// Domain returns an aligned domain with its intersections.
func (c *comparer) Domain(i int) *AlignedDomain {
	t := &c.domains[i]
	t.once.Do(func() {
		if !c.touched(t) {
			s := selvesOf(c.old.Partition, t.old)
			t.Intersections, t.was, t.is = s.intersections, s.ends, s.ends
			return
		}
		if c.update != nil {
			c.follow(t)
		} else {
			c.join(t, func(int) bool { return true })
		}
		for i := range t.Intersections {
			if j := &t.Intersections[i]; j.old != j.new || c.update == nil || c.update.Moves(c.new.Classes[j.new].Network) {
				t.moved = append(t.moved, int32(i))
			}
		}
	})
	return t
}

// follow finds the intersections of an aligned domain whose endpoints came of those of the other
// matrix: classes that have the same endpoints are as they were, but for their places.
func (c *comparer) follow(t *AlignedDomain) {
	s := selvesOf(c.old.Partition, t.old)
	room := len(s.intersections) + mostJoined
	t.Intersections, t.was, t.is = make([]intersection, 0, room), make([]end, 0, room), make([]end, 0, room)
	for i := range s.intersections {
		n := s.intersections[i].new
		if c.update.Changes(n) {
			continue
		}
		j, is := s.intersections[i], s.ends[i]
		if c.new.Classes[n] != c.old.Classes[n] {
			j, is = selfIntersection(c.new.Partition, n), endOf(c.new.Partition, n)
		}
		t.Intersections, t.was, t.is = append(t.Intersections, j), append(t.was, s.ends[i]), append(t.is, is)
	}
	c.join(t, c.update.Changes)
}

// mostJoined is for how many intersections more than there were room is made at once.
const mostJoined = 1 << 10

// join adds the intersections of some classes of an aligned domain.
func (c *comparer) join(t *AlignedDomain, some func(class int) bool) {
	for _, j := range join(c.old, c.new, t, some) {
		t.Intersections, t.was, t.is = append(t.Intersections, j), append(t.was, endOf(c.old.Partition, j.old)), append(t.is, endOf(c.new.Partition, j.new))
	}
}

// selfIntersections are the classes of a domain as intersections with themselves, with their ends. They
// are made when they are first asked for.
type selfIntersections struct {
	intersections []intersection
	ends          []end
}

// selvesOf returns those of a domain.
func selvesOf(p *classes.Partition, domain int) *selfIntersections {
	return p.Columns(domain).Derived.Get(func() any {
		classes := p.ClassesIn(domain)
		s := &selfIntersections{make([]intersection, len(classes)), make([]end, len(classes))}
		for i, n := range classes {
			s.intersections[i], s.ends[i] = selfIntersection(p, n), endOf(p, n)
		}
		return s
	}).(*selfIntersections)
}

// selfIntersection returns the intersection of a class with itself.
func selfIntersection(p *classes.Partition, n int) intersection {
	c := p.Classes[n]
	j := intersection{old: n, new: n, Size: c.Amount, Ranges: c.Ranges, addrs: [2]netip.Addr{c.End.Addr, c.End.Addr}, workload: len(c.Workloads) > 0, Four: c.Four}
	for i := 0; i < len(c.Ranges) && j.addrs[1] == j.addrs[0]; i++ {
		if j.addrs[1] = c.Ranges[i].From; j.addrs[1] == j.addrs[0] {
			j.addrs[1] = c.Ranges[i].To
		}
	}
	return j
}

// piece is a range of a class.
type piece struct {
	intervals.Range
	class int
}

func piecesOf(s *matrix.Matrix, domain int, some func(class int) bool) []piece {
	var out []piece
	if domain < 0 {
		return nil
	}
	for _, class := range s.ClassesIn(domain) {
		if !some(class) {
			continue
		}
		for _, r := range s.Classes[class].Ranges {
			out = append(out, piece{r, class})
		}
	}
	slices.SortFunc(out, func(a, b piece) int { return a.From.Compare(b.From) })
	return out
}

// join returns the intersections of some classes of an aligned domain.
func join(old, new *matrix.Matrix, t *AlignedDomain, some func(class int) bool) []intersection {
	at := map[[2]int]int{}
	var out []intersection
	eachIntersection(piecesOf(old, t.old, some), piecesOf(new, t.new, some), func(r intervals.Range, a, b int) {
		key := [2]int{a, b}
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key] = i
			out = append(out, intersection{old: a, new: b, addrs: [2]netip.Addr{r.From, r.To}, Four: r.From.Is4()})
		}
		out[i].Size.Add(intervals.SizeOf(r))
		out[i].Ranges = append(out[i].Ranges, r)
		class := old.Classes[max(a, 0)]
		if b >= 0 {
			class = new.Classes[b]
		}
		out[i].exemplify(class, r)
	})
	return out
}

// exemplify keeps two addresses of an intersection, a workload's first if it can.
func (j *intersection) exemplify(class *classes.Class, r intervals.Range) {
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

// eachIntersection sweeps two sorted lists of disjoint pieces, and calls f for each
// interval that lies in at least one of them.
func eachIntersection(a, b []piece, f func(r intervals.Range, a, b int)) {
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].To.Compare(b[0].From) < 0: // a lies before b
			f(a[0].Range, a[0].class, -1)
			a = a[1:]
		case len(a) == 0 || b[0].To.Compare(a[0].From) < 0: // b lies before a
			f(b[0].Range, -1, b[0].class)
			b = b[1:]
		case a[0].From.Compare(b[0].From) < 0: // a begins first: cut it where b begins
			f(intervals.Range{From: a[0].From, To: b[0].From.Prev()}, a[0].class, -1)
			a[0].From = b[0].From
		case b[0].From.Compare(a[0].From) < 0: // b begins first
			f(intervals.Range{From: b[0].From, To: a[0].From.Prev()}, -1, b[0].class)
			b[0].From = a[0].From
		default: // both begin here: up to where the first ends
			to := a[0].To
			if b[0].To.Compare(to) < 0 {
				to = b[0].To
			}
			f(intervals.Range{From: a[0].From, To: to}, a[0].class, b[0].class)
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

// apart returns an address of each of two intersections, two that differ.
func (j *intersection) apart(other *intersection) (src, dst netip.Addr, ok bool) {
	for _, src = range j.addrs {
		for _, dst = range other.addrs {
			if src != dst {
				return src, dst, true
			}
		}
	}
	return src, dst, false
}

// asSeen returns the address by which flows from a node name an address of an intersection:
// as it is now, or as it was if they are gone.
func (c *comparer) asSeen(j *intersection, a netip.Addr, from matrix.Node, gone bool) netip.Addr {
	s, class := c.new, j.new
	if gone || class < 0 {
		s, class = c.old, j.old
	}
	if segment := s.Net.Segment(from.Segment); class >= 0 && from.Kind != matrix.NodeInternet && segment >= 0 {
		return classes.AsSeen(s.Judge, s.Classes[class], a, segment)
	}
	return a
}
