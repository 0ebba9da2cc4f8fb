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
			c.add(BadSession, []Ref{{KindHub, h.Name}}, "use an address of this machine, or leave it out",
				fmt.Sprintf("hub %s cannot listen on %q", h.Name, h.Speaker), "hubs[%d].speaker", i)
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
				c.add(BadSession, []Ref{of, {KindHub, a.Hub}}, "add as and speaker to the hub",
					fmt.Sprintf("router %s has a session with hub %s, which does not speak BGP", s.Router, a.Hub), "%s.router", path)
			}
			at := peer{a.Hub, s.Router}
			if other, twice := known[at]; twice {
				c.add(BadSession, []Ref{of}, "keep one session for each router and hub",
					fmt.Sprintf("router %s already has a session at hub %s, on %s", s.Router, a.Hub, other), "%s.router", path)
			}
			known[at] = a.Network
		}
	}
}
