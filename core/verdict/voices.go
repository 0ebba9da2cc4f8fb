package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Outside is the domain of external endpoints; the domains inside are the
// segments, by number.
const Outside = paths.None

// VoiceKind is the sort of a voice.
type VoiceKind uint8

// The kinds of voices.
const (
	PolicyVoice VoiceKind = iota
	ShareVoice
	RailVoice
	BookVoice
)

// Voice is one thing that has a say about the flows between the endpoints that
// its two sides hold: a policy for one pair of its sides, a share in one
// direction, a guardrail, or one rule of a rulebook. Voices can be compared.
type Voice struct {
	Kind     VoiceKind
	Which    int // number of the policy, share, guardrail or rulebook
	Rule     int // of a rulebook
	From, To int // sides of a policy
}

// VoicesBetween returns all voices that some flows from one domain to another
// may have, in an order that depends on nothing else. Rulebooks are those of
// the pools that the other voices inspect by.
func (j *Judge) VoicesBetween(from, to int) []Voice {
	var voices []Voice
	pools := make([]bool, len(j.pools))
	add := func(rules []rule) {
		for i := range rules {
			if rules[i].pool != paths.None {
				pools[rules[i].pool] = true
			}
		}
	}
	if from != Outside && to != Outside && from != to {
		for _, i := range j.sharesOf[from] {
			s := &j.shares[i]
			if s.guest.segment == from && s.owner.segment == to || s.both && s.owner.segment == from && s.guest.segment == to {
				voices = append(voices, Voice{Kind: ShareVoice, Which: i})
				add(s.rules)
			}
		}
	} else {
		voices = j.policyVoices(from, to, add)
	}
	for i := range j.rails {
		r := &j.rails[i]
		if r.enabled && scopeHolds(r.fromSegs, from) && scopeHolds(r.toSegs, to) {
			voices = append(voices, Voice{Kind: RailVoice, Which: i})
			add(r.rules)
		}
	}
	books := make([]bool, len(j.books))
	for p, used := range pools {
		if b := j.pools[p].rulebook; used && b != paths.None {
			books[b] = true
		}
	}
	for b, used := range books {
		for r := range j.books[b].rules {
			if used {
				voices = append(voices, Voice{Kind: BookVoice, Which: b, Rule: r})
			}
		}
	}
	return voices
}

// policyVoices returns the policies' voices within a segment, or between it and
// the internet; "any" is nobody outside (M4.2).
func (j *Judge) policyVoices(from, to int, add func([]rule)) []Voice {
	segment := from
	if from == Outside {
		segment = to
	}
	var voices []Voice
	for _, i := range j.policiesOf[segment] {
		p := &j.policies[i]
		used := false
		for _, f := range p.from {
			for _, t := range p.to {
				if f == anyone && from == Outside || t == anyone && to == Outside {
					continue
				}
				voices = append(voices, Voice{PolicyVoice, i, 0, f, t})
				used = true
			}
		}
		if used {
			add(p.rules)
		}
	}
	slices.SortFunc(voices, compareVoices)
	return slices.Compact(voices)
}

func compareVoices(v, w Voice) int {
	for _, d := range [...]int{int(v.Kind) - int(w.Kind), v.From - w.From, v.To - w.To, v.Which - w.Which, v.Rule - w.Rule} {
		if d != 0 {
			return d
		}
	}
	return 0
}

func scopeHolds(scope []bool, domain int) bool {
	return scope == nil || domain != Outside && scope[domain]
}

// SidesOf returns the groups of either side of a voice on flows from a domain;
// nil stands for everyone there, an empty side for nobody. They must not be
// changed.
func (j *Judge) SidesOf(v Voice, from int) (src, dst []int) {
	of := func(s side) []int {
		if slices.Contains(s, anyone) {
			return nil
		}
		return append(make([]int, 0, len(s)), s...)
	}
	one := func(g int) []int { return of(side{g}) }
	switch v.Kind {
	case PolicyVoice:
		return one(v.From), one(v.To)
	case ShareVoice:
		s := &j.shares[v.Which]
		if s.guest.segment == from {
			return of(s.guest.side), of(s.owner.side)
		}
		return of(s.owner.side), of(s.guest.side)
	case RailVoice:
		return of(j.rails[v.Which].from), of(j.rails[v.Which].to)
	}
	r := &j.books[v.Which].rules[v.Rule]
	return of(r.from), of(r.to)
}

// Context is what holds between two domains if nobody speaks. Contexts can be
// compared.
type Context struct {
	byShares   bool
	silence    estate.Action
	unreleased bool
}

// Key returns a byte that is equal for equal contexts.
func (c Context) Key() byte {
	key := byte(strictness(c.silence))
	if c.byShares {
		key |= 4
	}
	if c.unreleased {
		key |= 8
	}
	return key
}

// ContextOf returns the context of flows from one domain to another.
func (j *Judge) ContextOf(from, to int) Context {
	c := Context{silence: estate.Deny, byShares: from != Outside && to != Outside && from != to}
	if from == to && from != Outside {
		c.silence = j.defaults[from]
	}
	return c
}

// Unpublished is the context of flows from the internet that nothing publishes
// (M7.6).
func Unpublished() Context { return Context{silence: estate.Deny, unreleased: true} }

// StanceOf returns the stance for which exactly these voices, in the order of
// VoicesBetween, hold both ends.
func (j *Judge) StanceOf(c Context, voices []Voice) Stance {
	s := Stance{silence: c.silence, byShares: c.byShares, unreleased: c.unreleased}
	var pools []int
	add := func(rules []rule) {
		for i := range rules {
			if rules[i].pool != paths.None {
				pools = append(pools, rules[i].pool)
			}
		}
	}
	for _, v := range voices {
		switch v.Kind {
		case PolicyVoice:
			s.policies = append(s.policies, candidate{v.Which, pair{v.From, v.To}})
			add(j.policies[v.Which].rules)
		case ShareVoice:
			s.shares = append(s.shares, v.Which)
			add(j.shares[v.Which].rules)
		case RailVoice:
			s.rails = append(s.rails, v.Which)
			add(j.rails[v.Which].rules)
		}
	}
	for _, p := range sorted(pools) {
		if b := j.pools[p].rulebook; b != paths.None {
			book := bookStance{pool: p}
			for _, v := range voices {
				if v.Kind == BookVoice && v.Which == b {
					book.rules = append(book.rules, v.Rule)
				}
			}
			s.rulebooks = append(s.rulebooks, book)
		}
	}
	return s
}
