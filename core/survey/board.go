package survey

import (
	"net/netip"
	"slices"
	"strings"

	"bivium/core/paths"
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
