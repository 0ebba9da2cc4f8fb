package paths

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
)

// Lost is a way that a flow could have gone and did not, and why.
type Lost struct {
	What string // route, attachment or exit
	Name string
	Why  Loss
	Args []string // what the English of the reason needs, in its order
}

// Loss is a reason why a way was not taken. The comment says what its arguments are.
type Loss string

// The reasons.
const (
	LessSpecific   Loss = "less-specific"  // of a route: the prefix that was met
	Down           Loss = "down"           //
	NotAnnouncedTo Loss = "not-announced"  // the hub does not announce the destination to it
	NotAcceptedAt  Loss = "not-accepted"   // its hub does not accept the destination from it
	Untranslated   Loss = "untranslated"   // it does not translate the destination
	NotAdvertised  Loss = "not-advertised" // it does not advertise the destination
	ShorterPrefix  Loss = "shorter-prefix" // its length, and that of the path taken
	NoLinkLeads    Loss = "no-link-leads"  // no links from its hub reach the destination
	CostsMore      Loss = "costs-more"     // its cost, and that of the path taken
	LaterByName    Loss = "later-by-name"  // the cost of both; "" of publications, which have none
	ServesNot      Loss = "serves-not"     // of an exit: the segment
	OtherServices  Loss = "other-services" // of a publication: it is not for the flow's service
	OtherChosen    Loss = "other-chosen"   // of a publication: the flow names another one
)

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
			out = append(out, Lost{"route", fmt.Sprintf("%s via %s", r.To, r.Via), LessSpecific, []string{p.Entry.Prefix.String()}})
		}
	}
	if home := &n.Networks[p.Network]; p.Entry.Explicit && p.Entry.Prefix.Bits() > 0 && len(home.Attachments) > 0 {
		if !slices.ContainsFunc(home.Routes, func(r Route) bool { return r.To.Bits() == 0 && r.To.Contains(to.Addr) }) {
			zero := netip.PrefixFrom(to.Addr, 0).Masked()
			out = append(out, Lost{"route", fmt.Sprintf("%s via hub", zero), LessSpecific, []string{p.Entry.Prefix.String()}})
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
		lost := Lost{What: "attachment", Name: name}
		switch {
		case !a.Up:
			lost.Why = Down
		case enters && !a.Announces(to.Addr):
			lost.Why = NotAnnouncedTo
		case leaves && !enters && !a.Accepts(to.own()):
			lost.Why = NotAcceptedAt
		case enters:
			lost.Why, lost.Args = n.compare(n.costBy(p, to, i, p.Leave), p.Cost)
		case !leads && n.translated(to.Home) != nil:
			lost.Why = Untranslated
		case !leads:
			lost.Why = NotAdvertised
		case length < taken:
			lost.Why, lost.Args = ShorterPrefix, numbers(length, taken)
		default:
			lost.Why, lost.Args = n.compare(n.costBy(p, to, p.Enter, i), p.Cost)
		}
		out = append(out, lost)
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
func (n *Net) compare(cost, taken int) (Loss, []string) {
	switch {
	case cost >= unreachable:
		return NoLinkLeads, nil
	case cost > taken:
		return CostsMore, numbers(cost, taken)
	}
	return LaterByName, numbers(cost)
}

func numbers(values ...int) []string {
	out := make([]string, len(values))
	for i, v := range values {
		out[i] = strconv.Itoa(v)
	}
	return out
}

// lostExits returns the exits that a path to the internet does not take.
func (n *Net) lostExits(p *Path, enter int) []Lost {
	var out []Lost
	for i := range n.Exits {
		x := &n.Exits[i]
		if i == p.Exit {
			continue
		}
		lost := Lost{What: "exit", Name: x.Name}
		switch {
		case !x.Serves(p.Segment):
			lost.Why, lost.Args = ServesNot, []string{n.Segments[p.Segment]}
		case !x.Up:
			lost.Why = Down
		default:
			best := unreachable
			for _, in := range n.Networks[enter].Attachments {
				a := &n.Attachments[in]
				best = min(best, a.Cost+n.meshes[p.Segment].distance(a.Hub, x.Hub))
			}
			lost.Why, lost.Args = n.compare(best, p.Cost)
		}
		out = append(out, lost)
	}
	return out
}
