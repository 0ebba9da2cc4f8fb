package survey

import (
	"cmp"
	"net/netip"
	"slices"

	"github.com/bits-and-blooms/bitset"

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
		rest := false
		in := make([]bool, len(names))
		for _, c := range s.inside[i] {
			groups := s.classes[c].End.Groups()
			rest = rest || len(groups) == 0
			for _, g := range groups {
				in[g] = true
			}
		}
		for g, is := range in {
			if is {
				nodes = append(nodes, Node{NodeGroup, segment, names[g]})
			}
		}
		if rest {
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
	group := s.judge.Group(n.Group)
	var out []int
	for _, c := range s.inside[segment] {
		groups := s.classes[c].End.Groups()
		_, in := slices.BinarySearch(groups, group)
		if n.Kind == NodeRest && len(groups) == 0 || n.Kind == NodeGroup && group != paths.None && in {
			out = append(out, c)
		}
	}
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
// the most flows first. It is empty if there are no flows.
func (s *Survey) Cell(from, to Set) []Mark {
	flows := map[Mark]float64{}
	add := func(vector int, mask *bitset.BitSet, weight float64) {
		for _, r := range s.vectors[vector] {
			services := 0.0
			for atom := range r.atoms.EachSet() {
				if mask == nil || mask.Test(atom) {
					services += s.counts[atom]
				}
			}
			if services > 0 {
				v := &s.results[r.result]
				flows[Mark{v.Outcome, v.Contested}] += weight * services
			}
		}
	}
	weights := make([]float64, len(s.vectors))
	for _, a := range from {
		for _, b := range to {
			if s.classes[a.Class].Internal() && !a.Only.IsValid() && !b.Only.IsValid() {
				// The inside is most of the work, and needs no strands.
				switch c := s.table[a.Class][b.Class]; c {
				case noFlow:
				case unfound:
					weights[0] += s.classes[a.Class].weight * s.classes[b.Class].weight
				default:
					weights[s.chosen[c]] += s.classes[a.Class].weight * s.classes[b.Class].weight
				}
				continue
			}
			if a.Only.IsValid() && a.Only == b.Only {
				continue
			}
			s.eachStrand(a.Class, b.Class, func(t strand) { add(t.vector, t.mask, s.weight(a)*s.weight(b)) })
		}
	}
	for vector, weight := range weights {
		if weight > 0 {
			add(vector, nil, weight)
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
		if a.Outcome == b.Outcome && b.Contested {
			return 1
		}
		return cmp.Compare(a.Outcome, b.Outcome)
	})
	return marks
}

// column is all strands of a cell that have one vector and one mask.
type column struct {
	strand                  // one of them: between workloads, if any is
	src, dst Member         // its ends
	pairs    tally          // of addresses
	from, to *bitset.BitSet // the members on either side, by place in their set
}

// columns returns the strands from some endpoints to others, those alike as one.
func (s *Survey) columns(from, to Set) []column {
	type key struct {
		vector, publication int
		mask                string
	}
	at := map[key]int{}
	var out []column
	for i, a := range from {
		for k, b := range to {
			if a.Only.IsValid() && a.Only == b.Only {
				continue
			}
			s.eachStrand(a.Class, b.Class, func(t strand) {
				id := key{vector: t.vector, publication: t.publication}
				if t.mask != nil && t.publication == paths.None {
					id.mask = t.mask.String() // that of a shut door is its own
				}
				n, ok := at[id]
				if !ok {
					n = len(out)
					at[id] = n
					out = append(out, column{strand: t, src: a, dst: b, from: bitset.New(uint(len(from))), to: bitset.New(uint(len(to)))})
				}
				c := &out[n]
				s.count(&c.pairs, a, b)
				c.from.Set(uint(i))
				c.to.Set(uint(k))
				if s.telling(a, b) > s.telling(c.src, c.dst) {
					c.src, c.dst = a, b
				}
			})
		}
	}
	return out
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
