// Package estate holds the things of an estate (M1), their names, and their
// faults (M9). It is plain data: an Estate is read by core/document, judged by
// core/verdict and worked out for all flows by core/matrix, and none of them changes it.
//
// The json tags are the keys of the estate document. The doc tags say what the
// document asks of a field, and are read by core/document for reading, writing
// and the published schema alike:
//
//	req        the key must be there
//	of=KIND    the value is the name of a thing of that kind, or a list of such names
//	vital      what has the field is nothing without what it names: it goes with it
//	observed   syncs, routers or health checks may change it at any time (C1.3)
//	madeup     where the key is missing, a name is made up; see NameConnections
//	name       the value is a name (see CheckName)
//	def=X      what a missing key stands for; left out again when written
//	enum=A|B   the values that are allowed
//	min=N      the least number that is allowed
//	max=N      the largest one, where it is not 2147483647
//	empty      a list that says something else where it is empty than where it is left out
//	date       a day, written 2026-11-29
package estate

import (
	"net/netip"
	"slices"
)

// Version is the version of the document format that this package describes.
const Version = 1

// Estate is everything known about one organisation's networks and the rules
// over them. Lists keep the order in which they were written; nothing in the
// semantics depends on it, except for the rules inside one policy, share or
// rulebook. The zero Estate has no name, and is otherwise valid and empty.
type Estate struct {
	Version     int    `json:"bivium" doc:"req"`
	Name        string `json:"estate" doc:"req,name"`
	Description string `json:"description,omitempty"`

	Accounts     []Account     `json:"accounts,omitempty"`
	Mappings     []Mapping     `json:"mappings,omitempty"`
	Hubs         []Hub         `json:"hubs,omitempty"`
	Links        []Link        `json:"links,omitempty"`
	Segments     []Segment     `json:"segments,omitempty"`
	Networks     []Network     `json:"networks,omitempty"`
	Attachments  []Attachment  `json:"attachments,omitempty"`
	Peerings     []Peering     `json:"peerings,omitempty"`
	Exits        []Exit        `json:"exits,omitempty"`
	Publications []Publication `json:"publications,omitempty"`
	Workloads    []Workload    `json:"workloads,omitempty"`
	Services     []Service     `json:"services,omitempty"`
	Groups       []Group       `json:"groups,omitempty"`
	Pools        []Pool        `json:"pools,omitempty"`
	Rulebooks    []Rulebook    `json:"rulebooks,omitempty"`
	Policies     []Policy      `json:"policies,omitempty"`
	Shares       []Share       `json:"shares,omitempty"`
	Expectations []Expectation `json:"expectations,omitempty"`

	// Day is the day of which the estate is, for what runs out; "" where nothing does. See AsOf.
	Day string `json:"-"`
}

// Account is a subscription with a cloud, or a group of own premises.
type Account struct {
	Name        string `json:"name" doc:"req,name"`
	Provider    string `json:"provider" doc:"req,name"`
	Observed    bool   `json:"observed,omitempty"` // read only: Bivium writes nothing there, and so enforces nothing
	Description string `json:"description,omitempty"`
}

// Hub is a transit router in a region.
type Hub struct {
	Name        string `json:"name" doc:"req,name"`
	Account     string `json:"account,omitempty" doc:"name,of=account"`
	Region      string `json:"region,omitempty"`
	AS          int    `json:"as,omitempty" doc:"min=1,max=4294967295"` // its number, where routers speak BGP with it
	Speaker     string `json:"speaker,omitempty"`                       // the address on which it listens for them
	Description string `json:"description,omitempty"`
}

// Link is a tunnel or circuit between two hubs. Segments is empty for a link
// that carries every segment.
type Link struct {
	Name        string    `json:"name,omitempty" doc:"name,madeup"`
	Between     [2]string `json:"between" doc:"req,name,of=hub"`
	Cost        int       `json:"cost" doc:"def=10,min=1"`
	State       string    `json:"state" doc:"observed,def=up,enum=up|down"`
	Segments    []string  `json:"segments,omitempty" doc:"name,of=segment"`
	Description string    `json:"description,omitempty"`
}

// Segment is an isolated routing domain. Default is the action of M4.6 for
// internal destinations.
type Segment struct {
	Name    string `json:"name" doc:"req,name"`
	Default Action `json:"default" doc:"def=deny,enum=allow|deny"`
	// Owners are the people and teams of whom one must approve certain changes of flows that
	// begin or end in the segment, and Approval says which (C2.3). They change no flow.
	Owners      []string `json:"owners,omitempty" doc:"name"`
	Approval    Approval `json:"approval" doc:"def=none,enum=none|opened|any"`
	Description string   `json:"description,omitempty"`
}

// Approval is for which changes of its flows a segment asks its owners.
type Approval string

// The changes for which owners are asked: for none, for flows that pass now and did not, or
// pass fewer pools, and for any.
const (
	ApproveNone   Approval = "none"
	ApproveOpened Approval = "opened"
	ApproveAny    Approval = "any"
)

// Network is one cloud virtual network, one site's LAN, one remote-access pool
// or one partner's network.
type Network struct {
	Name        string            `json:"name" doc:"req,name"`
	Kind        string            `json:"kind" doc:"req,enum=cloud|site|remote|partner|endpoints"`
	Account     string            `json:"account,omitempty" doc:"name,of=account"`
	Region      string            `json:"region,omitempty"`
	Labels      map[string]string `json:"labels,omitempty" doc:"observed"`
	Enforcement string            `json:"enforcement,omitempty" doc:"enum=native|subnets|none"`
	Segment     string            `json:"segment,omitempty" doc:"name,of=segment"`
	Subnets     []Subnet          `json:"subnets,omitempty"`
	Routes      []Route           `json:"routes,omitempty"`
	Description string            `json:"description,omitempty"`
}

// The values of Network.Enforcement (M8.3).
const (
	EnforceNative  = "native"  // on every path that passes no hub
	EnforceSubnets = "subnets" // the same, but for local paths inside one subnet, or outside of all
	EnforceNone    = "none"
)

// Enforces returns where the network enforces verdicts on paths that pass no hub
// (M8.3): as it says, or, where it says nothing, native for a cloud's and none for
// others.
func (n *Network) Enforces() string {
	switch {
	case n.Enforcement != "":
		return n.Enforcement
	case n.Kind == "cloud":
		return EnforceNative
	}
	return EnforceNone
}

// Enforces is that of a network of the estate: none in an account that is observed only.
func (e *Estate) Enforces(n *Network) string {
	if e.Observes(n.Account) {
		return EnforceNone
	}
	return n.Enforces()
}

// Observes reports whether an account is observed only: read, and never written.
func (e *Estate) Observes(account string) bool {
	return slices.ContainsFunc(e.Accounts, func(a Account) bool { return a.Observed && a.Name == account })
}

// SegmentOf returns the segment that the subnet lies in, or "" for none.
func (n *Network) SegmentOf(s *Subnet) string {
	if s.Segment != "" {
		return s.Segment
	}
	return n.Segment
}

// Subnet is one prefix of a network. An empty Segment stands for that of the
// network.
type Subnet struct {
	Name        string       `json:"name" doc:"req,name"`
	Prefix      netip.Prefix `json:"prefix" doc:"req"`
	Segment     string       `json:"segment,omitempty" doc:"name,of=segment"`
	Description string       `json:"description,omitempty"`
}

// Route is one explicit entry of a network's route table (M7.2).
type Route struct {
	To          netip.Prefix `json:"to" doc:"req"`
	Via         Via          `json:"via" doc:"req"`
	Description string       `json:"description,omitempty"`
}

// Attachment is the connection of a network to a hub, with the routes it brings.
type Attachment struct {
	Name      string        `json:"name,omitempty" doc:"name,madeup"`
	Network   string        `json:"network" doc:"req,name,of=network"`
	Hub       string        `json:"hub" doc:"req,name,of=hub"`
	Cost      int           `json:"cost" doc:"def=1,min=0"`
	State     string        `json:"state" doc:"observed,def=up,enum=up|down"`
	Uplink    string        `json:"uplink,omitempty" doc:"enum=native|tunnel|line"` // how it is joined; changes nothing
	Static    []Static      `json:"static,omitempty"`
	Learned   []Learned     `json:"learned,omitempty" doc:"observed"`
	Translate []Translation `json:"translate,omitempty"`
	// What the hub takes from the network, and what it tells it: nil for everything,
	// an empty list for nothing (M13).
	Accepts     []netip.Prefix `json:"accepts,omitzero" doc:"empty"`
	Announces   []netip.Prefix `json:"announces,omitzero" doc:"empty"`
	Sessions    []Session      `json:"sessions,omitempty"`
	Description string         `json:"description,omitempty"`
}

// Session is a router of a network's site that may announce prefixes of one
// segment to the hub (docs/decisions/07-learned-prefixes.md).
type Session struct {
	Router  netip.Addr     `json:"router" doc:"req"`
	AS      int            `json:"as" doc:"req,min=1,max=4294967295"`
	Segment string         `json:"segment" doc:"req,name,of=segment"`
	May     []netip.Prefix `json:"may,omitempty"`              // what is accepted from it without being asked
	Limit   int            `json:"limit" doc:"def=1000,min=1"` // how many prefixes it may bring
}

// Translation shows subnets of a network to a segment under other addresses, one
// to one (M12).
type Translation struct {
	Inside  netip.Prefix `json:"inside" doc:"req"`
	Outside netip.Prefix `json:"outside" doc:"req"`
	Segment string       `json:"segment" doc:"req,name,of=segment"`
}

// Static is a prefix that an attachment bears by order.
type Static struct {
	Prefix  netip.Prefix `json:"prefix" doc:"req"`
	Segment string       `json:"segment" doc:"req,name,of=segment"`
}

// Learned is a prefix that the far side of an attachment announced.
type Learned struct {
	Prefix  netip.Prefix `json:"prefix" doc:"req"`
	Segment string       `json:"segment" doc:"req,name,of=segment"`
	// Status is withdrawn for one that was accepted, and is announced no longer.
	Status string `json:"status" doc:"def=waiting,enum=accepted|waiting|refused|withdrawn"`
}

// Claims reports whether the prefix makes its network home to its addresses (M2.1).
func (l *Learned) Claims() bool { return l.Status == "accepted" || l.Status == "withdrawn" }

// Peering is a direct, non-transitive connection of two networks.
type Peering struct {
	Name        string    `json:"name,omitempty" doc:"name,madeup"`
	Between     [2]string `json:"between" doc:"req,name,of=network"`
	OffersHub   string    `json:"offersHub,omitempty" doc:"name,of=network"`
	Description string    `json:"description,omitempty"`
}

// Exit is a way out to the internet at a hub.
type Exit struct {
	Name        string   `json:"name" doc:"req,name"`
	Hub         string   `json:"hub" doc:"req,name,of=hub"`
	Segments    []string `json:"segments" doc:"req,name,of=segment"`
	State       string   `json:"state" doc:"observed,def=up,enum=up|down"`
	Description string   `json:"description,omitempty"`
}

// Publication is a public address at an exit, through which the internet may
// open flows to some workloads (M7.6).
type Publication struct {
	Name        string       `json:"name" doc:"req,name"`
	Exit        string       `json:"exit" doc:"req,name,of=exit"`
	Address     netip.Addr   `json:"address" doc:"req"`
	Services    []ServiceRef `json:"services" doc:"req"`
	To          Party        `json:"to" doc:"req"`
	Enabled     bool         `json:"enabled" doc:"def=true"`
	Description string       `json:"description,omitempty"`
}

// Workload is something with addresses and labels. Account is left out where it
// is that of its network.
type Workload struct {
	Name        string            `json:"name" doc:"req,name"`
	Network     string            `json:"network" doc:"req,name,of=network"`
	Account     string            `json:"account,omitempty" doc:"name,of=account"`
	Addresses   []netip.Addr      `json:"addresses" doc:"observed,req"`
	Labels      map[string]string `json:"labels,omitempty" doc:"observed"`
	Description string            `json:"description,omitempty"`
}

// Service is a named set of protocol and port terms.
type Service struct {
	Name        string `json:"name" doc:"req,name"`
	Terms       []Term `json:"terms" doc:"req"`
	Description string `json:"description,omitempty"`
}

// Group is a named selection of endpoints (M3.1).
type Group struct {
	Name         string         `json:"name" doc:"req,name"`
	Within       string         `json:"within,omitempty" doc:"name,of=group,vital"`
	Match        string         `json:"match,omitempty"`
	Networks     []string       `json:"networks,omitempty" doc:"name,of=network"`
	NetworkMatch string         `json:"networkMatch,omitempty"`
	Subnets      []SubnetRef    `json:"subnets,omitempty"`
	Prefixes     []netip.Prefix `json:"prefixes,omitempty"`
	Exits        []string       `json:"exits,omitempty" doc:"name,of=exit"`
	Description  string         `json:"description,omitempty"`
}

// Empty reports whether the group selects nothing at all (F13).
func (g *Group) Empty() bool {
	return g.Match == "" && g.NetworkMatch == "" && len(g.Networks) == 0 &&
		len(g.Subnets) == 0 && len(g.Prefixes) == 0 && len(g.Exits) == 0
}

// Places reports whether the group may select internal endpoints whatever labels
// they have: by network, subnet or prefix.
func (g *Group) Places() bool {
	return g.NetworkMatch != "" || len(g.Networks) > 0 || len(g.Subnets) > 0 || len(g.Prefixes) > 0
}

// Pool is a set of interchangeable firewalls at one or more hubs.
type Pool struct {
	Name        string     `json:"name" doc:"req,name"`
	OnFailure   string     `json:"onFailure" doc:"def=closed,enum=closed|open"`
	Rulebook    string     `json:"rulebook,omitempty" doc:"name,of=rulebook"`
	Segments    []string   `json:"segments,omitempty" doc:"name,of=segment"` // whose flows it may see (F17); empty for all
	Firewalls   []Firewall `json:"firewalls,omitempty"`
	Description string     `json:"description,omitempty"`
}

// Firewall is one member of a pool. Only healthy ones serve.
type Firewall struct {
	Name        string `json:"name" doc:"req,name"`
	Hub         string `json:"hub" doc:"req,name,of=hub"`
	State       string `json:"state" doc:"observed,def=healthy,enum=healthy|failed|draining"`
	Description string `json:"description,omitempty"`
}

// Rulebook is the ordered rules that the firewalls of a pool enforce (M8.5).
type Rulebook struct {
	Name        string     `json:"name" doc:"req,name"`
	Rules       []BookRule `json:"rules" doc:"req"`
	Description string     `json:"description,omitempty"`
}

// BookRule is one rule of a rulebook.
type BookRule struct {
	From        Side         `json:"from" doc:"req"`
	To          Side         `json:"to" doc:"req"`
	Services    []ServiceRef `json:"services" doc:"req"`
	Action      string       `json:"action" doc:"req,enum=pass|drop|reject"`
	Description string       `json:"description,omitempty"`
}

// Policy is ordered rules for flows from some groups to some groups (M4), or,
// with the tier "guardrail", a rule of the upper tier (M5). A policy uses
// Segments, a guardrail FromSegments and ToSegments.
type Policy struct {
	Name         string `json:"name" doc:"req,name"`
	Tier         string `json:"tier" doc:"def=standard,enum=standard|guardrail"`
	Segments     Scope  `json:"segments,omitzero"`
	FromSegments Scope  `json:"fromSegments,omitzero"`
	ToSegments   Scope  `json:"toSegments,omitzero"`
	From         Side   `json:"from" doc:"req"`
	To           Side   `json:"to" doc:"req"`
	Enabled      bool   `json:"enabled" doc:"def=true"`
	Rules        []Rule `json:"rules" doc:"req"`
	Ticket       string `json:"ticket,omitempty"`
	Until        string `json:"until,omitempty" doc:"date"`  // the last day on which it applies (C3.7)
	Review       string `json:"review,omitempty" doc:"date"` // the day on which somebody must look at it again
	Description  string `json:"description,omitempty"`

	Lapsed bool `json:"-"` // Until is over, see AsOf
}

// serves returns the segments whose flows the policy may decide; of a guardrail, those
// on either side.
func (p *Policy) serves() Scope {
	if !p.Guardrail() {
		return p.Segments
	}
	from, to := p.FromSegments, p.ToSegments
	if from.All || to.All || from.IsZero() || to.IsZero() {
		return Scope{All: true}
	}
	return Scope{Names: slices.Concat(from.Names, to.Names)}
}

// Guardrail reports whether the policy is of the upper tier.
func (p *Policy) Guardrail() bool { return p.Tier == "guardrail" }

// Rule is one rule of a policy, guardrail or share.
type Rule struct {
	Services    []ServiceRef `json:"services" doc:"req"`
	Action      Action       `json:"action" doc:"req,enum=allow|deny|inspect"`
	Pool        string       `json:"pool,omitempty" doc:"name,of=pool,vital"`
	Ticket      string       `json:"ticket,omitempty"`
	Until       string       `json:"until,omitempty" doc:"date"`
	Review      string       `json:"review,omitempty" doc:"date"`
	Description string       `json:"description,omitempty"`

	Lapsed bool `json:"-"` // see AsOf
}

// Share is ordered rules that let a guest segment reach an offered part of an
// owner segment (M6).
type Share struct {
	Name      string `json:"name" doc:"req,name"`
	Owner     Party  `json:"owner" doc:"req"`
	Guest     Party  `json:"guest" doc:"req"`
	Direction string `json:"direction" doc:"def=inbound,enum=inbound|both"`
	Enabled   bool   `json:"enabled" doc:"def=true"`
	Rules     []Rule `json:"rules" doc:"req"`
	// Show shows addresses of one of its segments to the other under others (M14).
	Show        []Translation `json:"show,omitempty"`
	Ticket      string        `json:"ticket,omitempty"`
	Until       string        `json:"until,omitempty" doc:"date"`
	Review      string        `json:"review,omitempty" doc:"date"`
	Description string        `json:"description,omitempty"`

	Lapsed bool `json:"-"` // see AsOf
}

// Party is a segment and some endpoints of it.
type Party struct {
	Segment string `json:"segment" doc:"req,name,of=segment"`
	Groups  Side   `json:"groups" doc:"req"`
}

// Expectation is a statement about flows that must hold.
type Expectation struct {
	Name        string       `json:"name" doc:"req,name"`
	From        End          `json:"from" doc:"req"`
	To          End          `json:"to" doc:"req"`
	Services    []ServiceRef `json:"services" doc:"req"`
	Expect      string       `json:"expect" doc:"req,enum=allowed|inspected|denied|delivered"`
	Pool        string       `json:"pool,omitempty" doc:"name,of=pool,vital"`
	Description string       `json:"description,omitempty"`
}

// Action is what a rule does with a flow.
type Action string

// The actions, from the mildest to the strictest (M4.5).
const (
	Allow   Action = "allow"
	Inspect Action = "inspect"
	Deny    Action = "deny"
)
