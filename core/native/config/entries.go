package config

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/space"
)

// Anything is a service of every protocol.
var Anything = space.Box{FirstProtocol: 0, LastProtocol: 255, SourcePorts: estate.AllPorts, Ports: estate.AllPorts}

// Entries returns services as entries of RFC 8519 have them: one protocol each, and of ICMP one
// type each, where they are not all types. Nil stands for every service, and is one entry.
func Entries(services []space.Box) []space.Box {
	if services == nil || slices.Contains(services, Anything) {
		return []space.Box{Anything}
	}
	var out []space.Box
	for _, b := range services {
		for p := int(b.FirstProtocol); p <= int(b.LastProtocol); p++ {
			one := b
			one.FirstProtocol, one.LastProtocol = uint8(p), uint8(p)
			if !typed(one) {
				out = append(out, one)
				continue
			}
			for kind := int(b.Ports.Lo); kind <= int(b.Ports.Hi); kind++ {
				one.Ports = estate.Range{Lo: uint16(kind), Hi: uint16(kind)}
				out = append(out, one)
			}
		}
	}
	return out
}

// typed reports whether a service of one protocol is some types of ICMP.
func typed(b space.Box) bool {
	all, _ := estate.PortsOf(b.FirstProtocol)
	return (b.FirstProtocol == estate.ICMP || b.FirstProtocol == estate.ICMPv6) && b.Ports != estate.AllPorts && b.Ports != all
}

// CountEntries returns how many entries of RFC 8519 rules take: one for each prefix of each side, of
// one family, and each of their services.
func CountEntries(rules []Rule) int {
	n := 0
	for i := range rules {
		own, peer := families(rules[i].Own), families(rules[i].Peer)
		n += (own[0]*peer[0] + own[1]*peer[1]) * len(Entries(rules[i].Services))
	}
	return n
}

// families counts the prefixes of some sets, of IPv4 and of IPv6; nil stands for all addresses.
func families(sets []*Set) (n [2]int) {
	if sets == nil {
		return [2]int{1, 1}
	}
	for _, s := range sets {
		for _, p := range s.Prefixes {
			if p.Addr().Is4() {
				n[0]++
			} else {
				n[1]++
			}
		}
	}
	return n
}

// Bounded returns a service without bounds that its protocol has not: what means the same is the same.
func Bounded(b space.Box) space.Box {
	if b.FirstProtocol == b.LastProtocol {
		ports, sources := estate.PortsOf(b.FirstProtocol)
		if b.SourcePorts == estate.AllPorts {
			b.SourcePorts = sources
		}
		if b.Ports == estate.AllPorts {
			b.Ports = ports
		}
	}
	return b
}
