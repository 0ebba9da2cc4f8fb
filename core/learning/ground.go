package learning

import (
	"net/netip"

	"github.com/gaissmai/bart"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Lay returns the grounds of an estate: for each network, what the rest of the
// estate says about prefixes that its attachments learn. What one of them takes, the
// others know of. Cost: the estate's things with sides; a question costs the prefixes
// that overlap.
func Lay(e *estate.Estate, net *paths.Net) func(network string) Ground {
	l := &land{net: net, relied: estate.ReliedOn(e), taken: make([]bart.Table[int], len(net.Segments))}
	return func(network string) Ground { return plot{l, net.Network(network)} }
}

type land struct {
	net    *paths.Net
	relied *estate.Relied
	taken  []bart.Table[int] // by segment: prefixes that networks have taken since
}

// plot is the ground of one network.
type plot struct {
	*land
	network int
}

func (g plot) Overlaps(segment string, p netip.Prefix) bool {
	s := g.net.Segment(segment)
	if s == paths.None {
		return true
	}
	for range g.net.Crossing(s, g.network, p) {
		return true
	}
	return crosses(&g.taken[s], g.network, p)
}

func crosses(t *bart.Table[int], network int, p netip.Prefix) bool {
	for _, other := range t.Supernets(p) {
		if other != network {
			return true
		}
	}
	for _, other := range t.Subnets(p) {
		if other != network {
			return true
		}
	}
	return false
}

func (g plot) Relies(_ string, p netip.Prefix) bool { return len(g.relied.By(p)) > 0 }

func (g plot) Take(segment string, p netip.Prefix) {
	if s := g.net.Segment(segment); s != paths.None {
		g.taken[s].Insert(p, g.network)
	}
}
