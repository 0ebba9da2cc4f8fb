package query

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/matrix"
)

func TermsOf(s *matrix.Matrix, refs []estate.ServiceRef) []estate.Term {
	var out []estate.Term
	for _, r := range refs {
		if r.Name == "" {
			out = append(out, r.Term)
		}
		for _, v := range s.Judge.Estate.Services {
			if v.Name == r.Name {
				out = append(out, v.Terms...)
			}
		}
	}
	return out
}

// End returns the endpoints of one end of an expectation.
func End(s *matrix.Matrix, e estate.End) matrix.Set {
	if e.Internet {
		return s.SetOf(matrix.Node{Kind: matrix.NodeInternet})
	}
	return party(s, e.Party)
}

func party(s *matrix.Matrix, p estate.Party) matrix.Set {
	if p.Groups.Any {
		return s.SetOf(matrix.Node{Kind: matrix.NodeSegment, Segment: p.Segment})
	}
	if len(p.Groups.Groups) == 1 {
		return s.SetOf(matrix.Node{Kind: matrix.NodeGroup, Segment: p.Segment, Group: p.Groups.Groups[0]})
	}
	var out []int
	for _, g := range p.Groups.Groups {
		out = append(out, s.ClassesOf(matrix.Node{Kind: matrix.NodeGroup, Segment: p.Segment, Group: g})...)
	}
	slices.Sort(out)
	return matrix.Whole(slices.Compact(out))
}
