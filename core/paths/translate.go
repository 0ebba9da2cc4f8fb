package paths

import (
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"bivium/core/estate"
)

// compileTranslations finds under which prefix segments see each subnet, and
// through which attachments (M12.2, M12.3).
func (n *Net) compileTranslations(e *estate.Estate) {
	all := map[int][]estate.Translation{}
	for i := range e.Attachments {
		if len(e.Attachments[i].Translate) > 0 {
			network := n.Network(e.Attachments[i].Network)
			all[network] = append(all[network], e.Attachments[i].Translate...)
		}
	}
	delete(all, None)
	for network, list := range all {
		x := &n.Networks[network]
		for _, k := range x.Subnets {
			s := &n.Subnets[k]
			if s.Segment == None {
				continue
			}
			if s.Prefix, s.Translated = estate.Shown(list, n.Segments[s.Segment], s.Inside); !s.Translated {
				continue
			}
			if x.own == nil {
				x.own = &bart.Lite{}
			}
			x.own.Insert(s.Inside)
		}
	}
	number := 0
	for i := range e.Attachments {
		a := &e.Attachments[i]
		if n.Network(a.Network) == None || n.Hub(a.Hub) == None {
			continue
		}
		at := number
		number++
		for _, k := range n.Networks[n.Network(a.Network)].Subnets {
			s := &n.Subnets[k]
			if !s.Translated || !n.Attachments[at].Up {
				continue
			}
			if p, ok := estate.Shown(a.Translate, n.Segments[s.Segment], s.Inside); ok && p == s.Prefix {
				s.through = append(s.through, at)
			}
		}
	}
	for i := range n.Subnets {
		slices.SortStableFunc(n.Subnets[i].through, func(a, b int) int { return n.Attachments[a].Hub - n.Attachments[b].Hub })
	}
}

// Translates reports whether some of a network is seen under other addresses.
func (n *Net) Translates(network int) bool { return n.Networks[network].own != nil }

// translated returns the subnet of a home if that is translated, or nil.
func (n *Net) translated(home Home) *Subnet {
	if home.Subnet == None || !n.Subnets[home.Subnet].Translated {
		return nil
	}
	return &n.Subnets[home.Subnet]
}

// Inside returns the address that an endpoint of a home has inside its network.
func (n *Net) Inside(home Home, a netip.Addr) netip.Addr {
	if s := n.translated(home); s != nil {
		return estate.Rebase(a, s.Inside)
	}
	return a
}

// Outside returns the address under which the segment of a home sees one that
// its network has inside.
func (n *Net) Outside(home Home, a netip.Addr) netip.Addr {
	if s := n.translated(home); s != nil {
		return estate.Rebase(a, s.Prefix)
	}
	return a
}

// InsidePrefix returns the prefix that a home has inside its network.
func (n *Net) InsidePrefix(home Home) netip.Prefix {
	if s := n.translated(home); s != nil {
		return s.Inside
	}
	return home.Prefix
}

// shadowed reports whether a network looks for an address at home, although the
// target is another's (M12.5).
func (n *Net) shadowed(network int, to Target) bool {
	x := &n.Networks[network]
	return x.own != nil && x.own.Contains(to.Addr)
}

// entering returns the attachments of a network at which flows from a home enter
// (M7.4, M12.3).
func (n *Net) entering(home Home, network int) []int {
	s := n.translated(home)
	switch {
	case s == nil:
		return n.Networks[network].Attachments
	case s.Network == network:
		return s.through
	}
	return nil
}
