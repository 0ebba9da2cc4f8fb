package matrix

import (
	"net/netip"
	"slices"

	"bivium/core/classes"
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

// SetOf returns the endpoints of a node; none for one that the estate does not have.
func (s *Matrix) SetOf(n Node) Set { return Whole(s.ClassesOf(n)) }

func Whole(classes []int) Set {
	set := make(Set, len(classes))
	for i, c := range classes {
		set[i].Class = c
	}
	return set
}

// ClassesOf returns the classes of a node, by number; none for a node that the
// estate does not have.
func (s *Matrix) ClassesOf(n Node) []int {
	if n.Kind == NodeInternet {
		return s.Outside
	}
	segment := s.Judge.Net.Segment(n.Segment)
	if segment == paths.None {
		return nil
	}
	if n.Kind == NodeSegment {
		return s.Inside[segment]
	}
	var out []int
	list := &s.Local[segment]
	if group := s.Judge.Group(n.Group); n.Kind == NodeGroup && group != paths.None {
		for _, set := range list.With(group) {
			out = append(out, list.Classes[set]...)
		}
	}
	if n.Kind == NodeRest {
		for i, set := range list.Sets {
			if len(s.Sets[set]) == 0 {
				out = append(out, list.Classes[i]...)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Class returns a class.
func (s *Matrix) Class(i int) *classes.Class { return s.Classes[i] }
