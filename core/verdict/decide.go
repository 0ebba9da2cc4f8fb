package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// decision is a verdict with everything that led to it.
type decision struct {
	flow        Flow
	src, dst    Endpoint
	lookup      lookup
	publication int // of a flow from the internet, or None
	path        paths.Path
	intended    bool // whether M8.2 lets the flow have an intended verdict
	intent      intent
	onPath      bool // whether the intended verdict is enforced (M8.3)
	steps       []poolStep
	back        paths.Path
	backHolds   bool
	outcome     Outcome
	reason      Reason
}

// poolStep is one pool on the way (M8.4, M8.5).
type poolStep struct {
	pool     int
	hub      int // where it is passed, or None
	onWay    bool
	bookRule int // the rule of its rulebook that applied, or None
	blocked  bool
}

// decide goes through the steps of M8; the first that ends the flow settles it.
func (j *Judge) decide(f Flow) decision {
	d := decision{flow: f, publication: paths.None}
	if !exists(&f) || !j.findEnds(&d) {
		d.outcome, d.reason = Unrouted, ReasonUnknown
		return d
	}
	d.intended = true
	if d.path.Absence == paths.NoPublication {
		d.intent = intent{action: estate.Deny, reason: ReasonNoPath}
	} else {
		d.intent = j.intend(&d.flow, &d.src, &d.dst)
	}
	switch {
	case d.path.Kind == paths.NoPath:
		d.outcome, d.reason = Unrouted, ReasonNoPath
	case d.path.Kind == paths.HubPath:
		d.onPath = true
		j.enforceAtHubs(&d)
	default:
		j.enforceAtNetworks(&d)
	}
	if d.outcome == Allowed || d.outcome == Inspected {
		j.needWayBack(&d)
	}
	return d
}

// exists reports whether there can be such a flow (M2.4).
func exists(f *Flow) bool {
	if f.Source == f.Destination || f.Source.Is4() != f.Destination.Is4() {
		return false
	}
	ports, sources := estate.PortsOf(f.Protocol)
	return f.Port <= ports.Hi && f.SourcePort <= sources.Hi
}

// findEnds finds both endpoints and the path between them. It returns false
// for a flow whose source is no endpoint, or whose destination is nothing.
func (j *Judge) findEnds(d *decision) bool {
	if d.flow.Segment == Internet {
		return j.findFromInternet(d)
	}
	segment := j.net.Segment(d.flow.Segment)
	if segment == paths.None {
		return false
	}
	home, ok := j.net.Home(segment, d.flow.Source)
	if !ok {
		return false
	}
	d.src = j.internal(segment, d.flow.Source, home)
	d.dst, d.lookup = j.find(segment, d.flow.Destination)
	if d.lookup == lookupUnknown {
		return false
	}
	d.path = j.net.Forward(segment, home, j.target(&d.dst))
	if d.lookup == lookupInternet {
		d.dst = j.external(d.dst.Addr, d.path.Exit)
	}
	return true
}

func (j *Judge) target(p *Endpoint) paths.Target {
	return paths.Target{Addr: p.Addr, External: !p.Internal(), Segment: p.Segment, Home: p.Home}
}

// findFromInternet finds the publication by which a flow from the internet
// comes in (M7.6).
func (j *Judge) findFromInternet(d *decision) bool {
	if paths.Private(d.flow.Source) {
		return false
	}
	for i := range j.publications {
		p := &j.publications[i]
		if d.flow.Publication != "" && d.flow.Publication != p.name || !p.services.contains(&d.flow) {
			continue
		}
		home, ok := j.net.Home(p.segment, d.flow.Destination)
		if !ok {
			continue
		}
		dst := j.internal(p.segment, d.flow.Destination, home)
		if !p.to.contains(dst.groups, true) {
			continue
		}
		d.publication, d.dst, d.lookup = i, dst, lookupPublished
		d.path = j.net.FromExit(p.exit, j.target(&dst))
		// The source stands at that exit, whether the path goes on from it or not.
		d.src = j.external(d.flow.Source, p.exit)
		return true
	}
	return j.findUnpublished(d)
}

// findUnpublished gives a flow from the internet that no publication lets in
// the first home by name that its destination has, so that it can be shown.
func (j *Judge) findUnpublished(d *decision) bool {
	for s := range j.net.Segments {
		home, ok := j.net.Home(s, d.flow.Destination)
		if !ok {
			continue
		}
		d.src = j.external(d.flow.Source, paths.None)
		d.dst, d.lookup = j.internal(s, d.flow.Destination, home), lookupPublished
		d.path = paths.Path{Absence: paths.NoPublication, Network: paths.None, Peer: paths.None, Enter: paths.None, Leave: paths.None, Exit: paths.None, Segment: s}
		return true
	}
	return false
}

// enforceAtNetworks enforces the intended verdict on a path that passes no hub
// (M8.3).
func (j *Judge) enforceAtNetworks(d *decision) {
	d.onPath = j.net.Networks[d.path.Network].Native || d.path.Kind == paths.Peered && j.net.Networks[d.path.Peer].Native
	d.reason = d.intent.reason
	switch {
	case d.intent.action == estate.Allow:
		d.outcome = Allowed
	case !d.onPath:
		d.outcome, d.reason = Allowed, ReasonUnenforced
	case d.intent.action == estate.Inspect:
		d.outcome, d.reason = Denied, ReasonUninspectable
	default:
		d.outcome = Denied
	}
}

// enforceAtHubs enforces it on a hub path, pool by pool (M8.4, M8.5).
func (j *Judge) enforceAtHubs(d *decision) {
	d.reason = d.intent.reason
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
		step := j.passPool(d, number)
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
	if passed {
		d.outcome = Inspected
		return
	}
	d.outcome, d.reason = Allowed, ReasonFailedOpen
	if len(d.intent.pools) == 0 { // an inspect rule without a pool (F9) fails closed
		d.outcome, d.reason = Denied, ReasonNoFirewall
	}
}

// passPool finds where the pool is passed, and asks its rulebook.
func (j *Judge) passPool(d *decision, number int) poolStep {
	p := &j.pools[number]
	step := poolStep{pool: number, hub: paths.None, bookRule: paths.None}
	if i := slices.IndexFunc(d.path.Hubs, func(h int) bool { return slices.Contains(p.hubs, h) }); i >= 0 {
		step.hub, step.onWay = d.path.Hubs[i], true
	} else {
		step.hub, _ = j.net.Nearest(d.path.Segment, d.path.Hubs[0], p.hubs)
	}
	if step.hub == paths.None || p.rulebook == paths.None {
		return step
	}
	rules := j.books[p.rulebook].rules
	step.bookRule = slices.IndexFunc(rules, func(r bookRule) bool {
		return r.rule.contains(&d.flow) && r.from.contains(d.src.groups, true) && r.to.contains(d.dst.groups, true)
	})
	step.blocked = step.bookRule == paths.None || rules[step.bookRule].verb != "pass"
	return step
}

// needWayBack lets a delivered flow fail for want of a way back (M8.6).
func (j *Judge) needWayBack(d *decision) {
	j.findWayBack(d)
	switch {
	case !d.backHolds:
		d.outcome, d.reason = Unrouted, ReasonNoWayBack
	case d.outcome == Inspected && d.back.Kind == paths.Peered:
		d.outcome, d.reason = Unrouted, ReasonAsymmetric
	}
}

// findWayBack finds the path of the reply (M7.7).
func (j *Judge) findWayBack(d *decision) {
	switch {
	case !d.dst.Internal():
		d.backHolds = true
	case !d.src.Internal():
		d.back, d.backHolds = j.net.AnswersOutside(d.dst.Segment, d.dst.Home, d.src.Addr)
	default:
		d.back = j.net.Forward(d.dst.Segment, d.dst.Home, j.target(&d.src))
		d.backHolds = d.back.Kind != paths.NoPath
	}
}

func (j *Judge) verdictOf(d *decision) Verdict {
	v := Verdict{Outcome: d.outcome, Reason: d.reason, Pools: []string{}, By: []string{}}
	if d.intended {
		v.Intended, v.Contested = d.intent.action, d.intent.contested
	}
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
	panic("verdict: nobody speaks for reason " + string(r))
}
