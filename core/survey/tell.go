package survey

import (
	"net/netip"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Tell returns the verdict on one flow, the same as the judge's, by looking up
// what the survey knows. It is meant for many flows: the first call makes a
// table of all addresses. Flows from the internet are left to the judge. Cost:
// two look-ups of an address, see directory.
func (s *Survey) Tell(f *verdict.Flow) verdict.Verdict {
	if f.Segment == verdict.Internet {
		return s.judge.Judge(*f)
	}
	ports, sources := estate.PortsOf(f.Protocol)
	segment := s.net.Segment(f.Segment)
	if segment == paths.None || f.Source == f.Destination || f.Source.Is4() != f.Destination.Is4() || f.Port > ports.Hi || f.SourcePort > sources.Hi {
		return s.results[s.vectors[0][0]]
	}
	d := s.directory()
	src, dst := d.within(segment, f.Source), int32(-1)
	if s.judge.Shows() {
		dst = s.findShown(segment, f.Destination)
	} else {
		dst = d.seenBy(segment, f.Destination)
	}
	if src < 0 || dst < 0 {
		return s.results[s.vectors[0][0]]
	}
	c, ok := s.combine(&d.entries[src].ticket, &d.entries[dst].ticket)
	if !ok {
		return s.results[s.vectors[0][0]]
	}
	return s.results[s.vectors[s.verdicts[c.effect][c.stance]][s.atoms.At(f.Protocol, f.SourcePort, f.Port)]]
}

// findShown returns the class of which a segment sees an address under the given
// one, which may be its own, or -1.
func (s *Survey) findShown(segment int, a netip.Addr) int32 {
	d := s.directory()
	one, more := d.at(a)
	if one >= 0 {
		more = []int32{one}
	}
	for _, c := range more {
		if x := s.classes[c]; x.seen[segment] == seesIt && asSeen(s.judge, x, a, segment) == a {
			return c
		}
	}
	found := int32(-1)
	s.judge.EachOwn(segment, a, func(of int, own netip.Addr) {
		if c := d.within(of, own); c >= 0 && s.classes[c].seen[segment] == seesIt {
			found = c
		}
	})
	return found
}
