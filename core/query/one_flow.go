package query

import (
	"net/netip"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Tell returns the verdict on one flow, the same as the judge's, by looking up
// what the matrix knows. It is meant for many flows: the first call makes a
// table of all addresses. Flows from the internet are left to the judge. Cost:
// two look-ups of an address, see directory.
func Tell(s *matrix.Matrix, f *verdict.Flow) verdict.Verdict {
	if f.Segment == verdict.Internet {
		return s.Judge.Judge(*f)
	}
	ports, sources := estate.PortsOf(f.Protocol)
	segment := s.Net.Segment(f.Segment)
	if segment == paths.None || f.Source == f.Destination || f.Source.Is4() != f.Destination.Is4() || f.Port > ports.Hi || f.SourcePort > sources.Hi {
		return s.Results[s.Vectors[0][0]]
	}
	d := s.Directory()
	src, dst := d.Within(segment, f.Source), int32(-1)
	if s.Judge.Shows() {
		dst = findShown(s, segment, f.Destination)
	} else {
		dst = d.SeenBy(segment, f.Destination)
	}
	if src < 0 || dst < 0 {
		return s.Results[s.Vectors[0][0]]
	}
	c, ok := s.CombinationOf(&d.Entries[src].Header, &d.Entries[dst].Header)
	if !ok {
		return s.Results[s.Vectors[0][0]]
	}
	return s.Results[s.Vectors[s.Verdicts[c.Effect][c.RuleSet]][s.Atoms.At(f.Protocol, f.SourcePort, f.Port)]]
}

// findShown returns the class of which a segment sees an address under the given
// one, which may be its own, or -1.
func findShown(s *matrix.Matrix, segment int, a netip.Addr) int32 {
	d := s.Directory()
	one, more := d.Lookup(a)
	if one >= 0 {
		more = []int32{one}
	}
	for _, c := range more {
		if x := s.Classes[c]; x.Seen[segment] == classes.SeesIt && classes.AsSeen(s.Judge, x, a, segment) == a {
			return c
		}
	}
	found := int32(-1)
	s.Judge.EachOwn(segment, a, func(of int, own netip.Addr) {
		if c := d.Within(of, own); c >= 0 && s.Classes[c].Seen[segment] == classes.SeesIt {
			found = c
		}
	})
	return found
}
