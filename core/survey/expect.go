package survey

import (
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/parallel"
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
	details     *details
}

// details are the flows of an expectation that do not simply fare as it wants: found
// when they are asked for, with everything that it takes to show them.
type details struct {
	once            parallel.Once
	survey          *Survey
	failures, saved []Failure
}

// Failures returns the flows that fare otherwise than expected. Cost: the first time,
// that of opening a cell of all flows that the expectation is about.
func (h *Held) Failures() []Failure { return h.detailed().failures }

// Saved returns the flows that only a missing path saves. Cost: as Failures.
func (h *Held) Saved() []Failure { return h.detailed().saved }

func (h *Held) detailed() *details {
	h.details.once.Do(func() {
		d := h.details
		if !h.Holds || h.ByRouting {
			d.survey.detail(h.Expectation, d)
		}
		d.survey = nil
	})
	return h.details
}

// Failure is flows of an expectation that fare otherwise, with one of them.
type Failure struct {
	Services space.Services
	Verdict  verdict.Verdict
	Witness  verdict.Flow
}

// Expect returns how an expectation fares, exactly, for every flow that it is
// about. A name that nothing bears stands for nobody. Cost: that of the outcomes of a
// cell, see Cell.
func (s *Survey) Expect(x *estate.Expectation) Held {
	h := Held{Expectation: x, Holds: true, Vacuous: true, details: &details{survey: s}}
	saved := false
	note := func(v *verdict.Verdict) {
		holds, routing := meets(x, v)
		h.Vacuous, h.Holds, saved = false, h.Holds && holds, saved || routing
		h.ByRouting = h.Holds && saved
	}
	if x.From.Internet { // through publications, of which flows take some services each
		for _, line := range s.linesOf(x) {
			for _, p := range line.Parts {
				note(&p.Verdict)
			}
		}
		return h
	}
	terms := s.termsOf(x.Services)
	fine := s.Refine(terms)
	atoms, _ := fine.atoms.Covered(terms)
	from, to := fine.end(x.From), fine.end(x.To)
	if v := fine.failing(x, from, to, atoms); v != nil {
		note(v)
		return h
	}
	noted := make([]bool, len(fine.results))
	for _, vector := range fine.vectorsBetween(from, to) {
		for atom := range atoms.EachSet() {
			if r := fine.vectors[vector][atom]; !noted[r] {
				noted[r] = true
				note(&fine.results[r])
			}
		}
	}
	return h
}

// tries is how many endpoints of either end are looked at for a flow that fails, before
// all are: of expectations that do not hold, many flows fail.
const tries = 24

// failing returns a verdict on some flow between endpoints that is not what is expected,
// if it meets one soon.
func (s *Survey) failing(x *estate.Expectation, from, to Set, atoms *bitset.BitSet) (found *verdict.Verdict) {
	for i := range min(tries, len(from)) {
		for k := range min(tries, len(to)) {
			a, b := from[i*len(from)/min(tries, len(from))], to[k*len(to)/min(tries, len(to))]
			if !s.selfless(a, b) {
				continue
			}
			s.eachStrand(a.Class, b.Class, func(t strand) {
				for atom := range atoms.EachSet() {
					v := &s.results[s.vectors[t.vector][atom]]
					if holds, _ := meets(x, v); !holds {
						found = v
						return
					}
				}
			})
			if found != nil {
				return found
			}
		}
	}
	return nil
}

// vectorsBetween returns the vectors that flows between some endpoints have, of which
// the first are inside.
func (s *Survey) vectorsBetween(from, to Set) []int32 {
	known := map[int32]bool{}
	var out []int32
	for _, w := range s.combinations(from, to) {
		vector := int32(0)
		if w.combination != unfoundCombination {
			vector = s.verdicts[w.effect][w.stance]
		}
		if !known[vector] {
			known[vector] = true
			out = append(out, vector)
		}
	}
	return out
}

// linesOf returns the flows that an expectation is about.
func (s *Survey) linesOf(x *estate.Expectation) []Line {
	terms := s.termsOf(x.Services)
	fine := s.Refine(terms)
	atoms, _ := fine.atoms.Covered(terms)
	from, to := fine.end(x.From), fine.end(x.To)
	columns := fine.columns(from, to)
	if x.From.Internet { // every external source, through every publication
		columns = slices.DeleteFunc(columns, func(c column) bool { return c.publication == paths.None })
	}
	return fine.lines(columns, atoms, 0, fine.newHeadcount(from, to))
}

// detail finds the flows of an expectation that fail it, or that routing alone saves.
func (s *Survey) detail(x *estate.Expectation, d *details) {
	for _, line := range s.linesOf(x) {
		for _, p := range line.Parts {
			f := Failure{line.Services, p.Verdict, p.Witness}
			switch holds, routing := meets(x, &p.Verdict); {
			case !holds:
				d.failures = append(d.failures, f)
			case routing:
				d.saved = append(d.saved, f)
			}
		}
	}
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
