package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Stance is everything that may have a say about flows between two endpoints,
// whatever their service: who could speak, and what holds if nobody does. Two
// pairs of endpoints with equal keys fare alike on every service, as far as
// rules go.
type Stance struct {
	byShares   bool          // shares decide, not policies
	silence    estate.Action // what holds if nobody speaks
	policies   []candidate
	shares     []int
	rails      []int
	rulebooks  []bookStance // of the pools that any of them inspects by
	unreleased bool         // a flow from the internet that nothing publishes (M7.6)
}

// candidate is a policy that may speak for one pair of its sides.
type candidate struct {
	policy int
	sides  pair
}

// bookStance is the rules of a pool's rulebook whose sides hold the endpoints.
type bookStance struct {
	pool  int
	rules []int
}

// Stance returns the stance towards flows from src to dst. Cost: the product of
// the numbers of their groups, in map look-ups.
func (j *Judge) Stance(src, dst *Endpoint) Stance {
	var s Stance
	var pools []int
	add := func(rules []rule) {
		for i := range rules {
			if rules[i].pool != paths.None {
				pools = append(pools, rules[i].pool)
			}
		}
	}
	s.silence = estate.Deny
	switch {
	case src.Internal() && dst.Internal() && src.Segment != dst.Segment:
		s.byShares = true
		for _, i := range j.sharesOf[src.Segment] {
			if j.shares[i].decides(src, dst) {
				s.shares = append(s.shares, i)
				add(j.shares[i].rules)
			}
		}
	default:
		segment := src.Segment
		if !src.Internal() {
			segment = dst.Segment
		}
		if src.Internal() && dst.Internal() {
			s.silence = j.defaults[segment]
		}
		j.eachSides(src, dst, func(sides pair) {
			for _, p := range j.bySides[sides] {
				if to := &j.policies[p]; to.segments == nil || to.segments[segment] {
					s.policies = append(s.policies, candidate{p, sides})
					add(to.rules)
				}
			}
		})
	}
	for i := range j.rails {
		r := &j.rails[i]
		if r.enabled && inScope(r.fromSegs, src) && inScope(r.toSegs, dst) && r.from.contains(src.groups, true) && r.to.contains(dst.groups, true) {
			s.rails = append(s.rails, i)
			add(r.rules)
		}
	}
	for _, p := range sorted(pools) {
		if b := j.pools[p].rulebook; b != paths.None {
			s.rulebooks = append(s.rulebooks, bookStance{p, j.bookRules(b, src, dst)})
		}
	}
	return s
}

// eachSides calls f for each pair of sides that a policy may have so that it
// holds the two endpoints. "any" covers internal endpoints only (M4.2).
func (j *Judge) eachSides(src, dst *Endpoint, f func(pair)) {
	froms, tos := sidesOf(src), sidesOf(dst)
	if len(froms)*len(tos) > len(j.pairs) { // deep nests: few of their pairs are in any policy
		for _, p := range j.pairs {
			if has(froms, p.from) && has(tos, p.to) {
				f(p)
			}
		}
		return
	}
	for _, a := range froms {
		for _, b := range tos {
			f(pair{a, b})
		}
	}
}

func has(sorted []int, n int) bool {
	_, ok := slices.BinarySearch(sorted, n)
	return ok
}

func sidesOf(p *Endpoint) []int {
	if p.Internal() {
		return append([]int{anyone}, p.groups...)
	}
	return p.groups
}

// bookRules returns the rules of a rulebook whose sides hold the endpoints.
func (j *Judge) bookRules(b int, src, dst *Endpoint) []int {
	var out []int
	for i := range j.books[b].rules {
		r := &j.books[b].rules[i]
		if r.from.contains(src.groups, true) && r.to.contains(dst.groups, true) {
			out = append(out, i)
		}
	}
	return out
}

// bookRule returns the first rule of the pool's rulebook that holds the
// endpoints and the service, or None (M8.5).
func (j *Judge) bookRule(s *Stance, pool int, q *query) int {
	i := slices.IndexFunc(s.rulebooks, func(k bookStance) bool { return k.pool == pool })
	for _, r := range s.rulebooks[i].rules {
		if j.books[j.pools[pool].rulebook].rules[r].in(q) {
			return r
		}
	}
	return paths.None
}
