package survey

import (
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Held is how an expectation fares.
type Held struct {
	Expectation *estate.Expectation
	Holds       bool
	ByRouting   bool // it holds, and on some flows a missing path alone saves it
	Vacuous     bool // it holds because there is no such flow
	Failures    []Failure
	Saved       []Failure // the flows that only a missing path saves
}

// Failure is flows of an expectation that fare otherwise, with one of them.
type Failure struct {
	Services space.Services
	Verdict  verdict.Verdict
	Witness  verdict.Flow
}

// Expectations returns how the expectations of the estate fare, in its order.
func (s *Survey) Expectations() []Held {
	s.held.mu.Lock()
	defer s.held.mu.Unlock()
	if !s.held.known {
		s.held.list, s.held.known = s.expectAll(s.held.before, s.held.since), true
		s.held.before, s.held.since = nil, nil
	}
	return slices.Clone(s.held.list)
}

// held keeps how the expectations of a survey fare, once that has been asked for.
type held struct {
	mu     sync.Mutex
	known  bool
	list   []Held
	before []Held      // how they fared before the edit that the survey came of
	since  *Difference // and what that has changed; nil if it is not known
}

// after returns what is held after an edit that a difference tells of: if it is known
// how the expectations fared before, only those are looked at again that it touches.
func (h *held) after(d *Difference) *held {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !h.known {
		return &held{}
	}
	return &held{before: h.list, since: d}
}

func (s *Survey) expectAll(before []Held, d *Difference) []Held {
	list := s.judge.Estate().Expectations
	out := make([]Held, len(list))
	jobs := make([]func(), len(list))
	for i := range list {
		x := &list[i]
		jobs[i] = func() {
			k := slices.IndexFunc(before, func(h Held) bool { return h.Expectation == x })
			if k >= 0 {
				if h, known := d.after(&before[k]); known {
					out[i] = h
					return
				}
			}
			out[i] = s.Expect(x)
		}
	}
	inParallel(jobs)
	return out
}

// after returns how an expectation fares after an edit, if the flows that the edit
// changes tell that: where they are none that it is about, or it holds and they do
// not break it. It looks at flows, and at endpoints that come and go; where its groups
// take in others that were there already, it must be asked anew.
func (d *Difference) after(before *Held) (h Held, known bool) {
	c, x := d.comparer, before.Expectation
	if c.old.id != c.new.id && (c.graft == nil || c.regrouped(x.From) || c.regrouped(x.To)) {
		return h, false
	}
	if !sameList(c.old.judge.Estate().Services, c.new.judge.Estate().Services) {
		return h, false
	}
	atoms, _ := c.new.atoms.Covered(c.new.termsOf(x.Services))
	var from, to *grip
	for i := range d.Changes {
		change := &d.Changes[i]
		if !about(change.From, x.From) || !about(change.To, x.To) || change.atoms.IntersectionCardinality(atoms) == 0 {
			continue
		}
		if from == nil {
			from, to = &grip{c.jointsOf(change.at[0], x.From), map[*bundle]bool{}}, &grip{c.jointsOf(change.at[1], x.To), map[*bundle]bool{}}
		}
		if !change.mayReach(from, to) {
			continue
		}
		if !before.Holds || before.ByRouting || before.Vacuous || x.From.Internet || change.After == nil {
			return h, false
		}
		if holds, routing := meets(x, change.After); !holds || routing {
			return h, false
		}
	}
	return *before, true
}

// regrouped reports whether an end takes in endpoints that were there already, or leaves
// some out that still are.
func (c *comparer) regrouped(e estate.End) bool {
	land := slices.IndexFunc(c.lands, func(t territory) bool { return about(t.node, e) })
	if land < 0 || !c.touched(&c.lands[land]) {
		return false
	}
	inOld, inNew := c.old.marked(c.old.end(e)), c.new.marked(c.new.end(e))
	t := c.land(land)
	return slices.ContainsFunc(t.moved, func(i int32) bool {
		j := &t.joints[i]
		return j.old >= 0 && j.new >= 0 && inOld[j.old] != inNew[j.new]
	})
}

// about reports whether one end of an expectation is in a territory.
func about(n Node, e estate.End) bool {
	if e.Internet {
		return n.Kind == NodeInternet
	}
	return n.Kind == NodeSegment && n.Segment == e.Party.Segment
}

// jointsOf returns the joints of a territory that one end of an expectation has
// in either survey.
func (c *comparer) jointsOf(land int, e estate.End) *bitset.BitSet {
	t := c.land(land)
	out := bitset.New(uint(len(t.joints)))
	if c.old.id == c.new.id { // joints are classes
		for _, m := range c.new.end(e) {
			out.Set(uint(c.new.classes[m.Class].at))
		}
		return out
	}
	inOld, inNew := c.old.marked(c.old.end(e)), c.new.marked(c.new.end(e))
	for i := range t.joints {
		if j := &t.joints[i]; j.old >= 0 && inOld[j.old] || j.new >= 0 && inNew[j.new] {
			out.Set(uint(i))
		}
	}
	return out
}

// marked returns, by class, whether it is in a set.
func (p *partition) marked(set Set) []bool {
	in := make([]bool, len(p.classes))
	for _, m := range set {
		in[m.Class] = true
	}
	return in
}

// Expect returns how an expectation fares, exactly, for every flow that it is
// about. A name that nothing bears stands for nobody.
func (s *Survey) Expect(x *estate.Expectation) Held {
	terms := s.termsOf(x.Services)
	fine := s.Refine(terms)
	atoms, _ := fine.atoms.Covered(terms)
	from, to := fine.end(x.From), fine.end(x.To)
	columns := fine.columns(from, to)
	if x.From.Internet { // every external source, through every publication
		columns = slices.DeleteFunc(columns, func(c column) bool { return c.publication == paths.None })
	}
	h := Held{Expectation: x, Holds: true, Vacuous: true}
	for _, line := range fine.lines(columns, from, to, atoms, 0) {
		for _, p := range line.Parts {
			h.Vacuous = false
			f := Failure{line.Services, p.Verdict, p.Witness}
			switch holds, routing := meets(x, &p.Verdict); {
			case !holds:
				h.Holds = false
				h.Failures = append(h.Failures, f)
			case routing:
				h.ByRouting = true
				h.Saved = append(h.Saved, f)
			}
		}
	}
	return h
}

// meets reports whether a verdict is what is expected, and whether it is so
// only because there is no path.
func meets(x *estate.Expectation, v *verdict.Verdict) (holds, routing bool) {
	switch x.Expect {
	case "allowed":
		return v.Outcome == verdict.Allowed, false
	case "inspected":
		return v.Outcome == verdict.Inspected && (x.Pool == "" || slices.Contains(v.Pools, x.Pool)), false
	case "delivered":
		return v.Outcome == verdict.Allowed || v.Outcome == verdict.Inspected, false
	case "denied":
		if v.Outcome != verdict.Unrouted {
			return v.Outcome == verdict.Denied || v.Outcome == verdict.Blocked, false
		}
		noPath := v.Reason == verdict.ReasonNoPath
		return noPath || v.Reason == verdict.ReasonUnknown, noPath && v.Intended != estate.Deny
	}
	panic("survey: unknown expectation " + x.Expect)
}

func (s *Survey) termsOf(refs []estate.ServiceRef) []estate.Term {
	var out []estate.Term
	for _, r := range refs {
		if r.Name == "" {
			out = append(out, r.Term)
		}
		for _, v := range s.judge.Estate().Services {
			if v.Name == r.Name {
				out = append(out, v.Terms...)
			}
		}
	}
	return out
}

// end returns the endpoints of one end of an expectation.
func (s *Survey) end(e estate.End) Set {
	if e.Internet {
		return s.Of(Node{Kind: NodeInternet})
	}
	return s.party(e.Party)
}

func (s *Survey) party(p estate.Party) Set {
	if p.Groups.Any {
		return s.Of(Node{Kind: NodeSegment, Segment: p.Segment})
	}
	if len(p.Groups.Groups) == 1 {
		return s.Of(Node{Kind: NodeGroup, Segment: p.Segment, Group: p.Groups.Groups[0]})
	}
	var out []int
	for _, g := range p.Groups.Groups {
		out = append(out, s.ClassesOf(Node{Kind: NodeGroup, Segment: p.Segment, Group: g})...)
	}
	slices.Sort(out)
	return whole(slices.Compact(out))
}
