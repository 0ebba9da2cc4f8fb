package verdict

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/membership"
	"bivium/core/paths"
)

// PrefixKey returns a string that is equal for addresses that the prefixes of
// the same groups hold, whether those groups' ancestors hold them or not. An
// external endpoint can be in a group through one exit and not through another,
// because its parent names exits; so this, and not GroupKey, tells external
// addresses apart.
func (j *Judge) PrefixKey(a netip.Addr) string {
	var raw []int
	for _, groups := range j.Members.ByPrefix.Supernets(netip.PrefixFrom(a, a.BitLen())) {
		raw = append(raw, groups...)
	}
	b := make([]byte, 0, 2*len(raw))
	for _, g := range lists.Sorted(raw) {
		b = binary.AppendUvarint(b, uint64(g))
	}
	return string(b)
}

// Group returns the number of a group, or paths.None.
func (j *Judge) Group(name string) int {
	if g, ok := j.Members.Ids[name]; ok {
		return g
	}
	return paths.None
}

// GroupNames returns the names of all groups, by number.
func (j *Judge) GroupNames() []string { return slices.Clone(j.Members.Names) }

// WorkloadOf returns the name of the workload that an endpoint is, or "".
func (j *Judge) WorkloadOf(p *membership.Endpoint) string {
	if p.Workload == paths.None {
		return ""
	}
	return j.Estate.Workloads[p.Workload].Name
}

// PublicationNames returns the names of the publications that can let flows in:
// those that are enabled, and whose exit is up and serves their segment. They
// are known by their place in the list.
func (j *Judge) PublicationNames() []string {
	names := make([]string, len(j.Publications))
	for i := range j.Publications {
		names[i] = j.Publications[i].Name
	}
	return names
}

// PublicationExit returns the exit of a publication.
func (j *Judge) PublicationExit(i int) int { return j.Publications[i].Exit }

// PublicationTerms returns what services a publication lets in.
func (j *Judge) PublicationTerms(i int) []estate.Term { return j.Publications[i].Services.Terms }

// PublishesIn reports whether a publication leads into a segment.
func (j *Judge) PublishesIn(i, segment int) bool { return j.Publications[i].Segment == segment }

// Publishes reports whether a publication leads to the endpoint (M7.6).
func (j *Judge) Publishes(i int, p *membership.Endpoint) bool {
	return p.Segment == j.Publications[i].Segment && j.Publications[i].To.Contains(p.Groups, true)
}

// Settings returns the sets of services that rules and publications have, and
// every named service: what tells services apart.
func (j *Judge) Settings() [][]estate.Term { return j.Sets }

// EachCut calls f for each prefix at whose bounds the groups or the paths of
// addresses may change, and the private ones (M2.3). Between two bounds only
// the workload can differ. Of prefixes that make homes it needs those that overlap one
// of within, and may leave out the others.
func (j *Judge) EachCut(within []netip.Prefix, f func(netip.Prefix)) {
	for s := range j.Net.Segments {
		for _, p := range within {
			j.Net.EachHomePrefixAt(s, p, f)
		}
	}
	for i := range j.Net.Networks {
		for _, r := range j.Net.Networks[i].Routes {
			f(r.To)
		}
	}
	for i := range j.Net.Subnets {
		f(j.Net.Subnets[i].Inside)
	}
	j.Net.EachFiltered(f)
	for p := range j.Members.ByPrefix.All() {
		f(p)
	}
	for _, p := range paths.PrivatePrefixes() {
		f(p)
	}
}

// EachCutAsSeen is EachCut, and calls f also for the prefixes by which other segments
// see those: what holds on one side of a share that shows its addresses under
// others is a bound on the other side too.
func (j *Judge) EachCutAsSeen(within []netip.Prefix, f func(netip.Prefix)) {
	if j.shown == nil {
		j.EachCut(within, f)
		return
	}
	known := map[netip.Prefix]bool{}
	var fresh []netip.Prefix
	put := func(p netip.Prefix) {
		if !known[p] {
			known[p] = true
			fresh = append(fresh, p)
			f(p)
		}
	}
	j.EachCut(paths.Everything(), put) // those elsewhere may be seen there
	j.EachShown(func(_, _ int, inside, outside netip.Prefix) {
		put(inside)
		put(outside)
	})
	for range 3 { // to the other side, back from there, and to a third
		last := fresh
		fresh = nil
		for _, p := range last {
			j.EachShown(func(_, _ int, inside, outside netip.Prefix) {
				if image, ok := (&estate.Translation{Inside: inside, Outside: outside}).Image(p); ok {
					put(image)
				}
				if image, ok := (&estate.Translation{Inside: outside, Outside: inside}).Image(p); ok {
					put(image)
				}
			})
		}
	}
}

// Place is where endpoints live that only their workloads tell apart.
type Place struct {
	Segment int
	Home    paths.Home
	base    []int
}

// PlaceOf returns the place of an address that has a home.
func (j *Judge) PlaceOf(segment int, home paths.Home, a netip.Addr) Place {
	p := membership.Endpoint{Addr: a, Segment: segment, Home: home, Workload: paths.None, Exit: paths.None}
	return Place{segment, home, lists.Sorted(j.Members.Base(&p, nil))}
}

// Base returns the groups that select every endpoint of the place, sorted.
func (p *Place) Base() []int { return p.base }

// At returns the endpoint of a place that is a workload, or paths.None for an
// address that none holds. Groups are those that In returned for it.
func (p *Place) At(a netip.Addr, workload int, groups []int) membership.Endpoint {
	return membership.Endpoint{Addr: a, Segment: p.Segment, Home: p.Home, Workload: workload, Exit: paths.None, Groups: groups}
}

// In returns the groups of the endpoints of a place that are a workload, or
// paths.None. It depends on the base of the place and the workload's label set alone.
func (j *Judge) In(p *Place, workload int) []int {
	if workload == paths.None {
		return j.Members.Within(p.base)
	}
	return j.Members.Within(merged(p.base, j.Members.ByLabelSet[j.LabelSet(workload)]))
}

// merged returns two sorted lists as one, each number once.
func merged(a, b []int) []int {
	out := make([]int, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0] < b[0]:
			out, a = append(out, a[0]), a[1:]
		case b[0] < a[0]:
			out, b = append(out, b[0]), b[1:]
		default:
			out, a, b = append(out, a[0]), a[1:], b[1:]
		}
	}
	return append(append(out, a...), b...)
}

// LabelSet returns the number of a workload's set of labels, from 0.
func (j *Judge) LabelSet(workload int) int { return int(j.Members.LabelSetOf[workload]) }

// EachHeld calls f for each address that a workload of a home holds in a range
// within it, in order, as the segment sees them.
func (j *Judge) EachHeld(home paths.Home, from, to netip.Addr, f func(a netip.Addr, workload int)) {
	list := j.Members.Holders[home.Network]
	from, to = j.Net.Inside(home, from), j.Net.Inside(home, to)
	i, _ := slices.BinarySearchFunc(list, from, func(h membership.Holding, a netip.Addr) int { return h.Addr.Compare(a) })
	for ; i < len(list) && list[i].Addr.Compare(to) <= 0; i++ {
		f(j.Net.Outside(home, list[i].Addr), list[i].Workload)
	}
}

// Reach is one way in which a share makes an endpoint reachable (M6.4).
type Reach struct {
	Share   string
	Segment int        // in which the endpoint becomes reachable
	Addr    netip.Addr // by which it does
}

// EachReach calls f for each share that makes an internal endpoint reachable in
// another segment, whether M6.4 forbids it or not.
func (j *Judge) EachReach(p *membership.Endpoint, f func(Reach)) {
	for _, i := range j.SharesOf[p.Segment] {
		s := &j.Shares[i]
		if s.Owner.Holds(p) {
			f(Reach{s.Name, s.Guest.Segment, j.SeenAs(p, s.Guest.Segment)})
		}
		if s.Guest.Holds(p) {
			f(Reach{s.Name, s.Owner.Segment, j.SeenAs(p, s.Owner.Segment)})
		}
	}
}

// EachOffer calls f for each side of a share that makes endpoints of a segment
// reachable in another: for each of its groups, or paths.None for "any".
func (j *Judge) EachOffer(segment int, f func(group, seenBy int)) {
	offer := func(p *SharedPart, seenBy int) {
		for _, g := range p.Side {
			f(g, seenBy)
		}
	}
	for _, i := range j.SharesOf[segment] {
		s := &j.Shares[i]
		if s.Owner.Segment == segment {
			offer(&s.Owner, s.Guest.Segment)
		}
		if s.Guest.Segment == segment {
			offer(&s.Guest, s.Owner.Segment)
		}
	}
}

// HoldsSide reports whether a side of a rule holds the endpoint; "any" holds
// every one.
func (j *Judge) HoldsSide(s estate.Side, p *membership.Endpoint) bool {
	if s.Any {
		return true
	}
	for _, name := range s.Groups {
		if g, ok := j.Members.Ids[name]; ok {
			if _, in := slices.BinarySearch(p.Groups, g); in {
				return true
			}
		}
	}
	return false
}
