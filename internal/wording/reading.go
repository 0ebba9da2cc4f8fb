package wording

import (
	"strings"

	"bivium/core/inventory"
)

// details say what of a thing changed when its account was read, why it is kept, or what of it is
// left out; % stands for what they are about.
var details = map[inventory.DetailCode]string{
	inventory.OtherRegion:    "region",
	inventory.OnlySubnets:    "its provider enforces verdicts between subnets, not inside them",
	inventory.OtherLabels:    "labels",
	inventory.OtherNetwork:   "network",
	inventory.OtherAddresses: "addresses",
	inventory.OtherAccount:   "account",
	inventory.OtherRoutes:    "route table",
	inventory.PeerGone:       "route table: a peer is gone",
	inventory.SubnetAdded:    "subnet % added",
	inventory.SubnetRemoved:  "subnet % removed",
	inventory.PeeringAdded:   "peering with % added",
	inventory.PeeringRemoved: "peering with % removed",

	inventory.RoutesWritten:  "the route table written here; the account has a different one",
	inventory.PeeringUnmade:  "no peering with % here; the account has one",
	inventory.SubnetInGroups: "subnet % no longer exists in the account, but groups refer to it",
	inventory.GoneInGroup:    "no longer in its account; group % refers to it",
	inventory.GoneAttached:   "no longer in its account; attached to %",

	inventory.UnknownKind:     "its kind is unknown; treated as a cloud network",
	inventory.UnusableSubnet:  "subnet % has no usable prefix",
	inventory.UnusableRoute:   "a route has no usable prefix",
	inventory.UnusableAddress: "an unusable address",
	inventory.UnknownNetwork:  "its network % is in no synced account",
	inventory.NoAddress:       "it has no address",
}

// ReadChange says what a reading did to a thing beside that it did; "" for nothing.
func ReadChange(c *inventory.Change) string {
	out := make([]string, len(c.How))
	for i, d := range c.How {
		out[i] = strings.Replace(details[d.Code], "%", d.Of, 1)
	}
	return strings.Join(out, "; ")
}

// RenamedFrom says what a thing was called before an edit.
func RenamedFrom(was string) string { return "renamed from " + was }
