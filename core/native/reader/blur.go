package reader

import (
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Blur is why a list cannot tell an end of a flow from others, so that it may have to stop more
// than what is meant.
type Blur string

// Why lists cannot tell ends apart.
const (
	Sharp      Blur = ""
	NoWorkload Blur = "no-workload"   // no workload holds the address, and lists hang on workloads
	TwoOfOne   Blur = "two-addresses" // the workload has several addresses, and one set of lists
	OneOfTwo   Blur = "one-address"   // the network has the address in two segments
	SeenAlike  Blur = "seen-alike"    // the other side is seen under an address that is somebody else's too
)

// BlurOf returns why the lists at either end of a flow cannot tell it from others, if they
// cannot.
func (r *Reader) BlurOf(f *verdict.Flow) Blur {
	var ends []endpoint
	if segment := r.Net.Segment(f.Segment); segment != paths.None {
		if home, ok := r.Net.Home(segment, f.Source); ok {
			ends = append(ends, endpoint{f.Source, segment, home})
		}
		if e, ok := r.find(segment, f.Destination); ok && e.segment != paths.None {
			ends = append(ends, e)
		}
	} else {
		for s := range r.Net.Segments {
			if home, ok := r.Net.Home(s, f.Destination); ok {
				ends = append(ends, endpoint{f.Destination, s, home})
			}
		}
	}
	for i := range ends {
		if b := r.blurAt(&ends[i]); b != Sharp {
			return b
		}
	}
	if len(ends) == 2 && r.seenAlike(&ends[0], &ends[1]) || f.Segment == verdict.Internet && len(ends) > 0 && r.knownIn(ends[0].segment, f.Source) {
		return SeenAlike
	}
	return Sharp
}

func (r *Reader) blurAt(e *endpoint) Blur {
	n := r.Networks[e.home.Network]
	if n == nil {
		return Sharp
	}
	inside := r.Net.Inside(e.home, e.addr)
	if r.holders(e.home.Network, inside) > 1 {
		return OneOfTwo
	}
	if n.Provider != config.Cirra {
		return Sharp
	}
	i := slices.IndexFunc(r.Estate.Workloads, func(w estate.Workload) bool {
		return w.Network == n.Name && slices.Contains(w.Addresses, inside)
	})
	switch {
	case i < 0 || e.home.Subnet == paths.None:
		return NoWorkload
	case len(r.Estate.Workloads[i].Addresses) > 1:
		return TwoOfOne
	}
	return Sharp
}

// holders returns how many endpoints a network has with an inside address.
func (r *Reader) holders(network int, inside netip.Addr) int {
	n := 0
	for s := range r.Net.Segments {
		for _, i := range r.Net.Networks[network].Subnets {
			if x := &r.Net.Subnets[i]; x.Segment == s && x.Inside.Contains(inside) {
				n++
			}
		}
		if home, ok := r.Net.Home(s, inside); ok && home.Network == network && home.Subnet == paths.None {
			n++
		}
	}
	return n
}

// seenAlike reports whether the destination's segment sees the source under an address that it
// finds somebody else by, or that somebody has in a segment that peerings may lead from.
func (r *Reader) seenAlike(src, dst *endpoint) bool {
	seen := r.seenAs(src.segment, src.addr, dst.segment)
	for s := range r.Net.Segments {
		if home, ok := r.Net.Home(s, seen); ok && s != src.segment && home.Network != paths.None {
			return true
		}
	}
	return false
}

func (r *Reader) knownIn(segment int, a netip.Addr) bool {
	e, ok := r.find(segment, a)
	return ok && e.segment != paths.None
}
