package inventory

import (
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
)

// kinds are those that networks of accounts have.
var kinds = []string{"cloud", "site", "remote", "partner"}

// sound puts a reading in the place of the one at hand that has only addresses and
// prefixes which an estate can hold: an account may answer anything. What it leaves out
// is noted.
func (k *taker) sound() {
	r := *k.reading
	r.Networks = slices.Clone(r.Networks)
	for i := range r.Networks {
		n := &r.Networks[i]
		n.Region = strings.ToValidUTF8(n.Region, "?")
		if !slices.Contains(kinds, n.Kind) {
			k.note(NetworkKind, n.Name, LeftOut, Detail{Code: UnknownKind})
			n.Kind = kinds[0]
		}
		n.Subnets = slices.Clone(n.Subnets)
		n.Subnets = slices.DeleteFunc(n.Subnets, func(s Subnet) bool {
			if estate.CheckPrefix(s.Prefix) == nil {
				return false
			}
			k.note(NetworkKind, n.Name, LeftOut, Detail{UnusableSubnet, s.Name})
			return true
		})
		n.Routes = slices.Clone(n.Routes)
		n.Routes = slices.DeleteFunc(n.Routes, func(x Route) bool {
			if estate.CheckPrefix(x.To) == nil {
				return false
			}
			k.note(NetworkKind, n.Name, LeftOut, Detail{Code: UnusableRoute})
			return true
		})
	}
	r.Workloads = slices.Clone(r.Workloads)
	for i := range r.Workloads {
		w := &r.Workloads[i]
		if !slices.ContainsFunc(w.Addresses, unusable) {
			continue
		}
		k.note(WorkloadKind, w.Name, LeftOut, Detail{Code: UnusableAddress})
		w.Addresses = slices.DeleteFunc(slices.Clone(w.Addresses), unusable)
	}
	k.reading = &r
}

// unusable reports whether an estate cannot hold an address.
func unusable(a netip.Addr) bool { return estate.CheckAddr(a) != nil }
