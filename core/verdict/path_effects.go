package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/membership"
	"bivium/core/paths"
)

// Way is the path of a flow and of its reply.
type Way struct {
	Path      paths.Path
	Back      paths.Path // meaningful if Sought
	Sought    bool       // the way back was looked for in the estate
	BackHolds bool       // there is a way back (M7.7)
}

// Enforces reports whether a network on a path that passes no hub enforces
// verdicts (M8.3).
func Enforces(net *paths.Net, p *paths.Path) bool {
	if p.Kind == paths.Local {
		return net.EnforcesLocally(p.Network, p.OneSubnet)
	}
	some := func(network int) bool { return net.Networks[network].Enforces != estate.EnforceNone }
	return some(p.Network) || p.Kind == paths.Peered && some(p.Peer)
}

// WayTo returns the way of flows from an internal endpoint to a destination
// that Find found for its segment.
func (j *Judge) WayTo(src, dst *membership.Endpoint) Way {
	w := Way{Path: j.Net.Forward(src.Segment, src.Home, j.targetFor(dst, src))}
	j.addBack(&w, src, dst)
	return w
}

// Reversed returns the way of flows between the same ends in the other direction,
// both of them internal.
func (w *Way) Reversed() Way {
	return Way{Path: w.Back, Back: w.Path, Sought: true, BackHolds: w.Path.Kind != paths.NoPath}
}

// WayFrom returns the way of flows from an external endpoint through a
// publication to an internal endpoint.
func (j *Judge) WayFrom(publication int, src, dst *membership.Endpoint) Way {
	w := Way{Path: j.Net.FromExit(j.Publications[publication].Exit, j.Target(dst, dst.Segment))}
	j.addBack(&w, src, dst)
	return w
}

// addBack finds the path of the reply (M7.7).
func (j *Judge) addBack(w *Way, src, dst *membership.Endpoint) {
	switch {
	case !dst.Internal():
		w.BackHolds = true
	case !src.Internal():
		w.Sought = true
		w.Back, w.BackHolds = j.Net.AnswersOutside(dst.Segment, dst.Home, src.Addr)
	default:
		w.Sought = true
		w.Back = j.Net.Forward(dst.Segment, dst.Home, j.targetFor(src, dst))
		w.BackHolds = w.Back.Kind != paths.NoPath
	}
}

// Target returns an endpoint as a segment sees it (M14.4).
func (j *Judge) Target(p *membership.Endpoint, from int) paths.Target {
	to := paths.Target{Addr: j.SeenAs(p, from), External: !p.Internal(), Segment: p.Segment, Home: p.Home}
	if to.Addr != p.Addr {
		to.Own = p.Addr
	}
	return to
}

// targetFor returns an endpoint as another sees it, which sends to it.
func (j *Judge) targetFor(p, sender *membership.Endpoint) paths.Target {
	to := j.Target(p, sender.Segment)
	to.SourceShown = j.shown != nil && p.Internal() && j.SeenAs(sender, p.Segment) != sender.Addr
	return to
}

// unpublished is the way of flows from the internet that nothing publishes.
func unpublished(segment int) Way {
	none := paths.None
	return Way{Path: paths.Path{Absence: paths.NoPublication, Network: none, Peer: none, Enter: none, Leave: none, Exit: none, Segment: segment}}
}

// Settlement is what became of a service on a way (M8).
type Settlement struct {
	Intent  Intent
	Steps   []PoolStep
	outcome Outcome
	reason  Reason
}

// PoolStep is one pool on the way (M8.4, M8.5).
type PoolStep struct {
	Pool     int
	Hub      int // where it is passed, or None
	OnWay    bool
	BookRule int // the rule of its rulebook that applied, or None
	Blocked  bool
}

// pathFacts is what the steps of M8 ask of a way: a Way itself, or the Effect that
// many paths share.
type pathFacts interface {
	facts() *facts
	// pass returns the hub where a pool is passed, or None, and whether that is
	// on the path (M8.4).
	pass(pool int) (hub int, onWay bool)
}

// facts are what M8 asks of a way besides its pools.
type facts struct {
	Kind       paths.Kind
	Enforced   bool // of a path that passes no hub: a network on it enforces verdicts
	BackHolds  bool // there is a way back (M7.7)
	BackPeered bool
}

// wayFacts is the ground of one way.
type wayFacts struct {
	judge *Judge
	way   *Way
	told  facts
}

func (j *Judge) factsOf(w *Way) *wayFacts {
	return &wayFacts{j, w, facts{
		Kind: w.Path.Kind, BackHolds: w.BackHolds, BackPeered: w.Back.Kind == paths.Peered,
		Enforced: w.Path.Kind != paths.HubPath && w.Path.Kind != paths.NoPath && Enforces(j.Net, &w.Path),
	}}
}

func (g *wayFacts) facts() *facts { return &g.told }

func (g *wayFacts) pass(pool int) (int, bool) {
	hubs, path := g.judge.Pools[pool].hubs, &g.way.Path
	if i := indexIn(path.Hubs, hubs); i >= 0 {
		return path.Hubs[i], true
	}
	hub, _ := g.judge.Net.Nearest(path.Segment, path.Hubs[0], hubs)
	return hub, false
}

// settle goes through the steps of M8 for a flow whose ends are known; the
// first that ends the flow settles it.
func (j *Judge) settle(s *RuleSet, g pathFacts, q *Query) Settlement {
	d := Settlement{Intent: j.intend(s, q)}
	j.enforce(&d, g, ruleSetLookup{j, s, q})
	return d
}

// rulebookLookup tells which rule of a pool's rulebook applies to a flow, or None (M8.5).
type rulebookLookup interface{ rule(pool int) int }

// ruleSetLookup is the rulebooks of a rule set, opened at one service.
type ruleSetLookup struct {
	judge   *Judge
	ruleSet *RuleSet
	query   *Query
}

func (b ruleSetLookup) rule(pool int) int { return b.judge.bookRule(b.ruleSet, pool, b.query) }

// enforce takes the intended verdict through the steps of M8.
func (j *Judge) enforce(d *Settlement, g pathFacts, books rulebookLookup) {
	d.reason = d.Intent.Reason
	f := g.facts()
	switch f.Kind {
	case paths.NoPath:
		d.outcome, d.reason = Unrouted, ReasonNoPath
	case paths.HubPath:
		j.enforceAtHubs(d, g, books)
	default:
		enforceAtNetworks(d, f)
	}
	if d.outcome == Allowed || d.outcome == Inspected {
		needWayBack(d, f)
	}
}

// enforceAtNetworks enforces the intended verdict on a path that passes no hub
// (M8.3).
func enforceAtNetworks(d *Settlement, f *facts) {
	switch {
	case d.Intent.Action == estate.Allow:
		d.outcome = Allowed
	case !f.Enforced:
		d.outcome, d.reason = Allowed, ReasonUnenforced
	case d.Intent.Action == estate.Inspect:
		d.outcome, d.reason = Denied, ReasonUninspectable
	default:
		d.outcome = Denied
	}
}

// enforceAtHubs enforces it on a hub path, pool by pool (M8.4, M8.5).
func (j *Judge) enforceAtHubs(d *Settlement, g pathFacts, books rulebookLookup) {
	switch d.Intent.Action {
	case estate.Allow:
		d.outcome = Allowed
		return
	case estate.Deny:
		d.outcome = Denied
		return
	}
	passed := false
	for _, number := range d.Intent.pools {
		step := j.passPool(number, g, books)
		d.Steps = append(d.Steps, step)
		switch {
		case step.Blocked:
			d.outcome, d.reason = Blocked, ReasonRulebook
			return
		case step.Hub != paths.None:
			passed = true
		case !j.Pools[number].Open:
			d.outcome, d.reason = Denied, ReasonNoFirewall
			return
		}
	}
	switch {
	case passed:
		d.outcome = Inspected
	case len(d.Intent.pools) == 0: // an inspect rule without a pool (F9) fails closed
		d.outcome, d.reason = Denied, ReasonNoFirewall
	default:
		d.outcome, d.reason = Allowed, ReasonFailedOpen
	}
}

// passPool finds where the pool is passed, and asks its rulebook.
func (j *Judge) passPool(number int, g pathFacts, books rulebookLookup) PoolStep {
	p := &j.Pools[number]
	step := PoolStep{Pool: number, BookRule: paths.None}
	step.Hub, step.OnWay = g.pass(number)
	if step.Hub == paths.None || p.Rulebook == paths.None {
		return step
	}
	step.BookRule = books.rule(number)
	step.Blocked = step.BookRule == paths.None || j.Books[p.Rulebook].Rules[step.BookRule].Verb != "pass"
	return step
}

// indexIn returns the index of the first of hubs that is among some, or -1.
func indexIn(hubs, some []int) int {
	for i, h := range hubs {
		for _, s := range some {
			if s == h {
				return i
			}
		}
	}
	return -1
}

// needWayBack lets a delivered flow fail for want of a way back (M8.6).
func needWayBack(d *Settlement, f *facts) {
	switch {
	case !f.BackHolds:
		d.outcome, d.reason = Unrouted, ReasonNoWayBack
	case d.outcome == Inspected && f.BackPeered:
		d.outcome, d.reason = Unrouted, ReasonAsymmetric
	}
}

// VerdictOf puts a settled flow into words.
func (j *Judge) VerdictOf(d *Settlement) Verdict {
	v := Verdict{Outcome: d.outcome, Reason: d.reason, Intended: d.Intent.Action, Contested: d.Intent.contested, Pools: []string{}, By: []string{}}
	if d.outcome == Inspected || d.outcome == Blocked {
		for _, s := range d.Steps {
			if s.Hub != paths.None {
				v.Pools = append(v.Pools, j.Pools[s.Pool].Name)
			}
		}
	}
	switch d.reason {
	case ReasonRulebook:
		v.By = append(v.By, j.Books[j.Pools[d.Steps[len(d.Steps)-1].Pool].Rulebook].Name)
	case ReasonPolicy, ReasonShare, ReasonGuardrail:
		for _, i := range d.Intent.by {
			v.By = append(v.By, j.ruleName(d.reason, i))
		}
		slices.Sort(v.By)
	}
	return v
}

func (j *Judge) ruleName(r Reason, i int) string {
	switch r {
	case ReasonPolicy:
		return j.Policies[i].Name
	case ReasonShare:
		return j.Shares[i].Name
	case ReasonGuardrail:
		return j.Guardrails[i].Name
	}
	panic("verdict: no object decides for reason " + string(r))
}

// UnknownVerdict is the verdict on a flow that M2.4 or M8.2 gives none.
func UnknownVerdict() Verdict {
	return Verdict{Outcome: Unrouted, Reason: ReasonUnknown, Pools: []string{}, By: []string{}}
}

// PoolNames returns the names of the pools, by number.
func (j *Judge) PoolNames() []string {
	out := make([]string, len(j.Pools))
	for i := range j.Pools {
		out[i] = j.Pools[i].Name
	}
	return out
}

// PassedAt returns the hub at which a pool is passed on a hub path (M8.4), or
// paths.None.
func (j *Judge) PassedAt(pool int, w *Way) int {
	hub, _ := j.factsOf(w).pass(pool)
	return hub
}
