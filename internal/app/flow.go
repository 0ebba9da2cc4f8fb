package app

import (
	"fmt"
	"net/netip"

	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// ParseFlow returns the one flow that is written as a source (SEGMENT:ADDRESS,
// internet:ADDRESS, or a workload), a destination (an address, a published
// address, or a workload) and a service of one term, of which it takes the
// first port. sport 0 stands for a common client port where the protocol has
// source ports.
func (s *Snapshot) ParseFlow(from, to, service string, sport int, publication string) (verdict.Flow, error) {
	f := verdict.Flow{Publication: publication}
	terms, err := s.FindTerms(service)
	if err != nil {
		return f, err
	}
	var port uint16
	f.Protocol, port, f.Port, _ = space.OfTerms(terms).Witness()
	f.SourcePort = port
	if sport > 0 {
		f.SourcePort = uint16(min(sport, 65535))
	}
	src, err := s.findEnd("from", from)
	if err != nil {
		return f, err
	}
	if len(src.addresses) == 0 {
		return f, &Problem{"from", fmt.Sprintf("%q is not one address", from), "write SEGMENT:ADDRESS, internet:ADDRESS, or a workload"}
	}
	dst, err := s.parseDestination(&f, to)
	if err != nil {
		return f, err
	}
	f.Source = sameFamily(src.addresses, f.Destination)
	f.Segment = verdict.Internet
	if !src.internet {
		f.Segment = s.Judge.Net().Segments[src.segment]
		f.Destination = s.asSeen(dst, f.Destination, src.segment)
	}
	return f, nil
}

// asSeen returns the address by which a segment sees an end that was not named by
// one, or by one of its own segment.
func (s *Snapshot) asSeen(e *end, a netip.Addr, segment int) netip.Addr {
	if !e.literal && e.segment != paths.None {
		if p, ok := s.Judge.Internal(e.segment, a); ok {
			return s.Judge.SeenAs(&p, segment)
		}
	}
	return a
}

func (s *Snapshot) parseDestination(f *verdict.Flow, to string) (*end, error) {
	dst, err := s.findEnd("to", to)
	if err != nil {
		return nil, err
	}
	if dst.publication != "" {
		f.Publication = dst.publication
		f.Destination = s.Survey.Class(dst.set[0].Class).End.Addr
		return dst, nil
	}
	if len(dst.addresses) == 0 {
		return nil, &Problem{"to", fmt.Sprintf("%q is not one address", to), "write an address, or a workload"}
	}
	f.Destination = dst.addresses[0]
	return dst, nil
}

// sameFamily returns the first address of the family of another, else the first.
func sameFamily(addresses []netip.Addr, as netip.Addr) netip.Addr {
	for _, a := range addresses {
		if a.Is4() == as.Is4() {
			return a
		}
	}
	return addresses[0]
}
