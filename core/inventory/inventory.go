// Package inventory takes what is read from the accounts of an estate into it:
// it maps the tags that teams wrote to labels that rules can use, and tells what
// is new, changed and gone. It is pure: reading is the drivers' work.
package inventory

import (
	"net/netip"
	"slices"

	"bivium/core/estate"
)

// Network is a network as its provider knows it.
type Network struct {
	ID      string            `json:"id"` // the provider's, for good
	Name    string            `json:"name"`
	Kind    string            `json:"kind"` // cloud, site, remote or partner
	Region  string            `json:"region,omitempty"`
	Tags    map[string]string `json:"tags,omitempty"`
	Subnets []Subnet          `json:"subnets,omitempty"`
	Routes  []Route           `json:"routes,omitempty"` // of its table, but for its own prefixes
	Peers   []string          `json:"peers,omitempty"`  // IDs of the networks that it is peered with
	Gateway bool              `json:"gateway,omitempty"`
	Uplink  string            `json:"uplink,omitempty"` // of a site: up or down
	// Enforcement is where the provider enforces verdicts at most on paths that pass no hub, in the
	// words of estate.Network; "" for everywhere.
	Enforcement string `json:"enforcement,omitempty"`
}

// Subnet is one prefix of a network.
type Subnet struct {
	Name   string       `json:"name"`
	Prefix netip.Prefix `json:"prefix"`
}

// Route is an entry of a route table. Via is "hub", "internet" or "none", or
// "peer:" and the ID of a network.
type Route struct {
	To  netip.Prefix `json:"to"`
	Via string       `json:"via"`
}

// Workload is a machine as its provider knows it. Network is the ID of the
// network that its addresses are of, which may belong to another account.
type Workload struct {
	ID        string            `json:"id"`
	Name      string            `json:"name"`
	Network   string            `json:"network"`
	Addresses []netip.Addr      `json:"addresses"`
	Tags      map[string]string `json:"tags,omitempty"`
}

// Reading is what was read from one account.
type Reading struct {
	Account   string
	Provider  string
	Networks  []Network
	Workloads []Workload
	Partial   bool // something may be missing: what is not in it is not gone
	Managed   bool // the estate's routes and peerings are what the account has to hold, and are written to it
}

// Known is a thing that an account had when it was last read, and what it is in
// the estate.
type Known struct {
	Account string            `json:"account"`
	Kind    Kind              `json:"kind"`
	ID      string            `json:"id"`
	Name    string            `json:"name"` // in the estate
	Tags    map[string]string `json:"tags,omitempty"`
	Hand    map[string]string `json:"hand,omitempty"` // labels set by hand; they win over mapped ones
	Off     []string          `json:"off,omitempty"`  // keys of mapped labels that were taken off by hand
	Gone    bool              `json:"gone,omitempty"` // no longer there, and kept because the estate speaks of it
	// Of a network: its route table and peers as the account has them, once they were read.
	Tabled bool           `json:"tabled,omitempty"`
	Routes []estate.Route `json:"routes,omitempty"`
	Peers  []string       `json:"peers"` // in the estate; nil where they were not read
}

// Kind is the kind of a thing that accounts have.
type Kind string

// The kinds of things.
const (
	NetworkKind  Kind = "network"
	WorkloadKind Kind = "workload"
)

// Change is what a reading did to one thing.
type Change struct {
	Kind Kind     `json:"kind"`
	Name string   `json:"name"`
	What What     `json:"what"`
	How  []Detail `json:"-"` // what of it changed, or why it is kept
}

// Detail is one thing about a change. Of names what it is about: a subnet, a network, a group or a
// hub.
type Detail struct {
	Code DetailCode
	Of   string
}

// DetailCode says what a detail is.
type DetailCode string

// What of a thing changed.
const (
	OtherRegion    DetailCode = "region"
	OnlySubnets    DetailCode = "only-subnets"
	OtherLabels    DetailCode = "labels"
	OtherNetwork   DetailCode = "network"
	OtherAddresses DetailCode = "addresses"
	OtherAccount   DetailCode = "account"
	OtherRoutes    DetailCode = "routes"
	PeerGone       DetailCode = "peer-gone" // that a route led to
	SubnetAdded    DetailCode = "subnet-added"
	SubnetRemoved  DetailCode = "subnet-removed"
	PeeringAdded   DetailCode = "peering-added"
	PeeringRemoved DetailCode = "peering-removed"
)

// Why something of the estate is kept that the account does not have, or has otherwise.
const (
	RoutesWritten  DetailCode = "routes-written"
	PeeringUnmade  DetailCode = "peering-unmade"
	SubnetInGroups DetailCode = "subnet-in-groups"
	GoneInGroup    DetailCode = "gone-in-group"
	GoneAttached   DetailCode = "gone-attached"
)

// What is left out of a reading, and why.
const (
	UnknownKind     DetailCode = "unknown-kind"
	UnusableSubnet  DetailCode = "unusable-subnet"
	UnusableRoute   DetailCode = "unusable-route"
	UnusableAddress DetailCode = "unusable-address"
	UnknownNetwork  DetailCode = "unknown-network"
	NoAddress       DetailCode = "no-address"
)

// What is what happened to a thing.
type What string

// What can happen to a thing.
const (
	New     What = "new"
	Changed What = "changed"
	Gone    What = "gone"
	Kept    What = "kept" // gone from its account, and kept because the estate speaks of it
)

// Count returns how many changes are of a sort.
func Count(changes []Change, kind Kind, what What) int {
	n := 0
	for i := range changes {
		if changes[i].Kind == kind && changes[i].What == what {
			n++
		}
	}
	return n
}

// sortChanges puts networks before workloads, and each in order of name.
func sortChanges(changes []Change) {
	slices.SortFunc(changes, func(a, b Change) int {
		switch {
		case a.Kind != b.Kind:
			if a.Kind == NetworkKind {
				return -1
			}
			return 1
		case a.Name < b.Name:
			return -1
		case a.Name > b.Name:
			return 1
		}
		return 0
	})
}
