package verdict

import (
	"maps"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// differ finds what a judge has anew that was compiled after another of its family.
type differ struct {
	was, is  *Judge
	revision Revision
	homes    map[int]bool // networks at whose homes something may differ
}

// revisionTo returns what another judge of the family has anew, which numbers things
// alike.
func (j *Judge) revisionTo(next *Judge) Revision {
	d := &differ{was: j, is: next, revision: Revision{Renumbered: true}, homes: map[int]bool{}}
	d.voices()
	d.ways()
	d.endpoints()
	return d.revision
}

// sameNames reports whether two judges know the same hubs, segments, networks,
// exits, pools and rulebooks: they have the same numbers then.
func sameNames(j, next *Judge) bool {
	a, b := j.net, next.net
	return slices.Equal(a.Hubs, b.Hubs) && slices.Equal(a.Segments, b.Segments) &&
		slices.EqualFunc(a.Networks, b.Networks, func(x, y paths.Network) bool { return x.Name == y.Name }) &&
		slices.EqualFunc(a.Exits, b.Exits, func(x, y paths.Exit) bool { return x.Name == y.Name }) &&
		slices.EqualFunc(j.pools, next.pools, func(x, y pool) bool { return x.name == y.name }) &&
		slices.EqualFunc(j.books, next.books, func(x, y book) bool { return x.name == y.name })
}

// voices finds who may say something else than before, or to others.
func (d *differ) voices() {
	r := &d.revision
	other := make([]bool, len(d.is.pools)) // pools that fail otherwise, or have another rulebook
	for i := range other {
		a, b := &d.was.pools[i], &d.is.pools[i]
		other[i] = a.open != b.open || a.rulebook != b.rulebook
	}
	differ := func(a, b []rule) bool {
		return !slices.EqualFunc(a, b, func(x, y rule) bool {
			return x.action == y.action && x.pool == y.pool && slices.Equal(x.terms, y.terms) && (x.pool == paths.None || !other[x.pool])
		})
	}
	moved := d.affected(func(x, y *estate.Group) bool { return x.Name != y.Name || x.Within != y.Within })
	narrows := func(s side) bool { return slices.ContainsFunc(s, func(g int) bool { return g != anyone && moved[g] }) }
	r.Policies = differing(d.was.policies, d.is.policies, func(a, b *policy) bool {
		return !sameReach(a, b) || differ(a.rules, b.rules) || narrows(b.from) || narrows(b.to) // or overrides others (M4.4)
	})
	r.Rails = differing(d.was.rails, d.is.rails, func(a, b *rail) bool {
		return a.enabled != b.enabled || !slices.Equal(a.from, b.from) || !slices.Equal(a.to, b.to) ||
			!slices.Equal(a.fromSegs, b.fromSegs) || !slices.Equal(a.toSegs, b.toSegs) || differ(a.rules, b.rules)
	})
	r.Shares = differing(d.was.shares, d.is.shares, func(a, b *share) bool {
		if !sameOffers(a, b) {
			r.offers = slices.Concat(r.offers, a.offers(), b.offers())
			return true
		}
		return a.both != b.both || differ(a.rules, b.rules)
	})
	r.Books = differing(d.was.books, d.is.books, func(a, b *book) bool {
		return !slices.EqualFunc(a.rules, b.rules, func(x, y bookRule) bool {
			return slices.Equal(x.from, y.from) && slices.Equal(x.to, y.to) && x.verb == y.verb && slices.Equal(x.terms, y.terms)
		})
	})
	r.Respoken = len(r.Policies)+len(r.Rails)+len(r.Shares)+len(r.Books) > 0 || slices.Contains(other, true) || !slices.Equal(d.was.defaults, d.is.defaults)
	r.Gates = !slices.EqualFunc(d.was.publications, d.is.publications, func(a, b publication) bool {
		return a.name == b.name && a.exit == b.exit && a.segment == b.segment && slices.Equal(a.to, b.to) && slices.Equal(a.services.terms, b.services.terms)
	})
}

// differing returns the numbers of what differs in two lists; what one of them has
// not is the zero value there.
func differing[T any](was, is []T, differs func(a, b *T) bool) []int {
	var out []int
	var none T
	at := func(list []T, i int) *T {
		if i < len(list) {
			return &list[i]
		}
		return &none
	}
	for i := range max(len(was), len(is)) {
		if differs(at(was, i), at(is, i)) {
			out = append(out, i)
		}
	}
	return out
}

// sameOffers reports whether two shares make the same groups reachable.
func sameOffers(a, b *share) bool {
	part := func(x, y *sharedPart) bool { return x.segment == y.segment && slices.Equal(x.side, y.side) }
	return a.enabled == b.enabled && (!a.enabled || part(&a.owner, &b.owner) && part(&a.guest, &b.guest))
}

// offers returns the sides of a share, if it makes something reachable.
func (s *share) offers() []sharedPart {
	if !s.enabled {
		return nil
	}
	return []sharedPart{s.owner, s.guest}
}

// Reoffers reports whether shares make others reachable than before.
func (r *Revision) Reoffers() bool { return len(r.offers) > 0 }

// Offers reports whether an endpoint of a segment, in some groups, is on a side of
// a share that makes others reachable than before: before or afterwards.
func (r *Revision) Offers(segment int, groups []int) bool {
	return slices.ContainsFunc(r.offers, func(p sharedPart) bool { return p.segment == segment && p.side.contains(groups, true) })
}

// ways finds the networks whose ways may differ, and whether those of all may.
func (d *differ) ways() {
	r := &d.revision
	r.Ways = !d.was.SamePools(d.is)
	if d.was.net == d.is.net {
		return
	}
	was, is := d.was.estate, d.is.estate
	r.Links = !same(was.Links, is.Links)
	r.Ways = r.Ways || r.Links || !slices.EqualFunc(d.was.net.Exits, d.is.net.Exits, func(a, b paths.Exit) bool {
		return a.Hub == b.Hub && a.Up == b.Up && slices.Equal(a.Segments, b.Segments)
	})
	r.Networks = d.is.numbersOf(movedNetworks(was, is), was.Peerings, is.Peerings)
	for _, n := range r.Networks {
		d.homes[n] = true
	}
	r.Subnets = renumbered(d.was.net.Subnets, d.is.net.Subnets, func(s *paths.Subnet) estate.SubnetRef {
		return estate.SubnetRef{Network: d.is.net.Networks[s.Network].Name, Subnet: s.Name}
	})
}

// renumbered returns the numbers that things have in another list, by the number
// that they have in a first one; None for what is gone. It is nil if they have the same.
func renumbered[T any, K comparable](was, is []T, name func(*T) K) []int {
	aligned := len(was) <= len(is)
	for i := 0; aligned && i < len(was); i++ {
		aligned = name(&was[i]) == name(&is[i])
	}
	if aligned {
		return nil
	}
	return placesIn(was, is, name)
}

// placesIn returns the places that things have in another list, by their places in a
// first one; None for what is gone.
func placesIn[T any, K comparable](was, is []T, name func(*T) K) []int {
	at := make(map[K]int, len(is))
	for i := range is {
		at[name(&is[i])] = i
	}
	out := make([]int, len(was))
	for i := range was {
		n, ok := at[name(&was[i])]
		if !ok {
			n = paths.None
		}
		out[i] = n
	}
	return out
}

// endpoints finds the addresses at which endpoints may be in other groups than
// before, live in another network, or be seen otherwise.
func (d *differ) endpoints() {
	if d.was.members != d.is.members {
		affected := d.affected(func(x, y *estate.Group) bool { return !sameSelection(x, y) })
		d.places(affected)
		d.workloads(affected)
	}
	if len(d.homes) > 0 {
		for _, j := range []*Judge{d.was, d.is} {
			j.net.EachHome(func(_, network int, p netip.Prefix) {
				if d.homes[network] {
					d.touch(p)
				}
			})
		}
	}
	d.sights()
}

func (d *differ) touch(p netip.Prefix) { d.revision.Touched = append(d.revision.Touched, p) }

// affected returns, by number, the groups that differ, and what stands within them,
// before or afterwards.
func (d *differ) affected(differs func(x, y *estate.Group) bool) []bool {
	a, b := d.was.members, d.is.members
	affected := make([]bool, max(len(a.groups), len(b.groups)))
	changed := differing(a.groups, b.groups, differs)
	for _, g := range changed {
		affected[g] = true
	}
	for _, m := range []*membership{a, b} {
		for g := range m.groups {
			affected[g] = affected[g] || slices.ContainsFunc(changed, func(c int) bool { return c < len(m.groups) && m.ancestor(c, g) })
		}
	}
	return affected
}

// sameSelection reports whether two groups select the same by their own words.
func sameSelection(a, b *estate.Group) bool {
	return a.Name == b.Name && a.Within == b.Within && a.Match == b.Match && a.NetworkMatch == b.NetworkMatch && slices.Equal(a.Networks, b.Networks) &&
		slices.Equal(a.Subnets, b.Subnets) && slices.Equal(a.Prefixes, b.Prefixes) && slices.Equal(a.Exits, b.Exits)
}

// places notes the places that groups select otherwise than before.
func (d *differ) places(affected []bool) {
	some := func(groups []int) bool { return slices.ContainsFunc(groups, func(g int) bool { return affected[g] }) }
	for _, m := range []*membership{d.was.members, d.is.members} {
		for g := range m.groups {
			if affected[g] {
				for _, p := range m.groups[g].Prefixes {
					d.touch(p)
				}
			}
		}
		d.revision.Outside = d.revision.Outside || slices.ContainsFunc(m.byExit, some)
	}
	for n := range d.is.members.byNetwork {
		was, is := d.was.members.byNetwork[n], d.is.members.byNetwork[n]
		if some(was) || some(is) || !slices.Equal(was, is) {
			d.homes[n] = true
		}
	}
	for _, j := range []*Judge{d.was, d.is} {
		for s, groups := range j.members.bySubnet {
			if some(groups) {
				d.touch(j.net.Subnets[s].Prefix)
			}
		}
	}
}

// workloads notes the addresses of workloads that are others than before, or that
// groups select otherwise.
func (d *differ) workloads(affected []bool) {
	was, is := d.was.estate.Workloads, d.is.estate.Workloads
	kins := func(m *membership) []bool {
		out := make([]bool, len(m.byKin))
		for kin, groups := range m.byKin {
			out[kin] = slices.ContainsFunc(groups, func(g int) bool { return affected[g] })
		}
		return out
	}
	before, after := kins(d.was.members), kins(d.is.members)
	d.revision.Workloads = renumbered(was, is, func(w *estate.Workload) string { return w.Name })
	stays := make([]bool, len(is))
	for i := range was {
		at := i
		if d.revision.Workloads != nil {
			at = d.revision.Workloads[i]
		}
		if at >= 0 {
			stays[at] = sameWorkload(&was[i], &is[at]) && !before[d.was.members.kin[i]] && !after[d.is.members.kin[at]]
		}
		if at < 0 || !stays[at] {
			d.was.eachAddress(i, d.touch)
		}
	}
	for i, stay := range stays {
		if !stay {
			d.is.eachAddress(i, d.touch)
		}
	}
}

func sameWorkload(a, b *estate.Workload) bool {
	return a == b || a.Network == b.Network && slices.Equal(a.Addresses, b.Addresses) && (sameMap(a.Labels, b.Labels) || maps.Equal(a.Labels, b.Labels))
}

// eachAddress calls f for the addresses of a workload, as segments may see them.
func (j *Judge) eachAddress(workload int, f func(netip.Prefix)) {
	w := &j.estate.Workloads[workload]
	network := j.net.Network(w.Network)
	if network == paths.None {
		return
	}
	for _, a := range w.Addresses {
		for _, s := range j.net.Networks[network].Subnets {
			if x := &j.net.Subnets[s]; x.Inside.Contains(a) {
				a := j.net.Outside(paths.Home{Network: network, Subnet: s, Prefix: x.Prefix}, a)
				f(netip.PrefixFrom(a, a.BitLen()))
			}
		}
	}
}

// sights notes what segments see of each other under other prefixes, and by which, if
// they see it otherwise than before.
func (d *differ) sights() {
	type pair struct{ inside, outside netip.Prefix }
	shown := func(j *Judge) map[[2]int]map[pair]bool {
		out := map[[2]int]map[pair]bool{}
		j.EachShown(func(of, to int, inside, outside netip.Prefix) {
			key := [2]int{of, to}
			if out[key] == nil {
				out[key] = map[pair]bool{}
			}
			out[key][pair{inside, outside}] = true
		})
		return out
	}
	was, is := shown(d.was), shown(d.is)
	if !maps.EqualFunc(was, is, maps.Equal[map[pair]bool, map[pair]bool]) {
		for _, list := range []map[[2]int]map[pair]bool{was, is} {
			for _, pairs := range list {
				for p := range pairs {
					d.touch(p.inside)
					d.touch(p.outside)
				}
			}
		}
	}
}
