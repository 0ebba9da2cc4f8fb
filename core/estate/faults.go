package estate

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Code is the code of a fault (M9). A code never changes its meaning.
type Code string

// The faults of M9. F3 needs the members of groups, and is found by core/findings.
const (
	// UnknownName is a name that nothing bears.
	//	groups: [{name: tills, networks: [yard]}]   # and no network yard
	UnknownName Code = "F1"
	// Overlap is two homes for one address in one segment (M2.1).
	//	networks: a has 10.1.0.0/24, b has 10.1.0.128/25, both in office
	Overlap Code = "F2"
	// ForbiddenShare is a share that M6.4 forbids, wholly or in part.
	ForbiddenShare Code = "F3"
	// OwnAncestor is a group that is its own ancestor.
	//	groups: [{name: a, within: b, …}, {name: b, within: a, …}]
	OwnAncestor Code = "F4"
	// StrayAddress is a workload's address outside its network's subnets.
	StrayAddress Code = "F5"
	// SameAddress is two workloads of one network with one address.
	SameAddress Code = "F6"
	// GuardrailAllows is a guardrail with an allow rule.
	GuardrailAllows Code = "F7"
	// OverlapInside is overlapping subnets in one network.
	OverlapInside Code = "F8"
	// NoPool is an inspect rule without a pool.
	NoPool Code = "F9"
	// UnservedPublication is a publication whose exit does not serve its segment.
	UnservedPublication Code = "F10"
	// SameRoute is two explicit routes of a network with one prefix.
	SameRoute Code = "F11"
	// BadPeering is a route via a peer without a peering, a network peered with
	// itself, two peerings of the same two, or an offersHub that is neither.
	BadPeering Code = "F12"
	// EmptyGroup is a group that selects nothing.
	EmptyGroup Code = "F13"
	// BadTranslation is a translation that maps nothing one to one: of two sizes,
	// of a part of a subnet, or against another of the same network.
	BadTranslation Code = "F14"
	// BadSession is a session of a router that another one has at the same hub, or
	// at a hub that does not speak BGP.
	BadSession Code = "F15"
	// BadShow is a share that shows addresses under others of another size, or under the
	// same, or addresses of a segment that it does not join, or otherwise than another
	// share does.
	BadShow Code = "F16"
	// PoolNotForSegment is a rule that inspects by a pool whose segments leave out one that
	// the rule serves.
	//	pools: [{name: watch, segments: [office]}], and a policy of works inspects by watch
	PoolNotForSegment Code = "F17"
)

// Form is one of the ways in which a code is broken. The comment of each says what its
// arguments are, besides what the fault refers to.
type Form string

// The forms.
const (
	Plain Form = "" // the only one that its code has; F1: the nearest name that exists, or ""
	// OfNetwork is an unknown subnet: its network.
	OfNetwork Form = "of-network"
	// Overlapping is a claim of addresses that others have: the segment, the claim, and
	// up to mostNamed others; Clash tells whether there are more.
	Overlapping Form = "overlapping"
	// WithItself is one thing where two are asked for: its name.
	WithItself Form = "with-itself"
	// Twice is what is there already: the two networks; or the router, the hub and the network.
	Twice Form = "twice"
	// Elsewhere is one of neither side: what was named, and the two sides.
	Elsewhere Form = "elsewhere"
	// NotPeered is a route via a network that is no peer: the prefix and both networks.
	NotPeered Form = "not-peered"
	// NoListening is an address that a hub cannot listen on: the address.
	NoListening Form = "no-listening"
	// NoSpeaker is a session with a hub that does not speak BGP: the router.
	NoSpeaker Form = "no-speaker"
	// SamePrefix and OtherLength are pairs that map nothing: inside, outside.
	SamePrefix  Form = "same-prefix"
	OtherLength Form = "other-length"
	// Conflict is two mappings of the same addresses: of shares, to whom, inside, outside,
	// and the other's; of attachments, the segment and the network before them.
	Conflict Form = "conflict"
	// Advertised is a route to translated addresses: its prefix, the segment, what is translated.
	Advertised Form = "advertised"
	// PartOfSubnet is a translation of a part of a subnet: the part and the whole.
	PartOfSubnet Form = "part-of-subnet"
	// InUse is a share of an address that the other segment has, AlreadyShared of one that
	// another share makes reachable under the same address: the address in its own segment
	// and that segment, as which one it is seen in which segment; and those of the other.
	InUse         Form = "in-use"
	AlreadyShared Form = "already-shared"
	// Unreadable is an object in the store that cannot be read: its list, its key, and why.
	Unreadable Form = "unreadable"
)

// Fault is one reason why an estate cannot be applied.
type Fault struct {
	Code Code   `json:"code"`
	Path string `json:"path"` // where in the document: policies[3].rules[0].pool
	Refs []Ref  `json:"refs"` // the things at fault, the main one first

	// Form tells apart what a code stands for in several ways, and Args are the names,
	// numbers and prefixes that the English of the form needs, in its order.
	Form Form     `json:"-"`
	Args []string `json:"-"`

	Clash *Clash `json:"-"` // of overlapping addresses
	// Prefixes are those that overlap, where addresses do; up to mostNamed+1.
	Prefixes []netip.Prefix `json:"-"`

	At netip.Addr `json:"-"` // of a forbidden share: the first address that it would bring, in its own segment
}

// Check returns the faults of e that can be told without knowing who is in
// which group: all of M9 but F3. They come in the order of their codes, and
// within one in that of the document. Cost: O(n log n) in the things of e.
func Check(e *Estate) []Fault {
	c := newChecker(e)
	c.structure()
	c.placed()
	c.addresses()
	return c.found()
}

// CheckWiring returns those of the faults of Check that can come of how networks
// are placed, joined and led, workloads staying as they are. Cost: O(n log n)
// in the things of e besides workloads.
func CheckWiring(e *Estate) []Fault {
	c := newChecker(e)
	c.wiring()
	c.placed()
	return c.found()
}

// CheckPlaces returns those of the faults of CheckWiring that can come of where networks
// are alone: all that rules speak of is as it was. Of overlapping addresses it returns those
// in some segments, in which networks were placed otherwise. Cost: O(n) in the networks,
// their attachments and groups, and O(n log n) in those of these segments.
func CheckPlaces(e *Estate, segments map[string]bool) []Fault {
	c := newChecker(e)
	c.only = segments
	c.wiring()
	c.placedApart()
	return c.found()
}

// CheckRules returns those of the faults of Check that groups, policies, rulebooks,
// shares, publications, expectations and mappings have. Cost: the rules, and the names
// that they may speak of, of which workloads are none.
func CheckRules(e *Estate) []Fault {
	c := newChecker(e)
	c.rules()
	c.selections()
	return c.found()
}

// Missing returns the things that e speaks of by name, and does not have (F1). Cost:
// the names that e speaks of, in look-ups.
func Missing(e *Estate) []Ref {
	c := newChecker(e)
	c.structure()
	c.selections()
	c.rules()
	c.peerings()
	c.translate()
	c.sessions()
	var out []Ref
	for _, f := range c.faults {
		if f.Code == UnknownName {
			out = append(out, f.Refs[1])
		}
	}
	return out
}

// placed makes the checks that an edit of places can make fail, besides those of
// names.
func (c *checker) placed() {
	c.rules()
	c.placedApart()
}

// placedApart is placed without the faults of rules.
func (c *checker) placedApart() {
	c.selections()
	c.peerings()
	c.homes()
	c.translate()
	c.sessions()
}

// found returns the faults in the order of their codes.
func (c *checker) found() []Fault {
	slices.SortStableFunc(c.faults, func(a, b Fault) int { return cmp.Compare(codeOrder(a.Code), codeOrder(b.Code)) })
	return c.faults
}

func codeOrder(c Code) int {
	n := 0
	for _, d := range string(c[1:]) {
		n = n*10 + int(d-'0')
	}
	return n
}

type checker struct {
	e       *Estate
	faults  []Fault
	names   map[Kind]map[string]int // name to index in the document's list
	subnets map[SubnetRef]bool
	peered  map[[2]string]bool
	only    map[string]bool // the segments in which homes are looked at; nil for all
	guesses int             // how many names were looked for that might have been meant
}

func newChecker(e *Estate) *checker {
	c := &checker{e: e, names: map[Kind]map[string]int{}, subnets: map[SubnetRef]bool{}, peered: map[[2]string]bool{}}
	add := func(k Kind, n int, name func(int) string) {
		m := make(map[string]int, n)
		for i := range n {
			m[name(i)] = i
		}
		c.names[k] = m
	}
	add(KindAccount, len(e.Accounts), func(i int) string { return e.Accounts[i].Name })
	add(KindHub, len(e.Hubs), func(i int) string { return e.Hubs[i].Name })
	add(KindSegment, len(e.Segments), func(i int) string { return e.Segments[i].Name })
	add(KindNetwork, len(e.Networks), func(i int) string { return e.Networks[i].Name })
	add(KindExit, len(e.Exits), func(i int) string { return e.Exits[i].Name })
	add(KindService, len(e.Services), func(i int) string { return e.Services[i].Name })
	add(KindGroup, len(e.Groups), func(i int) string { return e.Groups[i].Name })
	add(KindPool, len(e.Pools), func(i int) string { return e.Pools[i].Name })
	add(KindRulebook, len(e.Rulebooks), func(i int) string { return e.Rulebooks[i].Name })
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			c.subnets[SubnetRef{n.Name, s.Name}] = true
		}
	}
	for _, p := range e.Peerings {
		c.peered[unordered(p.Between)] = true
	}
	return c
}

func unordered(pair [2]string) [2]string {
	if pair[0] > pair[1] {
		pair[0], pair[1] = pair[1], pair[0]
	}
	return pair
}

// add reports a fault at a path, which is a format with its places in lists.
func (c *checker) add(code Code, form Form, refs []Ref, args []string, path string, places ...any) {
	c.faults = append(c.faults, Fault{Code: code, Form: form, Path: fmt.Sprintf(path, places...), Refs: refs, Args: args})
}

// args writes the arguments of a fault's form.
func args(values ...any) []string {
	out := make([]string, len(values))
	for i, v := range values {
		out[i] = fmt.Sprint(v)
	}
	return out
}

// mostGuesses is for how many unknown names the nearest known one is looked for: each
// is compared with all.
const mostGuesses = 200

// need reports F1 unless something of the kind bears the name. An empty name
// was left out, and asks for nothing.
func (c *checker) need(of Ref, kind Kind, name, path string, places ...any) bool {
	if name == "" {
		return true
	}
	if _, ok := c.names[kind][name]; ok {
		return true
	}
	near := ""
	if c.guesses++; c.guesses <= mostGuesses {
		near = Nearest(name, c.names[kind])
	}
	c.add(UnknownName, Plain, []Ref{of, {kind, name}}, args(near), path, places...)
	return false
}

func (c *checker) structure() {
	c.wiring()
	for i, w := range c.e.Workloads {
		c.need(Ref{KindWorkload, w.Name}, KindNetwork, w.Network, "workloads[%d].network", i)
		c.need(Ref{KindWorkload, w.Name}, KindAccount, w.Account, "workloads[%d].account", i)
	}
}

// wiring looks for the names that hubs, links, networks, attachments, exits and
// pools speak of.
func (c *checker) wiring() {
	for i, h := range c.e.Hubs {
		c.need(Ref{KindHub, h.Name}, KindAccount, h.Account, "hubs[%d].account", i)
	}
	for i, l := range c.e.Links {
		of := Ref{KindLink, l.Between[0] + "–" + l.Between[1]}
		for j, hub := range l.Between {
			c.need(of, KindHub, hub, "links[%d].between[%d]", i, j)
		}
		for j, s := range l.Segments {
			c.need(of, KindSegment, s, "links[%d].segments[%d]", i, j)
		}
	}
	for i := range c.e.Networks {
		n := &c.e.Networks[i]
		of := Ref{KindNetwork, n.Name}
		c.need(of, KindAccount, n.Account, "networks[%d].account", i)
		c.need(of, KindSegment, n.Segment, "networks[%d].segment", i)
		for j, s := range n.Subnets {
			c.need(Ref{KindSubnet, n.Name + "/" + s.Name}, KindSegment, s.Segment, "networks[%d].subnets[%d].segment", i, j)
		}
	}
	for i, a := range c.e.Attachments {
		of := Ref{KindAttachment, a.Network + "@" + a.Hub}
		c.need(of, KindNetwork, a.Network, "attachments[%d].network", i)
		c.need(of, KindHub, a.Hub, "attachments[%d].hub", i)
		for j, s := range a.Static {
			c.need(of, KindSegment, s.Segment, "attachments[%d].static[%d].segment", i, j)
		}
		for j, l := range a.Learned {
			c.need(of, KindSegment, l.Segment, "attachments[%d].learned[%d].segment", i, j)
		}
	}
	for i, x := range c.e.Exits {
		of := Ref{KindExit, x.Name}
		c.need(of, KindHub, x.Hub, "exits[%d].hub", i)
		for j, s := range x.Segments {
			c.need(of, KindSegment, s, "exits[%d].segments[%d]", i, j)
		}
	}
	for i, p := range c.e.Pools {
		c.need(Ref{KindPool, p.Name}, KindRulebook, p.Rulebook, "pools[%d].rulebook", i)
		for j, s := range p.Segments {
			c.need(Ref{KindPool, p.Name}, KindSegment, s, "pools[%d].segments[%d]", i, j)
		}
		for j, f := range p.Firewalls {
			c.need(Ref{KindFirewall, f.Name}, KindHub, f.Hub, "pools[%d].firewalls[%d].hub", i, j)
		}
	}
}

func (c *checker) peerings() {
	seen := map[[2]string]bool{}
	for i, p := range c.e.Peerings {
		of := Ref{KindPeering, p.Between[0] + "–" + p.Between[1]}
		for j, n := range p.Between {
			c.need(of, KindNetwork, n, "peerings[%d].between[%d]", i, j)
		}
		if p.Between[0] == p.Between[1] {
			c.add(BadPeering, WithItself, []Ref{of}, args(p.Between[0]), "peerings[%d].between", i)
		}
		if seen[unordered(p.Between)] {
			c.add(BadPeering, Twice, []Ref{of}, args(p.Between[0], p.Between[1]), "peerings[%d].between", i)
		}
		seen[unordered(p.Between)] = true
		if p.OffersHub != "" && p.OffersHub != p.Between[0] && p.OffersHub != p.Between[1] {
			c.add(BadPeering, Elsewhere, []Ref{of, {KindNetwork, p.OffersHub}}, args(p.OffersHub, p.Between[0], p.Between[1]), "peerings[%d].offersHub", i)
		}
	}
	for i, n := range c.e.Networks {
		of := Ref{KindNetwork, n.Name}
		routes := map[netip.Prefix]bool{}
		for j, r := range n.Routes {
			if routes[r.To] {
				c.add(SameRoute, Plain, []Ref{of}, args(r.To), "networks[%d].routes[%d].to", i, j)
			}
			routes[r.To] = true
			peer, ok := r.Via.Peer()
			if ok && c.need(of, KindNetwork, peer, "networks[%d].routes[%d].via", i, j) && !c.peered[unordered([2]string{n.Name, peer})] {
				c.add(BadPeering, NotPeered, []Ref{of, {KindNetwork, peer}}, args(r.To, n.Name, peer), "networks[%d].routes[%d].via", i, j)
			}
		}
	}
}

func (c *checker) addresses() {
	type home struct {
		network string
		addr    netip.Addr
	}
	holder := make(map[home]string, len(c.e.Workloads))
	for i, w := range c.e.Workloads {
		n, ok := c.names[KindNetwork][w.Network]
		if !ok {
			continue
		}
		subnets := c.e.Networks[n].Subnets
		for j, a := range w.Addresses {
			if !slices.ContainsFunc(subnets, func(s Subnet) bool { return s.Prefix.Contains(a) }) {
				c.add(StrayAddress, Plain, []Ref{{KindWorkload, w.Name}, {KindNetwork, w.Network}}, args(a), "workloads[%d].addresses[%d]", i, j)
			}
			other, taken := holder[home{w.Network, a}]
			if taken && other != w.Name {
				c.add(SameAddress, Plain, []Ref{{KindWorkload, w.Name}, {KindWorkload, other}}, args(w.Network, a), "workloads[%d].addresses[%d]", i, j)
			}
			holder[home{w.Network, a}] = w.Name
		}
	}
}

// Key returns what tells a fault from all others of one estate, places in lists included.
func (f *Fault) Key() string {
	return strings.Join(append([]string{string(f.Code), f.Path, string(f.Form)}, f.Args...), "\x00")
}

// Claim returns what a fault says, without where in the document, which an edit of something
// else can change, and without what would be a nearer name.
func (f *Fault) Claim() string {
	parts := []string{string(f.Code), string(f.Form)}
	for _, r := range f.Refs {
		parts = append(parts, r.String())
	}
	if f.Code != UnknownName {
		parts = append(parts, f.Args...)
	}
	return strings.Join(parts, "\x00")
}

// Identity returns what tells a fault from others of its estate: its code, what it refers to
// and where in those, but not their places in lists, nor how it is put into words.
func (f *Fault) Identity() string {
	parts := []string{string(f.Code)}
	for _, r := range f.Refs {
		parts = append(parts, r.String())
	}
	for _, p := range f.Prefixes {
		parts = append(parts, p.String())
	}
	_, within, _ := strings.Cut(f.Path, ".")
	return strings.Join(append(parts, within), "\x00")
}
