package recompile

import (
	"maps"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/membership"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// differ finds what a judge has anew that was compiled after another of its family.
type differ struct {
	was, is  *verdict.Judge
	revision Revision
	homes    map[int]bool // networks at whose homes something may differ
}

// revisionTo returns what another judge of the family has anew, which numbers things
// alike.
func revisionTo(j *verdict.Judge, next *verdict.Judge) Revision {
	d := &differ{was: j, is: next, revision: Revision{Renumbered: true}, homes: map[int]bool{}}
	d.terms()
	d.ways()
	d.endpoints()
	return d.revision
}

// sameNames reports whether two judges know the same hubs, segments, networks,
// exits, pools and rulebooks: they have the same numbers then.
func sameNames(j, next *verdict.Judge) bool {
	a, b := j.Net, next.Net
	return slices.Equal(a.Hubs, b.Hubs) && slices.Equal(a.Segments, b.Segments) &&
		slices.EqualFunc(a.Networks, b.Networks, func(x, y paths.Network) bool { return x.Name == y.Name }) &&
		slices.EqualFunc(a.Exits, b.Exits, func(x, y paths.Exit) bool { return x.Name == y.Name }) &&
		slices.EqualFunc(j.Pools, next.Pools, func(x, y verdict.Pool) bool { return x.Name == y.Name }) &&
		slices.EqualFunc(j.Books, next.Books, func(x, y verdict.Book) bool { return x.Name == y.Name })
}

// terms finds who may say something else than before, or to others.
func (d *differ) terms() {
	r := &d.revision
	other := make([]bool, len(d.is.Pools)) // pools that fail otherwise, or have another rulebook
	for i := range other {
		a, b := &d.was.Pools[i], &d.is.Pools[i]
		other[i] = a.Open != b.Open || a.Rulebook != b.Rulebook
	}
	differ := func(a, b []verdict.Rule) bool {
		return !slices.EqualFunc(a, b, func(x, y verdict.Rule) bool {
			return x.Action == y.Action && x.Pool == y.Pool && slices.Equal(x.Terms, y.Terms) && (x.Pool == paths.None || !other[x.Pool])
		})
	}
	moved := d.affected(func(x, y *estate.Group) bool { return x.Name != y.Name || x.Within != y.Within })
	narrows := func(s verdict.Side) bool {
		return slices.ContainsFunc(s, func(g int) bool { return g != verdict.Anyone && moved[g] })
	}
	r.Policies = differing(d.was.Policies, d.is.Policies, func(a, b *verdict.Policy) bool {
		return !sameReach(a, b) || differ(a.Rules, b.Rules) || narrows(b.From) || narrows(b.To) // or overrides others (M4.4)
	})
	r.Rails = differing(d.was.Guardrails, d.is.Guardrails, func(a, b *verdict.Guardrail) bool {
		return a.Enabled != b.Enabled || !slices.Equal(a.From, b.From) || !slices.Equal(a.To, b.To) ||
			!slices.Equal(a.FromSegs, b.FromSegs) || !slices.Equal(a.ToSegs, b.ToSegs) || differ(a.Rules, b.Rules)
	})
	r.Shares = differing(d.was.Shares, d.is.Shares, func(a, b *verdict.Share) bool {
		if !sameOffers(a, b) {
			r.offers = slices.Concat(r.offers, offers(a), offers(b))
			return true
		}
		return a.Both != b.Both || differ(a.Rules, b.Rules)
	})
	r.Books = differing(d.was.Books, d.is.Books, func(a, b *verdict.Book) bool {
		return !slices.EqualFunc(a.Rules, b.Rules, func(x, y verdict.BookRule) bool {
			return slices.Equal(x.From, y.From) && slices.Equal(x.To, y.To) && x.Verb == y.Verb && slices.Equal(x.Terms, y.Terms)
		})
	})
	r.TermsChanged = len(r.Policies)+len(r.Rails)+len(r.Shares)+len(r.Books) > 0 || slices.Contains(other, true) || !slices.Equal(d.was.Defaults, d.is.Defaults)
	r.Gates = !slices.EqualFunc(d.was.Publications, d.is.Publications, func(a, b verdict.Publication) bool {
		return a.Name == b.Name && a.Exit == b.Exit && a.Segment == b.Segment && slices.Equal(a.To, b.To) && slices.Equal(a.Services.Terms, b.Services.Terms)
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
func sameOffers(a, b *verdict.Share) bool {
	part := func(x, y *verdict.SharedPart) bool { return x.Segment == y.Segment && slices.Equal(x.Side, y.Side) }
	return a.Enabled == b.Enabled && (!a.Enabled || part(&a.Owner, &b.Owner) && part(&a.Guest, &b.Guest))
}

// offers returns the sides of a share, if it makes something reachable.
func offers(s *verdict.Share) []verdict.SharedPart {
	if !s.Enabled {
		return nil
	}
	return []verdict.SharedPart{s.Owner, s.Guest}
}

// Reoffers reports whether shares make others reachable than before.
func (r *Revision) Reoffers() bool { return len(r.offers) > 0 }

// Offers reports whether an endpoint of a segment, in some groups, is on a side of
// a share that makes others reachable than before: before or afterwards.
func (r *Revision) Offers(segment int, groups []int) bool {
	return slices.ContainsFunc(r.offers, func(p verdict.SharedPart) bool { return p.Segment == segment && p.Side.Contains(groups, true) })
}

// paths finds the networks whose paths may differ, and whether those of all may.
func (d *differ) ways() {
	r := &d.revision
	r.Ways = !d.was.SamePools(d.is)
	if d.was.Net == d.is.Net {
		return
	}
	was, is := d.was.Estate, d.is.Estate
	r.Links = !lists.Same(was.Links, is.Links)
	r.Ways = r.Ways || r.Links || !slices.EqualFunc(d.was.Net.Exits, d.is.Net.Exits, func(a, b paths.Exit) bool {
		return a.Hub == b.Hub && a.Up == b.Up && slices.Equal(a.Segments, b.Segments)
	})
	r.Networks = d.is.NumbersOf(verdict.MovedNetworks(was, is), was.Peerings, is.Peerings)
	for _, n := range r.Networks {
		d.homes[n] = true
	}
	r.Subnets = renumbered(d.was.Net.Subnets, d.is.Net.Subnets, func(s *paths.Subnet) estate.SubnetRef {
		return estate.SubnetRef{Network: d.is.Net.Networks[s.Network].Name, Subnet: s.Name}
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
	if d.was.Members != d.is.Members {
		affected := d.affected(func(x, y *estate.Group) bool { return !sameSelection(x, y) })
		d.places(affected)
		d.workloads(affected)
	}
	if len(d.homes) > 0 {
		for _, j := range []*verdict.Judge{d.was, d.is} {
			j.Net.EachHome(func(_, network int, p netip.Prefix) {
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
	a, b := d.was.Members, d.is.Members
	affected := make([]bool, max(len(a.Groups), len(b.Groups)))
	changed := differing(a.Groups, b.Groups, differs)
	for _, g := range changed {
		affected[g] = true
	}
	for _, m := range []*membership.Membership{a, b} {
		for g := range m.Groups {
			affected[g] = affected[g] || slices.ContainsFunc(changed, func(c int) bool { return c < len(m.Groups) && m.Ancestor(c, g) })
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
	for _, m := range []*membership.Membership{d.was.Members, d.is.Members} {
		for g := range m.Groups {
			if affected[g] {
				for _, p := range m.Groups[g].Prefixes {
					d.touch(p)
				}
			}
		}
		d.revision.Outside = d.revision.Outside || slices.ContainsFunc(m.ByExit, some)
	}
	for n := range d.is.Members.ByNetwork {
		was, is := d.was.Members.ByNetwork[n], d.is.Members.ByNetwork[n]
		if some(was) || some(is) || !slices.Equal(was, is) {
			d.homes[n] = true
		}
	}
	for _, j := range []*verdict.Judge{d.was, d.is} {
		for s, groups := range j.Members.BySubnet {
			if some(groups) {
				d.touch(j.Net.Subnets[s].Prefix)
			}
		}
	}
}

// workloads notes the addresses of workloads that are others than before, or that
// groups select otherwise.
func (d *differ) workloads(affected []bool) {
	was, is := d.was.Estate.Workloads, d.is.Estate.Workloads
	kins := func(m *membership.Membership) []bool {
		out := make([]bool, len(m.ByLabelSet))
		for labelSet, groups := range m.ByLabelSet {
			out[labelSet] = slices.ContainsFunc(groups, func(g int) bool { return affected[g] })
		}
		return out
	}
	before, after := kins(d.was.Members), kins(d.is.Members)
	d.revision.Workloads = renumbered(was, is, func(w *estate.Workload) string { return w.Name })
	stays := make([]bool, len(is))
	for i := range was {
		at := i
		if d.revision.Workloads != nil {
			at = d.revision.Workloads[i]
		}
		if at >= 0 {
			stays[at] = sameWorkload(&was[i], &is[at]) && !before[d.was.Members.LabelSetOf[i]] && !after[d.is.Members.LabelSetOf[at]]
		}
		if at < 0 || !stays[at] {
			eachAddress(d.was, i, d.touch)
		}
	}
	for i, stay := range stays {
		if !stay {
			eachAddress(d.is, i, d.touch)
		}
	}
}

func sameWorkload(a, b *estate.Workload) bool {
	return a == b || a.Network == b.Network && slices.Equal(a.Addresses, b.Addresses) && (membership.SameMap(a.Labels, b.Labels) || maps.Equal(a.Labels, b.Labels))
}

// eachAddress calls f for the addresses of a workload, as segments may see them.
func eachAddress(j *verdict.Judge, workload int, f func(netip.Prefix)) {
	w := &j.Estate.Workloads[workload]
	network := j.Net.Network(w.Network)
	if network == paths.None {
		return
	}
	for _, a := range w.Addresses {
		for _, s := range j.Net.Networks[network].Subnets {
			if x := &j.Net.Subnets[s]; x.Inside.Contains(a) {
				a := j.Net.Outside(paths.Home{Network: network, Subnet: s, Prefix: x.Prefix}, a)
				f(netip.PrefixFrom(a, a.BitLen()))
			}
		}
	}
}

// sights notes what segments see of each other under other prefixes, and by which, if
// they see it otherwise than before.
func (d *differ) sights() {
	type pair struct{ inside, outside netip.Prefix }
	shown := func(j *verdict.Judge) map[[2]int]map[pair]bool {
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
