package verdict

import (
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Revision is what a revised judge has anew, by number. What it does not list is
// as it was.
type Revision struct {
	Whole  bool    // nothing is known to be as it was
	Bridge *Bridge // whose judges the rest tells of, where numbers differ; or nil

	// Who may say something else than before, or to others.
	Policies, Rails, Shares, Books []int
	Respoken                       bool // contexts, and voices between any two domains, may differ
	Renumbered                     bool // sets of services may have other numbers

	// Where ways may go, or may be had, otherwise.
	Networks []int // of these networks, and of what they are peered with
	Ways     bool  // of all
	Links    bool  // because hubs are linked otherwise
	Gates    bool  // publications may let in others

	// Which endpoints may be others than before: in other groups, in other networks,
	// or seen otherwise by other segments. See also Offers.
	Touched []netip.Prefix
	Outside bool // external ones too
	offers  []sharedPart

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
func (j *Judge) Revise(e *estate.Estate) (*Judge, Revision) {
	shares, ruled := j.sharesRuledOtherwise(e)
	if !ruled {
		next := compile(e, j.numbers, j)
		if !sameNames(j, next) {
			return next, j.bridge(next)
		}
		return next, j.revisionTo(next)
	}
	next := *j
	next.estate = e
	next.policies, next.rails = slices.Clone(j.policies), slices.Clone(j.rails)
	next.sets = slices.Clip(j.sets)
	v := reviser{next: &next, compiler: next.compilerOf()}
	v.putShares(e, shares)
	moved := len(j.estate.Policies) != len(e.Policies)
	stays := make([]bool, len(j.estate.Policies))
	for i := range e.Policies {
		is := &e.Policies[i]
		at, known := i, i < len(stays) && j.estate.Policies[i].Name == is.Name
		if !known {
			at, known = j.policyIndex[is.Name]
			moved = true
		}
		if !known {
			v.put(is)
			continue
		}
		stays[at] = true
		if was := &j.estate.Policies[at]; !samePolicy(was, is) {
			if was.Guardrail() != is.Guardrail() {
				v.silence(was)
			}
			v.put(is)
		}
	}
	for i, stay := range stays {
		if !stay {
			v.silence(&j.estate.Policies[i])
		}
	}
	if v.resided {
		next.indexPolicies()
	}
	if moved {
		next.indexEstate()
	}
	return &next, v.revision
}

// reviser puts policies of an edit into a judge.
type reviser struct {
	next     *Judge
	compiler *compiler
	revision Revision
	resided  bool // some policy speaks on other flows
}

// put compiles a policy, in place of the one of its name if there is one.
func (v *reviser) put(p *estate.Policy) {
	j := v.next
	if p.Guardrail() {
		n := j.putRail(v.compiler.rail(p))
		v.revision.Rails = append(v.revision.Rails, n)
		return
	}
	var was policy
	if n := j.numbers.of(policyNumber, p.Name); n < len(j.policies) {
		was = j.policies[n]
	}
	n := j.putPolicy(v.compiler.policy(p))
	v.revision.Policies = append(v.revision.Policies, n)
	v.resided = v.resided || !sameReach(&was, &j.policies[n])
}

// putShares compiles the rules of some shares, in place of those that they had.
func (v *reviser) putShares(e *estate.Estate, which []int) {
	if len(which) == 0 {
		return
	}
	j := v.next
	j.shares = slices.Clone(j.shares)
	for _, i := range which {
		s := &e.Shares[i]
		n := j.numbers.of(shareNumber, s.Name)
		j.shares[n].both, j.shares[n].rules = s.Direction == "both", v.compiler.rules(s.Rules)
		v.revision.Shares = append(v.revision.Shares, n)
	}
}

// sharesRuledOtherwise returns the shares, by place in the document, whose rules or
// directions an edit changes; false if it changes anything else but policies.
func (j *Judge) sharesRuledOtherwise(e *estate.Estate) ([]int, bool) {
	was := j.estate
	if same(was.Shares, e.Shares) {
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
			return x.Segment == y.Segment && x.Groups.Any == y.Groups.Any && same(x.Groups.Groups, y.Groups.Groups)
		}
		if a.Name != b.Name || names[a.Name] || a.Enabled != b.Enabled || !sides(a.Owner, b.Owner) || !sides(a.Guest, b.Guest) || !same(a.Show, b.Show) {
			return nil, false
		}
		names[a.Name] = true
		if a.Direction != b.Direction || !same(a.Rules, b.Rules) {
			out = append(out, i)
		}
	}
	return out, true
}

// Joins reports whether a share joins two segments.
func (j *Judge) Joins(share, a, b int) bool {
	s := &j.shares[share]
	return s.enabled && (s.owner.segment == a && s.guest.segment == b || s.owner.segment == b && s.guest.segment == a)
}

// silence switches off a policy that is gone.
func (v *reviser) silence(p *estate.Policy) {
	gone := *p
	gone.Enabled = false
	v.put(&gone)
}

// sameBesidesPolicies reports whether two estates share everything but policies,
// whatever those are. Expectations do not count: they judge nothing.
func sameBesidesPolicies(a, b *estate.Estate) bool {
	return same(a.Accounts, b.Accounts) && same(a.Hubs, b.Hubs) && same(a.Links, b.Links) && same(a.Segments, b.Segments) &&
		same(a.Networks, b.Networks) && same(a.Attachments, b.Attachments) && same(a.Peerings, b.Peerings) && same(a.Exits, b.Exits) &&
		same(a.Publications, b.Publications) && same(a.Workloads, b.Workloads) && same(a.Services, b.Services) && same(a.Groups, b.Groups) &&
		same(a.Pools, b.Pools) && same(a.Rulebooks, b.Rulebooks) && same(a.Shares, b.Shares)
}

// same reports whether two slices are one and the same.
func same[T any](a, b []T) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// samePolicy reports whether two policies are the same but for what they say of
// themselves.
func samePolicy(a, b *estate.Policy) bool {
	scopes := func(x, y estate.Scope) bool { return x.All == y.All && same(x.Names, y.Names) }
	sides := func(x, y estate.Side) bool { return x.Any == y.Any && same(x.Groups, y.Groups) }
	return a.Enabled == b.Enabled && same(a.Rules, b.Rules) && sides(a.From, b.From) && sides(a.To, b.To) &&
		scopes(a.Segments, b.Segments) && scopes(a.FromSegments, b.FromSegments) && scopes(a.ToSegments, b.ToSegments)
}

// sameReach reports whether two policies can speak on the same flows.
func sameReach(a, b *policy) bool {
	return a.enabled == b.enabled && slices.Equal(a.segments, b.segments) && slices.Equal(a.from, b.from) && slices.Equal(a.to, b.to)
}

// Serves reports whether a policy of a revision serves a segment; one that the
// judge does not know yet serves none.
func (j *Judge) Serves(policy, segment int) bool {
	return policy < len(j.policies) && (j.policies[policy].segments == nil || j.policies[policy].segments[segment])
}

// Concerns reports whether a voice is of something that a revision lists.
func (r *Revision) Concerns(v Voice) bool {
	switch v.Kind {
	case PolicyVoice:
		return slices.Contains(r.Policies, v.Which)
	case ShareVoice:
		return slices.Contains(r.Shares, v.Which)
	case RailVoice:
		return slices.Contains(r.Rails, v.Which)
	}
	return slices.Contains(r.Books, v.Which)
}

// WithNet returns the judge of an estate that differs from j's in what is up or
// down alone: links, attachments, exits and firewalls. What it does not differ
// in is shared.
func (j *Judge) WithNet(net *paths.Net, down Down) *Judge {
	next := *j
	next.net, next.reach = net, &reachBook{}
	if down.Firewall != "" || down.Hub != "" {
		next.pools = slices.Clone(j.pools)
		for i := range next.pools {
			next.pools[i].hubs = j.healthyHubs(i, down)
		}
	}
	return &next
}

// SamePools reports whether every pool has healthy firewalls at the same hubs in
// both judges.
func (j *Judge) SamePools(other *Judge) bool {
	return slices.EqualFunc(j.pools, other.pools, func(a, b pool) bool { return slices.Equal(a.hubs, b.hubs) })
}
