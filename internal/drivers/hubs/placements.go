package hubs

import (
	"cmp"
	"net/netip"
	"slices"

	"bivium/core/native/plan"
)

// placed is which segment a subnet lies in.
type placed struct {
	Segment string
	Prefix  netip.Prefix
}

func placementsOf(all []plan.Placement) map[string]map[string]placed {
	body := map[string]map[string]placed{}
	for _, p := range all {
		if body[p.Network] == nil {
			body[p.Network] = map[string]placed{}
		}
		body[p.Network][p.Subnet] = placed{p.Segment, p.Prefix}
	}
	return body
}

func readPlacements(all map[string]map[string]placed) *plan.Body {
	out := &plan.Body{Placements: []plan.Placement{}}
	for network, subnets := range all {
		for subnet, p := range subnets {
			out.Placements = append(out.Placements, plan.Placement{Network: network, Subnet: subnet, Prefix: p.Prefix, Segment: p.Segment})
		}
	}
	slices.SortFunc(out.Placements, func(a, b plan.Placement) int {
		return cmp.Or(cmp.Compare(a.Network, b.Network), cmp.Compare(a.Subnet, b.Subnet))
	})
	return out
}
