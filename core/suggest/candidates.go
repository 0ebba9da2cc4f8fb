package suggest

import (
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/trace"
	"bivium/core/verdict"
)

// finder finds candidates for one state.
type finder struct {
	q *Question
	*state
}

// candidates returns what could be written to get the flow further, what is smallest first.
func (f *finder) candidates() []candidate {
	v := &f.t.Verdict
	if f.q.Want.Action == estate.Deny {
		return f.byRules()
	}
	switch v.Reason {
	case verdict.ReasonUnknown:
		if f.q.Home == "" || f.q.Want.Action == "" {
			return nil
		}
		return f.byShares()
	case verdict.ReasonNoPath:
		return f.byPath(&f.t.Path, &f.t.Source, &f.t.Destination)
	case verdict.ReasonNoWayBack:
		if f.t.Back == nil {
			return nil
		}
		return f.byPath(f.t.Back, &f.t.Destination, &f.t.Source)
	}
	if f.q.Want.Action == "" {
		return nil // no rule makes a way
	}
	switch v.Reason {
	case verdict.ReasonRulebook:
		return slices.Concat(f.byRulebook(), f.byRules())
	case verdict.ReasonNoFirewall:
		return slices.Concat(f.byOtherPool(), f.byRules())
	}
	return f.byRules()
}

// rules returns the rule that is wanted, once for each pool that it may be.
func (f *finder) rules() []estate.Rule {
	w := f.q.Want
	if w.Action != estate.Inspect {
		return []estate.Rule{{Services: f.q.Services, Action: w.Action}}
	}
	var out []estate.Rule
	for i := range f.e.Pools {
		if name := f.e.Pools[i].Name; w.Pool == "" || w.Pool == name {
			out = append(out, estate.Rule{Services: f.q.Services, Action: w.Action, Pool: name})
		}
	}
	return out
}

// byRules changes what decides the flow: policies, shares, guardrails; or adds a policy or a
// share beside them.
func (f *finder) byRules() []candidate {
	var out []candidate
	for i := range f.t.Guardrails {
		if g := &f.t.Guardrails[i]; g.Rule > 0 && f.q.Want.Action != estate.Deny && g.Action != f.q.Want.Action {
			out = append(out, f.policyCandidates(g.Name, g.Rule, true)...)
		}
	}
	for i := range f.t.Rules {
		r := &f.t.Rules[i]
		if r.Standing == "overridden" {
			continue
		}
		if r.Kind == "share" {
			out = append(out, f.shareCandidates(r.Name, r.Rule)...)
		} else {
			out = append(out, f.policyCandidates(r.Name, r.Rule, false)...)
		}
	}
	if f.crossing() {
		return append(out, f.byShares()...)
	}
	return append(out, f.byNewPolicy()...)
}

// crossing reports whether the flow goes from one segment to another.
func (f *finder) crossing() bool {
	to := f.home()
	return f.t.Source.Segment != "" && to != "" && to != f.t.Source.Segment
}

// home returns the segment of the destination, "" for an external one.
func (f *finder) home() string {
	if f.t.Destination.Segment != "" {
		return f.t.Destination.Segment
	}
	return f.q.Home
}

// named returns a copy of a thing by name.
func named[T any](list []T, name string, of func(*T) string) (T, bool) {
	for i := range list {
		if of(&list[i]) == name {
			return list[i], true
		}
	}
	var none T
	return none, false
}

// onRules returns what can be done to a list of rules of which one, from 1, contains the flow;
// 0 for none: a rule before it, its services in a rule that does what is wanted, and another
// action. put is called with the list after each.
func (f *finder) onRules(of estate.Ref, rules []estate.Rule, at int, put func([]estate.Rule) any) []candidate {
	var out []candidate
	for _, want := range f.rules() {
		before := at - 1
		if at == 0 {
			before = len(rules)
		}
		if at == 0 || rules[at-1].Action != want.Action || rules[at-1].Pool != want.Pool {
			for i := range rules[:before] {
				r := rules[i]
				if r.Action != want.Action || r.Pool != want.Pool {
					continue
				}
				r.Services = append(slices.Clone(r.Services), f.q.Services...)
				next := slices.Clone(rules)
				next[i] = r
				out = append(out, candidate{steps: []Step{{Code: AddService, Thing: of, At: i + 1, Action: want.Action, Pool: want.Pool, Services: f.q.Services}}, put: []any{put(next)}})
			}
			next := slices.Insert(slices.Clone(rules), before, want)
			out = append(out, candidate{steps: []Step{{Code: InsertRule, Thing: of, At: at, Action: want.Action, Pool: want.Pool, Services: f.q.Services}}, put: []any{put(next)}})
		}
		if at > 0 && (rules[at-1].Action != want.Action || rules[at-1].Pool != want.Pool) {
			next := slices.Clone(rules)
			r := next[at-1]
			r.Action, r.Pool = want.Action, want.Pool
			next[at-1] = r
			out = append(out, candidate{steps: []Step{{Code: ChangeRule, Thing: of, At: at, Action: want.Action, Pool: want.Pool, Services: r.Services}}, put: []any{put(next)}})
		}
	}
	return out
}

func (f *finder) policyCandidates(name string, at int, guardrail bool) []candidate {
	p, ok := named(f.e.Policies, name, func(p *estate.Policy) string { return p.Name })
	if !ok {
		return nil
	}
	of := estate.Ref{Kind: estate.KindPolicy, Name: name}
	var out []candidate
	if !guardrail {
		out = f.onRules(of, p.Rules, at, func(rules []estate.Rule) any {
			next := p
			next.Rules = rules
			return &next
		})
	} else if f.q.Want.Action == estate.Inspect {
		out = f.onRules(of, p.Rules, at, func(rules []estate.Rule) any {
			next := p
			next.Rules = rules
			return &next
		})
	}
	if at > 0 {
		off := p
		off.Enabled = false
		out = append(out, candidate{steps: []Step{{Code: SwitchOff, Thing: of}}, put: []any{&off}})
	}
	return out
}

func (f *finder) shareCandidates(name string, at int) []candidate {
	s, ok := named(f.e.Shares, name, func(s *estate.Share) string { return s.Name })
	if !ok {
		return nil
	}
	of := estate.Ref{Kind: estate.KindShare, Name: name}
	out := f.onRules(of, s.Rules, at, func(rules []estate.Rule) any {
		next := s
		next.Rules = rules
		return &next
	})
	if at > 0 && f.q.Want.Action == estate.Deny {
		off := s
		off.Enabled = false
		out = append(out, candidate{steps: []Step{{Code: SwitchOff, Thing: of}}, put: []any{&off}})
	}
	return out
}

// side is one end of a policy or share that holds one end of the flow: a group that is there,
// or a new one of one address.
type side struct {
	group string
	fresh *estate.Group
}

// sides returns a new group of the address of an end alone, and the groups that it is in, the
// most specific ones first. The new one is nested in that by which the policy that wins holds
// the end, as decided tells, else in the most specific one: policies on it are more specific.
func (f *finder) sides(end *trace.EndView, decided func(*estate.Policy) estate.Side) []side {
	var out []side
	groups := slices.Clone(end.Groups)
	slices.SortStableFunc(groups, func(a, b trace.MemberView) int {
		return f.depth(b.Group) - f.depth(a.Group)
	})
	within := ""
	for i, g := range groups {
		if i == 0 {
			within = g.Group
		}
		if len(out) < 2 {
			out = append(out, side{group: g.Group})
		}
	}
	if by := f.winningGroup(end, decided); by != "" {
		within = by
	}
	a, err := netip.ParseAddr(orElse(end.Inside, end.Address))
	if err != nil {
		return out
	}
	like := orElse(end.Workload, strings.ReplaceAll("at-"+a.String(), ":", "."))
	name := estate.FreeName(like, func(name string) bool {
		_, taken := named(f.e.Groups, name, func(g *estate.Group) string { return g.Name })
		return taken
	})
	if estate.CheckName(name) != nil {
		return out
	}
	fresh := &estate.Group{Name: name, Within: within, Prefixes: []netip.Prefix{netip.PrefixFrom(a, a.BitLen())}}
	return append([]side{{group: name, fresh: fresh}}, out...)
}

// winningGroup returns the group by which the first policy that wins holds an end, "" for none.
func (f *finder) winningGroup(end *trace.EndView, side func(*estate.Policy) estate.Side) string {
	for i := range f.t.Rules {
		r := &f.t.Rules[i]
		if r.Kind == "share" || r.Standing == "overridden" || r.Rule == 0 {
			continue
		}
		p, ok := named(f.e.Policies, r.Name, func(p *estate.Policy) string { return p.Name })
		if !ok {
			continue
		}
		for _, g := range end.Groups {
			if slices.Contains(side(&p).Groups, g.Group) {
				return g.Group
			}
		}
	}
	return ""
}

func fromOf(p *estate.Policy) estate.Side { return p.From }

func toOf(p *estate.Policy) estate.Side { return p.To }

// depth returns how deep a group is nested.
func (f *finder) depth(group string) int {
	n := 0
	for at := group; at != "" && n <= len(f.e.Groups); n++ {
		g, _ := named(f.e.Groups, at, func(g *estate.Group) string { return g.Name })
		at = g.Within
	}
	return n
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// paired calls pair with pairs of sides, each with the groups that it needs.
func (f *finder) paired(from, to []side, pair func(from, to string, groups []any, steps []Step)) {
	each := func(a, b side) {
		var groups []any
		var steps []Step
		for _, s := range []side{a, b} {
			if s.fresh != nil {
				groups = append(groups, s.fresh)
				steps = append(steps, Step{Code: NewGroup, Thing: estate.Ref{Kind: estate.KindGroup, Name: s.fresh.Name}, To: s.fresh.Prefixes[0].String(), From: s.fresh.Within})
			}
		}
		pair(a.group, b.group, groups, steps)
	}
	for _, groups := range []bool{false, true} { // those that need no new group are tried sooner
		for _, a := range from {
			for _, b := range to {
				if (a.fresh != nil || b.fresh != nil) == groups {
					each(a, b)
				}
			}
		}
	}
}

// byNewPolicy adds a policy for the flow, between each pair of groups of its ends.
func (f *finder) byNewPolicy() []candidate {
	segment := orElse(f.t.Source.Segment, f.t.Destination.Segment)
	if segment == "" {
		return nil
	}
	var out []candidate
	for _, want := range f.rules() {
		f.paired(f.sides(&f.t.Source, fromOf), f.sides(&f.t.Destination, toOf), func(from, to string, groups []any, steps []Step) {
			name := f.freePolicy(from + "-to-" + to)
			p := &estate.Policy{
				Name: name, Tier: "standard", Segments: estate.Scope{Names: []string{segment}}, Enabled: true,
				From: estate.Side{Groups: []string{from}}, To: estate.Side{Groups: []string{to}}, Rules: []estate.Rule{want},
			}
			step := Step{Code: NewPolicy, Thing: estate.Ref{Kind: estate.KindPolicy, Name: name}, Action: want.Action, Pool: want.Pool, Services: want.Services, From: from, To: to}
			out = append(out, candidate{steps: append(slices.Clone(steps), step), put: append(slices.Clone(groups), p)})
		})
	}
	return out
}

func (f *finder) freePolicy(like string) string {
	return estate.FreeName(like[:min(len(like), estate.MaxName)], func(name string) bool {
		_, taken := named(f.e.Policies, name, func(p *estate.Policy) string { return p.Name })
		return taken
	})
}

// byShares adds a share between the two segments, or widens one: what surely helps is tried first.
func (f *finder) byShares() []candidate {
	from, home := f.t.Source.Segment, f.home()
	if from == "" || home == "" || from == home || f.q.Want.Action == estate.Deny {
		return nil
	}
	target := f.t.Destination
	if !target.Internal { // it is not reachable, and so was not found
		target = f.found(home)
		if !target.Internal {
			return nil
		}
	}
	fromSides, toSides := f.sides(&f.t.Source, fromOf), f.sides(&target, toOf)
	fresh := f.newShares(fromSides, toSides, from, home)
	slices.SortStableFunc(fresh, func(a, b candidate) int { return len(a.put) - len(b.put) })
	few := min(len(fresh), 2)
	return slices.Concat(fresh[:few], f.widened(fromSides, toSides, &target, from, home), fresh[few:])
}

// widened widens shares between two segments so that they hold both ends.
func (f *finder) widened(fromSides, toSides []side, target *trace.EndView, from, home string) []candidate {
	var out []candidate
	for i := range f.e.Shares {
		s := f.e.Shares[i]
		if !s.Enabled || s.Owner.Segment != home || s.Guest.Segment != from {
			continue
		}
		f.paired(fromSides, toSides, func(guest, owner string, groups []any, steps []Step) {
			next := s
			steps = slices.Clone(steps)
			of := estate.Ref{Kind: estate.KindShare, Name: s.Name}
			if !f.holds(s.Owner.Groups, target) {
				next.Owner.Groups = estate.Side{Groups: append(slices.Clone(s.Owner.Groups.Groups), owner)}
				steps = append(steps, Step{Code: WidenShare, Thing: of, To: owner})
			}
			if !f.holds(s.Guest.Groups, &f.t.Source) {
				next.Guest.Groups = estate.Side{Groups: append(slices.Clone(s.Guest.Groups.Groups), guest)}
				steps = append(steps, Step{Code: WidenShare, Thing: of, From: guest})
			}
			if len(steps) > 0 && steps[len(steps)-1].Code == WidenShare {
				out = append(out, candidate{steps: steps, put: append(slices.Clone(groups), &next)})
			}
		})
	}
	return out
}

// newShares adds a share between two segments.
func (f *finder) newShares(fromSides, toSides []side, from, home string) []candidate {
	var out []candidate
	for _, want := range f.rules() {
		f.paired(fromSides, toSides, func(guest, owner string, groups []any, steps []Step) {
			name := estate.FreeName((owner + "-for-" + guest)[:min(len(owner+guest)+5, estate.MaxName)], func(name string) bool {
				_, taken := named(f.e.Shares, name, func(s *estate.Share) string { return s.Name })
				return taken
			})
			s := &estate.Share{
				Name: name, Direction: "inbound", Enabled: true, Rules: []estate.Rule{want},
				Owner: estate.Party{Segment: home, Groups: estate.Side{Groups: []string{owner}}},
				Guest: estate.Party{Segment: from, Groups: estate.Side{Groups: []string{guest}}},
			}
			step := Step{Code: NewShare, Thing: estate.Ref{Kind: estate.KindShare, Name: name}, Action: want.Action, Pool: want.Pool, Services: want.Services, From: guest + " of " + from, To: owner + " of " + home}
			out = append(out, candidate{steps: append(slices.Clone(steps), step), put: append(slices.Clone(groups), s)})
		})
	}
	return out
}

// holds reports whether a side holds an end, by the groups that it is in.
func (f *finder) holds(s estate.Side, end *trace.EndView) bool {
	return s.Any || slices.ContainsFunc(end.Groups, func(g trace.MemberView) bool { return slices.Contains(s.Groups, g.Group) })
}

// found returns the end that the destination is in a segment.
func (f *finder) found(segment string) trace.EndView {
	at := f.j.Net.Segment(segment)
	if at == paths.None {
		return trace.EndView{}
	}
	p, ok := f.j.Internal(at, f.q.Flow.Destination)
	if !ok {
		return trace.EndView{}
	}
	return trace.EndOf(f.j, &p)
}

// byRulebook lets the firewalls of the pool that blocks the flow pass it.
func (f *finder) byRulebook() []candidate {
	at := slices.IndexFunc(f.t.Pools, func(p trace.PoolView) bool { return p.State == "blocked" })
	if at < 0 {
		return nil
	}
	blocked := &f.t.Pools[at]
	b, ok := named(f.e.Rulebooks, blocked.Rulebook, func(b *estate.Rulebook) string { return b.Name })
	if !ok {
		return nil
	}
	before := blocked.Rule - 1
	if blocked.Rule == 0 {
		before = len(b.Rules)
	}
	of := estate.Ref{Kind: estate.KindRulebook, Name: b.Name}
	var out []candidate
	add := func(from, to estate.Side, groups []any, steps []Step) {
		next := b
		next.Rules = slices.Insert(slices.Clone(b.Rules), before, estate.BookRule{From: from, To: to, Services: f.q.Services, Action: "pass"})
		step := Step{Code: PassRulebook, Thing: of, At: blocked.Rule, Services: f.q.Services, From: from.String(), To: to.String()}
		out = append(out, candidate{steps: append(slices.Clone(steps), step), put: append(slices.Clone(groups), &next)})
	}
	to := f.sides(&f.t.Destination, toOf)
	if len(to) == 0 {
		to = []side{{}}
	}
	f.paired(f.sides(&f.t.Source, fromOf), to, func(from, to string, groups []any, steps []Step) {
		target := estate.Side{Groups: []string{to}}
		if to == "" {
			target = estate.Side{Any: true}
		}
		add(estate.Side{Groups: []string{from}}, target, groups, steps)
	})
	add(estate.Side{Any: true}, estate.Side{Any: true}, nil, nil)
	return out
}

// byOtherPool lets another pool inspect, where no firewall of the one that should is healthy.
func (f *finder) byOtherPool() []candidate {
	var out []candidate
	for i := range f.t.Rules {
		r := &f.t.Rules[i]
		if r.Rule == 0 || r.Action != estate.Inspect || r.Kind == "share" {
			continue
		}
		p, ok := named(f.e.Policies, r.Name, func(p *estate.Policy) string { return p.Name })
		if !ok {
			continue
		}
		for k := range f.e.Pools {
			pool := f.e.Pools[k].Name
			if pool == r.Pool {
				continue
			}
			next := p
			next.Rules = slices.Clone(p.Rules)
			next.Rules[r.Rule-1].Pool = pool
			out = append(out, candidate{steps: []Step{{Code: OtherPool, Thing: estate.Ref{Kind: estate.KindPolicy, Name: r.Name}, At: r.Rule, Pool: pool}}, put: []any{&next}})
		}
	}
	return out
}
