package paths

import (
	"fmt"
	"net/netip"
	"slices"
)

// Lost is a way that a flow could have gone and did not, and why.
type Lost struct {
	What string // route, attachment or exit
	Name string
	Why  string
}

// Lost returns the candidates that lost against a path: other entries of the
// route table that contain the destination, attachments at which it does not
// enter or leave, exits that it does not take. Cost: the source's routes and attachments, the
// destination's attachments, and the exits.
func (n *Net) Lost(p *Path, to Target) []Lost {
	if p.Network == None || p.Kind == Local {
		return n.lostInside(p, to, None)
	}
	out := n.lostRoutes(p, to)
	enter := p.Network
	if p.Enter != None {
		enter = n.Attachments[p.Enter].Network
	}
	if p.Kind != HubPath {
		return out
	}
	out = append(out, n.lostInside(p, to, enter)...)
	if to.External {
		out = append(out, n.lostExits(p, enter)...)
	}
	return out
}

// lostRoutes returns the entries of the table that a longer one came before.
func (n *Net) lostRoutes(p *Path, to Target) []Lost {
	var out []Lost
	for _, r := range n.Networks[p.Network].Routes {
		if r.To.Contains(to.Addr) && (!p.Entry.Explicit || r.To != p.Entry.Prefix) {
			out = append(out, Lost{"route", fmt.Sprintf("%s via %s", r.To, r.Via), fmt.Sprintf("%s is more specific", p.Entry.Prefix)})
		}
	}
	if home := &n.Networks[p.Network]; p.Entry.Explicit && p.Entry.Prefix.Bits() > 0 && len(home.Attachments) > 0 {
		if !slices.ContainsFunc(home.Routes, func(r Route) bool { return r.To.Bits() == 0 && r.To.Contains(to.Addr) }) {
			zero := netip.PrefixFrom(to.Addr, 0).Masked()
			out = append(out, Lost{"route", fmt.Sprintf("%s via hub", zero), fmt.Sprintf("%s is more specific", p.Entry.Prefix)})
		}
	}
	return out
}

// lostInside returns the attachments at which a path to an internal destination
// could enter or leave, and does not.
func (n *Net) lostInside(p *Path, to Target, enter int) []Lost {
	if p.Kind != HubPath {
		return nil
	}
	var out []Lost
	var ends []int
	if enter != None {
		ends = n.Networks[enter].Attached
	}
	far := map[int]bool{} // the networks at whose attachments the path may leave
	if home := to.Home.Network; !to.External && home != None {
		far[home] = true
		for _, peer := range n.Networks[home].Peers {
			far[peer.Network] = n.peerLeads(peer.Network, to)
		}
		for network, may := range far {
			if may && network != enter {
				ends = slices.Concat(ends, n.Networks[network].Attached)
			}
		}
		slices.Sort(ends)
	}
	taken, _ := n.leadsTo(p.Leave, to)
	for _, i := range ends {
		a := &n.Attachments[i]
		enters := a.Network == enter && i != p.Enter
		leaves := !to.External && far[a.Network] && i != p.Leave
		length, leads := None, false
		if leaves {
			length, leads = n.leadsTo(i, to)
		}
		if !enters && !leaves {
			continue
		}
		name := n.Networks[a.Network].Name + " at " + n.Hubs[a.Hub]
		switch {
		case !a.Up:
			out = append(out, Lost{"attachment", name, "down"})
		case enters && !a.Announces(to.Addr):
			out = append(out, Lost{"attachment", name, "the hub does not announce the destination to it"})
		case leaves && !enters && !a.Accepts(to.own()):
			out = append(out, Lost{"attachment", name, "its hub does not accept the destination from it"})
		case enters:
			out = append(out, Lost{"attachment", name, n.compare(n.costBy(p, to, i, p.Leave), p.Cost)})
		case !leads && n.translated(to.Home) != nil:
			out = append(out, Lost{"attachment", name, "does not translate the destination"})
		case !leads:
			out = append(out, Lost{"attachment", name, "does not advertise the destination"})
		case length < taken:
			out = append(out, Lost{"attachment", name, fmt.Sprintf("less specific prefix: /%d, while the chosen path has /%d", length, taken)})
		default:
			out = append(out, Lost{"attachment", name, n.compare(n.costBy(p, to, p.Enter, i), p.Cost)})
		}
	}
	return out
}

// peerLeads reports whether a peer of the destination's home network has static prefixes
// for it.
func (n *Net) peerLeads(peer int, to Target) bool {
	return slices.ContainsFunc(n.Networks[peer].Attached, func(i int) bool {
		return n.translated(to.Home) == nil && n.Attachments[i].longest(n.Attachments[i].statics, to.Segment, to.own()) != None
	})
}

// costBy returns what a path costs that enters and leaves at some attachments,
// or starts or ends at the path's exit.
func (n *Net) costBy(p *Path, to Target, enter, leave int) int {
	from, till, cost := None, None, 0
	if enter != None {
		from, cost = n.Attachments[enter].Hub, n.Attachments[enter].Cost
	} else {
		from = n.Exits[p.Exit].Hub
	}
	if leave != None {
		till = n.Attachments[leave].Hub
		cost += n.Attachments[leave].Cost
	} else {
		till = n.Exits[p.Exit].Hub
	}
	return cost + n.meshes[p.Segment].distance(from, till)
}

// compare says why a cost lost against the one that was taken.
func (n *Net) compare(cost, taken int) string {
	switch {
	case cost >= unreachable:
		return "no links from its hub reach the destination"
	case cost > taken:
		return fmt.Sprintf("cost %d, the chosen path costs %d", cost, taken)
	}
	return fmt.Sprintf("same cost %d, but later in alphabetical order", cost)
}

// lostExits returns the exits that a path to the internet does not take.
func (n *Net) lostExits(p *Path, enter int) []Lost {
	var out []Lost
	for i := range n.Exits {
		x := &n.Exits[i]
		if i == p.Exit {
			continue
		}
		why := ""
		switch {
		case !x.Serves(p.Segment):
			why = "does not serve segment " + n.Segments[p.Segment]
		case !x.Up:
			why = "down"
		default:
			best := unreachable
			for _, in := range n.Networks[enter].Attachments {
				a := &n.Attachments[in]
				best = min(best, a.Cost+n.meshes[p.Segment].distance(a.Hub, x.Hub))
			}
			why = n.compare(best, p.Cost)
		}
		out = append(out, Lost{"exit", x.Name, why})
	}
	return out
}
