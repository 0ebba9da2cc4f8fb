package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/membership"
	"bivium/core/paths"
)

// matchingPolicy is a policy that speaks on a flow for one pair of its sides (M4.3).
type matchingPolicy struct {
	Policy   int
	Sides    pair
	Rule     int
	By       int // the speaker that overrides it, by its place in the list, or None
	outvoted bool
}

// matchedRule is a guardrail or share that takes part, with its rule.
type matchedRule struct{ Which, Rule int }

// Intent is the intended verdict (M8.1) and everything that made it.
type Intent struct {
	Action    estate.Action
	Reason    Reason
	by        []int // policies, guardrails or shares, as reason says; sorted
	contested bool
	pools     []int // in the order in which they are to be passed
	Speakers  []matchingPolicy
	Rails     []matchedRule
	shares    []matchedRule
}

// intend returns the intended verdict on a service (M4–M6).
func (j *Judge) intend(s *RuleSet, q *Query) Intent {
	in := Intent{Action: s.defaultAction, Reason: ReasonDefault}
	switch {
	case s.unreleased:
		in.Reason = ReasonNoPath
	case s.byShares:
		in.Reason = ReasonNoShare
		j.applyShares(&in, s, q)
	default:
		j.applyPolicies(&in, s, q)
	}
	j.applyGuardrails(&in, s, q)
	return in
}

// applyPolicies decides by M4.
func (j *Judge) applyPolicies(in *Intent, s *RuleSet, q *Query) {
	for i, c := range s.Policies {
		if r := q.firstOf(PolicyTerm, c.Policy, j.Policies[c.Policy].Rules); r != paths.None {
			if in.Speakers == nil {
				in.Speakers = make([]matchingPolicy, 0, min(len(s.Policies)-i, 8))
			}
			in.Speakers = append(in.Speakers, matchingPolicy{Policy: c.Policy, Sides: c.Sides, Rule: r, By: paths.None})
		}
	}
	if len(in.Speakers) > 0 {
		j.dropOverridden(in.Speakers)
		j.resolve(in)
	}
}

// dropOverridden marks the speakers that another one overrides (M4.4).
func (j *Judge) dropOverridden(speakers []matchingPolicy) {
	for i := range speakers {
		for k := range speakers {
			if i != k && j.overrides(speakers[k].Sides, speakers[i].Sides) {
				speakers[i].By = k
				break
			}
		}
	}
}

// overrides reports whether sides a override sides b.
func (j *Judge) overrides(a, b pair) bool {
	from, to := j.narrower(a.From, b.From), j.narrower(a.To, b.To)
	return (from || a.From == b.From) && (to || a.To == b.To) && (from || to)
}

// narrower reports whether side a is narrower than side b.
func (j *Judge) narrower(a, b int) bool {
	if b == Anyone {
		return a != Anyone
	}
	return a != Anyone && j.Members.Ancestor(b, a)
}

// resolve lets the strictest of the speakers that none overrides win (M4.5).
func (j *Judge) resolve(in *Intent) {
	first := true
	for i := range in.Speakers {
		s := &in.Speakers[i]
		if s.By != paths.None {
			continue
		}
		action := j.Policies[s.Policy].Rules[s.Rule].Action
		switch {
		case first:
			in.Action, first = action, false
		case action != in.Action:
			in.contested = true
			if strictness(action) > strictness(in.Action) {
				in.Action = action
			}
		}
	}
	in.Reason = ReasonPolicy
	for i := range in.Speakers {
		s := &in.Speakers[i]
		if s.By != paths.None {
			continue
		}
		r := &j.Policies[s.Policy].Rules[s.Rule]
		if r.Action != in.Action {
			s.outvoted = true
			continue
		}
		in.by = append(in.by, s.Policy)
		if in.Action == estate.Inspect && r.Pool != paths.None {
			in.pools = append(in.pools, r.Pool)
		}
	}
	in.by, in.pools = lists.Sorted(in.by), lists.Sorted(in.pools)
}

// applyShares decides by M6.
func (j *Judge) applyShares(in *Intent, s *RuleSet, q *Query) {
	for _, i := range s.Shares {
		if r := q.firstOf(ShareTerm, i, j.Shares[i].Rules); r != paths.None {
			in.shares = append(in.shares, matchedRule{i, r})
		}
	}
	if len(in.shares) == 0 {
		return
	}
	in.Reason = ReasonShare
	in.Action = estate.Allow
	for _, v := range in.shares {
		if action := j.Shares[v.Which].Rules[v.Rule].Action; strictness(action) > strictness(in.Action) {
			in.Action = action
		}
	}
	for _, v := range in.shares {
		r := &j.Shares[v.Which].Rules[v.Rule]
		if r.Action != in.Action {
			continue
		}
		in.by = append(in.by, v.Which)
		if in.Action == estate.Inspect && r.Pool != paths.None {
			in.pools = append(in.pools, r.Pool)
		}
	}
	in.pools = lists.Sorted(in.pools)
}

// decides reports whether the sides of the share hold the endpoints in a
// direction that it allows (M6.2).
func (s *Share) decides(src, dst *membership.Endpoint) bool {
	return s.Guest.Holds(src) && s.Owner.Holds(dst) || s.Both && s.Owner.Holds(src) && s.Guest.Holds(dst)
}

func (p *SharedPart) Holds(e *membership.Endpoint) bool {
	return e.Segment == p.Segment && p.Side.Contains(e.Groups, true)
}

// applyGuardrails combines the verdict with the guardrails (M5).
func (j *Judge) applyGuardrails(in *Intent, s *RuleSet, q *Query) {
	strictest := estate.Allow
	for _, i := range s.rails {
		r := &j.Guardrails[i]
		k := q.firstOf(GuardrailTerm, i, r.Rules)
		if k == paths.None {
			continue
		}
		in.Rails = append(in.Rails, matchedRule{i, k})
		if a := r.Rules[k].Action; strictness(a) > strictness(strictest) {
			strictest = a
		}
	}
	if strictness(strictest) > strictness(in.Action) {
		in.Action, in.Reason, in.by, in.pools = strictest, ReasonGuardrail, nil, nil
		for _, v := range in.Rails {
			if j.Guardrails[v.Which].Rules[v.Rule].Action == strictest {
				in.by = append(in.by, v.Which)
			}
		}
	}
	if in.Action == estate.Inspect {
		in.pools = j.railPools(in)
	}
}

// railPools returns the pools of the guardrails in order of name, and after
// them those that the verdict itself names and that are not yet passed (M5.2).
func (j *Judge) railPools(in *Intent) []int {
	var pools []int
	for _, v := range in.Rails {
		if r := &j.Guardrails[v.Which].Rules[v.Rule]; r.Action == estate.Inspect && r.Pool != paths.None {
			pools = append(pools, r.Pool)
		}
	}
	pools = lists.Sorted(pools)
	for _, p := range in.pools {
		if !slices.Contains(pools, p) {
			pools = append(pools, p)
		}
	}
	return pools
}

func inScope(scope []bool, p *membership.Endpoint) bool {
	if scope == nil {
		return true
	}
	return p.Internal() && scope[p.Segment]
}
