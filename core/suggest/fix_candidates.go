package suggest

import (
	"slices"
	"strconv"
	"time"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/native/config"
	"bivium/core/trace"
)

// fixer finds candidates for the removal of a finding. flow is about its example, and has no trace
// where the finding is not about flows.
type fixer struct {
	of         *findings.Finding
	flow       *finder
	unenforced []string // networks of which some finding says that they do not enforce verdicts
}

// candidates returns what could be written to remove the finding, what is smallest first.
func (r *fixer) candidates() []candidate {
	a := r.of.Args
	switch r.of.Code {
	case findings.Contested:
		return r.settle(a[4:])
	case findings.SameMembers:
		return slices.Concat(r.nest(a[2], a[3]), r.nest(a[3], a[2]), r.use(a[0], a[2], a[3]), r.use(a[1], a[3], a[2]))
	case findings.RailNotEnforced, findings.Unenforced, findings.Uninspectable, findings.Bypass, findings.Asymmetric:
		return slices.Concat(r.enforce(), r.byHub())
	case findings.FailedOpen:
		return changed(r.flow.e.Pools, poolName, Step{Code: FailClosed, Thing: estate.Ref{Kind: estate.KindPool, Name: a[0]}}, func(p *estate.Pool) { p.OnFailure = "closed" })
	case findings.MeantUnrouted:
		return r.deny()
	case findings.UnreachedRule:
		return r.unreached(estate.Ref{Kind: estate.Kind(a[1]), Name: a[2]}, number(a[0])-1)
	case findings.EmptySide:
		of := estate.Ref{Kind: estate.KindPolicy, Name: a[0]}
		return slices.Concat(r.switchOff(of), remove(of))
	case findings.JoiningPeering:
		return r.unpeer(a[0], a[2])
	case findings.LearnedWaits, findings.LearnedGone:
		return r.learned()
	case findings.OpenByDefault:
		return changed(r.flow.e.Segments, segmentName, Step{Code: DenyDefault, Thing: estate.Ref{Kind: estate.KindSegment, Name: a[0]}}, func(s *estate.Segment) { s.Default = estate.Deny })
	case findings.RanOut, findings.RunsOut, findings.ReviewDue:
		return r.dated(estate.Ref{Kind: estate.Kind(a[0]), Name: a[1]}, number(a[2])-1)
	}
	return nil
}

// number reads the number of a rule, from 1; 0 for none.
func number(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}

func poolName(p *estate.Pool) string       { return p.Name }
func policyName(p *estate.Policy) string   { return p.Name }
func shareName(s *estate.Share) string     { return s.Name }
func bookName(b *estate.Rulebook) string   { return b.Name }
func groupName(g *estate.Group) string     { return g.Name }
func networkName(n *estate.Network) string { return n.Name }
func segmentName(s *estate.Segment) string { return s.Name }

// changed changes a copy of the thing of a step.
func changed[T any](list []T, name func(*T) string, s Step, change func(*T)) []candidate {
	x, ok := named(list, s.Thing.Name, name)
	if !ok {
		return nil
	}
	change(&x)
	return []candidate{{steps: []Step{s}, put: []any{&x}}}
}

// onRule changes the rules of a copy of a policy, share or rulebook.
func (r *fixer) onRule(s Step, plain func([]estate.Rule) []estate.Rule, book func([]estate.BookRule) []estate.BookRule) []candidate {
	switch s.Thing.Kind {
	case estate.KindPolicy:
		return changed(r.flow.e.Policies, policyName, s, func(p *estate.Policy) { p.Rules = plain(slices.Clone(p.Rules)) })
	case estate.KindShare:
		return changed(r.flow.e.Shares, shareName, s, func(x *estate.Share) { x.Rules = plain(slices.Clone(x.Rules)) })
	case estate.KindRulebook:
		return changed(r.flow.e.Rulebooks, bookName, s, func(b *estate.Rulebook) { b.Rules = book(slices.Clone(b.Rules)) })
	}
	return nil
}

func remove(of estate.Ref) []candidate {
	return []candidate{{steps: []Step{{Code: Remove, Thing: of}}, gone: []estate.Ref{of}}}
}

func (r *fixer) switchOff(of estate.Ref) []candidate {
	s := Step{Code: SwitchOff, Thing: of}
	if of.Kind == estate.KindShare {
		return changed(r.flow.e.Shares, shareName, s, func(x *estate.Share) { x.Enabled = false })
	}
	return changed(r.flow.e.Policies, policyName, s, func(p *estate.Policy) { p.Enabled = false })
}

// settle makes one of the policies that conflict say what another does, makes a side of one more
// specific than that of another where they hold the same members, or switches one off.
func (r *fixer) settle(policies []string) []candidate {
	var out []candidate
	rules := map[string]*trace.RuleView{}
	for i := range r.flow.t.Rules {
		if v := &r.flow.t.Rules[i]; v.Kind != "share" && v.Rule > 0 && slices.Contains(policies, v.Name) {
			rules[v.Name] = v
		}
	}
	for _, name := range policies {
		mine := rules[name]
		if mine == nil {
			continue
		}
		for _, other := range policies {
			if o := rules[other]; o != nil && (o.Action != mine.Action || o.Pool != mine.Pool) {
				q := *r.flow.q
				q.Want = Want{Action: o.Action, Pool: o.Pool}
				for _, c := range (&finder{&q, r.flow.state}).policyCandidates(name, mine.Rule, false) {
					if c.steps[0].Code != SwitchOff {
						out = append(out, c)
					}
				}
			}
		}
	}
	for i, name := range policies {
		for _, other := range policies[i+1:] {
			p, ok := named(r.flow.e.Policies, name, policyName)
			q, is := named(r.flow.e.Policies, other, policyName)
			if !ok || !is {
				continue
			}
			for _, sides := range [][2]estate.Side{{p.From, q.From}, {p.To, q.To}} {
				if a, b := sides[0].Groups, sides[1].Groups; len(a) == 1 && len(b) == 1 && a[0] != b[0] {
					out = slices.Concat(out, r.nest(a[0], b[0]), r.nest(b[0], a[0]))
				}
			}
		}
	}
	for _, name := range policies {
		out = append(out, r.switchOff(estate.Ref{Kind: estate.KindPolicy, Name: name})...)
	}
	return out
}

// nest nests a group in another one that is nested in the same.
func (r *fixer) nest(group, in string) []candidate {
	g, ok := named(r.flow.e.Groups, group, groupName)
	outer, is := named(r.flow.e.Groups, in, groupName)
	if !ok || !is || g.Within != "" && g.Within != outer.Within {
		return nil
	}
	return changed(r.flow.e.Groups, groupName, Step{Code: NestGroup, Thing: estate.Ref{Kind: estate.KindGroup, Name: group}, To: in}, func(g *estate.Group) { g.Within = in })
}

// use puts one group in place of another on the sides of a policy.
func (r *fixer) use(policy, group, other string) []candidate {
	return changed(r.flow.e.Policies, policyName, Step{Code: UseGroup, Thing: estate.Ref{Kind: estate.KindPolicy, Name: policy}, From: group, To: other}, func(p *estate.Policy) {
		for _, side := range []*estate.Side{&p.From, &p.To} {
			side.Groups = slices.Clone(side.Groups)
			for i := range side.Groups {
				if side.Groups[i] == group {
					side.Groups[i] = other
				}
			}
		}
	})
}

// mostAlone is how many networks of a finding are dealt with one by one.
const mostAlone = 4

// enforce lets networks enforce verdicts on paths that pass no hub, as far as they can: all of those
// that the finding names, or of a guardrail those that do not yet, and each alone.
func (r *fixer) enforce() []candidate {
	names := []string{r.flow.t.Source.Network}
	if r.of.Code == findings.RailNotEnforced {
		names = append(names, r.unenforced...)
	}
	for _, ref := range r.of.Refs {
		if ref.Kind == estate.KindNetwork {
			names = append(names, ref.Name)
		}
	}
	slices.Sort(names)
	names = slices.Compact(names)
	var out []candidate
	var all candidate
	for _, name := range names {
		n, ok := named(r.flow.e.Networks, name, networkName)
		level := r.most(&n)
		if !ok || r.flow.e.Observes(n.Account) || n.Enforces() == level || n.Enforces() == estate.EnforceNative {
			continue
		}
		s := Step{Code: Enforce, Thing: estate.Ref{Kind: estate.KindNetwork, Name: name}, To: level}
		one := changed(r.flow.e.Networks, networkName, s, func(n *estate.Network) { n.Enforcement = level })[0]
		out = append(out, one)
	}
	for _, level := range []string{estate.EnforceNative, estate.EnforceSubnets} {
		for _, one := range out {
			if one.steps[0].To == level {
				all.steps, all.put = append(all.steps, one.steps...), append(all.put, one.put...)
			}
		}
	}
	if len(out) > 1 {
		return append([]candidate{all}, out[:min(len(out), mostAlone)]...)
	}
	return out
}

// most returns where a network can enforce verdicts at most: its provider may not see flows inside
// a subnet.
func (r *fixer) most(n *estate.Network) string {
	a, ok := named(r.flow.e.Accounts, n.Account, func(a *estate.Account) string { return a.Name })
	if ok && !config.EnforcesInside(a.Provider) {
		return estate.EnforceSubnets
	}
	return estate.EnforceNative
}

// byHub leads the ways of the example, there and back, through hubs: routes past them lead to the
// hub or go, and peerings go.
func (r *fixer) byHub() []candidate {
	var out []candidate
	for _, p := range []*trace.PathView{&r.flow.t.Path, r.flow.t.Back} {
		if p == nil || p.Entry == nil {
			continue
		}
		if p.Kind == "bypass" {
			out = append(out, r.ownGateway(p.Network)...)
		}
		out = append(out, r.flow.routeToHub(p.Network, p)...)
		if p.Entry.Explicit {
			out = append(out, changed(r.flow.e.Networks, networkName, Step{Code: RemoveRoute, Thing: estate.Ref{Kind: estate.KindNetwork, Name: p.Network}, To: p.Entry.Prefix}, func(n *estate.Network) {
				n.Routes = slices.DeleteFunc(slices.Clone(n.Routes), func(x estate.Route) bool { return x.To.String() == p.Entry.Prefix })
			})...)
		}
		if p.Peer != "" {
			out = append(out, r.unpeer(p.Network, p.Peer)...)
		}
	}
	return out
}

// ownGateway leads all routes of a network through its own gateway to the hub, as one edit.
func (r *fixer) ownGateway(network string) []candidate {
	n, ok := named(r.flow.e.Networks, network, networkName)
	if !ok {
		return nil
	}
	n.Routes = slices.Clone(n.Routes)
	var steps []Step
	for i := range n.Routes {
		if n.Routes[i].Via == "internet" {
			n.Routes[i].Via = "hub"
			steps = append(steps, Step{Code: RouteToHub, Thing: estate.Ref{Kind: estate.KindNetwork, Name: network}, To: n.Routes[i].To.String()})
		}
	}
	if len(steps) < 2 { // one is led there by itself
		return nil
	}
	return []candidate{{steps: steps, put: []any{&n}}}
}

func (r *fixer) unpeer(a, b string) []candidate {
	for i := range r.flow.e.Peerings {
		if p := &r.flow.e.Peerings[i]; p.Between == [2]string{a, b} || p.Between == [2]string{b, a} {
			return remove(estate.Ref{Kind: estate.KindPeering, Name: p.Name})
		}
	}
	return nil
}

// deny stops asking for what has no way.
func (r *fixer) deny() []candidate {
	q := *r.flow.q
	q.Want = Want{Action: estate.Deny}
	return (&finder{&q, r.flow.state}).byRules()
}

// unreached moves a rule, from 0, that nothing reaches before the first that has its flows, or takes
// it away.
func (r *fixer) unreached(of estate.Ref, at int) []candidate {
	var out []candidate
	if by := findings.Shadowed(r.flow.j, of)[at]; len(by) > 0 {
		to := by[0]
		out = r.onRule(Step{Code: MoveRule, Thing: of, At: at + 1, To: strconv.Itoa(to + 1)},
			func(rules []estate.Rule) []estate.Rule { return moved(rules, at, to) },
			func(rules []estate.BookRule) []estate.BookRule { return moved(rules, at, to) })
	}
	return append(out, r.withoutRule(of, at)...)
}

// withoutRule takes away a rule, or the object of which it is the only one.
func (r *fixer) withoutRule(of estate.Ref, at int) []candidate {
	left := 0
	out := r.onRule(Step{Code: RemoveRule, Thing: of, At: at + 1},
		func(rules []estate.Rule) []estate.Rule {
			left = len(rules) - 1
			return slices.Delete(rules, at, at+1)
		},
		func(rules []estate.BookRule) []estate.BookRule {
			left = len(rules) - 1
			return slices.Delete(rules, at, at+1)
		})
	if left == 0 {
		return remove(of)
	}
	return out
}

func moved[T any](rules []T, at, to int) []T {
	x := rules[at]
	return slices.Insert(slices.Delete(rules, at, at+1), to, x)
}

// learned accepts or refuses learned prefixes that wait, and forgets those that are withdrawn: the
// one that the finding names, or all of its segment.
func (r *fixer) learned() []candidate {
	e := r.flow.e
	at := slices.IndexFunc(e.Attachments, func(a estate.Attachment) bool {
		return slices.Contains(r.of.Refs, estate.Ref{Kind: estate.KindAttachment, Name: a.Network + "@" + a.Hub})
	})
	if at < 0 {
		return nil
	}
	segment, prefix, waits := r.of.Args[1], r.of.Args[0], "waiting"
	switch {
	case r.of.Form == "many":
		prefix = ""
	case r.of.Code == findings.LearnedGone:
		segment, prefix, waits = r.of.Args[2], r.of.Args[1], "withdrawn"
	}
	is := func(l *estate.Learned) bool {
		return l.Status == waits && l.Segment == segment && (prefix == "" || l.Prefix.String() == prefix)
	}
	step := Step{Thing: estate.Ref{Kind: estate.KindAttachment, Name: e.Attachments[at].Name}, From: segment, To: prefix}
	put := func(code Code, status string) candidate {
		a := e.Attachments[at]
		a.Learned = slices.Clone(a.Learned)
		for i := range a.Learned {
			if is(&a.Learned[i]) {
				a.Learned[i].Status = status
			}
		}
		if status == "" {
			a.Learned = slices.DeleteFunc(a.Learned, func(l estate.Learned) bool { return l.Status == "" })
		}
		s := step
		s.Code = code
		return candidate{steps: []Step{s}, put: []any{&a}}
	}
	if r.of.Code == findings.LearnedGone {
		return []candidate{put(ForgetLearned, "")}
	}
	return []candidate{put(AcceptLearned, "accepted"), put(RefuseLearned, "refused")}
}

// How many days a rule is given when its last day, or the day of its review, has come.
const (
	extraDays  = 30
	reviewDays = 180
)

// dated gives a policy, share or rule of one another day, or takes it away. rule is its place; -1
// for the whole.
func (r *fixer) dated(of estate.Ref, rule int) []candidate {
	day, err := time.Parse(estate.DayFormat, r.flow.e.Day)
	if err != nil {
		return nil
	}
	s := Step{Code: Extend, Thing: of, At: rule + 1, To: day.AddDate(0, 0, extraDays).Format(estate.DayFormat)}
	if r.of.Code == findings.ReviewDue {
		s.Code, s.To = NextReview, day.AddDate(0, 0, reviewDays).Format(estate.DayFormat)
	}
	set := func(until, review *string) {
		if s.Code == Extend {
			*until = s.To
		} else {
			*review = s.To
		}
	}
	var out []candidate
	switch {
	case rule >= 0:
		out = r.onRule(s, func(rules []estate.Rule) []estate.Rule {
			set(&rules[rule].Until, &rules[rule].Review)
			return rules
		}, nil)
		if r.of.Code != findings.ReviewDue {
			out = append(out, r.withoutRule(of, rule)...)
		}
		return out
	case of.Kind == estate.KindShare:
		out = changed(r.flow.e.Shares, shareName, s, func(x *estate.Share) { set(&x.Until, &x.Review) })
	default:
		out = changed(r.flow.e.Policies, policyName, s, func(p *estate.Policy) { set(&p.Until, &p.Review) })
	}
	if r.of.Code == findings.RanOut {
		out = append(out, remove(of)...)
	}
	return out
}
