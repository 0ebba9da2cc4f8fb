package suggest

import (
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/trace"
)

// byPath gives packets from one end a way to the other, by the reason for which there is none.
func (f *finder) byPath(p *trace.PathView, from, to *trace.EndView) []candidate {
	segment := orElse(from.Segment, to.Segment)
	switch p.Absence {
	case "not-attached":
		return f.attach(from.Network)
	case "far-not-attached":
		return slices.Concat(f.attach(to.Network), f.offers(to.Network))
	case "no-entry":
		return slices.Concat(f.offers(from.Network), f.attach(from.Network))
	case "peer-ends":
		return slices.Concat(f.offers(from.Network), f.routeToHub(from.Network, p), f.attach(from.Network))
	case "route-none", "internet-for-inside", "peering-translates":
		return f.routeToHub(from.Network, p)
	case "no-exit":
		return f.serve(segment)
	case "no-links":
		return f.carry(segment)
	case "not-announced":
		return f.filtered(from.Network, to, func(a *estate.Attachment, prefix netip.Prefix) (Code, bool) {
			if a.Announces == nil || slices.Contains(a.Announces, prefix) {
				return "", false
			}
			a.Announces = append(slices.Clone(a.Announces), prefix)
			return AnnounceRoute, true
		})
	case "not-accepted":
		return f.filtered(to.Network, to, func(a *estate.Attachment, prefix netip.Prefix) (Code, bool) {
			if a.Accepts == nil || slices.Contains(a.Accepts, prefix) {
				return "", false
			}
			a.Accepts = append(slices.Clone(a.Accepts), prefix)
			return AcceptRoute, true
		})
	}
	return nil
}

// attach attaches a network to each hub that it is not attached to.
func (f *finder) attach(network string) []candidate {
	if network == "" {
		return nil
	}
	var out []candidate
	for i := range f.e.Hubs {
		hub := f.e.Hubs[i].Name
		if slices.ContainsFunc(f.e.Attachments, func(a estate.Attachment) bool { return a.Network == network && a.Hub == hub }) {
			continue
		}
		name := estate.FreeName(estate.MadeUpName(network, hub), func(name string) bool {
			return slices.ContainsFunc(f.e.Attachments, func(a estate.Attachment) bool { return a.Name == name })
		})
		a := &estate.Attachment{Name: name, Network: network, Hub: hub, Cost: 1, State: "up"}
		out = append(out, candidate{steps: []Step{{Code: Attach, Thing: estate.Ref{Kind: estate.KindNetwork, Name: network}, To: hub}}, put: []any{a}})
	}
	return out
}

// offers lets a peer of a network offer its hub.
func (f *finder) offers(network string) []candidate {
	var out []candidate
	for i := range f.e.Peerings {
		p := f.e.Peerings[i]
		if p.OffersHub != "" || p.Between[0] != network && p.Between[1] != network {
			continue
		}
		near := p.Between[0]
		if near == network {
			near = p.Between[1]
		}
		p.OffersHub = near
		out = append(out, candidate{steps: []Step{{Code: OfferHub, Thing: estate.Ref{Kind: estate.KindNetwork, Name: near}, To: network}}, put: []any{&p}})
	}
	return out
}

// routeToHub leads the route that a network took to its hub.
func (f *finder) routeToHub(network string, p *trace.PathView) []candidate {
	n, ok := named(f.e.Networks, network, func(n *estate.Network) string { return n.Name })
	if !ok || p.Entry == nil || !p.Entry.Explicit {
		return nil
	}
	at := slices.IndexFunc(n.Routes, func(r estate.Route) bool { return r.To.String() == p.Entry.Prefix })
	if at < 0 || n.Routes[at].Via == "hub" {
		return nil
	}
	n.Routes = slices.Clone(n.Routes)
	n.Routes[at].Via = "hub"
	return []candidate{{steps: []Step{{Code: RouteToHub, Thing: estate.Ref{Kind: estate.KindNetwork, Name: network}, To: p.Entry.Prefix}}, put: []any{&n}}}
}

// serve lets each exit serve a segment that it does not.
func (f *finder) serve(segment string) []candidate {
	var out []candidate
	for i := range f.e.Exits {
		x := f.e.Exits[i]
		if slices.Contains(x.Segments, segment) {
			continue
		}
		x.Segments = append(slices.Clone(x.Segments), segment)
		out = append(out, candidate{steps: []Step{{Code: ServeExit, Thing: estate.Ref{Kind: estate.KindExit, Name: x.Name}, To: segment}}, put: []any{&x}})
	}
	return out
}

// carry lets each link carry a segment that it does not.
func (f *finder) carry(segment string) []candidate {
	var out []candidate
	for i := range f.e.Links {
		l := f.e.Links[i]
		if len(l.Segments) == 0 || slices.Contains(l.Segments, segment) {
			continue
		}
		l.Segments = append(slices.Clone(l.Segments), segment)
		out = append(out, candidate{steps: []Step{{Code: CarrySegment, Thing: estate.Ref{Kind: estate.KindLink, Name: l.Name}, To: segment}}, put: []any{&l}})
	}
	return out
}

// filtered widens a filter of the attachments of a network by the prefix of an end.
func (f *finder) filtered(network string, end *trace.EndView, widen func(*estate.Attachment, netip.Prefix) (Code, bool)) []candidate {
	prefix, err := netip.ParsePrefix(end.Prefix)
	if err != nil {
		return nil
	}
	var out []candidate
	for i := range f.e.Attachments {
		a := f.e.Attachments[i]
		if a.Network != network {
			continue
		}
		if code, other := widen(&a, prefix); other {
			out = append(out, candidate{steps: []Step{{Code: code, Thing: estate.Ref{Kind: estate.KindAttachment, Name: a.Name}, To: prefix.String()}}, put: []any{&a}})
		}
	}
	return out
}
