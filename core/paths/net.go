// Package paths tells where an address lives (M2) and which way a flow takes
// (M7). A Net is compiled once from an estate, never changes, and is safe for
// concurrent use. Things are known by small numbers that stand in the order of
// their names, so that "the first by name" is the least number.
package paths

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/gaissmai/bart"

	"bivium/core/estate"
)

// None is the number of nothing.
const None = -1

// Net is the network side of an estate, compiled. An estate with faults
// compiles too: what speaks of nothing is left out, and of two homes the
// narrower prefix wins, then the first network by name.
type Net struct {
	Hubs        []string
	Segments    []string
	Networks    []Network
	Attachments []Attachment
	Exits       []Exit
	Links       []Link
	Subnets     []Subnet

	hubIDs     map[string]int
	segmentIDs map[string]int
	networkIDs map[string]int
	exitIDs    map[string]int

	homes  []homes     // by segment
	meshes []*linkMesh // by segment
	kinds  []*linkMesh // the different ones among them
}

// Network is a compiled network.
type Network struct {
	Name        string
	Enforces    string // M8.3: a value of estate.Network.Enforcement
	Attachments []int  // that are up, in order of hub name
	Attached    []int  // all attachments, also those that are down, by number
	Peers       []Peer
	Routes      []Route
	Subnets     []int

	table   *bart.Table[int] // explicit routes, to an index of Routes; nil if it has none
	bears   bool             // some attachment bears a static or accepted learned prefix
	filters bool             // some attachment does not carry everything
	own     *bart.Lite       // the inside addresses of its translated subnets; nil if it has none
}

// Peer is one peering, seen from one of its two networks.
type Peer struct {
	Network int
	Offers  bool // the peer offers its hub
}

// Route is one explicit route.
type Route struct {
	To   netip.Prefix
	Via  estate.Via
	Peer int // None unless Via leads to a network that is peered
}

// Subnet is a subnet with its network and segment (None for no segment). Prefix
// is what the segment sees it as, which is Inside unless it is translated.
type Subnet struct {
	Name             string
	Network, Segment int
	Prefix           netip.Prefix
	Inside           netip.Prefix
	Translated       bool

	through []int // the attachments that are up and translate it
}

// Attachment is a compiled attachment.
type Attachment struct {
	Network, Hub, Cost int
	Up                 bool

	bears   prefixTables // static and accepted learned prefixes
	statics prefixTables // static prefixes

	accepts, announces *bart.Lite // nil for everything
}

// Exit is a compiled exit.
type Exit struct {
	Name     string
	Hub      int
	Up       bool
	Segments []int
}

// Serves reports whether the exit serves the segment.
func (x *Exit) Serves(segment int) bool { return slices.Contains(x.Segments, segment) }

// Link is a compiled link; Segments is nil if it carries all.
type Link struct {
	A, B, Cost int
	Up         bool
	Segments   []int
}

// Carries reports whether the link is up and carries the segment.
func (l *Link) Carries(segment int) bool {
	return l.Up && (l.Segments == nil || slices.Contains(l.Segments, segment))
}

// New returns the compiled network side of e. Cost: about linear in e, plus
// hubs³ for each set of segments that links treat alike.
func New(e *estate.Estate) *Net {
	n := &Net{}
	n.Hubs, n.hubIDs = names(e.Hubs, func(h estate.Hub) string { return h.Name })
	n.Segments, n.segmentIDs = names(e.Segments, func(s estate.Segment) string { return s.Name })
	n.compileNetworks(e)
	n.compileAttachments(e)
	n.compileTranslations(e)
	n.compilePeers(e)
	n.compileRoutes(e)
	n.compileExits(e)
	n.compileLinks(e)
	n.compileHomes(e)
	return n
}

func names[T any](things []T, name func(T) string) ([]string, map[string]int) {
	sorted := make([]string, len(things))
	for i, t := range things {
		sorted[i] = name(t)
	}
	slices.Sort(sorted)
	ids := make(map[string]int, len(sorted))
	for i, s := range sorted {
		ids[s] = i
	}
	return sorted, ids
}

func id(ids map[string]int, name string) int {
	if i, ok := ids[name]; ok {
		return i
	}
	return None
}

// Hub returns the number of a hub, or None.
func (n *Net) Hub(name string) int { return id(n.hubIDs, name) }

// Segment returns the number of a segment, or None.
func (n *Net) Segment(name string) int { return id(n.segmentIDs, name) }

// Network returns the number of a network, or None.
func (n *Net) Network(name string) int { return id(n.networkIDs, name) }

// Exit returns the number of an exit, or None.
func (n *Net) Exit(name string) int { return id(n.exitIDs, name) }

func (n *Net) compileNetworks(e *estate.Estate) {
	var sorted []string
	sorted, n.networkIDs = names(e.Networks, func(x estate.Network) string { return x.Name })
	n.Networks = make([]Network, len(sorted))
	subnets := 0
	for i := range e.Networks {
		subnets += len(e.Networks[i].Subnets)
	}
	n.Subnets = make([]Subnet, 0, subnets)
	for i := range e.Networks {
		from := &e.Networks[i]
		number := n.networkIDs[from.Name]
		to := &n.Networks[number]
		to.Name, to.Enforces = from.Name, e.Enforces(from)
		to.Subnets = make([]int, 0, len(from.Subnets))
		for j := range from.Subnets {
			s := &from.Subnets[j]
			to.Subnets = append(to.Subnets, len(n.Subnets))
			n.Subnets = append(n.Subnets, Subnet{Name: s.Name, Network: number, Segment: n.Segment(from.SegmentOf(s)), Prefix: s.Prefix, Inside: s.Prefix})
		}
	}
}

func (n *Net) compileAttachments(e *estate.Estate) {
	for _, a := range e.Attachments {
		network, hub := n.Network(a.Network), n.Hub(a.Hub)
		if network == None || hub == None {
			continue
		}
		to := Attachment{Network: network, Hub: hub, Cost: a.Cost, Up: a.State == "up"}
		for _, s := range a.Static {
			insert(&to.bears, n.Segment(s.Segment), s.Prefix)
			insert(&to.statics, n.Segment(s.Segment), s.Prefix)
		}
		for _, l := range a.Learned {
			if l.Status == "accepted" {
				insert(&to.bears, n.Segment(l.Segment), l.Prefix)
			}
			n.Networks[network].bears = n.Networks[network].bears || l.Claims()
		}
		if len(to.bears) > 0 {
			n.Networks[network].bears = true
		}
		to.accepts, to.announces = filter(a.Accepts), filter(a.Announces)
		if to.accepts != nil || to.announces != nil {
			n.Networks[network].filters = true
		}
		n.Networks[network].Attached = append(n.Networks[network].Attached, len(n.Attachments))
		if to.Up {
			n.Networks[network].Attachments = append(n.Networks[network].Attachments, len(n.Attachments))
		}
		n.Attachments = append(n.Attachments, to)
	}
	for i := range n.Networks {
		slices.SortStableFunc(n.Networks[i].Attachments, func(a, b int) int { return n.Attachments[a].Hub - n.Attachments[b].Hub })
	}
}

// prefixTables are sets of prefixes, by segment; nil for none.
type prefixTables map[int]*bart.Lite

func insert(tables *prefixTables, segment int, p netip.Prefix) {
	if segment == None {
		return
	}
	t, ok := (*tables)[segment]
	if !ok {
		if *tables == nil { // few have any
			*tables = prefixTables{}
		}
		t = &bart.Lite{}
		(*tables)[segment] = t
	}
	t.Insert(p)
}

func (n *Net) compilePeers(e *estate.Estate) {
	add := func(at, peer int, offers bool) {
		to := &n.Networks[at]
		if i := slices.IndexFunc(to.Peers, func(p Peer) bool { return p.Network == peer }); i >= 0 {
			to.Peers[i].Offers = to.Peers[i].Offers || offers
			return
		}
		to.Peers = append(to.Peers, Peer{peer, offers})
	}
	for _, p := range e.Peerings {
		a, b := n.Network(p.Between[0]), n.Network(p.Between[1])
		if a == None || b == None || a == b {
			continue
		}
		add(a, b, p.OffersHub == p.Between[1])
		add(b, a, p.OffersHub == p.Between[0])
	}
	for i := range n.Networks {
		slices.SortFunc(n.Networks[i].Peers, func(a, b Peer) int { return a.Network - b.Network })
	}
}

func (n *Net) compileRoutes(e *estate.Estate) {
	for _, from := range e.Networks {
		to := &n.Networks[n.networkIDs[from.Name]]
		if len(from.Routes) > 0 && to.table == nil {
			to.table = &bart.Table[int]{}
		}
		for _, r := range from.Routes {
			if _, taken := to.table.Get(r.To); taken {
				continue
			}
			route := Route{r.To, r.Via, None}
			if peer, ok := r.Via.Peer(); ok {
				if i := slices.IndexFunc(to.Peers, func(p Peer) bool { return n.Networks[p.Network].Name == peer }); i >= 0 {
					route.Peer = to.Peers[i].Network
				}
			}
			to.table.Insert(r.To, len(to.Routes))
			to.Routes = append(to.Routes, route)
		}
	}
}

func (n *Net) compileExits(e *estate.Estate) {
	var sorted []string
	sorted, n.exitIDs = names(e.Exits, func(x estate.Exit) string { return x.Name })
	n.Exits = make([]Exit, len(sorted))
	for _, x := range e.Exits {
		to := &n.Exits[n.exitIDs[x.Name]]
		*to = Exit{Name: x.Name, Hub: n.Hub(x.Hub), Up: x.State == "up"}
		to.Up = to.Up && to.Hub != None
		for _, s := range x.Segments {
			if number := n.Segment(s); number != None {
				to.Segments = append(to.Segments, number)
			}
		}
	}
}

func (n *Net) compileLinks(e *estate.Estate) {
	for _, l := range e.Links {
		a, b := n.Hub(l.Between[0]), n.Hub(l.Between[1])
		if a == None || b == None || a == b {
			continue
		}
		to := Link{A: a, B: b, Cost: l.Cost, Up: l.State == "up"}
		for _, s := range l.Segments {
			to.Segments = append(to.Segments, n.Segment(s))
		}
		n.Links = append(n.Links, to)
	}
	n.mesh()
}

// mesh finds the least costs between hubs, once for segments that links treat
// alike.
func (n *Net) mesh() {
	n.kinds = nil
	n.meshes = make([]*linkMesh, len(n.Segments))
	alike := map[string]*linkMesh{}
	for s := range n.Segments {
		var key strings.Builder
		for i := range n.Links {
			if n.Links[i].Carries(s) {
				key.WriteByte('1')
			} else {
				key.WriteByte('0')
			}
		}
		mesh, ok := alike[key.String()]
		if !ok {
			mesh = newMesh(len(n.Hubs), n.Links, s)
			alike[key.String()] = mesh
			n.kinds = append(n.kinds, mesh)
		}
		n.meshes[s] = mesh
	}
}

// EnforcesLocally reports whether a network enforces verdicts on its local paths (M8.3):
// on those inside one subnet, or on those between two.
func (n *Net) EnforcesLocally(network int, oneSubnet bool) bool {
	switch n.Networks[network].Enforces {
	case estate.EnforceNative:
		return true
	case estate.EnforceSubnets:
		return !oneSubnet
	}
	return false
}

// LocalPart returns what tells the addresses of a network apart on local paths: in one that
// enforces verdicts between its subnets, the place of the home's subnet among them, from 1;
// 0 for none, and in all other networks.
func (n *Net) LocalPart(home Home) int {
	x := &n.Networks[home.Network]
	if x.Enforces != estate.EnforceSubnets || home.Subnet == None {
		return 0
	}
	return 1 + home.Subnet - x.Subnets[0]
}
