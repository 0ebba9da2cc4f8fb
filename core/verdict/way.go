package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Way is the path of a flow and of its reply.
type Way struct {
	Path      paths.Path
	Back      paths.Path // meaningful if Sought
	Sought    bool       // the way back was looked for in the estate
	BackHolds bool       // there is a way back (M7.7)
}

// enforces reports whether a network on a path that passes no hub enforces
// verdicts (M8.3).
func enforces(net *paths.Net, p *paths.Path) bool {
	if p.Kind == paths.Local {
		return net.EnforcesLocally(p.Network, p.OneSubnet)
	}
	some := func(network int) bool { return net.Networks[network].Enforces != estate.EnforceNone }
	return some(p.Network) || p.Kind == paths.Peered && some(p.Peer)
}

// WayTo returns the way of flows from an internal endpoint to a destination
// that Find found for its segment.
func (j *Judge) WayTo(src, dst *Endpoint) Way {
	w := Way{Path: j.net.Forward(src.Segment, src.Home, j.targetFor(dst, src))}
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
func (j *Judge) WayFrom(publication int, src, dst *Endpoint) Way {
	w := Way{Path: j.net.FromExit(j.publications[publication].exit, j.Target(dst, dst.Segment))}
	j.addBack(&w, src, dst)
	return w
}

// addBack finds the path of the reply (M7.7).
func (j *Judge) addBack(w *Way, src, dst *Endpoint) {
	switch {
	case !dst.Internal():
		w.BackHolds = true
	case !src.Internal():
		w.Sought = true
		w.Back, w.BackHolds = j.net.AnswersOutside(dst.Segment, dst.Home, src.Addr)
	default:
		w.Sought = true
		w.Back = j.net.Forward(dst.Segment, dst.Home, j.targetFor(src, dst))
		w.BackHolds = w.Back.Kind != paths.NoPath
	}
}

// Target returns an endpoint as a segment sees it (M14.4).
func (j *Judge) Target(p *Endpoint, from int) paths.Target {
	to := paths.Target{Addr: j.SeenAs(p, from), External: !p.Internal(), Segment: p.Segment, Home: p.Home}
	if to.Addr != p.Addr {
		to.Own = p.Addr
	}
	return to
}

// targetFor returns an endpoint as another sees it, which sends to it.
func (j *Judge) targetFor(p, sender *Endpoint) paths.Target {
	to := j.Target(p, sender.Segment)
	to.SourceShown = j.shown != nil && p.Internal() && j.SeenAs(sender, p.Segment) != sender.Addr
	return to
}

// unpublished is the way of flows from the internet that nothing publishes.
func unpublished(segment int) Way {
	none := paths.None
	return Way{Path: paths.Path{Absence: paths.NoPublication, Network: none, Peer: none, Enter: none, Leave: none, Exit: none, Segment: segment}}
}

// settled is what became of a service on a way (M8).
type settled struct {
	intent  intent
	steps   []poolStep
	outcome Outcome
	reason  Reason
}

// poolStep is one pool on the way (M8.4, M8.5).
type poolStep struct {
	pool     int
	hub      int // where it is passed, or None
	onWay    bool
	bookRule int // the rule of its rulebook that applied, or None
	blocked  bool
}

// ground is what the steps of M8 ask of a way: a Way itself, or the Effect that
// many ways share.
type ground interface {
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

// wayGround is the ground of one way.
type wayGround struct {
	judge *Judge
	way   *Way
	told  facts
}

func (j *Judge) groundOf(w *Way) *wayGround {
	return &wayGround{j, w, facts{
		Kind: w.Path.Kind, BackHolds: w.BackHolds, BackPeered: w.Back.Kind == paths.Peered,
		Enforced: w.Path.Kind != paths.HubPath && w.Path.Kind != paths.NoPath && enforces(j.net, &w.Path),
	}}
}

func (g *wayGround) facts() *facts { return &g.told }

func (g *wayGround) pass(pool int) (int, bool) {
	hubs, path := g.judge.pools[pool].hubs, &g.way.Path
	if i := indexIn(path.Hubs, hubs); i >= 0 {
		return path.Hubs[i], true
	}
	hub, _ := g.judge.net.Nearest(path.Segment, path.Hubs[0], hubs)
	return hub, false
}

// settle goes through the steps of M8 for a flow whose ends are known; the
// first that ends the flow settles it.
func (j *Judge) settle(s *Stance, g ground, q *query) settled {
	d := settled{intent: j.intend(s, q)}
	j.carry(&d, g, stanceShelf{j, s, q})
	return d
}

// shelf tells which rule of a pool's rulebook applies to a flow, or None (M8.5).
type shelf interface{ rule(pool int) int }

// stanceShelf is the rulebooks of a stance, opened at one service.
type stanceShelf struct {
	judge  *Judge
	stance *Stance
	query  *query
}

func (b stanceShelf) rule(pool int) int { return b.judge.bookRule(b.stance, pool, b.query) }

// carry takes the intended verdict through the steps of M8.
func (j *Judge) carry(d *settled, g ground, books shelf) {
	d.reason = d.intent.reason
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
func enforceAtNetworks(d *settled, f *facts) {
	switch {
	case d.intent.action == estate.Allow:
		d.outcome = Allowed
	case !f.Enforced:
		d.outcome, d.reason = Allowed, ReasonUnenforced
	case d.intent.action == estate.Inspect:
		d.outcome, d.reason = Denied, ReasonUninspectable
	default:
		d.outcome = Denied
	}
}

// enforceAtHubs enforces it on a hub path, pool by pool (M8.4, M8.5).
func (j *Judge) enforceAtHubs(d *settled, g ground, books shelf) {
	switch d.intent.action {
	case estate.Allow:
		d.outcome = Allowed
		return
	case estate.Deny:
		d.outcome = Denied
		return
	}
	passed := false
	for _, number := range d.intent.pools {
		step := j.passPool(number, g, books)
		d.steps = append(d.steps, step)
		switch {
		case step.blocked:
			d.outcome, d.reason = Blocked, ReasonRulebook
			return
		case step.hub != paths.None:
			passed = true
		case !j.pools[number].open:
			d.outcome, d.reason = Denied, ReasonNoFirewall
			return
		}
	}
	switch {
	case passed:
		d.outcome = Inspected
	case len(d.intent.pools) == 0: // an inspect rule without a pool (F9) fails closed
		d.outcome, d.reason = Denied, ReasonNoFirewall
	default:
		d.outcome, d.reason = Allowed, ReasonFailedOpen
	}
}

// passPool finds where the pool is passed, and asks its rulebook.
func (j *Judge) passPool(number int, g ground, books shelf) poolStep {
	p := &j.pools[number]
	step := poolStep{pool: number, bookRule: paths.None}
	step.hub, step.onWay = g.pass(number)
	if step.hub == paths.None || p.rulebook == paths.None {
		return step
	}
	step.bookRule = books.rule(number)
	step.blocked = step.bookRule == paths.None || j.books[p.rulebook].rules[step.bookRule].verb != "pass"
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
func needWayBack(d *settled, f *facts) {
	switch {
	case !f.BackHolds:
		d.outcome, d.reason = Unrouted, ReasonNoWayBack
	case d.outcome == Inspected && f.BackPeered:
		d.outcome, d.reason = Unrouted, ReasonAsymmetric
	}
}

// verdictOf puts a settled flow into words.
func (j *Judge) verdictOf(d *settled) Verdict {
	v := Verdict{Outcome: d.outcome, Reason: d.reason, Intended: d.intent.action, Contested: d.intent.contested, Pools: []string{}, By: []string{}}
	if d.outcome == Inspected || d.outcome == Blocked {
		for _, s := range d.steps {
			if s.hub != paths.None {
				v.Pools = append(v.Pools, j.pools[s.pool].name)
			}
		}
	}
	switch d.reason {
	case ReasonRulebook:
		v.By = append(v.By, j.books[j.pools[d.steps[len(d.steps)-1].pool].rulebook].name)
	case ReasonPolicy, ReasonShare, ReasonGuardrail:
		for _, i := range d.intent.by {
			v.By = append(v.By, j.speakerName(d.reason, i))
		}
		slices.Sort(v.By)
	}
	return v
}

func (j *Judge) speakerName(r Reason, i int) string {
	switch r {
	case ReasonPolicy:
		return j.policies[i].name
	case ReasonShare:
		return j.shares[i].name
	case ReasonGuardrail:
		return j.rails[i].name
	}
	panic("verdict: no object decides for reason " + string(r))
}

// unknownVerdict is the verdict on a flow that M2.4 or M8.2 gives none.
func unknownVerdict() Verdict {
	return Verdict{Outcome: Unrouted, Reason: ReasonUnknown, Pools: []string{}, By: []string{}}
}

// PoolNames returns the names of the pools, by number.
func (j *Judge) PoolNames() []string {
	out := make([]string, len(j.pools))
	for i := range j.pools {
		out[i] = j.pools[i].name
	}
	return out
}

// PassedAt returns the hub at which a pool is passed on a hub path (M8.4), or
// paths.None.
func (j *Judge) PassedAt(pool int, w *Way) int {
	hub, _ := j.groundOf(w).pass(pool)
	return hub
}
