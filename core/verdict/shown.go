package verdict

import (
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"bivium/core/estate"
	"bivium/core/membership"
)

// shown is what one segment sees of another under other addresses (M14.1): outside by
// inside prefix, and inside by outside prefix.
type shown struct{ out, in bart.Table[netip.Prefix] }

// compileShown finds what segments see of each other, by the segment that is seen
// and the one that sees.
func (j *Judge) compileShown(e *estate.Estate) {
	for i := range e.Shares {
		s := &e.Shares[i]
		owner, guest := j.Net.Segment(s.Owner.Segment), j.Net.Segment(s.Guest.Segment)
		for _, t := range s.Show {
			of, to := owner, guest
			if t.Segment == s.Guest.Segment {
				of, to = guest, owner
			}
			if !s.Active() || of < 0 || to < 0 || of == to || !t.Sound() || j.Net.Segment(t.Segment) != of {
				continue
			}
			if j.shown == nil {
				j.shown = map[[2]int]*shown{}
			}
			at := j.shown[[2]int{of, to}]
			if at == nil {
				at = &shown{}
				j.shown[[2]int{of, to}] = at
			}
			at.out.Insert(t.Inside, t.Outside)
			at.in.Insert(t.Outside, t.Inside)
		}
	}
}

// SeenAs returns the address by which a segment sees an endpoint: its own, unless an
// enabled share makes it reachable there and shares show it under another (M14.2).
func (j *Judge) SeenAs(p *membership.Endpoint, segment int) netip.Addr {
	if j.shown == nil || !p.Internal() || p.Segment == segment {
		return p.Addr
	}
	if s := j.shown[[2]int{p.Segment, segment}]; s != nil {
		if outside, ok := s.out.Lookup(p.Addr); ok && j.reaches(p, segment) {
			return estate.Rebase(p.Addr, outside)
		}
	}
	return p.Addr
}

// reaches reports whether an enabled share makes an endpoint of another segment reachable
// in a segment (M6.4).
func (j *Judge) reaches(p *membership.Endpoint, segment int) bool {
	for _, i := range j.SharesOf[segment] {
		s := &j.Shares[i]
		for _, sides := range [2][2]*SharedPart{{&s.Owner, &s.Guest}, {&s.Guest, &s.Owner}} {
			if far, near := sides[0], sides[1]; near.Segment == segment && far.Holds(p) {
				return true
			}
		}
	}
	return false
}

// ownOf returns the addresses that endpoints of a segment have there which another segment
// would see as the given one: at most one that is shown by it, and the address itself unless
// that is shown (M14.2).
func (j *Judge) ownOf(of, segment int, a netip.Addr) (own [2]netip.Addr, count int) {
	var s *shown
	if j.shown != nil {
		s = j.shown[[2]int{of, segment}]
	}
	if s == nil {
		return [2]netip.Addr{a}, 1
	}
	if inside, ok := s.in.Lookup(a); ok {
		own[count], count = estate.Rebase(a, inside), count+1
	}
	if _, under := s.out.Lookup(a); !under {
		own[count], count = a, count+1
	}
	return own, count
}

// EachSeenAs calls f for each share that makes an endpoint of a segment reachable in
// another one by the given address, whether M6.4 forbids it or not.
func (j *Judge) EachSeenAs(of int, a netip.Addr, f func(*membership.Endpoint, Reach)) {
	own := []netip.Addr{a}
	for at, s := range j.shown {
		if at[0] != of {
			continue
		}
		if inside, ok := s.in.Lookup(a); ok {
			own = append(own, estate.Rebase(a, inside))
		}
	}
	slices.SortFunc(own, netip.Addr.Compare)
	for _, x := range slices.Compact(own) {
		if p, ok := j.Internal(of, x); ok {
			j.EachReach(&p, func(r Reach) {
				if r.Addr == a {
					f(&p, r)
				}
			})
		}
	}
}

// EachOwn calls f for each address, and its segment, that shares show to a segment
// as the given one.
func (j *Judge) EachOwn(segment int, a netip.Addr, f func(of int, own netip.Addr)) {
	for at, s := range j.shown {
		if inside, ok := s.in.Lookup(a); ok && at[1] == segment {
			f(at[0], estate.Rebase(a, inside))
		}
	}
}

// Shows reports whether shares show some address under another.
func (j *Judge) Shows() bool { return j.shown != nil }

// EachShown calls f for each prefix that one segment sees under another.
func (j *Judge) EachShown(f func(of, to int, inside, outside netip.Prefix)) {
	for at, s := range j.shown {
		for inside, outside := range s.out.All() {
			f(at[0], at[1], inside, outside)
		}
	}
}
