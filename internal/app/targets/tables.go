package targets

import (
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/native/config"
	"bivium/core/native/plan"
	"bivium/internal/drivers"
)

// RoutesOf returns routes with peers by the estate's names, which are given by the providers' IDs.
// A peer that is not known keeps its ID.
func RoutesOf(routes []inventory.Route, named map[string]string) []estate.Route {
	out := []estate.Route{}
	for _, r := range routes {
		via := r.Via
		if id, peer := strings.CutPrefix(via, "peer:"); peer && named[id] != "" {
			via = "peer:" + named[id]
		}
		out = append(out, estate.Route{To: r.To, Via: estate.Via(via)})
	}
	return out
}

// PeersOf returns a network's ends of peerings likewise, by name.
func PeersOf(peers []drivers.Peer, named map[string]string) []config.Peer {
	var out []config.Peer
	for _, p := range peers {
		name := named[p.Network]
		if name == "" {
			name = p.Network
		}
		out = append(out, config.Peer{Name: name, OffersHub: p.OffersHub})
	}
	slices.SortFunc(out, func(a, b config.Peer) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// putTables puts the route tables and peerings that were read in the place of those that are
// meant, and tells in what they differ.
func putTables(found, meant *config.Config, r *Reading) []ListDrift {
	out := []ListDrift{}
	read := map[string]*plan.Body{}
	for i := range r.Native.Tables {
		t := &r.Native.Tables[i]
		if name := r.Networks[t.Network]; name != "" {
			read[name] = &plan.Body{Routes: RoutesOf(t.Routes, r.Named), Peers: PeersOf(t.Peers, r.Named)}
		}
	}
	for i := range found.Networks {
		n := &found.Networks[i]
		has := read[n.Name]
		if has == nil || n.Account != r.Account {
			continue
		}
		wanted := &plan.Body{Routes: meant.Networks[i].Routes, Peers: meant.Networks[i].Peers}
		if plan.Same(wanted, has) {
			continue
		}
		n.Routes, n.Peers = has.Routes, has.Peers
		added, missing := plan.Differ(plan.Key{Kind: plan.KindRoutes, Account: n.Account, Name: n.Name}, wanted, has)
		out = append(out, ListDrift{Network: n.Name, On: "route table", Added: added, By: make([]string, len(added)), Missing: missing})
	}
	return out
}
