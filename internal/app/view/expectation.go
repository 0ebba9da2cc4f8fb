package view

import (
	"bivium/core/expectation"
)

// ExpectationStatus says whether an expectation holds, and why.
type ExpectationStatus string

// Expectations hold or break; some hold by routing alone, or because they match no flow.
const (
	Holds          ExpectationStatus = "holds"
	HoldsByRouting ExpectationStatus = "holds-by-routing"
	HoldsVacuously ExpectationStatus = "holds-vacuously"
	Breaks         ExpectationStatus = "breaks"
)

// StatusOf returns the status of a result.
func StatusOf(r *expectation.Result) ExpectationStatus {
	switch {
	case !r.Holds:
		return Breaks
	case r.Vacuous:
		return HoldsVacuously
	case r.ByRouting:
		return HoldsByRouting
	}
	return Holds
}

// ExpectationState is how an expectation stands.
type ExpectationState struct {
	Status  ExpectationStatus `json:"status"`
	Witness *Witness          `json:"witness"` // a flow that breaks it, or null
}

// ExpectationState returns how an expectation stands, nil for one that there is not.
func (s *Snapshot) ExpectationState(name string) *ExpectationState {
	for _, r := range s.Analysis.Expectations.All() {
		if r.Expectation.Name != name {
			continue
		}
		out := &ExpectationState{Status: StatusOf(&r)}
		if failures := r.Failures(); len(failures) > 0 {
			w := s.WitnessOf(failures[0].Witness)
			out.Witness = &w
		}
		return out
	}
	return nil
}
