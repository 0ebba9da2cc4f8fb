package query

import (
	"net/netip"
	"slices"
	"strings"

	"bivium/core/classes"
	"bivium/core/matrix"
	"bivium/core/paths"
)

// Nodes returns the rows of a board, in order: each segment, after it, if it is
// open, its groups and the rest, and the internet last.
func Nodes(s *matrix.Matrix, open func(segment string) bool) []matrix.Node {
	var nodes []matrix.Node
	for i, segment := range s.Judge.Net.Segments {
		nodes = append(nodes, matrix.Node{Kind: matrix.NodeSegment, Segment: segment})
		if !open(segment) {
			continue
		}
		list := &s.Local[i]
		first := len(nodes)
		for g, name := range s.Judge.GroupNames() {
			if list.SomeoneIn(g) {
				nodes = append(nodes, matrix.Node{Kind: matrix.NodeGroup, Segment: segment, Group: name})
			}
		}
		slices.SortFunc(nodes[first:], func(a, b matrix.Node) int { return strings.Compare(a.Group, b.Group) })
		if slices.ContainsFunc(list.Classes, func(of []int) bool { return len(of) > 0 && len(s.Sets[list.Sets[s.Classes[of[0]].Set]]) == 0 }) {
			nodes = append(nodes, matrix.Node{Kind: matrix.NodeRest, Segment: segment})
		}
	}
	return append(nodes, matrix.Node{Kind: matrix.NodeInternet})
}

// Where returns the internal endpoints of the classes that f accepts.
func Where(s *matrix.Matrix, f func(*classes.Class) bool) matrix.Set {
	var set matrix.Set
	for _, classes := range s.Inside {
		for _, c := range classes {
			if f(s.Classes[c]) {
				set = append(set, matrix.Member{Class: c})
			}
		}
	}
	return set
}

// ClassAt returns the class of an internal endpoint, or false.
func ClassAt(s *matrix.Matrix, segment int, a netip.Addr) (int, bool) {
	return s.Holding(s.Inside[segment], a)
}

// OutsideAt returns the class of an external endpoint, or false.
func OutsideAt(s *matrix.Matrix, a netip.Addr) (int, bool) { return s.Holding(s.Outside, a) }

// OutsideGroup returns the external classes that a group holds by its
// prefixes, or by its exits where reached through one of them.
func OutsideGroup(s *matrix.Matrix, group int) matrix.Set {
	var out matrix.Set
	for _, c := range s.Outside {
		addr := s.Classes[c].End.Addr
		for exit := paths.None; exit < len(s.Judge.Net.Exits); exit++ {
			end := s.Judge.External(addr, exit)
			if _, in := slices.BinarySearch(end.Groups, group); in {
				out = append(out, matrix.Member{Class: c})
				break
			}
		}
	}
	return out
}
