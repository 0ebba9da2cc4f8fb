package failure

import (
	"slices"

	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/membership"
)

// pathBucket is the classes of one network at one path class: endpoints that a failure
// strikes alike, as far as paths go.
type pathBucket struct {
	network, pathClass int
	classes            []int
	lines              map[ruleIndexKey][]lineSize
	mark               int // of a failureEvaluator
}

// lineSize is how much of a line of a side there is.
type lineSize struct {
	line  int32
	size  intervals.Size
	count int // of classes
	class int // one of them, a workload's if there is one
}

// filter lets some classes through; the zero filter lets all.
type filter struct {
	id int    // from 1
	in []bool // by class
}

func (f *filter) passes(class int) bool { return f.id == 0 || f.in[class] }

type ruleIndexKey struct {
	axis *matrix.Side
	id   int
}

// pathBucketsOf returns the pathBuckets of each segment, those of one path class together.
func pathBucketsOf(s *matrix.Matrix) [][]*pathBucket {
	out := make([][]*pathBucket, len(s.Inside))
	for segment, classes := range s.Inside {
		at := map[[2]int]*pathBucket{}
		for _, n := range classes {
			c := s.Classes[n]
			key := [2]int{c.End.Home.Network, c.PathClass}
			if at[key] == nil {
				at[key] = &pathBucket{network: key[0], pathClass: c.PathClass, lines: map[ruleIndexKey][]lineSize{}}
				out[segment] = append(out[segment], at[key])
			}
			at[key].classes = append(at[key].classes, n)
		}
		slices.SortStableFunc(out[segment], func(a, b *pathBucket) int { return a.pathClass - b.pathClass })
	}
	return out
}

// on returns the lines of the pathBucket on a side, sorted.
func (h *pathBucket) on(s *matrix.Matrix, x *matrix.Side, f *filter) []lineSize {
	key := ruleIndexKey{x, f.id}
	if known, ok := h.lines[key]; ok {
		return known
	}
	at := map[int32]int{}
	var out []lineSize
	for _, n := range h.classes {
		if !f.passes(n) {
			continue
		}
		c := s.Classes[n]
		line := x.Line(&c.Header)
		i, ok := at[line]
		if !ok {
			i = len(out)
			at[line] = i
			out = append(out, lineSize{line: line, class: n})
		}
		out[i].size.Add(c.Amount)
		out[i].count++
		if len(c.Workloads) > 0 && len(s.Classes[out[i].class].Workloads) == 0 {
			out[i].class = n
		}
	}
	slices.SortFunc(out, func(a, b lineSize) int { return int(a.line - b.line) })
	h.lines[key] = out
	return out
}

// group is pathBuckets that a failure strikes alike: those of a path class, perhaps without
// some whose own attachments fail.
type group struct {
	pathBuckets []*pathBucket
	moved       bool // their own attachments fail
	struck      int  // see failureEvaluator.struckAs
	pathClass   *pathClassLines
	minus       []*pathBucket // of the path class, that are not in the group; used if path class is not nil
}

// pathClassLines keeps the lines of all pathBuckets of a path class.
type pathClassLines struct {
	pathBuckets []*pathBucket
	lines       map[ruleIndexKey][]lineSize
}

// merge adds up the lines of some pathBuckets.
func merge(s *matrix.Matrix, pathBuckets []*pathBucket, x *matrix.Side, f *filter) []lineSize {
	if len(pathBuckets) == 1 {
		return pathBuckets[0].on(s, x, f)
	}
	at := map[int32]int{}
	var out []lineSize
	for _, h := range pathBuckets {
		for _, l := range h.on(s, x, f) {
			i, ok := at[l.line]
			if !ok {
				at[l.line] = len(out)
				out = append(out, l)
				continue
			}
			out[i].size.Add(l.size)
			out[i].count += l.count
			if len(s.Classes[l.class].Workloads) > 0 && len(s.Classes[out[i].class].Workloads) == 0 {
				out[i].class = l.class
			}
		}
	}
	slices.SortFunc(out, func(a, b lineSize) int { return int(a.line - b.line) })
	return out
}

// on returns the lines of a group on a side, sorted.
func (g *group) on(s *matrix.Matrix, x *matrix.Side, f *filter) []lineSize {
	if g.pathClass == nil {
		return merge(s, g.pathBuckets, x, f)
	}
	key := ruleIndexKey{x, f.id}
	all, ok := g.pathClass.lines[key]
	if !ok {
		all = merge(s, g.pathClass.pathBuckets, x, f)
		g.pathClass.lines[key] = all
	}
	if len(g.minus) == 0 {
		return all
	}
	less := merge(s, g.minus, x, f)
	out := make([]lineSize, 0, len(all))
	for _, l := range all {
		for len(less) > 0 && less[0].line < l.line {
			less = less[1:]
		}
		if len(less) > 0 && less[0].line == l.line {
			if l.count -= less[0].count; l.count == 0 {
				continue
			}
			l.size.Subtract(less[0].size)
			l.class = -1 // which of them are left is looked up when it is asked for
		}
		out = append(out, l)
	}
	return out
}

// classOn returns a class of the group on a line, a workload's if there is one.
func (g *group) classOn(s *matrix.Matrix, x *matrix.Side, f *filter, l *lineSize) int {
	if l.class >= 0 {
		return l.class
	}
	found := -1
	for _, h := range g.pathBuckets {
		for _, o := range h.on(s, x, f) {
			switch {
			case o.line != l.line:
			case len(s.Classes[o.class].Workloads) > 0:
				return o.class
			case found < 0:
				found = o.class
			}
		}
	}
	return found
}

// apart returns an endpoint of either group, of two networks if near; false if
// there are none.
func apart(s *matrix.Matrix, a, b *group, near bool) (src, dst *membership.Endpoint, ok bool) {
	for _, g := range a.pathBuckets[:min(2, len(a.pathBuckets))] {
		for _, h := range b.pathBuckets[:min(2, len(b.pathBuckets))] {
			if !near || g.network != h.network {
				return &s.Classes[g.classes[0]].End, &s.Classes[h.classes[0]].End, true
			}
		}
	}
	return nil, nil, false
}
