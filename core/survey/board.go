package survey

import (
	"cmp"
	"net/netip"
	"slices"

	"bivium/core/paths"
	"bivium/core/verdict"
)

// Node is a row or column of the board: some endpoints that have a name.
type Node struct {
	Kind    NodeKind
	Segment string // of all but the internet
	Group   string // of a group
}

// NodeKind is the sort of a node.
type NodeKind string

// The kinds of nodes.
const (
	NodeSegment  NodeKind = "segment"  // all endpoints of a segment
	NodeGroup    NodeKind = "group"    // those that are in a group
	NodeRest     NodeKind = "rest"     // those that are in no group
	NodeInternet NodeKind = "internet" // all external endpoints
)

// Nodes returns the rows of a board, in order: each segment, after it, if it is
// open, its groups and the rest, and the internet last.
func (s *Survey) Nodes(open func(segment string) bool) []Node {
	var nodes []Node
	for i, segment := range s.judge.Net().Segments {
		nodes = append(nodes, Node{Kind: NodeSegment, Segment: segment})
		if !open(segment) {
			continue
		}
		names := s.judge.GroupNames()
		for g, sets := range s.local[i].byGroup {
			if len(sets) > 0 {
				nodes = append(nodes, Node{NodeGroup, segment, names[g]})
			}
		}
		if slices.ContainsFunc(s.local[i].sets, func(set int) bool { return len(s.sets[set]) == 0 }) {
			nodes = append(nodes, Node{Kind: NodeRest, Segment: segment})
		}
	}
	return append(nodes, Node{Kind: NodeInternet})
}

// Member is endpoints of one class: all of them, or a single one.
type Member struct {
	Class int
	Only  netip.Addr // invalid for all
}

// Set is some endpoints. No endpoint is in two of its members.
type Set []Member

// Of returns the endpoints of a node; none for one that the estate does not have.
func (s *Survey) Of(n Node) Set { return whole(s.ClassesOf(n)) }

func whole(classes []int) Set {
	set := make(Set, len(classes))
	for i, c := range classes {
		set[i].Class = c
	}
	return set
}

// Where returns the internal endpoints of the classes that f accepts.
func (s *Survey) Where(f func(*Class) bool) Set {
	var set Set
	for _, classes := range s.inside {
		for _, c := range classes {
			if f(&s.classes[c]) {
				set = append(set, Member{Class: c})
			}
		}
	}
	return set
}

// ClassesOf returns the classes of a node, by number; none for a node that the
// estate does not have.
func (s *Survey) ClassesOf(n Node) []int {
	if n.Kind == NodeInternet {
		return s.outside
	}
	segment := s.judge.Net().Segment(n.Segment)
	if segment == paths.None {
		return nil
	}
	if n.Kind == NodeSegment {
		return s.inside[segment]
	}
	var out []int
	list := &s.local[segment]
	if group := s.judge.Group(n.Group); n.Kind == NodeGroup && group != paths.None {
		for _, set := range list.byGroup[group] {
			out = append(out, list.classes[set]...)
		}
	}
	if n.Kind == NodeRest {
		for i, set := range list.sets {
			if len(s.sets[set]) == 0 {
				out = append(out, list.classes[i]...)
			}
		}
	}
	slices.Sort(out)
	return out
}

// ClassAt returns the class of an internal endpoint, or false.
func (s *Survey) ClassAt(segment int, a netip.Addr) (int, bool) {
	return s.holding(s.inside[segment], a)
}

// OutsideAt returns the class of an external endpoint, or false.
func (s *Survey) OutsideAt(a netip.Addr) (int, bool) { return s.holding(s.outside, a) }

// OutsideGroup returns the external classes that a group holds by its
// prefixes, or by its exits where reached through one of them.
func (s *Survey) OutsideGroup(group int) Set {
	var out Set
	for _, c := range s.outside {
		addr := s.classes[c].End.Addr
		for exit := paths.None; exit < len(s.judge.Net().Exits); exit++ {
			end := s.judge.External(addr, exit)
			if _, in := slices.BinarySearch(end.Groups(), group); in {
				out = append(out, Member{Class: c})
				break
			}
		}
	}
	return out
}

// Class returns a class.
func (s *Survey) Class(i int) *Class { return &s.classes[i] }

// Mark is an outcome that some flows of a cell have.
type Mark struct {
	Outcome   verdict.Outcome `json:"outcome"`
	Contested bool            `json:"contested"`
}

// Cell returns the outcomes of all flows from some endpoints to others, those of
// the most flows first. It is empty if there are no flows. Cost: the kinds of
// either side multiplied, and the pairs of members of one network.
func (s *Survey) Cell(from, to Set) []Mark {
	c := newCeller(s)
	defer c.free()
	for _, src := range s.sidesOf(from) {
		for _, dst := range s.sidesOf(to) {
			c.add(from, &src, to, &dst)
		}
	}
	return s.marksOf(c.take())
}

// weighed is a combination of a cell, and how much of it there is.
type weighed struct {
	combination
	door  []shade // of flows through a publication: their outcomes
	pairs int64   // of members, exactly
	flows float64 // pairs of addresses, about
}

// marksOf returns the outcomes of combinations, those of the most flows first.
func (s *Survey) marksOf(list []weighed) []Mark {
	flows := map[Mark]float64{}
	for _, w := range list {
		shades := w.door
		switch {
		case shades != nil:
		case w.combination == unfoundCombination:
			shades = s.marks[0]
		default:
			shades = s.marks[s.verdicts[w.effect][w.stance]]
		}
		for _, x := range shades {
			if x.services > 0 {
				flows[x.mark] += max(w.flows, 1) * x.services
			}
		}
	}
	marks := make([]Mark, 0, len(flows))
	for m := range flows {
		marks = append(marks, m)
	}
	slices.SortFunc(marks, func(a, b Mark) int {
		if d := cmp.Compare(flows[b], flows[a]); d != 0 {
			return d
		}
		if a.Outcome == b.Outcome {
			return oneIf(a.Contested) - oneIf(b.Contested)
		}
		return cmp.Compare(a.Outcome, b.Outcome)
	})
	return marks
}

// celler adds up the combinations of a cell.
type celler struct {
	*Survey
	stances int
	amounts []amount // by effect and stance
	used    []combination
	out     []weighed
	buckets buckets
}

type amount struct {
	pairs int64
	flows float64
	used  bool
}

// newCeller returns an empty celler. Its table is as large as that of verdicts,
// so it is used again.
func newCeller(s *Survey) *celler {
	if c, ok := s.cellers.Get().(*celler); ok {
		c.Survey = s
		return c
	}
	stances := 0
	for _, v := range s.verdicts {
		stances = max(stances, len(v))
	}
	return &celler{Survey: s, stances: stances, amounts: make([]amount, stances*len(s.verdicts))}
}

// free gives the celler back.
func (c *celler) free() {
	s := c.Survey
	c.Survey, c.out = nil, nil
	s.cellers.Put(c)
}

// count adds pairs of members, and about how many pairs of addresses they are,
// to a combination.
func (c *celler) count(x combination, pairs int64, flows float64) {
	a := &c.amounts[int(x.effect)*c.stances+int(x.stance)]
	if !a.used {
		a.used = true
		c.used = append(c.used, x)
	}
	a.pairs += pairs
	a.flows += flows
}

// take returns what was added up, and empties the celler.
func (c *celler) take() []weighed {
	for _, x := range c.used {
		a := &c.amounts[int(x.effect)*c.stances+int(x.stance)]
		if a.pairs > 0 {
			c.out = append(c.out, weighed{x, nil, a.pairs, a.flows})
		}
		*a = amount{}
	}
	c.used = c.used[:0]
	return c.out
}

func (c *celler) add(from Set, src *side, to Set, dst *side) {
	if src.domain == len(c.inside) {
		c.addDoors(from, src, to, dst)
		return
	}
	if src.domain != dst.domain {
		c.addUnfound(from, src, to, dst)
	}
	c.addFound(from, src, to, dst)
}

// addFound adds the flows to endpoints that the source's segment finds.
func (c *celler) addFound(from Set, src *side, to Set, dst *side) {
	b := c.blocks[src.domain][dst.domain]
	if b == nil {
		return
	}
	sources, targets := c.sources(b, from, src.members), c.targets(b, to, dst.members)
	for i := range sources {
		l := &sources[i]
		c.eachBatch(b, l, targets, &c.buckets, func(x combination, dsts []int32) {
			pairs, weight := 0, 0.0
			for _, k := range dsts {
				pairs += len(targets[k].members)
				weight += targets[k].weight
			}
			c.count(x, int64(len(l.members))*int64(pairs), l.weight*weight)
		})
	}
	if src.domain == dst.domain {
		c.addNear(b, from, src, to, dst)
	}
}

// addNear moves the pairs of one network from the combinations of hub paths to
// those of local ones.
func (c *celler) addNear(b *block, from Set, src *side, to Set, dst *side) {
	c.eachNear(from, src.members, to, dst.members, func(i, k int32) {
		x, y := from[i], to[k]
		near, far := c.nearCombination(b, &c.classes[x.Class], &c.classes[y.Class])
		flows := c.weight(x) * c.weight(y)
		if far.effect != noEffect {
			c.count(far, -1, -flows)
		}
		if c.selfless(x, y) {
			c.count(near, 1, flows)
		}
	})
}

// addUnfound adds the flows to addresses that the source's segment finds nothing
// under.
func (c *celler) addUnfound(from Set, src *side, to Set, dst *side) {
	for _, four := range []bool{false, true} {
		out, in := 0.0, 0.0
		for _, i := range src.members {
			if c.classes[from[i].Class].four == four {
				out += c.weight(from[i])
			}
		}
		for _, k := range dst.members {
			if x := &c.classes[to[k].Class]; x.four == four && x.seen[src.domain] == seesNothing {
				in += c.weight(to[k])
			}
		}
		if out > 0 && in > 0 {
			c.out = append(c.out, weighed{unfoundCombination, nil, 1, out * in})
		}
	}
}

func (c *celler) addDoors(from Set, src *side, to Set, dst *side) {
	for _, i := range src.members {
		for _, k := range dst.members {
			if c.selfless(from[i], to[k]) {
				c.eachStrand(from[i].Class, to[k].Class, func(t strand) {
					c.out = append(c.out, weighed{t.combination, c.shades(c.vectors[t.vector], t.mask), 1, c.weight(from[i]) * c.weight(to[k])})
				})
			}
		}
	}
}

func (s *Survey) weight(m Member) float64 {
	if m.Only.IsValid() {
		return 1
	}
	return s.classes[m.Class].weight
}

// telling says how good a witness two members make: best are workloads.
func (s *Survey) telling(a, b Member) int {
	return min(1, len(s.classes[a.Class].Workloads)) + min(1, len(s.classes[b.Class].Workloads))
}
