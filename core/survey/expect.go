package survey

import (
	"slices"
	"sync"

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
	s.held.once.Do(func() {
		list := s.judge.Estate().Expectations
		s.held.list = make([]Held, len(list))
		jobs := make([]func(), len(list))
		for i := range list {
			jobs[i] = func() { s.held.list[i] = s.expect(&list[i]) }
		}
		inParallel(jobs)
	})
	return slices.Clone(s.held.list)
}

// expect is Expect, or what is known from before an edit that does not touch
// the flows of the expectation.
func (s *Survey) expect(x *estate.Expectation) Held {
	if before := s.held.before; before != nil {
		from, to := s.endDomain(x.From), s.endDomain(x.To)
		i := slices.IndexFunc(before, func(h Held) bool { return h.Expectation == x })
		if i >= 0 && from >= 0 && to >= 0 && s.held.unchanged(from, to) {
			return before[i]
		}
	}
	return s.Expect(x)
}

// endDomain returns the domain of one end of an expectation, or paths.None.
func (s *Survey) endDomain(e estate.End) int {
	if e.Internet {
		return len(s.inside)
	}
	return s.net.Segment(e.Party.Segment)
}

// held keeps how the expectations of a survey fare, once that is asked for.
type held struct {
	once sync.Once
	list []Held

	before    []Held                  // how they fared before an edit, if it is known
	unchanged func(from, to int) bool // no flow between two domains fares differently
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
	for _, line := range fine.lines(columns, from, to, atoms) {
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
	var out Set
	for _, g := range p.Groups.Groups {
		for _, m := range s.Of(Node{Kind: NodeGroup, Segment: p.Segment, Group: g}) {
			if !slices.Contains(out, m) {
				out = append(out, m)
			}
		}
	}
	return out
}
