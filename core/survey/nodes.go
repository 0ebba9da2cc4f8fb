package survey

import (
	"net/netip"
	"slices"

	"bivium/core/paths"
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

// Class returns a class.
func (s *Survey) Class(i int) *Class { return s.classes[i] }
