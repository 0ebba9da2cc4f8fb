// Package expectation checks what people expect of flows (M11), for every flow that an
// expectation is about, and keeps what an edit cannot have changed.
package expectation

import (
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Result is how an expectation comes out.
type Result struct {
	Expectation *estate.Expectation
	Holds       bool
	ByRouting   bool // it holds, and on some flows a missing path alone saves it
	Vacuous     bool // it holds because there is no such flow
	details     *Details
}

// Details are the flows of an expectation that do not simply come out as it wants: found
// when they are asked for, with everything that it takes to show them.
type Details struct {
	once            parallel.Once
	matrix          *matrix.Matrix
	Failures, Saved []Failure
}

// Failures returns the flows that have another verdict than expected. Cost: the first time,
// that of opening a cell of all flows that the expectation is about.
func (h *Result) Failures() []Failure { return h.detailed().Failures }

// Saved returns the flows that only a missing path saves. Cost: as Failures.
func (h *Result) Saved() []Failure { return h.detailed().Saved }

func (h *Result) detailed() *Details {
	h.details.once.Do(func() {
		d := h.details
		if !h.Holds || h.ByRouting {
			Detail(d.matrix, h.Expectation, d)
		}
		d.matrix = nil
	})
	return h.details
}

// Failure is flows of an expectation that have another verdict, with one of them.
type Failure struct {
	Services space.Services
	Verdict  verdict.Verdict
	Witness  verdict.Flow
}

// Expect returns how an expectation comes out, exactly, for every flow that it is
// about. A name that nothing bears stands for nobody. Cost: that of the outcomes of a
// cell, see Cell.
func Expect(s *matrix.Matrix, x *estate.Expectation) Result {
	h := Result{Expectation: x, Holds: true, Vacuous: true, details: &Details{matrix: s}}
	saved := false
	note := func(v *verdict.Verdict) {
		holds, routing := Meets(x, v)
		h.Vacuous, h.Holds, saved = false, h.Holds && holds, saved || routing
		h.ByRouting = h.Holds && saved
	}
	if x.From.Internet { // through publications, of which flows take some services each
		for _, line := range linesOf(s, x) {
			for _, p := range line.Parts {
				note(&p.Verdict)
			}
		}
		return h
	}
	terms := query.TermsOf(s, x.Services)
	fine := s.Refine(terms)
	atoms, _ := fine.Atoms.Covered(terms)
	from, to := query.End(fine, x.From), query.End(fine, x.To)
	if v := failing(fine, x, from, to, atoms); v != nil {
		note(v)
		return h
	}
	noted := make([]bool, len(fine.Results))
	for _, vector := range vectorsBetween(fine, from, to) {
		for atom := range atoms.EachSet() {
			if r := fine.Vectors[vector][atom]; !noted[r] {
				noted[r] = true
				note(&fine.Results[r])
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
func failing(s *matrix.Matrix, x *estate.Expectation, from, to matrix.Set, atoms *bitset.BitSet) (found *verdict.Verdict) {
	for i := range min(tries, len(from)) {
		for k := range min(tries, len(to)) {
			a, b := from[i*len(from)/min(tries, len(from))], to[k*len(to)/min(tries, len(to))]
			if !s.Distinct(a, b) {
				continue
			}
			s.EachResult(a.Class, b.Class, func(t matrix.ClassResult) {
				for atom := range atoms.EachSet() {
					v := &s.Results[s.Vectors[t.Vector][atom]]
					if holds, _ := Meets(x, v); !holds {
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
func vectorsBetween(s *matrix.Matrix, from, to matrix.Set) []int32 {
	known := map[int32]bool{}
	var out []int32
	for _, w := range s.Combinations(from, to) {
		vector := int32(0)
		if w.Combination != matrix.UnfoundCombination {
			vector = s.Verdicts[w.Effect][w.RuleSet]
		}
		if !known[vector] {
			known[vector] = true
			out = append(out, vector)
		}
	}
	return out
}

// linesOf returns the flows that an expectation is about.
func linesOf(s *matrix.Matrix, x *estate.Expectation) []query.Line {
	terms := query.TermsOf(s, x.Services)
	fine := s.Refine(terms)
	atoms, _ := fine.Atoms.Covered(terms)
	from, to := query.End(fine, x.From), query.End(fine, x.To)
	columns := query.Columns(fine, from, to)
	if x.From.Internet { // every external source, through every publication
		columns = slices.DeleteFunc(columns, func(c query.Column) bool { return c.Publication == paths.None })
	}
	return query.Lines(fine, columns, atoms, 0, query.NewHeadcount(fine, from, to))
}

// Detail finds the flows of an expectation that fail it, or that routing alone saves.
func Detail(s *matrix.Matrix, x *estate.Expectation, d *Details) {
	for _, line := range linesOf(s, x) {
		for _, p := range line.Parts {
			f := Failure{line.Services, p.Verdict, p.Witness}
			switch holds, routing := Meets(x, &p.Verdict); {
			case !holds:
				d.Failures = append(d.Failures, f)
			case routing:
				d.Saved = append(d.Saved, f)
			}
		}
	}
}

// Meets reports whether a verdict is what is expected, and whether it is so
// only because there is no path.
func Meets(x *estate.Expectation, v *verdict.Verdict) (holds, routing bool) {
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
	panic("expectation: unknown expectation " + x.Expect)
}
