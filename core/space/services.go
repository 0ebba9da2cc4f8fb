// Package space holds exact sets of services, and cuts all services into atoms
// that a given list of sets cannot tell apart.
package space

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sync"

	"bivium/core/estate"
)

// Box is a block of services: some protocols, by some source ports, by some
// destination ports (types, for ICMP). All bounds are inclusive.
type Box struct {
	FirstProtocol, LastProtocol uint8
	SourcePorts, Ports          estate.Range
}

// Services is a set of services. The zero Services is empty; everything is
// Everything(). Values are immutable.
//
// Normal form, which every function here returns and Equal relies on: boxes are
// sorted by protocol, then source port, then port, and disjoint; the source
// ports of a protocol are cut into as few slabs as possible, each with as few
// ranges of ports as possible; neighbouring protocols of one shape are one box.
type Services struct{ boxes []Box }

// runs are the protocols in runs whose ports exist alike (M2.4).
var runs = []struct{ first, last uint8 }{
	{0, 0}, {1, 1}, {2, 5}, {6, 6}, {7, 16}, {17, 17}, {18, 57}, {58, 58}, {59, 255},
}

// Everything returns the set of all services that exist.
func Everything() Services { return everything() }

var everything = sync.OnceValue(func() Services {
	var boxes []Box
	for _, r := range runs {
		ports, sources := estate.PortsOf(r.first)
		boxes = append(boxes, Box{r.first, r.last, sources, ports})
	}
	return Of(boxes)
})

// OfTerms returns the union of terms.
func OfTerms(terms []estate.Term) Services {
	var boxes []Box
	for _, t := range terms {
		if t.AnyProtocol {
			return Everything()
		}
		boxes = append(boxes, Box{t.Protocol, t.Protocol, t.SourcePorts, t.Ports})
	}
	return Of(boxes)
}

// Of returns the union of boxes in normal form. Each box must lie within what
// exists for all of its protocols. Cost: O(n²) in the boxes of one protocol at
// worst, about n log n where source ports are rarely bounded.
func Of(boxes []Box) Services {
	var cuts []int
	for _, b := range boxes {
		cuts = append(cuts, int(b.FirstProtocol), int(b.LastProtocol)+1)
	}
	cuts = sortedSet(cuts)
	var out []Box
	from := 0 // where the boxes of the protocols before begin
	for i := 0; i+1 < len(cuts); i++ {
		first, last := uint8(cuts[i]), uint8(cuts[i+1]-1)
		var here []Box
		for _, b := range boxes {
			if b.FirstProtocol <= first && last <= b.LastProtocol {
				here = append(here, b)
			}
		}
		plane := planeOf(here, first, last)
		if before := out[from:]; len(plane) > 0 && joins(before, plane) {
			for k := range before {
				before[k].LastProtocol = last
			}
			continue
		}
		from = len(out)
		out = append(out, plane...)
	}
	return Services{out}
}

// joins reports whether two planes are of one shape and their protocols meet.
func joins(before, after []Box) bool {
	return len(before) == len(after) && len(before) > 0 &&
		before[0].LastProtocol+1 == after[0].FirstProtocol &&
		slices.EqualFunc(before, after, func(a, b Box) bool { return a.SourcePorts == b.SourcePorts && a.Ports == b.Ports })
}

// planeOf returns the boxes of one run of protocols in normal form.
func planeOf(boxes []Box, first, last uint8) []Box {
	var cuts []int
	for _, b := range boxes {
		cuts = append(cuts, int(b.SourcePorts.Lo), int(b.SourcePorts.Hi)+1)
	}
	cuts = sortedSet(cuts)
	type slab struct {
		sources estate.Range
		ports   []estate.Range
	}
	var slabs []slab
	for i := 0; i+1 < len(cuts); i++ {
		sources := estate.Range{Lo: uint16(cuts[i]), Hi: uint16(cuts[i+1] - 1)}
		var ports []estate.Range
		for _, b := range boxes {
			if b.SourcePorts.Lo <= sources.Lo && sources.Hi <= b.SourcePorts.Hi {
				ports = append(ports, b.Ports)
			}
		}
		ports = mergeRanges(ports)
		if n := len(slabs); n > 0 && slabs[n-1].sources.Hi+1 == sources.Lo && slices.Equal(slabs[n-1].ports, ports) {
			slabs[n-1].sources.Hi = sources.Hi
			continue
		}
		if len(ports) > 0 {
			slabs = append(slabs, slab{sources, ports})
		}
	}
	var out []Box
	for _, s := range slabs {
		for _, p := range s.ports {
			out = append(out, Box{first, last, s.sources, p})
		}
	}
	return out
}

func sortedSet(s []int) []int {
	slices.Sort(s)
	return slices.Compact(s)
}

// mergeRanges returns the union of ranges, sorted, with those that touch made one.
func mergeRanges(in []estate.Range) []estate.Range {
	slices.SortFunc(in, func(a, b estate.Range) int { return cmp.Compare(a.Lo, b.Lo) })
	var out []estate.Range
	for _, r := range in {
		if n := len(out); n > 0 && int(r.Lo) <= int(out[n-1].Hi)+1 {
			out[n-1].Hi = max(out[n-1].Hi, r.Hi)
			continue
		}
		out = append(out, r)
	}
	return out
}

// Empty reports whether the set is empty.
func (s Services) Empty() bool { return len(s.boxes) == 0 }

// Equal reports whether the sets are the same.
func (s Services) Equal(t Services) bool { return slices.Equal(s.boxes, t.boxes) }

// Boxes returns the set as disjoint boxes, in normal form.
func (s Services) Boxes() []Box { return slices.Clone(s.boxes) }

// Contains reports whether the set contains a service.
func (s Services) Contains(protocol uint8, sport, dport uint16) bool {
	return slices.ContainsFunc(s.boxes, func(b Box) bool {
		return b.FirstProtocol <= protocol && protocol <= b.LastProtocol &&
			b.SourcePorts.Lo <= sport && sport <= b.SourcePorts.Hi && b.Ports.Lo <= dport && dport <= b.Ports.Hi
	})
}

// Count returns how many services the set has: protocol, source port and
// destination port each tell one from another. It is at most 2³⁴.
func (s Services) Count() uint64 {
	var n uint64
	for _, b := range s.boxes {
		n += (uint64(b.LastProtocol-b.FirstProtocol) + 1) * width(b.SourcePorts) * width(b.Ports)
	}
	return n
}

func width(r estate.Range) uint64 { return uint64(r.Hi-r.Lo) + 1 }

// Words returns the set as a person writes it, one term each: "tcp/443",
// "udp", "proto/47", "tcp/22 from 1024-65535", "proto/59-255".
func (s Services) Words() []string {
	if s.Equal(Everything()) {
		return []string{"any"}
	}
	var out []string
	for _, b := range s.boxes {
		if b.FirstProtocol != b.LastProtocol {
			out = append(out, fmt.Sprintf("proto/%d-%d", b.FirstProtocol, b.LastProtocol))
			continue
		}
		out = append(out, estate.Term{Protocol: b.FirstProtocol, Ports: b.Ports, SourcePorts: b.SourcePorts}.String())
	}
	return out
}

// Short returns the set in words as Words does, or, where that is shorter, as
// everything but some words.
func (s Services) Short() (words []string, allBut bool) {
	words = s.Words()
	if len(words) <= 1 {
		return words, false
	}
	if rest := s.Complement().Words(); len(rest) > 0 && len(rest) < len(words) {
		return rest, true
	}
	return words, false
}

// AnyPort is a source port that clients commonly use, preferred for witnesses.
const AnyPort = 50000

// Witness returns one service of the set, or false if it is empty: the first
// port of the first box, preferring TCP and UDP, from a common client port
// where the set allows.
func (s Services) Witness() (protocol uint8, sport, dport uint16, ok bool) {
	best, rank := Box{}, math.MaxInt
	for _, b := range s.boxes {
		if r := witnessRank(b.FirstProtocol); r < rank {
			best, rank = b, r
		}
	}
	if rank == math.MaxInt {
		return 0, 0, 0, false
	}
	sport = best.SourcePorts.Lo
	if best.SourcePorts.Lo <= AnyPort && AnyPort <= best.SourcePorts.Hi {
		sport = AnyPort
	}
	return best.FirstProtocol, sport, witnessPort(best.Ports), true
}

// witnessPort prefers a port above 0, which no program listens on.
func witnessPort(r estate.Range) uint16 {
	if r.Lo == 0 && r.Hi > 0 && r.Hi > 255 {
		return 1
	}
	return r.Lo
}

func witnessRank(protocol uint8) int {
	switch protocol {
	case estate.TCP:
		return 0
	case estate.UDP:
		return 1
	case estate.ICMP, estate.ICMPv6:
		return 2
	}
	return 3 + int(protocol)
}

// Intersect returns the services that are in both sets.
func (s Services) Intersect(t Services) Services { return intersect(s, t) }

// Complement returns everything that is not in the set.
func (s Services) Complement() Services {
	var out []Box
	for _, r := range runs {
		out = append(out, s.holes(r.first, r.last)...)
	}
	return Of(out)
}

// holes returns what a run of protocols of one shape lacks in the set.
func (s Services) holes(first, last uint8) []Box {
	ports, sources := estate.PortsOf(first)
	var out []Box
	for p := int(first); p <= int(last); p++ {
		protocol, end := uint8(p), last // up to where all is as with this one
		at := 0                         // the first source port not yet looked at
		var slabs []Box
		for _, b := range s.boxes {
			switch {
			case b.FirstProtocol > protocol:
				end = min(end, b.FirstProtocol-1)
			case protocol <= b.LastProtocol:
				end = min(end, b.LastProtocol)
				slabs = append(slabs, b)
			}
		}
		for i := 0; i < len(slabs); {
			slab := slabs[i].SourcePorts
			if int(slab.Lo) > at {
				out = append(out, Box{protocol, end, estate.Range{Lo: uint16(at), Hi: slab.Lo - 1}, ports})
			}
			next := 0 // the first port not yet looked at
			for ; i < len(slabs) && slabs[i].SourcePorts == slab; i++ {
				if lo := int(slabs[i].Ports.Lo); lo > next {
					out = append(out, Box{protocol, end, slab, estate.Range{Lo: uint16(next), Hi: uint16(lo - 1)}})
				}
				next = int(slabs[i].Ports.Hi) + 1
			}
			if next <= int(ports.Hi) {
				out = append(out, Box{protocol, end, slab, estate.Range{Lo: uint16(next), Hi: ports.Hi}})
			}
			at = int(slab.Hi) + 1
		}
		if at <= int(sources.Hi) {
			out = append(out, Box{protocol, end, estate.Range{Lo: uint16(at), Hi: sources.Hi}, ports})
		}
		p = int(end)
	}
	return out
}
