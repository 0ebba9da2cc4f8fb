package survey

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

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
		list := &s.local[i]
		first := len(nodes)
		for g, name := range s.judge.GroupNames() {
			if list.held(g) {
				nodes = append(nodes, Node{NodeGroup, segment, name})
			}
		}
		slices.SortFunc(nodes[first:], func(a, b Node) int { return strings.Compare(a.Group, b.Group) })
		if slices.ContainsFunc(list.classes, func(of []int) bool { return len(of) > 0 && len(s.sets[list.sets[s.classes[of[0]].set]]) == 0 }) {
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
			if f(s.classes[c]) {
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
		for _, set := range list.of(group) {
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
func (s *Survey) Class(i int) *Class { return s.classes[i] }

// Mark is an outcome that some flows of a cell have.
type Mark struct {
	Outcome   verdict.Outcome `json:"outcome"`
	Contested bool            `json:"contested"`
}

// Cell returns the outcomes of all flows from some endpoints to others, those of
// the most flows first. It is empty if there are no flows. Cost: the kinds of
// either side multiplied, and the pairs of members of one network.
func (s *Survey) Cell(from, to Set) []Mark {
	return s.marksOf(s.combinations(from, to), 0)
}

// combinations returns how much there is of each combination of a cell.
func (s *Survey) combinations(from, to Set) []weighed {
	c := newPairCounter(s)
	defer c.free()
	for _, src := range s.sidesOf(from) {
		for _, dst := range s.sidesOf(to) {
			c.add(from, &src, to, &dst)
		}
	}
	return c.take()
}

// weighed is a combination of a cell, and how much of it there is.
type weighed struct {
	combination
	door  []weightedOutcome // of flows through a publication: their outcomes
	pairs int64             // of members, exactly
	flows float64           // pairs of addresses, about
}

// marksOf returns the outcomes of combinations, and of flows to what is not found,
// those of the most flows first.
func (s *Survey) marksOf(list []weighed, unfound float64) []Mark {
	if unfound > 0 {
		list = append(slices.Clip(list), weighed{unfoundCombination, nil, 1, unfound})
	}
	flows := map[Mark]float64{}
	for _, w := range list {
		weightedOutcomes := w.door
		switch {
		case weightedOutcomes != nil:
		case w.combination == unfoundCombination:
			weightedOutcomes = s.marks[0]
		default:
			weightedOutcomes = s.marks[s.verdicts[w.effect][w.stance]]
		}
		for _, x := range weightedOutcomes {
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
