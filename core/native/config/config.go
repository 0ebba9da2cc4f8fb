// Package config is what targets hold: the lists, routes and rulebooks of hubs, firewall
// pools, clouds and premises, each in the form of its provider. It is plain data:
// core/native writes it from an estate, core/native/reader reads it back, and neither
// knows how the other does it. What targets do with it is in docs/decisions/11-targets.md.
package config

import (
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/space"
)

// Limits of the providers' lists.
const (
	CirraEntries  = 60   // of one list
	CirraLists    = 5    // on one workload
	VelumFirst    = 100  // the priority of the first rule
	VelumLast     = 4096 // and of the last that there can be
	VelumSet      = 4000 // prefixes of one address set
	StratokRules  = 500  // of one network's list
	VelumRules    = VelumLast - VelumFirst + 1
	CirraWorkload = CirraEntries * CirraLists
	// PremisesEntries is how many entries of one subnet's access lists are written: routers have no
	// limit that is known, and more takes them and whoever reads it too long.
	PremisesEntries = 50_000
)

// The providers.
const (
	Cirra    = "cirra"
	Velum    = "velum"
	Stratok  = "stratok"
	Premises = "premises"
)

// EnforcesInside reports whether a provider's lists see flows inside a subnet.
func EnforcesInside(provider string) bool { return provider != Velum && provider != Premises }

// Routed is what lists of Velum and of premises hang on that are for addresses that are routed
// to a network and lie in none of its subnets.
const Routed = "*"

// Config is what all targets of an estate hold. Every list is in order of name, but for
// rules, which are in the order in which they are asked.
type Config struct {
	Hubs     []Hub
	Segments []Segment // what each hub holds for each segment: the same at every hub
	Pools    []Pool
	Networks []Network
	Accounts []Account // of Cirra, which has lists by account
}

// Hub is what one hub holds of the wiring. Links stand at both hubs that they join.
type Hub struct {
	Name         string
	Links        []estate.Link
	Attachments  []Attachment
	Exits        []estate.Exit
	Publications []Publication
}

// Attachment is a network at a hub, with the prefixes that it brings.
type Attachment struct {
	Name, Network string
	Cost          int
	Routes        []Route // into each segment: subnets, static and accepted learned prefixes
	Accepts       []netip.Prefix
	Announces     []netip.Prefix
	Translate     []estate.Translation
}

// Route is a prefix that a segment finds behind an attachment, as the segment sees it.
type Route struct {
	Segment string
	Prefix  netip.Prefix
	Borne   bool // by the attachment itself; else it is a subnet of the network
	Learned bool // from a router; peers of the network are not reached by it
}

// Publication is a public address at an exit of the hub.
type Publication struct {
	Name, Exit, Segment string
	Address             netip.Addr
	To                  []netip.Prefix
	Services            []space.Box
}

// Segment is the match list of a segment, with the prefixes of other segments that are
// reachable in it.
type Segment struct {
	Name    string
	Imports []Import
	Rules   []HubRule
	Bound   int // rules that any list without exceptions needs at least
}

// Import is a prefix of another segment that a segment finds under Seen.
type Import struct {
	Seen netip.Prefix
	Of   string
	Own  netip.Prefix
}

// Verb is what a rule of a match list does.
type Verb string

// The verbs of match lists. Where no rule matches, a flow is denied.
const (
	Permit Verb = "permit"
	Deny   Verb = "deny"
	Steer  Verb = "steer"
)

// HubRule is one rule of a match list. From is the source's address in its own segment, To
// the destination as the source's segment sees it; in the list of the destination's segment,
// a flow from the internet has its destination's own address.
type HubRule struct {
	From, To []End // of which one must match
	Services []space.Box
	Verb     Verb
	Through  []Step // in order; of Steer
	For      []Ref
}

// Step is a pool to be passed, and what becomes of the flow where no firewall of it works.
type Step struct {
	Pool      string
	OnFailure string // open or closed
}

// End is some endpoints. Exit is "" for those inside, and otherwise says that they are in
// the internet, behind that exit. Set nil stands for every address.
type End struct {
	Segment string // whose addresses they are; only rulebooks say so
	Exit    string
	Set     *Set
}

// Set is some prefixes under a name, shared by all rules that speak of them.
type Set struct {
	Name     string
	Prefixes []netip.Prefix // in order, disjoint
}

// Disjoint returns prefixes of either family in order, without those that lie in others.
func Disjoint(p []netip.Prefix) []netip.Prefix {
	all := make([]netip.Prefix, len(p))
	for i := range p {
		all[i] = p[i].Masked()
	}
	slices.SortFunc(all, netip.Prefix.Compare)
	out := all[:0]
	for _, x := range all {
		if n := len(out); n == 0 || !out[n-1].Overlaps(x) {
			out = append(out, x)
		}
	}
	return out
}

// Ref is what a rule is for: one rule of a policy, guardrail or share, from 1, or the
// default of a segment.
type Ref struct {
	Kind estate.Kind `json:"kind"`
	Name string      `json:"name"`
	Rule int         `json:"rule"` // 0 of a segment's default
}

// Pool is the rulebook of a pool's firewalls, if they have one. Ends are addresses in their
// own segment.
type Pool struct {
	Name     string
	Rulebook string // "" where the firewalls pass everything
	Rules    []BookRule
}

// BookRule is one rule of a rulebook. A nil side stands for everybody.
type BookRule struct {
	From, To []End
	Any      [2]bool // whether a side is everybody
	Services []space.Box
	Verb     string // pass, drop or reject
	Number   int    // of the rule, from 1
}

// Network is what a cloud or a site holds for one network.
type Network struct {
	Name, Account, Provider string
	Routes                  []estate.Route
	Peers                   []Peer
	Lists                   []List
}

// Peer is a network that another is peered with.
type Peer struct {
	Name      string
	OffersHub bool // the peer, to this network
}

// List is an ordered list of rules: of a subnet at Velum and on premises, where On is its
// name, and of a whole network at Stratok.
type List struct {
	On    string
	Rules []Rule
	Bound int
}

// Rule is one rule of an ordered list. Own is the side of the network itself, by the
// addresses that it has inside; Peer the other side, as the own segment sees it. Nil sides
// stand for every address, and no services for all of them.
type Rule struct {
	Order     int // the priority, or the place in the list
	Out       bool
	Allow     bool
	Target    string // Stratok: the tag of the workloads that it is for; "" for all
	Own, Peer []*Set
	Services  []space.Box
	For       []Ref
}

// Account is the lists of an account of Cirra, and which workloads bear them.
type Account struct {
	Name     string
	Lists    []EntryList
	Bindings []Binding
	Default  []string // what a machine bears that nobody bound anything to
}

// EntryList is a list of entries that allow; what none allows is denied.
type EntryList struct {
	Name    string
	Entries []Entry
}

// Entry allows flows of the workloads that bear its list to or from a prefix, or the workloads
// of the same account that bear the list Peers.
type Entry struct {
	Out     bool
	Service space.Box
	Peer    netip.Prefix
	Peers   string
	For     []Ref
}

// Binding is the lists that a workload bears.
type Binding struct {
	Workload string
	Lists    []string
	Bound    int
}
