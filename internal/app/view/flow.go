package view

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// FlowWords is one flow, as the options of `bivium trace` write it: asked again, it is the
// same flow.
type FlowWords struct {
	From        string `json:"from"`
	To          string `json:"to"`
	Service     string `json:"service"`
	Publication string `json:"publication,omitempty"`
}

// WordsOf writes a flow of a judge's estate.
func WordsOf(j *verdict.Judge, f verdict.Flow) FlowWords {
	term := estate.Term{Protocol: f.Protocol, Ports: estate.Range{Lo: f.Port, Hi: f.Port}}
	_, term.SourcePorts = estate.PortsOf(f.Protocol)
	if term.SourcePorts != (estate.Range{}) {
		term.SourcePorts = estate.Range{Lo: f.SourcePort, Hi: f.SourcePort}
	}
	w := FlowWords{inSegment(f.Segment, f.Source), f.Destination.String(), term.String(), f.Publication}
	segment := j.Net.Segment(f.Segment)
	published := slices.ContainsFunc(j.Estate.Publications, func(p estate.Publication) bool { return p.Address == f.Destination })
	if segment == paths.None || !published {
		return w
	}
	// By itself, the address would be taken for what is published under it.
	if p, how := j.Find(segment, f.Destination); p.Internal() {
		w.To = inSegment(j.Net.Segments[p.Segment], p.Addr)
	} else if how == verdict.LookupInternet {
		w.To = inSegment(verdict.Internet, f.Destination)
	}
	return w
}

// inSegment writes an address with its segment before it, in brackets (as in RFC 3986)
// where the two could be read as one address: fd:[2001:db8::1].
func inSegment(segment string, a netip.Addr) string {
	text := segment + ":" + a.String()
	if _, err := netip.ParseAddr(text); err == nil {
		return segment + ":[" + a.String() + "]"
	}
	return text
}

// parseAddr reads an address, in brackets or not.
func parseAddr(text string) (netip.Addr, error) {
	if inner, ok := strings.CutPrefix(text, "["); ok {
		text = strings.TrimSuffix(inner, "]")
	}
	return netip.ParseAddr(text)
}

// String writes the flow for people.
func (w *FlowWords) String() string {
	s := fmt.Sprintf("%s → %s on %s", w.From, w.To, w.Service)
	if w.Publication != "" {
		s += " by " + w.Publication
	}
	return s
}

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
		return f, &Problem{At: "from", Message: fmt.Sprintf("%q is not a single address", from), Fix: "write SEGMENT:ADDRESS, internet:ADDRESS, or a workload"}
	}
	dst, err := s.parseDestination(&f, to)
	if err != nil {
		return f, err
	}
	f.Source = sameFamily(src.addresses, f.Destination)
	f.Segment = verdict.Internet
	if !src.internet {
		f.Segment = s.Judge.Net.Segments[src.segment]
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
	if a, err := netip.ParseAddr(to); err == nil && f.Publication != "" { // the endpoint's own
		f.Destination = a.Unmap()
		return &end{text: to, segment: paths.None, literal: true, addresses: []netip.Addr{f.Destination}}, nil
	}
	dst, err := s.findEnd("to", to)
	if err != nil {
		return nil, err
	}
	if dst.publication != "" {
		f.Publication = dst.publication
		f.Destination = s.Matrix.Class(dst.set[0].Class).End.Addr
		return dst, nil
	}
	if len(dst.addresses) == 0 {
		return nil, &Problem{At: "to", Message: fmt.Sprintf("%q is not a single address", to), Fix: "write an address, or a workload"}
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

// HomeOf returns the segment of an end that is named, "" for one that names none.
func (s *Snapshot) HomeOf(to string) string {
	e, err := s.findEnd("to", to)
	if err != nil || e.segment == paths.None {
		return ""
	}
	return s.Judge.Net.Segments[e.segment]
}
