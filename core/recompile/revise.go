// Package recompile compiles an edited estate from a judge of the estate before it: it
// compiles anew what the edit touches, shares the rest, and tells in a Revision what became
// different. Where hubs, segments, networks, exits, pools or rulebooks come or go, numbers
// change: a Bridge then leads from one numbering to the other.
package recompile

import (
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/verdict"
)

// Revision is what a revised judge has anew, by number. What it does not list is
// as it was.
type Revision struct {
	Whole  bool    // nothing is known to be as it was
	Bridge *Bridge // whose judges the rest tells of, where numbers differ; or nil

	// Who may say something else than before, or to others.
	Policies, Rails, Shares, Books []int
	TermsChanged                   bool // contexts, and terms between any two domains, may differ
	Renumbered                     bool // sets of services may have other numbers

	// Where paths may go, or may be had, otherwise.
	Networks []int // of these networks, and of what they are peered with
	Ways     bool  // of all
	Links    bool  // because hubs are linked otherwise
	Gates    bool  // publications may let in others

	// Which endpoints may be others than before: in other groups, in other networks,
	// or seen otherwise by other segments. See also Offers.
	Touched []netip.Prefix
	Outside bool // external ones too
	offers  []verdict.SharedPart

	// The numbers that things have now, by the numbers that they had; nil for the same.
	Workloads, Subnets []int
}

// Revise returns the judge of e, an edit of the estate of j, and what it has
// anew. Where an edit only changes policies, adds some or removes some, or rules of
// shares, nothing else is compiled again; else what an edit leaves alone is, but for nets
// and groups. That takes slices of e that are those of j's estate wherever nothing
// changed. Where something comes or goes by which others are numbered, the revision
// tells of the judges of a bridge. Policies, guardrails, shares and groups keep their numbers for good: one
// that is gone says nothing and holds nobody, and one that is new gets the next. Cost:
// the number of policies, or that of New and of comparing the two judges.
func Revise(j *verdict.Judge, e *estate.Estate) (*verdict.Judge, Revision) {
	shares, ruled := sharesRuledOtherwise(j, e)
	if !ruled {
		next := verdict.Compile(e, j.Numbers, j)
		if !sameNames(j, next) {
			return next, bridge(j, next)
		}
		return next, revisionTo(j, next)
	}
	next := *j
	next.Estate = e
	next.Policies, next.Guardrails = slices.Clone(j.Policies), slices.Clone(j.Guardrails)
	next.Sets = slices.Clip(j.Sets)
	v := reviser{next: &next, compiler: next.CompilerOf()}
	v.putShares(e, shares)
	moved := len(j.Estate.Policies) != len(e.Policies)
	stays := make([]bool, len(j.Estate.Policies))
	for i := range e.Policies {
		is := &e.Policies[i]
		at, known := i, i < len(stays) && j.Estate.Policies[i].Name == is.Name
		if !known {
			at, known = j.PolicyIndex[is.Name]
			moved = true
		}
		if !known {
			v.put(is)
			continue
		}
		stays[at] = true
		if was := &j.Estate.Policies[at]; !samePolicy(was, is) {
			if was.Guardrail() != is.Guardrail() {
				v.switchOff(was)
			}
			v.put(is)
		}
	}
	for i, stay := range stays {
		if !stay {
			v.switchOff(&j.Estate.Policies[i])
		}
	}
	if v.resided {
		next.IndexPolicies()
	}
	if moved {
		next.IndexEstate()
	}
	return &next, v.revision
}

// reviser puts policies of an edit into a judge.
type reviser struct {
	next     *verdict.Judge
	compiler *verdict.Compiler
	revision Revision
	resided  bool // some policy speaks on other flows
}

// put compiles a policy, in place of the one of its name if there is one.
func (v *reviser) put(p *estate.Policy) {
	j := v.next
	if p.Guardrail() {
		n := j.PutRail(v.compiler.Rail(p))
		v.revision.Rails = append(v.revision.Rails, n)
		return
	}
	var was verdict.Policy
	if n := j.Numbers.Number(lists.PolicyNumber, p.Name); n < len(j.Policies) {
		was = j.Policies[n]
	}
	n := j.PutPolicy(v.compiler.Policy(p))
	v.revision.Policies = append(v.revision.Policies, n)
	v.resided = v.resided || !sameReach(&was, &j.Policies[n])
}

// putShares compiles the rules of some shares, in place of those that they had.
func (v *reviser) putShares(e *estate.Estate, which []int) {
	if len(which) == 0 {
		return
	}
	j := v.next
	j.Shares = slices.Clone(j.Shares)
	for _, i := range which {
		s := &e.Shares[i]
		n := j.Numbers.Number(lists.ShareNumber, s.Name)
		j.Shares[n].Both, j.Shares[n].Rules = s.Direction == "both", v.compiler.Rules(s.Rules)
		v.revision.Shares = append(v.revision.Shares, n)
	}
}

// sharesRuledOtherwise returns the shares, by place in the document, whose rules or
// directions an edit changes; false if it changes anything else but policies.
func sharesRuledOtherwise(j *verdict.Judge, e *estate.Estate) ([]int, bool) {
	was := j.Estate
	if lists.Same(was.Shares, e.Shares) {
		return nil, sameBesidesPolicies(was, e)
	}
	with := *e
	with.Shares = was.Shares
	if !sameBesidesPolicies(was, &with) || len(was.Shares) != len(e.Shares) {
		return nil, false
	}
	var out []int
	names := map[string]bool{}
	for i := range e.Shares {
		a, b := &was.Shares[i], &e.Shares[i]
		sides := func(x, y estate.Party) bool {
			return x.Segment == y.Segment && x.Groups.Any == y.Groups.Any && lists.Same(x.Groups.Groups, y.Groups.Groups)
		}
		if a.Name != b.Name || names[a.Name] || a.Active() != b.Active() || !sides(a.Owner, b.Owner) || !sides(a.Guest, b.Guest) || !lists.Same(a.Show, b.Show) {
			return nil, false
		}
		names[a.Name] = true
		if a.Direction != b.Direction || !lists.Same(a.Rules, b.Rules) {
			out = append(out, i)
		}
	}
	return out, true
}

// switchOff switches off a policy that is gone.
func (v *reviser) switchOff(p *estate.Policy) {
	gone := *p
	gone.Enabled = false
	v.put(&gone)
}

// sameBesidesPolicies reports whether two estates share everything but policies,
// whatever those are. Expectations do not count: they judge nothing.
func sameBesidesPolicies(a, b *estate.Estate) bool {
	return lists.Same(a.Accounts, b.Accounts) && lists.Same(a.Hubs, b.Hubs) && lists.Same(a.Links, b.Links) && lists.Same(a.Segments, b.Segments) &&
		lists.Same(a.Networks, b.Networks) && lists.Same(a.Attachments, b.Attachments) && lists.Same(a.Peerings, b.Peerings) && lists.Same(a.Exits, b.Exits) &&
		lists.Same(a.Publications, b.Publications) && lists.Same(a.Workloads, b.Workloads) && lists.Same(a.Services, b.Services) && lists.Same(a.Groups, b.Groups) &&
		lists.Same(a.Pools, b.Pools) && lists.Same(a.Rulebooks, b.Rulebooks) && lists.Same(a.Shares, b.Shares)
}

// samePolicy reports whether two policies are the same but for what they say of
// themselves.
func samePolicy(a, b *estate.Policy) bool {
	scopes := func(x, y estate.Scope) bool { return x.All == y.All && lists.Same(x.Names, y.Names) }
	sides := func(x, y estate.Side) bool { return x.Any == y.Any && lists.Same(x.Groups, y.Groups) }
	return a.Active() == b.Active() && lists.Same(a.Rules, b.Rules) && sides(a.From, b.From) && sides(a.To, b.To) &&
		scopes(a.Segments, b.Segments) && scopes(a.FromSegments, b.FromSegments) && scopes(a.ToSegments, b.ToSegments)
}

// sameReach reports whether two policies can speak on the same flows.
func sameReach(a, b *verdict.Policy) bool {
	return a.Enabled == b.Enabled && slices.Equal(a.Segments, b.Segments) && slices.Equal(a.From, b.From) && slices.Equal(a.To, b.To)
}

// Concerns reports whether a term is of something that a revision lists.
func (r *Revision) Concerns(v verdict.Term) bool {
	switch v.Kind {
	case verdict.PolicyTerm:
		return slices.Contains(r.Policies, v.Which)
	case verdict.ShareTerm:
		return slices.Contains(r.Shares, v.Which)
	case verdict.GuardrailTerm:
		return slices.Contains(r.Rails, v.Which)
	}
	return slices.Contains(r.Books, v.Which)
}

// ReviseIndex returns the rule index of a revised judge, or false if some of its sets of
// services are not whole atoms.
func ReviseIndex(v *verdict.RuleIndex, j *verdict.Judge, r *Revision) (*verdict.RuleIndex, bool) {
	next := &verdict.RuleIndex{Atoms: v.Atoms, Holds: v.Holds, First: v.First}
	if known := len(v.Holds[0]); known < len(j.Sets) {
		next.Holds = make([][]bool, len(v.Holds))
		for i := range next.Holds {
			next.Holds[i] = append(slices.Clip(v.Holds[i]), make([]bool, len(j.Sets)-known)...)
		}
		for k := known; k < len(j.Sets); k++ {
			in, exact := v.Atoms.Covered(j.Sets[k])
			if !exact {
				return nil, false
			}
			for atom := range in.EachSet() {
				next.Holds[atom][k] = true
			}
		}
	}
	redo := func(kind verdict.TermKind, which []int, rules func(int) []verdict.Rule) {
		if len(which) == 0 {
			return
		}
		next.First[kind] = slices.Clone(v.First[kind])
		if last := slices.Max(which); last >= len(next.First[kind]) {
			next.First[kind] = append(next.First[kind], make([][]uint16, last+1-len(next.First[kind]))...)
		}
		for _, i := range which {
			next.First[kind][i] = next.Firsts(1, func(int) []verdict.Rule { return rules(i) })[0]
		}
	}
	redo(verdict.PolicyTerm, r.Policies, func(i int) []verdict.Rule { return j.Policies[i].Rules })
	redo(verdict.ShareTerm, r.Shares, func(i int) []verdict.Rule { return j.Shares[i].Rules })
	redo(verdict.GuardrailTerm, r.Rails, func(i int) []verdict.Rule { return j.Guardrails[i].Rules })
	return next, true
}
