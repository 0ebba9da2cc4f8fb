package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/membership"
	"bivium/core/paths"
)

// RuleSet is everything that may have a say about flows between two endpoints,
// whatever their service: who could speak, and what holds if nobody does. Two
// pairs of endpoints with equal keys have the same verdicts on every service, as far as
// rules go.
type RuleSet struct {
	byShares      bool          // shares decide, not policies
	defaultAction estate.Action // what holds if nobody speaks
	Policies      []matchCandidate
	Shares        []int
	rails         []int
	rulebooks     []rulebookMatches // of the pools that any of them inspects by
	unreleased    bool              // a flow from the internet that nothing publishes (M7.6)
}

// matchCandidate is a policy that may speak for one pair of its sides.
type matchCandidate struct {
	Policy int
	Sides  pair
}

// rulebookMatches is the rules of a pool's rulebook whose sides hold the endpoints.
type rulebookMatches struct {
	pool  int
	rules []int
}

// RuleSetOf returns the rule set towards flows from src to dst. Cost: the product of
// the numbers of their groups, in map look-ups.
func (j *Judge) RuleSetOf(src, dst *membership.Endpoint) RuleSet {
	var s RuleSet
	var pools []int
	add := func(rules []Rule) {
		for i := range rules {
			if rules[i].Pool != paths.None {
				pools = append(pools, rules[i].Pool)
			}
		}
	}
	s.defaultAction = estate.Deny
	switch {
	case src.Internal() && dst.Internal() && src.Segment != dst.Segment:
		s.byShares = true
		for _, i := range j.SharesOf[src.Segment] {
			if j.Shares[i].decides(src, dst) {
				s.Shares = append(s.Shares, i)
				add(j.Shares[i].Rules)
			}
		}
	default:
		segment := src.Segment
		if !src.Internal() {
			segment = dst.Segment
		}
		if src.Internal() && dst.Internal() {
			s.defaultAction = j.Defaults[segment]
		}
		j.eachSides(src, dst, func(sides pair) {
			for _, p := range j.bySides[sides] {
				if to := &j.Policies[p]; to.Segments == nil || to.Segments[segment] {
					s.Policies = append(s.Policies, matchCandidate{p, sides})
					add(to.Rules)
				}
			}
		})
	}
	for i := range j.Guardrails {
		r := &j.Guardrails[i]
		if r.Enabled && inScope(r.FromSegs, src) && inScope(r.ToSegs, dst) && r.From.Contains(src.Groups, true) && r.To.Contains(dst.Groups, true) {
			s.rails = append(s.rails, i)
			add(r.Rules)
		}
	}
	for _, p := range lists.Sorted(pools) {
		if b := j.Pools[p].Rulebook; b != paths.None {
			s.rulebooks = append(s.rulebooks, rulebookMatches{p, j.bookRules(b, src, dst)})
		}
	}
	return s
}

// eachSides calls f for each pair of sides that a policy may have so that it
// holds the two endpoints. "any" covers internal endpoints only (M4.2).
func (j *Judge) eachSides(src, dst *membership.Endpoint, f func(pair)) {
	froms, tos := sidesOf(src), sidesOf(dst)
	if len(froms)*len(tos) > len(j.pairs) { // deep nests: few of their pairs are in any policy
		for _, p := range j.pairs {
			if has(froms, p.From) && has(tos, p.To) {
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

func sidesOf(p *membership.Endpoint) []int {
	if p.Internal() {
		return append([]int{Anyone}, p.Groups...)
	}
	return p.Groups
}

// bookRules returns the rules of a rulebook whose sides hold the endpoints.
func (j *Judge) bookRules(b int, src, dst *membership.Endpoint) []int {
	var out []int
	for i := range j.Books[b].Rules {
		r := &j.Books[b].Rules[i]
		if r.From.Contains(src.Groups, true) && r.To.Contains(dst.Groups, true) {
			out = append(out, i)
		}
	}
	return out
}

// bookRule returns the first rule of the pool's rulebook that holds the
// endpoints and the service, or None (M8.5).
func (j *Judge) bookRule(s *RuleSet, pool int, q *Query) int {
	i := slices.IndexFunc(s.rulebooks, func(k rulebookMatches) bool { return k.pool == pool })
	for _, r := range s.rulebooks[i].rules {
		if j.Books[j.Pools[pool].Rulebook].Rules[r].in(q) {
			return r
		}
	}
	return paths.None
}
