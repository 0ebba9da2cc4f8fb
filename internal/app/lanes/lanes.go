// Package lanes shows how an estate is wired: its hubs, segments, networks and what joins them,
// and the routes that each of them comes to have.
package lanes

import (
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/inventory"
	"bivium/internal/app/view"
)

// Lanes is how the estate hangs together: hubs, segments, what is attached
// where, and what joins them. Where it is drawn is for the screen to say.
type Lanes struct {
	Revision int64         `json:"revision"`
	Counting bool          `json:"counting"` // the segments of gates are those of before the last edit: they are being found anew
	Hubs     []LaneHub     `json:"hubs"`
	Segments []Lane        `json:"segments"`
	Links    []LaneLink    `json:"links"`
	Networks []LaneNetwork `json:"networks"`
	Peerings []LanePeering `json:"peerings"`
	Exits    []LaneExit    `json:"exits"`
	Shares   []LaneShare   `json:"shares"`
	Gates    []Gate        `json:"gates"`
}

// LaneHub is a hub.
type LaneHub struct {
	Name    string `json:"name"`
	Account string `json:"account"`
	Region  string `json:"region"`
}

// Lane is a segment.
type Lane struct {
	Name    string        `json:"name"`
	Default estate.Action `json:"default"`
}

// LaneLink joins two hubs.
type LaneLink struct {
	Name     string   `json:"name"`
	Between  []string `json:"between"`
	Cost     int      `json:"cost"`
	State    string   `json:"state"`
	Segments []string `json:"segments"` // empty: it carries all
	Why      string   `json:"why"`
}

// LaneNetwork is a network, with the segments it lives in and where it is attached.
type LaneNetwork struct {
	Name    string            `json:"name"`
	Kind    string            `json:"kind"`
	Account string            `json:"account"`
	Region  string            `json:"region"`
	Labels  map[string]string `json:"labels"`
	Gone    bool              `json:"gone"`    // its account does not have it any more
	Segment string            `json:"segment"` // of a network without subnets; "" for none
	Subnets []LaneSubnet      `json:"subnets"`
	At      []Attach          `json:"at"`
}

// LaneSubnet is a subnet, and the segment that it lies in; "" for none.
type LaneSubnet struct {
	Name    string `json:"name"`
	Prefix  string `json:"prefix"`
	Segment string `json:"segment"`
	Outside string `json:"outside"` // what the segment sees it as, where that is another prefix
}

// Attach is an attachment.
type Attach struct {
	Hub       string   `json:"hub"`
	Cost      int      `json:"cost"`
	State     string   `json:"state"`
	Why       string   `json:"why"`
	Uplink    string   `json:"uplink"`  // native, tunnel or line; "" where that is not said
	Waiting   int      `json:"waiting"` // learned prefixes that wait
	Static    []Borne  `json:"static"`
	Accepts   []string `json:"accepts"`   // nil for everything
	Announces []string `json:"announces"` // likewise
}

// Borne is a static prefix that an attachment bears.
type Borne struct {
	Prefix  string `json:"prefix"`
	Segment string `json:"segment"`
}

// LanePeering joins two networks.
type LanePeering struct {
	Between   []string `json:"between"`
	OffersHub string   `json:"offersHub"`
}

// LaneExit is a way out.
type LaneExit struct {
	Name      string   `json:"name"`
	Hub       string   `json:"hub"`
	State     string   `json:"state"`
	Segments  []string `json:"segments"`
	Published []string `json:"published"` // what may be reached through it from the internet
}

// LaneShare joins two segments.
type LaneShare struct {
	Name      string `json:"name"`
	Owner     string `json:"owner"`
	Guest     string `json:"guest"`
	Direction string `json:"direction"`
	Enabled   bool   `json:"enabled"`
	// Show is what one of its segments sees of the other under other addresses.
	Show []Shown `json:"show"`
}

// Shown is a prefix of a segment that another sees under another one.
type Shown struct {
	Inside  string `json:"inside"`
	Outside string `json:"outside"`
	Segment string `json:"segment"`
}

// Gate is a pool at a hub, with the segments whose flows it sees there.
type Gate struct {
	Pool      string         `json:"pool"`
	Hub       string         `json:"hub"`
	OnFailure string         `json:"onFailure"`
	Firewalls []GateFirewall `json:"firewalls"`
	Segments  []string       `json:"segments"`
	Internet  bool           `json:"internet"` // it sees flows from or to the internet
}

// GateFirewall is a firewall of a gate.
type GateFirewall struct {
	Name  string `json:"name"`
	State string `json:"state"`
	Why   string `json:"why"`
}

// Of returns how the estate hangs together. Cost: linear in the estate without
// its workloads and rules, and what Passages takes, once for each revision.
func Of(s *view.Snapshot) *Lanes { return With(s, s.Passages(view.NoPace), false) }

// With returns the same with passages of this snapshot, or of one before.
func With(s *view.Snapshot, passages []findings.Passage, before bool) *Lanes {
	e := s.Estate
	out := &Lanes{
		Revision: s.Revision, Counting: before, Hubs: []LaneHub{}, Segments: []Lane{}, Links: []LaneLink{}, Networks: []LaneNetwork{},
		Peerings: []LanePeering{}, Exits: []LaneExit{}, Shares: []LaneShare{},
	}
	for _, h := range e.Hubs {
		out.Hubs = append(out.Hubs, LaneHub{h.Name, h.Account, h.Region})
	}
	for _, x := range e.Segments {
		out.Segments = append(out.Segments, Lane{x.Name, x.Default})
	}
	for _, l := range e.Links {
		out.Links = append(out.Links, LaneLink{l.Between[0] + "-" + l.Between[1], l.Between[:], l.Cost, l.State, view.OrNone(l.Segments), l.Description})
	}
	for _, p := range e.Peerings {
		out.Peerings = append(out.Peerings, LanePeering{p.Between[:], p.OffersHub})
	}
	for _, x := range e.Exits {
		published := []string{}
		for _, p := range e.Publications {
			if p.Exit == x.Name && p.Enabled {
				published = append(published, p.Name)
			}
		}
		out.Exits = append(out.Exits, LaneExit{x.Name, x.Hub, x.State, view.OrNone(x.Segments), published})
	}
	for _, x := range e.Shares {
		share := LaneShare{x.Name, x.Owner.Segment, x.Guest.Segment, x.Direction, x.Enabled, []Shown{}}
		for _, t := range x.Show {
			share.Show = append(share.Show, Shown{t.Inside.String(), t.Outside.String(), t.Segment})
		}
		out.Shares = append(out.Shares, share)
	}
	out.Networks = laneNetworks(s)
	out.Gates = gates(s, passages)
	return out
}

func laneNetworks(s *view.Snapshot) []LaneNetwork {
	e := s.Estate
	gone := map[string]bool{}
	for i := range s.Known {
		if k := &s.Known[i]; k.Kind == inventory.NetworkKind && k.Gone {
			gone[k.Name] = true
		}
	}
	at := map[string][]Attach{}
	for i := range e.Attachments {
		a := &e.Attachments[i]
		x := Attach{Hub: a.Hub, Cost: a.Cost, State: a.State, Why: a.Description, Uplink: a.Uplink, Static: []Borne{}, Accepts: filterWords(a.Accepts), Announces: filterWords(a.Announces)}
		for _, b := range a.Static {
			x.Static = append(x.Static, Borne{b.Prefix.String(), b.Segment})
		}
		for _, l := range a.Learned {
			if l.Status == "waiting" {
				x.Waiting++
			}
		}
		at[a.Network] = append(at[a.Network], x)
	}
	out := make([]LaneNetwork, len(e.Networks))
	net := s.Judge.Net
	shown := map[string]string{}
	for i := range net.Subnets {
		if x := &net.Subnets[i]; x.Translated {
			shown[net.Networks[x.Network].Name+"/"+x.Name] = x.Prefix.String()
		}
	}
	for i := range e.Networks {
		n := &e.Networks[i]
		out[i] = LaneNetwork{n.Name, n.Kind, n.Account, n.Region, view.OrEmpty(n.Labels), gone[n.Name], n.Segment, []LaneSubnet{}, at[n.Name]}
		for k := range n.Subnets {
			x := &n.Subnets[k]
			out[i].Subnets = append(out[i].Subnets, LaneSubnet{x.Name, x.Prefix.String(), n.SegmentOf(x), shown[n.Name+"/"+x.Name]})
		}
		if out[i].At == nil {
			out[i].At = []Attach{}
		}
	}
	return out
}

// gates returns each pool at each hub where it has firewalls.
func gates(s *view.Snapshot, passages []findings.Passage) []Gate {
	out := []Gate{}
	for i := range s.Estate.Pools {
		p := &s.Estate.Pools[i]
		for _, f := range p.Firewalls {
			k := slices.IndexFunc(out, func(g Gate) bool { return g.Pool == p.Name && g.Hub == f.Hub })
			if k < 0 {
				k = len(out)
				out = append(out, Gate{Pool: p.Name, Hub: f.Hub, OnFailure: p.OnFailure, Segments: []string{}})
			}
			out[k].Firewalls = append(out[k].Firewalls, GateFirewall{f.Name, f.State, f.Description})
		}
	}
	for _, p := range passages {
		k := slices.IndexFunc(out, func(g Gate) bool { return g.Pool == p.Pool && g.Hub == p.Hub })
		if k < 0 {
			continue // it has gone since these were found
		}
		for _, segment := range []string{p.From, p.To} {
			switch {
			case segment == "":
				out[k].Internet = true
			case !slices.Contains(out[k].Segments, segment):
				out[k].Segments = append(out[k].Segments, segment)
			}
		}
	}
	for i := range out {
		slices.Sort(out[i].Segments)
	}
	return out
}

// filterWords returns the prefixes of a filter, nil for one that carries everything.
func filterWords(prefixes []netip.Prefix) []string {
	if prefixes == nil {
		return nil
	}
	return view.Prefixes(prefixes)
}

// Unfinished reports whether there will be more to say of the same snapshot.
func (l *Lanes) Unfinished() bool { return l.Counting }
