package oracle

import (
	"net/netip"

	"bivium/core/estate"
)

// shows returns what enabled shares of two segments show of one to the other (M14.1).
func (w world) shows(of, to string) []estate.Translation {
	var out []estate.Translation
	for _, s := range w.Shares {
		joins := s.Owner.Segment == of && s.Guest.Segment == to || s.Owner.Segment == to && s.Guest.Segment == of
		for _, t := range s.Show {
			if w.applies(s.Enabled, s.Until) && joins && t.Segment == of {
				out = append(out, t)
			}
		}
	}
	return out
}

// reachable reports whether an enabled share makes an endpoint reachable in a segment (M6.4).
func (w world) reachable(p place, segment string) bool {
	for _, s := range w.Shares {
		if w.applies(s.Enabled, s.Until) && (s.Owner.Segment == p.segment && s.Guest.Segment == segment && w.inSide(s.Owner.Groups, p, true) ||
			s.Guest.Segment == p.segment && s.Owner.Segment == segment && w.inSide(s.Guest.Groups, p, true)) {
			return true
		}
	}
	return false
}

// shown reports whether an endpoint is shown to a segment under another address (M14.2).
func (w world) shown(p place, to string) bool {
	return p.segment != "" && w.seen(p, to) != p.addr
}

// seen returns the address by which a segment sees an endpoint (M14.2, M14.4).
func (w world) seen(p place, from string) netip.Addr {
	if p.segment == "" || p.segment == from || !w.reachable(p, from) {
		return p.addr
	}
	for _, t := range w.shows(p.segment, from) {
		if t.Inside.Contains(p.addr) {
			return swap(p.addr, t.Inside, t.Outside)
		}
	}
	return p.addr
}

// unshown returns the addresses in its own segment of what a segment would see as the
// given one: at most one that is shown by it, and its own unless that is shown (M14.2).
func (w world) unshown(of, from string, a netip.Addr) []netip.Addr {
	var out []netip.Addr
	own := true
	for _, t := range w.shows(of, from) {
		if t.Outside.Contains(a) {
			out = append(out, swap(a, t.Outside, t.Inside))
		}
		own = own && !t.Inside.Contains(a)
	}
	if own {
		out = append(out, a)
	}
	return out
}
