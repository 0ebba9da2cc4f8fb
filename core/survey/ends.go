package survey

import (
	"slices"

	"bivium/core/estate"
)

func (s *Survey) termsOf(refs []estate.ServiceRef) []estate.Term {
	var out []estate.Term
	for _, r := range refs {
		if r.Name == "" {
			out = append(out, r.Term)
		}
		for _, v := range s.judge.Estate().Services {
			if v.Name == r.Name {
				out = append(out, v.Terms...)
			}
		}
	}
	return out
}

// end returns the endpoints of one end of an expectation.
func (s *Survey) end(e estate.End) Set {
	if e.Internet {
		return s.Of(Node{Kind: NodeInternet})
	}
	return s.party(e.Party)
}

func (s *Survey) party(p estate.Party) Set {
	if p.Groups.Any {
		return s.Of(Node{Kind: NodeSegment, Segment: p.Segment})
	}
	if len(p.Groups.Groups) == 1 {
		return s.Of(Node{Kind: NodeGroup, Segment: p.Segment, Group: p.Groups.Groups[0]})
	}
	var out []int
	for _, g := range p.Groups.Groups {
		out = append(out, s.ClassesOf(Node{Kind: NodeGroup, Segment: p.Segment, Group: g})...)
	}
	slices.Sort(out)
	return whole(slices.Compact(out))
}
