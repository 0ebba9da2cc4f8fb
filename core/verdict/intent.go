package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// speaker is a policy that speaks on a flow for one pair of its sides (M4.3).
type speaker struct {
	policy   int
	sides    pair
	rule     int
	by       int // the speaker that overrides it, by its place in the list, or None
	outvoted bool
}

// voice is a guardrail or share that takes part, with its rule.
type voice struct{ which, rule int }

// intent is the intended verdict (M8.1) and everything that made it.
type intent struct {
	action    estate.Action
	reason    Reason
	by        []int // policies, guardrails or shares, as reason says; sorted
	contested bool
	pools     []int // in the order in which they are to be passed
	speakers  []speaker
	rails     []voice
	shares    []voice
}

// intend returns the intended verdict on a service (M4–M6).
func (j *Judge) intend(s *Stance, q *query) intent {
	in := intent{action: s.silence, reason: ReasonDefault}
	switch {
	case s.unreleased:
		in.reason = ReasonNoPath
	case s.byShares:
		in.reason = ReasonNoShare
		j.sharesSpeak(&in, s, q)
	default:
		j.policiesSpeak(&in, s, q)
	}
	j.railsSpeak(&in, s, q)
	return in
}

// policiesSpeak decides by M4.
func (j *Judge) policiesSpeak(in *intent, s *Stance, q *query) {
	for i, c := range s.policies {
		if r := q.firstOf(PolicyVoice, c.policy, j.policies[c.policy].rules); r != paths.None {
			if in.speakers == nil {
				in.speakers = make([]speaker, 0, min(len(s.policies)-i, 8))
			}
			in.speakers = append(in.speakers, speaker{policy: c.policy, sides: c.sides, rule: r, by: paths.None})
		}
	}
	if len(in.speakers) > 0 {
		j.override(in.speakers)
		j.outvote(in)
	}
}

// override marks the speakers that another one overrides (M4.4).
func (j *Judge) override(speakers []speaker) {
	for i := range speakers {
		for k := range speakers {
			if i != k && j.overrides(speakers[k].sides, speakers[i].sides) {
				speakers[i].by = k
				break
			}
		}
	}
}

// overrides reports whether sides a override sides b.
func (j *Judge) overrides(a, b pair) bool {
	from, to := j.narrower(a.from, b.from), j.narrower(a.to, b.to)
	return (from || a.from == b.from) && (to || a.to == b.to) && (from || to)
}

// narrower reports whether side a is narrower than side b.
func (j *Judge) narrower(a, b int) bool {
	if b == anyone {
		return a != anyone
	}
	return a != anyone && j.members.ancestor(b, a)
}

// outvote lets the strictest of the speakers that none overrides win (M4.5).
func (j *Judge) outvote(in *intent) {
	first := true
	for i := range in.speakers {
		s := &in.speakers[i]
		if s.by != paths.None {
			continue
		}
		action := j.policies[s.policy].rules[s.rule].action
		switch {
		case first:
			in.action, first = action, false
		case action != in.action:
			in.contested = true
			if strictness(action) > strictness(in.action) {
				in.action = action
			}
		}
	}
	in.reason = ReasonPolicy
	for i := range in.speakers {
		s := &in.speakers[i]
		if s.by != paths.None {
			continue
		}
		r := &j.policies[s.policy].rules[s.rule]
		if r.action != in.action {
			s.outvoted = true
			continue
		}
		in.by = append(in.by, s.policy)
		if in.action == estate.Inspect && r.pool != paths.None {
			in.pools = append(in.pools, r.pool)
		}
	}
	in.by, in.pools = sorted(in.by), sorted(in.pools)
}

func sorted(s []int) []int {
	slices.Sort(s)
	return slices.Compact(s)
}

// sharesSpeak decides by M6.
func (j *Judge) sharesSpeak(in *intent, s *Stance, q *query) {
	for _, i := range s.shares {
		if r := q.firstOf(ShareVoice, i, j.shares[i].rules); r != paths.None {
			in.shares = append(in.shares, voice{i, r})
		}
	}
	if len(in.shares) == 0 {
		return
	}
	in.reason = ReasonShare
	in.action = estate.Allow
	for _, v := range in.shares {
		if action := j.shares[v.which].rules[v.rule].action; strictness(action) > strictness(in.action) {
			in.action = action
		}
	}
	for _, v := range in.shares {
		r := &j.shares[v.which].rules[v.rule]
		if r.action != in.action {
			continue
		}
		in.by = append(in.by, v.which)
		if in.action == estate.Inspect && r.pool != paths.None {
			in.pools = append(in.pools, r.pool)
		}
	}
	in.pools = sorted(in.pools)
}

// decides reports whether the sides of the share hold the endpoints in a
// direction that it allows (M6.2).
func (s *share) decides(src, dst *Endpoint) bool {
	return s.guest.holds(src) && s.owner.holds(dst) || s.both && s.owner.holds(src) && s.guest.holds(dst)
}

func (p *sharedPart) holds(e *Endpoint) bool {
	return e.Segment == p.segment && p.side.contains(e.groups, true)
}

// railsSpeak combines the verdict with the guardrails (M5).
func (j *Judge) railsSpeak(in *intent, s *Stance, q *query) {
	strictest := estate.Allow
	for _, i := range s.rails {
		r := &j.rails[i]
		k := q.firstOf(RailVoice, i, r.rules)
		if k == paths.None {
			continue
		}
		in.rails = append(in.rails, voice{i, k})
		if a := r.rules[k].action; strictness(a) > strictness(strictest) {
			strictest = a
		}
	}
	if strictness(strictest) > strictness(in.action) {
		in.action, in.reason, in.by, in.pools = strictest, ReasonGuardrail, nil, nil
		for _, v := range in.rails {
			if j.rails[v.which].rules[v.rule].action == strictest {
				in.by = append(in.by, v.which)
			}
		}
	}
	if in.action == estate.Inspect {
		in.pools = j.railPools(in)
	}
}

// railPools returns the pools of the guardrails in order of name, and after
// them those that the verdict itself names and that are not yet passed (M5.2).
func (j *Judge) railPools(in *intent) []int {
	var pools []int
	for _, v := range in.rails {
		if r := &j.rails[v.which].rules[v.rule]; r.action == estate.Inspect && r.pool != paths.None {
			pools = append(pools, r.pool)
		}
	}
	pools = sorted(pools)
	for _, p := range in.pools {
		if !slices.Contains(pools, p) {
			pools = append(pools, p)
		}
	}
	return pools
}

func inScope(scope []bool, p *Endpoint) bool {
	if scope == nil {
		return true
	}
	return p.Internal() && scope[p.Segment]
}
