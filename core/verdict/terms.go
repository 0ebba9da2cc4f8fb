package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/paths"
)

// Outside is the domain of external endpoints; the domains inside are the
// segments, by number.
const Outside = paths.None

// TermKind is the sort of a term.
type TermKind uint8

// The kinds of terms.
const (
	PolicyTerm TermKind = iota
	ShareTerm
	GuardrailTerm
	RulebookTerm
)

// Term is one thing that has a say about the flows between the endpoints that
// its two sides hold: a policy for one pair of its sides, a share in one
// direction, a guardrail, or one rule of a rulebook. Voices can be compared.
type Term struct {
	Kind     TermKind
	Which    int // number of the policy, share, guardrail or rulebook
	Rule     int // of a rulebook
	From, To int // sides of a policy
}

// TermsBetween returns all terms that some flows from one domain to another
// may have, in an order that depends on nothing else. Rulebooks are those of
// the pools that the other terms inspect by.
func (j *Judge) TermsBetween(from, to int) []Term {
	var terms []Term
	pools := make([]bool, len(j.Pools))
	add := func(rules []Rule) {
		for i := range rules {
			if rules[i].Pool != paths.None {
				pools[rules[i].Pool] = true
			}
		}
	}
	if from != Outside && to != Outside && from != to {
		for _, i := range j.SharesOf[from] {
			s := &j.Shares[i]
			if s.Guest.Segment == from && s.Owner.Segment == to || s.Both && s.Owner.Segment == from && s.Guest.Segment == to {
				terms = append(terms, Term{Kind: ShareTerm, Which: i})
				add(s.Rules)
			}
		}
	} else {
		terms = j.policyTerms(from, to, add)
	}
	for i := range j.Guardrails {
		r := &j.Guardrails[i]
		if r.Enabled && scopeHolds(r.FromSegs, from) && scopeHolds(r.ToSegs, to) {
			terms = append(terms, Term{Kind: GuardrailTerm, Which: i})
			add(r.Rules)
		}
	}
	books := make([]bool, len(j.Books))
	for p, used := range pools {
		if b := j.Pools[p].Rulebook; used && b != paths.None {
			books[b] = true
		}
	}
	for b, used := range books {
		for r := range j.Books[b].Rules {
			if used {
				terms = append(terms, Term{Kind: RulebookTerm, Which: b, Rule: r})
			}
		}
	}
	return terms
}

// policyTerms returns the policies' terms within a segment, or between it and
// the internet; "any" is nobody outside (M4.2).
func (j *Judge) policyTerms(from, to int, add func([]Rule)) []Term {
	segment := from
	if from == Outside {
		segment = to
	}
	var terms []Term
	for _, i := range j.policiesOf[segment] {
		p := &j.Policies[i]
		used := false
		for _, f := range p.From {
			for _, t := range p.To {
				if f == Anyone && from == Outside || t == Anyone && to == Outside {
					continue
				}
				terms = append(terms, Term{PolicyTerm, i, 0, f, t})
				used = true
			}
		}
		if used {
			add(p.Rules)
		}
	}
	slices.SortFunc(terms, compareTerms)
	return slices.Compact(terms)
}

func compareTerms(v, w Term) int {
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

// SidesOf returns the groups of either side of a term on flows from a domain;
// nil stands for everyone there, an empty side for nobody. They must not be
// changed.
func (j *Judge) SidesOf(v Term, from int) (src, dst []int) {
	of := func(s Side) []int {
		if slices.Contains(s, Anyone) {
			return nil
		}
		return append(make([]int, 0, len(s)), s...)
	}
	one := func(g int) []int { return of(Side{g}) }
	switch v.Kind {
	case PolicyTerm:
		return one(v.From), one(v.To)
	case ShareTerm:
		s := &j.Shares[v.Which]
		if s.Guest.Segment == from {
			return of(s.Guest.Side), of(s.Owner.Side)
		}
		return of(s.Owner.Side), of(s.Guest.Side)
	case GuardrailTerm:
		return of(j.Guardrails[v.Which].From), of(j.Guardrails[v.Which].To)
	}
	r := &j.Books[v.Which].Rules[v.Rule]
	return of(r.From), of(r.To)
}

// Context is what holds between two domains if nobody speaks. Contexts can be
// compared.
type Context struct {
	byShares      bool
	defaultAction estate.Action
	unreleased    bool
}

// Key returns a byte that is equal for equal contexts.
func (c Context) Key() byte {
	key := byte(strictness(c.defaultAction))
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
	c := Context{defaultAction: estate.Deny, byShares: from != Outside && to != Outside && from != to}
	if from == to && from != Outside {
		c.defaultAction = j.Defaults[from]
	}
	return c
}

// Unpublished is the context of flows from the internet that nothing publishes
// (M7.6).
func Unpublished() Context { return Context{defaultAction: estate.Deny, unreleased: true} }

// RuleSetOfTerms returns the rule set for which exactly these terms, in the order of
// TermsBetween, hold both ends.
func (j *Judge) RuleSetOfTerms(c Context, terms []Term) RuleSet {
	s := RuleSet{defaultAction: c.defaultAction, byShares: c.byShares, unreleased: c.unreleased}
	var pools []int
	add := func(rules []Rule) {
		for i := range rules {
			if rules[i].Pool != paths.None {
				pools = append(pools, rules[i].Pool)
			}
		}
	}
	for _, v := range terms {
		switch v.Kind {
		case PolicyTerm:
			s.Policies = append(s.Policies, matchCandidate{v.Which, pair{v.From, v.To}})
			add(j.Policies[v.Which].Rules)
		case ShareTerm:
			s.Shares = append(s.Shares, v.Which)
			add(j.Shares[v.Which].Rules)
		case GuardrailTerm:
			s.rails = append(s.rails, v.Which)
			add(j.Guardrails[v.Which].Rules)
		}
	}
	for _, p := range lists.Sorted(pools) {
		if b := j.Pools[p].Rulebook; b != paths.None {
			book := rulebookMatches{pool: p}
			for _, v := range terms {
				if v.Kind == RulebookTerm && v.Which == b {
					book.rules = append(book.rules, v.Rule)
				}
			}
			s.rulebooks = append(s.rulebooks, book)
		}
	}
	return s
}

// Joins reports whether a share joins two segments.
func (j *Judge) Joins(share, a, b int) bool {
	s := &j.Shares[share]
	return s.Enabled && (s.Owner.Segment == a && s.Guest.Segment == b || s.Owner.Segment == b && s.Guest.Segment == a)
}

// Serves reports whether a policy of a revision serves a segment; one that the
// judge does not know yet serves none.
func (j *Judge) Serves(policy, segment int) bool {
	return policy < len(j.Policies) && (j.Policies[policy].Segments == nil || j.Policies[policy].Segments[segment])
}
