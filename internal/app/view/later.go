package view

import (
	"sync/atomic"

	"bivium/core/failure"
	"bivium/core/findings"
	"bivium/core/parallel"
)

// Later is what of a snapshot takes longer than an edit: where pools see flows, the issues, and
// what failures would change. It is worked out when somebody asks for it.
type Later struct {
	passed   parallel.Once
	passages []findings.Passage
	looked   parallel.Once
	issues   *Issues
	failing  parallel.Once
	impacts  []failure.Impact
	counts   map[Thing]int // of the issues that name each thing
	Found    [2]atomic.Bool
	Failed   atomic.Pointer[error] // why it cannot be worked out
}

func NoPace() {}

// Passages returns where the pools of the estate see flows.
func (s *Snapshot) Passages(pace func()) []findings.Passage {
	s.Later.passed.Do(func() { s.Later.passages = s.Analysis.Findings.Passages(pace) })
	return s.Later.passages
}

// Impacts returns what each single failure would change. Cost: see failure.WhatIf; once for a
// snapshot.
func (s *Snapshot) Impacts() []failure.Impact {
	s.Later.failing.Do(func() {
		s.Later.impacts = failure.WhatIf(s.Matrix, s.Analysis.Expectations.All(), failure.Outages(s.Matrix))
	})
	return s.Later.impacts
}

// Counted returns how many issues name each thing; nil if that is not known yet.
func (s *Snapshot) Counted() map[Thing]int {
	if s.Later.Found[PartIssues].Load() {
		return s.Later.counts
	}
	return nil
}

// countedAs returns how many issues name a thing, as far as that is known.
func (s *Snapshot) countedAs(kind, name string) int { return s.Counted()[Thing{kind, name}] }

// The parts of later, by their places in found.
const (
	PartPassages = iota
	PartIssues
)
