package oracle

import (
	"net/netip"

	"bivium/core/estate"
)

// shows returns what enabled shares of two segments show of one to the other (S1).
func (w world) shows(of, to string) []estate.Translation {
	var out []estate.Translation
	for _, s := range w.Shares {
		joins := s.Owner.Segment == of && s.Guest.Segment == to || s.Owner.Segment == to && s.Guest.Segment == of
		for _, t := range s.Show {
			if s.Enabled && joins && t.Segment == of {
				out = append(out, t)
			}
		}
	}
	return out
}

// seen returns an endpoint with the address by which a segment sees it (S2, S4).
func (w world) seen(p place, from string) netip.Addr {
	if p.segment == "" || p.segment == from {
		return p.addr
	}
	for _, t := range w.shows(p.segment, from) {
		if t.Inside.Contains(p.addr) {
			return swap(p.addr, t.Inside, t.Outside)
		}
	}
	return p.addr
}

// unshown returns the address in its own segment of what a segment would see as
// the given one, and false if that is nothing (S2).
func (w world) unshown(of, from string, a netip.Addr) (netip.Addr, bool) {
	for _, t := range w.shows(of, from) {
		if t.Outside.Contains(a) {
			return swap(a, t.Outside, t.Inside), true
		}
	}
	for _, t := range w.shows(of, from) {
		if t.Inside.Contains(a) {
			return a, false
		}
	}
	return a, true
}
