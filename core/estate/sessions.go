package estate

import (
	"fmt"
	"net/netip"
)

// sessions reports F15, and names that sessions speak of.
func (c *checker) sessions() {
	hubs := map[string]*Hub{}
	for i := range c.e.Hubs {
		h := &c.e.Hubs[i]
		hubs[h.Name] = h
		if h.Speaker == "" {
			continue
		}
		if a, err := netip.ParseAddr(h.Speaker); err != nil || CheckAddr(a) != nil {
			c.add(BadSession, NoListening, []Ref{{KindHub, h.Name}}, args(h.Speaker), "hubs[%d].speaker", i)
		}
	}
	type peer struct {
		hub    string
		router netip.Addr
	}
	known := map[peer]string{}
	for i := range c.e.Attachments {
		a := &c.e.Attachments[i]
		of := Ref{KindAttachment, a.Network + "@" + a.Hub}
		for k := range a.Sessions {
			s := &a.Sessions[k]
			path := fmt.Sprintf("attachments[%d].sessions[%d]", i, k)
			c.need(of, KindSegment, s.Segment, "%s.segment", path)
			if h := hubs[a.Hub]; h != nil && (h.AS == 0 || h.Speaker == "") {
				c.add(BadSession, NoSpeaker, []Ref{of, {KindHub, a.Hub}}, args(s.Router), "%s.router", path)
			}
			at := peer{a.Hub, s.Router}
			if other, twice := known[at]; twice {
				c.add(BadSession, Twice, []Ref{of}, args(s.Router, a.Hub, other), "%s.router", path)
			}
			known[at] = a.Network
		}
	}
}
