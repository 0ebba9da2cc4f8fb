package estate

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// Range is a closed range of ports, or of ICMP types.
type Range struct{ Lo, Hi uint16 }

// AllPorts is every port.
var AllPorts = Range{0, 65535}

// AllTypes is every ICMP type.
var AllTypes = Range{0, 255}

// String returns "80" or "80-90".
func (r Range) String() string {
	if r.Lo == r.Hi {
		return strconv.Itoa(int(r.Lo))
	}
	return fmt.Sprintf("%d-%d", r.Lo, r.Hi)
}

// Protocol numbers that have names in a document.
const (
	ICMP   = 1
	TCP    = 6
	UDP    = 17
	ICMPv6 = 58
)

// Term is one term of a service (M3.4): one protocol, or every one, with
// bounds on its ports. The zero Term is protocol 0 alone.
type Term struct {
	AnyProtocol bool
	Protocol    uint8
	Ports       Range // destination ports, or ICMP types; {0,0} where the protocol has none
	SourcePorts Range // {0,0} where the protocol has none
}

// PortsOf returns the destination and source ports that exist for a protocol
// (M2.4): all for TCP and UDP, the types and 0 for ICMP, and 0 for the rest.
func PortsOf(protocol uint8) (ports, sources Range) {
	switch protocol {
	case TCP, UDP:
		return AllPorts, AllPorts
	case ICMP, ICMPv6:
		return AllTypes, Range{}
	}
	return Range{}, Range{}
}

// Contains reports whether the term contains the protocol with these ports.
func (t Term) Contains(protocol uint8, sport, dport uint16) bool {
	if t.AnyProtocol {
		return true
	}
	return t.Protocol == protocol && t.Ports.Lo <= dport && dport <= t.Ports.Hi &&
		t.SourcePorts.Lo <= sport && sport <= t.SourcePorts.Hi
}

// ProtocolName returns how a document writes a protocol: tcp, udp, icmp,
// icmpv6, or proto/N.
func ProtocolName(p uint8) string {
	switch p {
	case TCP:
		return "tcp"
	case UDP:
		return "udp"
	case ICMP:
		return "icmp"
	case ICMPv6:
		return "icmpv6"
	}
	return "proto/" + strconv.Itoa(int(p))
}

// String returns the term in its short form, with bounded source ports after
// the word "from".
func (t Term) String() string {
	if t.AnyProtocol {
		return "any"
	}
	s := ProtocolName(t.Protocol)
	ports, sources := PortsOf(t.Protocol)
	if t.Ports != ports {
		s += "/" + t.Ports.String()
	}
	if t.SourcePorts != sources {
		s += " from " + t.SourcePorts.String()
	}
	return s
}

// ParseTerm returns the term that s is the short form of, see Term.String.
func ParseTerm(s string) (Term, error) {
	text, sources, bounded := strings.Cut(s, " from ")
	t, err := parsePlainTerm(strings.TrimSpace(text))
	if err != nil || !bounded {
		return t, err
	}
	r, err := ParseRange(strings.TrimSpace(sources))
	switch {
	case err != nil:
		return Term{}, fmt.Errorf("%q: %w", s, err)
	case t.AnyProtocol:
		return Term{}, fmt.Errorf("%q restricts source ports without a protocol; name the protocol", s)
	}
	return NewTerm(t.Protocol, portsUnlessAll(t), &r)
}

// parsePlainTerm is ParseTerm for terms that do not bound source ports.
func parsePlainTerm(s string) (Term, error) {
	if s == "any" {
		return Term{AnyProtocol: true}, nil
	}
	word, rest, bounded := strings.Cut(s, "/")
	protocol, known := protocols[word]
	if word == "proto" {
		n, err := strconv.ParseUint(rest, 10, 8)
		if err != nil || !bounded {
			return Term{}, fmt.Errorf("%q is not a protocol; write proto/ and a number from 0 to 255", s)
		}
		return NewTerm(uint8(n), nil, nil)
	}
	if !known {
		return Term{}, fmt.Errorf("%q is not a service term; terms look like tcp/443, udp/53, icmp/8, proto/47, any", s)
	}
	if !bounded {
		return NewTerm(protocol, nil, nil)
	}
	r, err := ParseRange(rest)
	if err != nil {
		return Term{}, fmt.Errorf("%q: %w", s, err)
	}
	return NewTerm(protocol, &r, nil)
}

var protocols = map[string]uint8{"tcp": TCP, "udp": UDP, "icmp": ICMP, "icmpv6": ICMPv6}

// ParseProtocol returns the number of a protocol written as tcp, udp, icmp,
// icmpv6, a number, or proto/N.
func ParseProtocol(s string) (uint8, error) {
	if p, ok := protocols[s]; ok {
		return p, nil
	}
	n, err := strconv.ParseUint(strings.TrimPrefix(s, "proto/"), 10, 8)
	if err != nil {
		return 0, fmt.Errorf("%q is not a protocol; write tcp, udp, icmp, icmpv6, or a number from 0 to 255", s)
	}
	return uint8(n), nil
}

// ParseRange returns the range that s is written as: "80" or "80-90".
func ParseRange(s string) (Range, error) {
	lo, hi, isRange := strings.Cut(s, "-")
	if !isRange {
		hi = lo
	}
	a, err1 := strconv.ParseUint(lo, 10, 16)
	b, err2 := strconv.ParseUint(hi, 10, 16)
	if err1 != nil || err2 != nil {
		return Range{}, fmt.Errorf("%q is not a port or port range from 0 to 65535; write 443 or 8000-8080", s)
	}
	if a > b {
		return Range{}, fmt.Errorf("the range %q is reversed; write the smaller number first", s)
	}
	return Range{uint16(a), uint16(b)}, nil
}

// NewTerm returns the term of a protocol with bounds, nil standing for all. It
// refuses bounds that the protocol does not have (M2.4).
func NewTerm(protocol uint8, ports, sources *Range) (Term, error) {
	allPorts, allSources := PortsOf(protocol)
	t := Term{Protocol: protocol, Ports: allPorts, SourcePorts: allSources}
	if ports != nil {
		if allPorts == (Range{}) {
			return Term{}, fmt.Errorf("%s has no ports; leave them out", ProtocolName(protocol))
		}
		if ports.Hi > allPorts.Hi {
			return Term{}, fmt.Errorf("%s has types from 0 to 255, not %s; write one of them", ProtocolName(protocol), ports)
		}
		t.Ports = *ports
	}
	if sources != nil {
		if allSources == (Range{}) {
			return Term{}, fmt.Errorf("%s has no source ports; leave them out", ProtocolName(protocol))
		}
		t.SourcePorts = *sources
	}
	return t, nil
}

// Simple reports whether the short form says all of the term.
func (t Term) Simple() bool {
	_, sources := PortsOf(t.Protocol)
	return t.AnyProtocol || t.SourcePorts == sources
}

type termObject struct {
	Protocol    string `json:"protocol"`
	Ports       string `json:"ports,omitempty"`
	SourcePorts string `json:"sourcePorts,omitempty"`
}

// MarshalJSON returns the short form where it says all, else the object form.
func (t Term) MarshalJSON() ([]byte, error) {
	if t.Simple() {
		return json.Marshal(t.String())
	}
	o := termObject{Protocol: ProtocolName(t.Protocol), SourcePorts: t.SourcePorts.String()}
	if ports, _ := PortsOf(t.Protocol); t.Ports != ports {
		o.Ports = t.Ports.String()
	}
	return json.Marshal(o)
}

// ParseTermObject returns the term that the object form writes; empty ports
// were left out.
func ParseTermObject(protocol, ports, sources string) (Term, error) {
	if protocol == "any" {
		if ports != "" || sources != "" {
			return Term{}, fmt.Errorf("protocol any has no ports; name the protocol")
		}
		return Term{AnyProtocol: true}, nil
	}
	p, err := ParseProtocol(protocol)
	if err != nil {
		return Term{}, err
	}
	bounds := [2]*Range{}
	for i, s := range []string{ports, sources} {
		if s == "" {
			continue
		}
		r, err := ParseRange(s)
		if err != nil {
			return Term{}, err
		}
		bounds[i] = &r
	}
	return NewTerm(p, bounds[0], bounds[1])
}

// ParseTermWords returns the terms that are written as sets of services write them, which
// documents do not: "proto/59-255" is a run of protocols.
func ParseTermWords(s string) ([]Term, error) {
	run, ok := strings.CutPrefix(s, "proto/")
	if !ok || !strings.Contains(run, "-") || strings.Contains(run, " from ") {
		t, err := ParseTerm(s)
		return []Term{t}, err
	}
	r, err := ParseRange(run)
	if err != nil || r.Hi > 255 {
		return nil, fmt.Errorf("%q is not a protocol range; write one like proto/59-255", s)
	}
	var out []Term
	for p := int(r.Lo); p <= int(r.Hi); p++ {
		t, err := NewTerm(uint8(p), nil, nil)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, nil
}

// portsUnlessAll returns the ports of a term, nil if they are all that the protocol has.
func portsUnlessAll(t Term) *Range {
	if all, _ := PortsOf(t.Protocol); t.Ports == all {
		return nil
	}
	return &t.Ports
}

// ServiceRef is one entry of a rule's services: the name of a service, or a
// term.
type ServiceRef struct {
	Name string // empty for a term
	Term Term
}

// ParseServiceRef returns the entry that s is written as. Whatever looks like
// a term is one: the words that begin a term are no names.
func ParseServiceRef(s string) (ServiceRef, error) {
	if word, _, _ := strings.Cut(strings.ReplaceAll(s, " ", "/"), "/"); reserved[word] || strings.Contains(s, "/") {
		t, err := ParseTerm(s)
		return ServiceRef{Term: t}, err
	}
	if err := CheckName(s); err != nil {
		return ServiceRef{}, err
	}
	return ServiceRef{Name: s}, nil
}

// String returns the name, or the short form of the term.
func (r ServiceRef) String() string {
	if r.Name != "" {
		return r.Name
	}
	return r.Term.String()
}

// MarshalJSON returns the name, or the term.
func (r ServiceRef) MarshalJSON() ([]byte, error) {
	if r.Name != "" {
		return json.Marshal(r.Name)
	}
	return r.Term.MarshalJSON()
}
