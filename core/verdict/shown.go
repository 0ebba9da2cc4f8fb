package verdict

import (
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"bivium/core/estate"
)

// shown is what one segment sees of another under other addresses (S1): outside by
// inside prefix, and inside by outside prefix.
type shown struct{ out, in bart.Table[netip.Prefix] }

// compileShown finds what segments see of each other, by the segment that is seen
// and the one that sees.
func (j *Judge) compileShown(e *estate.Estate) {
	for i := range e.Shares {
		s := &e.Shares[i]
		owner, guest := j.net.Segment(s.Owner.Segment), j.net.Segment(s.Guest.Segment)
		for _, t := range s.Show {
			of, to := owner, guest
			if t.Segment == s.Guest.Segment {
				of, to = guest, owner
			}
			if !s.Enabled || of < 0 || to < 0 || of == to || !t.Sound() || j.net.Segment(t.Segment) != of {
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

// SeenAs returns the address by which a segment sees an endpoint that a share makes
// reachable there: its own, unless shares show it under another (S2).
func (j *Judge) SeenAs(p *Endpoint, segment int) netip.Addr {
	if j.shown == nil || !p.Internal() || p.Segment == segment {
		return p.Addr
	}
	if s := j.shown[[2]int{p.Segment, segment}]; s != nil {
		if outside, ok := s.out.Lookup(p.Addr); ok {
			return estate.Rebase(p.Addr, outside)
		}
	}
	return p.Addr
}

// ownOf returns the address that an endpoint of a segment has there which another
// segment would see as the given one, and false if it sees none by it.
func (j *Judge) ownOf(of, segment int, a netip.Addr) (netip.Addr, bool) {
	if j.shown == nil {
		return a, true
	}
	s := j.shown[[2]int{of, segment}]
	if s == nil {
		return a, true
	}
	if inside, ok := s.in.Lookup(a); ok {
		return estate.Rebase(a, inside), true
	}
	_, under := s.out.Lookup(a) // seen by another address alone
	return a, !under
}

// EachSeenAs calls f for each share that makes an endpoint of a segment reachable in
// another one by the given address, whether M6.4 forbids it or not.
func (j *Judge) EachSeenAs(of int, a netip.Addr, f func(*Endpoint, Reach)) {
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
