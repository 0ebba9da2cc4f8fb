package verdict

import (
	"maps"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
)

// MovedNetworks returns the names of the networks that an edit of the estate puts
// into other segments, attaches, joins or leads otherwise, or lets enforce verdicts
// otherwise. Both estates have networks of the same names.
func MovedNetworks(was, is *estate.Estate) map[string]bool {
	moved := map[string]bool{}
	if !lists.Same(was.Networks, is.Networks) || !lists.Same(was.Accounts, is.Accounts) {
		known := make(map[string]*estate.Network, len(was.Networks))
		for i := range was.Networks {
			known[was.Networks[i].Name] = &was.Networks[i]
		}
		for i := range is.Networks {
			a, b := known[is.Networks[i].Name], &is.Networks[i]
			if !samePlace(a, b) || was.Enforces(a) != is.Enforces(b) {
				moved[b.Name] = true
			}
		}
	}
	if !lists.Same(was.Attachments, is.Attachments) {
		before, after := attachmentsOf(was), attachmentsOf(is)
		for i := range is.Networks {
			if name := is.Networks[i].Name; !sameAttachments(before[name], after[name]) {
				moved[name] = true
			}
		}
	}
	if !lists.Same(was.Peerings, is.Peerings) {
		joined := map[estate.Peering]int{}
		for k, list := range [][]estate.Peering{was.Peerings, is.Peerings} {
			for _, p := range list {
				p.Description = ""
				joined[p] |= 1 << k
			}
		}
		for p, in := range joined {
			if in != 3 {
				moved[p.Between[0]], moved[p.Between[1]] = true, true
			}
		}
	}
	return moved
}

// samePlace reports whether two networks of one name have the same addresses in the
// same segments, and the same routes.
func samePlace(a, b *estate.Network) bool {
	return a == b || slices.Equal(a.Routes, b.Routes) &&
		slices.EqualFunc(a.Subnets, b.Subnets, func(x, y estate.Subnet) bool {
			return x.Name == y.Name && x.Prefix == y.Prefix && a.SegmentOf(&x) == b.SegmentOf(&y)
		})
}

// samePlaces reports whether groups select the same of the networks and exits of two
// estates.
func samePlaces(a, b *estate.Estate) bool {
	return slices.EqualFunc(a.Exits, b.Exits, func(x, y estate.Exit) bool { return x.Name == y.Name }) &&
		(lists.Same(a.Networks, b.Networks) || slices.EqualFunc(a.Networks, b.Networks, func(x, y estate.Network) bool {
			return x.Name == y.Name && maps.Equal(x.Labels, y.Labels) &&
				slices.EqualFunc(x.Subnets, y.Subnets, func(s, t estate.Subnet) bool { return s.Name == t.Name })
		}))
}

// sameNet reports whether two estates share all that paths depend on.
func sameNet(a, b *estate.Estate) bool {
	return lists.Same(a.Accounts, b.Accounts) && lists.Same(a.Hubs, b.Hubs) && lists.Same(a.Links, b.Links) && lists.Same(a.Segments, b.Segments) && lists.Same(a.Networks, b.Networks) &&
		lists.Same(a.Attachments, b.Attachments) && lists.Same(a.Peerings, b.Peerings) && lists.Same(a.Exits, b.Exits)
}

// sameRuling reports whether two estates share all that rules say, but for groups.
func sameRuling(a, b *estate.Estate) bool {
	return lists.Same(a.Hubs, b.Hubs) && lists.Same(a.Segments, b.Segments) && lists.Same(a.Exits, b.Exits) && lists.Same(a.Pools, b.Pools) && lists.Same(a.Rulebooks, b.Rulebooks) &&
		lists.Same(a.Policies, b.Policies) && lists.Same(a.Shares, b.Shares) && lists.Same(a.Publications, b.Publications) && lists.Same(a.Services, b.Services)
}

// NumbersOf returns the numbers of some networks, and of their peers, sorted.
func (j *Judge) NumbersOf(names map[string]bool, peerings ...[]estate.Peering) []int {
	all := maps.Clone(names)
	for _, p := range slices.Concat(peerings...) {
		for k, name := range p.Between {
			if names[name] {
				all[p.Between[1-k]] = true
			}
		}
	}
	var out []int
	for name := range all {
		if n := j.Net.Network(name); n >= 0 { // a peering may refer to none (F1)
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

func attachmentsOf(e *estate.Estate) map[string][]*estate.Attachment {
	out := make(map[string][]*estate.Attachment, len(e.Networks))
	for i := range e.Attachments {
		a := &e.Attachments[i]
		out[a.Network] = append(out[a.Network], a)
	}
	return out
}

func sameAttachments(a, b []*estate.Attachment) bool {
	return slices.EqualFunc(a, b, func(x, y *estate.Attachment) bool {
		return x == y || x.Hub == y.Hub && x.Cost == y.Cost && x.State == y.State && slices.Equal(x.Static, y.Static) &&
			slices.Equal(x.Learned, y.Learned) && slices.Equal(x.Translate, y.Translate) &&
			sameFilter(x.Accepts, y.Accepts) && sameFilter(x.Announces, y.Announces)
	})
}

// sameFilter reports whether two filters carry the same: one that is left out carries
// everything, and an empty one nothing.
func sameFilter(a, b []netip.Prefix) bool { return (a == nil) == (b == nil) && slices.Equal(a, b) }
