package drivers

import (
	"fmt"
	"strconv"
	"strings"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/space"
)

// Words returns a service in the words that several providers use, with a separator before the
// ports: "tcp 443-443", "udp 53-53 from 1024-65535", "protocols 0-5".
func Words(b space.Box, separator string) string {
	word := fmt.Sprintf("protocols%s%d-%d", separator, b.FirstProtocol, b.LastProtocol)
	if b.FirstProtocol == b.LastProtocol {
		word = Protocol(b.FirstProtocol)
		if ports, _ := estate.PortsOf(b.FirstProtocol); b.Ports != estate.AllPorts && b.Ports != ports {
			word += separator + portWords(b.Ports)
		}
	}
	if _, sources := estate.PortsOf(b.FirstProtocol); b.SourcePorts != estate.AllPorts && b.SourcePorts != sources {
		word += " from " + portWords(b.SourcePorts)
	}
	return word
}

func portWords(r estate.Range) string { return fmt.Sprintf("%d-%d", r.Lo, r.Hi) }

// Protocol returns the name of a protocol, or its number.
func Protocol(p uint8) string {
	switch p {
	case estate.TCP:
		return "tcp"
	case estate.UDP:
		return "udp"
	case estate.ICMP:
		return "icmp"
	case estate.ICMPv6:
		return "icmpv6"
	}
	return strconv.Itoa(int(p))
}

// ReadWords reads what Words returns.
func ReadWords(text, separator string) (space.Box, error) {
	b := config.Anything
	service, from, bounded := strings.Cut(text, " from ")
	if bounded {
		var err error
		if b.SourcePorts, err = ReadRange(from); err != nil {
			return b, err
		}
	}
	protocol, ports, _ := strings.Cut(service, separator)
	if protocol == "protocols" {
		r, err := ReadRange(ports)
		b.FirstProtocol, b.LastProtocol = uint8(r.Lo), uint8(r.Hi)
		if r.Hi > 255 {
			err = fmt.Errorf("protocol %d: the highest is 255", r.Hi)
		}
		return b, err
	}
	p, err := ReadProtocol(protocol)
	if err != nil {
		return b, err
	}
	b.FirstProtocol, b.LastProtocol = p, p
	if ports != "" {
		b.Ports, err = ReadRange(ports)
	}
	return b, err
}

// ReadProtocol reads the name or the number of a protocol.
func ReadProtocol(text string) (uint8, error) {
	for _, p := range [4]uint8{estate.TCP, estate.UDP, estate.ICMP, estate.ICMPv6} {
		if Protocol(p) == text {
			return p, nil
		}
	}
	n, err := strconv.ParseUint(text, 10, 8)
	if err != nil {
		return 0, fmt.Errorf("%q is no protocol", text)
	}
	return uint8(n), nil
}

// ReadRange reads "80" or "80-90".
func ReadRange(text string) (estate.Range, error) {
	first, last, two := strings.Cut(text, "-")
	if !two {
		last = first
	}
	lo, errLo := strconv.ParseUint(first, 10, 16)
	hi, errHi := strconv.ParseUint(last, 10, 16)
	if errLo != nil || errHi != nil || lo > hi {
		return estate.Range{}, fmt.Errorf("%q is no range of ports", text)
	}
	return estate.Range{Lo: uint16(lo), Hi: uint16(hi)}, nil
}
