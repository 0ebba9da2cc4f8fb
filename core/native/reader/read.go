// Package reader reads the configuration of targets back into what happens to the first packet
// of every flow. It shares nothing with core/native but the form of the configuration. Of the
// estate it takes what is there (subnets, workloads, what is up or down), and nothing of what is
// meant.
//
// What targets do with a packet is in docs/decisions/11-targets.md.
package reader

import (
	"net/netip"
	"slices"
	"sync"

	"github.com/gaissmai/bart"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/paths"
)

// Reader reads one configuration. What it says never changes, and it is safe for concurrent use.
type Reader struct {
	Estate *estate.Estate // as far as the configuration and what is there say: no rules
	Net    *paths.Net
	Config *config.Config

	segments     []*hubList // by number
	imports      []bart.Table[imported]
	exports      map[[2]int]*bart.Table[netip.Prefix] // by the segment of the address, and the one that sees it: as what
	pools        map[string]*config.Pool
	firewalls    map[string][]int // by pool: the hubs that have a healthy one
	Networks     []*Network       // by number
	Publications []Publication    // in order of name
	sorted       sync.Map         // by large set: its prefixes in order, disjoint
}

// imported is an address of another segment that a segment finds.
type imported struct {
	seen    netip.Prefix
	segment int
	own     netip.Prefix
}

// Publication is a public address, with the numbers of its segment and exit; paths.None for those
// that there are not.
type Publication struct {
	*config.Publication
	Of, By int
}

// Network is the lists of one network.
type Network struct {
	config.Network
	Whole    *config.List
	Subnets  map[string]*config.List
	Bearers  map[netip.Addr][]*config.EntryList // by the address that a workload has inside
	Standard []*config.EntryList
	Held     map[netip.Addr]bool     // by a workload
	Bearing  map[string][]netip.Addr // by list of the account: the addresses of those that bear it
}

// New reads a configuration beside an estate. Names that the estate does not have are left out.
func New(e *estate.Estate, cfg *config.Config) *Reader {
	r := &Reader{Config: cfg, Estate: Wiring(e, cfg), pools: map[string]*config.Pool{}, firewalls: map[string][]int{}, exports: map[[2]int]*bart.Table[netip.Prefix]{}}
	r.Net = paths.New(r.Estate)
	r.segments, r.imports = make([]*hubList, len(r.Net.Segments)), make([]bart.Table[imported], len(r.Net.Segments))
	for i := range cfg.Segments {
		if s := r.Net.Segment(cfg.Segments[i].Name); s != paths.None {
			r.segments[s] = &hubList{Segment: &cfg.Segments[i]}
			r.readImports(s)
		}
	}
	for i := range cfg.Pools {
		r.pools[cfg.Pools[i].Name] = &cfg.Pools[i]
	}
	for i := range e.Pools {
		var hubs []int
		for _, f := range e.Pools[i].Firewalls {
			if h := r.Net.Hub(f.Hub); f.State == "healthy" && h != paths.None && !slices.Contains(hubs, h) {
				hubs = append(hubs, h)
			}
		}
		slices.Sort(hubs)
		r.firewalls[e.Pools[i].Name] = hubs
	}
	for i := range cfg.Hubs {
		for k := range cfg.Hubs[i].Publications {
			p := &cfg.Hubs[i].Publications[k]
			r.Publications = append(r.Publications, Publication{p, r.Net.Segment(p.Segment), r.Net.Exit(p.Exit)})
		}
	}
	slices.SortFunc(r.Publications, func(a, b Publication) int { return compareStrings(a.Name, b.Name) })
	r.readNetworks(e)
	return r
}

func (r *Reader) readImports(s int) {
	for _, i := range r.segments[s].Imports {
		of := r.Net.Segment(i.Of)
		if of == paths.None {
			continue
		}
		r.imports[s].Insert(i.Seen, imported{i.Seen, of, i.Own})
		key := [2]int{of, s}
		if r.exports[key] == nil {
			r.exports[key] = &bart.Table[netip.Prefix]{}
		}
		r.exports[key].Insert(i.Own, i.Seen)
	}
}

// seenAs returns the address by which a segment sees one of another.
func (r *Reader) seenAs(segment int, a netip.Addr, by int) netip.Addr {
	if t := r.exports[[2]int{segment, by}]; t != nil && segment != by {
		if own, seen, ok := longest(t, a); ok {
			return Rebase(a, own, seen)
		}
	}
	return a
}

// List returns the match list of a segment, by its number; nil where hubs have none.
func (r *Reader) List(segment int) *config.Segment {
	if r.segments[segment] == nil {
		return nil
	}
	return r.segments[segment].Segment
}

// Import returns what of another segment, by its number, a segment finds at an address: under which
// prefix, and by which its own addresses are. False where it imports none.
func (r *Reader) Import(segment int, a netip.Addr) (seen netip.Prefix, of int, own netip.Prefix, ok bool) {
	seen, i, ok := longest(&r.imports[segment], a)
	return seen, i.segment, i.own, ok
}

func longest[T any](t *bart.Table[T], a netip.Addr) (netip.Prefix, T, bool) {
	p, value, ok := t.LookupPrefixLPM(netip.PrefixFrom(a, a.BitLen()))
	return p, value, ok
}

// Rebase moves an address from one prefix to the same place in another.
func Rebase(a netip.Addr, from, to netip.Prefix) netip.Addr {
	x, y := a.AsSlice(), to.Addr().AsSlice()
	if len(x) != len(y) {
		return a
	}
	for i := range x {
		keep := byte(0xff)
		if bits := from.Bits() - 8*i; bits >= 8 {
			keep = 0
		} else if bits > 0 {
			keep = 0xff >> bits
		}
		y[i] = y[i]&^keep | x[i]&keep
	}
	out, _ := netip.AddrFromSlice(y)
	return out
}

func compareStrings(a, b string) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// peerings returns those that work: each of the two networks, of which there are some, has its
// end. A network uses the hub that a peer offers it where its own end says so.
func peerings(cfg *config.Config, there map[string]int) []estate.Peering {
	var out []estate.Peering
	ends := map[[2]string]*config.Peer{} // by whose end, and to whom
	for i := range cfg.Networks {
		n := &cfg.Networks[i]
		if _, ok := there[n.Name]; !ok {
			continue
		}
		for k := range n.Peers {
			p := &n.Peers[k]
			other := ends[[2]string{p.Name, n.Name}]
			ends[[2]string{n.Name, p.Name}] = p
			if other == nil {
				continue
			}
			x := estate.Peering{Between: [2]string{min(n.Name, p.Name), max(n.Name, p.Name)}}
			switch {
			case p.OffersHub:
				x.OffersHub = p.Name
			case other.OffersHub:
				x.OffersHub = n.Name
			}
			out = append(out, x)
		}
	}
	return out
}

// Wiring returns the estate without anything that is meant: what is there as the estate has it,
// and attachments, routes, peerings, links and exits as the targets have them.
func Wiring(e *estate.Estate, cfg *config.Config) *estate.Estate {
	out := &estate.Estate{Version: e.Version, Name: e.Name, Accounts: e.Accounts, Hubs: e.Hubs, Segments: e.Segments, Workloads: e.Workloads, Pools: e.Pools}
	out.Networks = slices.Clone(e.Networks)
	at := map[string]int{}
	for i := range out.Networks {
		at[out.Networks[i].Name] = i
		out.Networks[i].Routes = nil
	}
	for _, n := range cfg.Networks {
		if i, ok := at[n.Name]; ok {
			out.Networks[i].Routes = n.Routes
		}
	}
	out.Peerings = peerings(cfg, at)
	linked := map[string]bool{}
	for _, h := range cfg.Hubs {
		for _, a := range h.Attachments {
			out.Attachments = append(out.Attachments, attachment(e, h.Name, &a))
		}
		for _, x := range h.Exits {
			x.State = stateOf(e.Exits, func(o *estate.Exit) (string, string) { return o.Name, o.State }, x.Name)
			out.Exits = append(out.Exits, x)
		}
		for _, l := range h.Links {
			if !linked[l.Name] {
				linked[l.Name] = true
				l.State = stateOf(e.Links, func(o *estate.Link) (string, string) { return o.Name, o.State }, l.Name)
				out.Links = append(out.Links, l)
			}
		}
	}
	return out
}

// stateOf returns the state of what has a name; down for what is not there.
func stateOf[T any](things []T, of func(*T) (name, state string), name string) string {
	for i := range things {
		if n, state := of(&things[i]); n == name {
			return state
		}
	}
	return "down"
}

// attachment returns an attachment as the hub has it. Prefixes that routers have withdrawn
// serve no path, and stay at home.
func attachment(e *estate.Estate, hub string, a *config.Attachment) estate.Attachment {
	out := estate.Attachment{Name: a.Name, Network: a.Network, Hub: hub, Cost: a.Cost, State: "down", Accepts: a.Accepts, Announces: a.Announces, Translate: a.Translate}
	i := slices.IndexFunc(e.Attachments, func(o estate.Attachment) bool { return o.Name == a.Name })
	var learned []estate.Learned
	if i >= 0 {
		out.State, learned = e.Attachments[i].State, e.Attachments[i].Learned
	}
	heard := func(r config.Route) bool {
		return slices.ContainsFunc(learned, func(l estate.Learned) bool {
			return l.Status == "accepted" && l.Prefix == r.Prefix && l.Segment == r.Segment
		})
	}
	for _, r := range a.Routes {
		switch {
		case !r.Borne:
		case heard(r):
			out.Learned = append(out.Learned, estate.Learned{Prefix: r.Prefix, Segment: r.Segment, Status: "accepted"})
		default:
			out.Static = append(out.Static, estate.Static{Prefix: r.Prefix, Segment: r.Segment})
		}
	}
	for _, l := range learned {
		if l.Status == "withdrawn" {
			out.Learned = append(out.Learned, l)
		}
	}
	return out
}

func (r *Reader) readNetworks(e *estate.Estate) {
	r.Networks = make([]*Network, len(r.Net.Networks))
	for i := range r.Config.Networks {
		n := r.Net.Network(r.Config.Networks[i].Name)
		if n == paths.None {
			continue
		}
		x := &Network{Network: r.Config.Networks[i], Subnets: map[string]*config.List{}}
		for k := range x.Lists {
			if l := &x.Lists[k]; l.On == "" {
				x.Whole = l
			} else {
				x.Subnets[l.On] = l
			}
		}
		r.Networks[n] = x
	}
	for i := range r.Config.Accounts {
		r.readAccount(e, &r.Config.Accounts[i])
	}
}

// readAccount reads which addresses bear which lists of an account of Cirra.
func (r *Reader) readAccount(e *estate.Estate, a *config.Account) {
	byName, workloads := map[string]*config.EntryList{}, map[string]*estate.Workload{}
	for i := range a.Lists {
		byName[a.Lists[i].Name] = &a.Lists[i]
	}
	for i := range e.Workloads {
		workloads[e.Workloads[i].Name] = &e.Workloads[i]
	}
	lists := func(names []string) []*config.EntryList {
		out := []*config.EntryList{}
		for _, name := range names {
			if l := byName[name]; l != nil {
				out = append(out, l)
			}
		}
		return out
	}
	bearing := map[string][]netip.Addr{}
	for _, x := range r.Networks {
		if x != nil && x.Provider == config.Cirra && x.Account == a.Name {
			x.Bearers, x.Standard, x.Bearing, x.Held = map[netip.Addr][]*config.EntryList{}, lists(a.Default), bearing, map[netip.Addr]bool{}
		}
	}
	for i := range e.Workloads {
		w := &e.Workloads[i]
		if n := r.Net.Network(w.Network); n != paths.None && r.Networks[n] != nil && r.Networks[n].Account == a.Name && r.Networks[n].Held != nil {
			for _, address := range w.Addresses {
				r.Networks[n].Held[address] = true
			}
		}
	}
	for _, b := range a.Bindings {
		w := workloads[b.Workload]
		if w == nil {
			continue
		}
		n := r.Net.Network(w.Network)
		if n == paths.None || r.Networks[n] == nil || r.Networks[n].Bearers == nil {
			continue
		}
		for _, address := range w.Addresses {
			r.Networks[n].Bearers[address] = lists(b.Lists)
			for _, name := range b.Lists {
				bearing[name] = append(bearing[name], address)
			}
		}
	}
}

// Seen returns the address by which one segment sees an own address of another.
func (r *Reader) Seen(segment string, a netip.Addr, by string) netip.Addr {
	of, from := r.Net.Segment(segment), r.Net.Segment(by)
	if of == paths.None || from == paths.None {
		return a
	}
	return r.seenAs(of, a, from)
}
