// Package dataplane carries single packets from endpoint to endpoint by what hubs, firewalls,
// clouds and premises hold, hop by hop, as docs/decisions/11-targets.md says. It is code of its
// own, and knows nothing of how the product computes: it is the judge of whether what was
// written does what was meant.
package dataplane

import "net/netip"

// World is everything that handles packets, by name.
type World struct {
	Networks map[string]*Network
	Hubs     map[string]*Hub
	Segments map[string]*Segment
	Pools    map[string]*Pool
}

// Network is a cloud's virtual network, or a site's.
type Network struct {
	Provider string // cirra, velum, stratok or premises; else nothing is held here
	Subnets  []Subnet
	Table    []Route
	Peers    []Peer
	Lists    map[string][]Rule      // by what they hang on: a subnet, "*", or "" for the network
	Bears    map[netip.Addr][]Entry // Cirra: what the machine with an address allows
	Standard []Entry                // Cirra: what others allow
	Held     []Held                 // addresses outside subnets that are at home here
	Machines map[netip.Addr]bool    // the addresses that machines have; nil if that is not known
}

// Subnet is a prefix of a network. Segment is "" for one in no segment.
type Subnet struct {
	Name    string
	Prefix  netip.Prefix
	Segment string
}

// Held is a prefix that lives at a network without a subnet of it.
type Held struct {
	Segment string
	Prefix  netip.Prefix
}

// Route is an entry of a network's own table: via hub, internet, none or peer:NAME.
type Route struct {
	To  netip.Prefix
	Via string
}

// Peer is a network that another is peered with. Offers says that it offers its hub.
type Peer struct {
	Network string
	Offers  bool
}

// Service is some packets: protocols, source ports and destination ports (or ICMP types).
type Service struct{ Protocols, Sources, Ports [2]int }

// Rule is a rule of an ordered list. No services and no prefixes stand for all.
type Rule struct {
	Out, Allow bool
	Services   []Service
	Own, Peer  []netip.Prefix
	AnyOwn     bool
	AnyPeer    bool
}

// Entry is an entry of a list of Cirra: it allows.
type Entry struct {
	Out     bool
	Service Service
	Peer    netip.Prefix
	Peers   []netip.Addr // or those that bear a list
	List    string       // that it stands in
	Place   int          // there, from 1
}

// Hub is a transit router.
type Hub struct {
	Links        []Link
	Attachments  []Attachment
	Exits        []Exit
	Publications []Publication
}

// Link is a link to another hub. No segments stand for all.
type Link struct {
	To       string
	Cost     int
	Up       bool
	Segments []string
}

// Attachment is a network at a hub. Accepts and Announces are nil for everything.
type Attachment struct {
	Name, Network      string
	Cost               int
	Up                 bool
	Routes             []Brought
	Accepts, Announces []netip.Prefix
	Translate          []Translation
}

// Brought is a prefix that a segment finds behind an attachment.
type Brought struct {
	Segment string
	Prefix  netip.Prefix
	Static  bool // by the attachment, and not a subnet; Learned ones are not static
	Subnet  bool
}

// Translation shows addresses of a network to a segment under others.
type Translation struct {
	Inside, Outside netip.Prefix
	Segment         string
}

// Exit is a way to the internet.
type Exit struct {
	Name     string
	Up       bool
	Segments []string
}

// Publication lets packets in from the internet.
type Publication struct {
	Name, Exit, Segment string
	To                  []netip.Prefix
	Services            []Service
	Any                 bool
}

// Segment is a match list, and what of other segments is found in it.
type Segment struct {
	Imports []Import
	Rules   []Match
}

// Import is addresses of another segment under those by which they are found.
type Import struct {
	Seen, Own netip.Prefix
	Of        string
}

// Match is a rule of a match list. Verb is permit, deny or steer.
type Match struct {
	From, To []End
	Services []Service
	Any      bool // every service
	Verb     string
	Through  []Step
}

// End is some addresses: inside, or in the internet behind an exit. Segment is that of a
// rulebook's.
type End struct {
	Segment, Exit string
	Prefixes      []netip.Prefix
	Every         bool
}

// Step is a pool to be passed.
type Step struct {
	Pool   string
	IsOpen bool // passed by where no firewall works
}

// Pool is firewalls with one rulebook; without one, they pass everything.
type Pool struct {
	Hubs  []string // where a healthy one is
	Book  bool
	Rules []BookRule
}

// BookRule is a rule of a rulebook.
type BookRule struct {
	From, To       []End
	AnyFrom, AnyTo bool
	Services       []Service
	Any            bool
	Pass           bool
	Reject         bool // say so to the source; else what does not pass is dropped
}

// Packet is the first packet of a flow. Segment is "internet" for one from there.
type Packet struct {
	Segment     string
	From, To    netip.Addr
	Protocol    int
	SourcePort  int
	Port        int
	Publication string
}

// Hop is something that a packet met.
type Hop struct {
	At   string // what: a list, a route table, a hub, a pool
	Name string
	On   string // the subnet or list of a network that the rule is of
	Rule int    // of the list, from 1; 0 where none matched
	Said string
}

// Fate is what came of a packet.
type Fate struct {
	Delivered bool
	Pools     []string // that it went through, in order
	Blocked   string   // by which pool's rulebook
	Answered  bool     // whether the reply, or an error in its place, came back
	Error     *Error   // that came back; nil for none
	Hops      []Hop
}
