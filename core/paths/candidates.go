package paths

import "net/netip"

// candidate is an attachment at which a hub path may leave, with the length in bits of
// the longest prefix by which it leads to the destination (M7.4).
type candidate struct{ attachment, length int }

// candidates adds to a list the candidates for a target: attachments of its home network,
// which carry its subnets and bear prefixes, and those of peers of that network, which have
// static ones. Of an endpoint that is translated they are those that translate it (M12.3).
// Filters are not asked. Cost: one look-up of a longest prefix for each attachment that
// bears any.
//
//	home  10.1.0.0/24 attached at fen               fen: /24
//	peer  attached at tor, static 10.1.0.0/26       tor: /26, which wins for 10.1.0.7
func (n *Net) candidates(out []candidate, to Target) []candidate {
	home := &n.Networks[to.Home.Network]
	own, subnet := home.Attachments, None
	if to.Home.Subnet != None {
		subnet = to.Home.Prefix.Bits()
	}
	translated := n.translated(to.Home)
	if translated != nil {
		own = translated.through
	}
	for _, i := range own {
		if length := max(subnet, n.Attachments[i].longest(n.Attachments[i].bears, to.Segment, to.own())); length != None {
			out = append(out, candidate{i, length})
		}
	}
	if translated != nil {
		return out
	}
	for _, peer := range home.Peers {
		for _, i := range n.Networks[peer.Network].Attachments {
			if length := n.Attachments[i].longest(n.Attachments[i].statics, to.Segment, to.own()); length != None {
				out = append(out, candidate{i, length})
			}
		}
	}
	return out
}

// leadsTo reports whether the attachment is a candidate for a target, and by a prefix of
// what length.
func (n *Net) leadsTo(attachment int, to Target) (length int, ok bool) {
	for _, c := range n.candidates(nil, to) {
		if c.attachment == attachment {
			return c.length, true
		}
	}
	return None, false
}

// longest returns the length of the longest of some prefixes in a segment that contains an
// address, or None.
func (a *Attachment) longest(tables prefixTables, segment int, addr netip.Addr) int {
	if tables == nil {
		return None
	}
	t, ok := tables[segment]
	if !ok {
		return None
	}
	p, ok := t.LookupPrefixLPM(netip.PrefixFrom(addr, addr.BitLen()))
	if !ok {
		return None
	}
	return p.Bits()
}

// lengthMatters reports whether it may decide between candidates how long the prefixes are
// that lead to addresses of a network: whether it may have more than one.
func (n *Net) lengthMatters(network int) bool {
	x := &n.Networks[network]
	return len(x.Attached) > 1 && x.bears || n.peersBearStatics(network)
}

// peersBearStatics reports whether a peer of a network has static prefixes.
func (n *Net) peersBearStatics(network int) bool {
	for _, p := range n.Networks[network].Peers {
		for _, i := range n.Networks[p.Network].Attached {
			if len(n.Attachments[i].statics) > 0 {
				return true
			}
		}
	}
	return false
}
