package app

import (
	"sync/atomic"

	"bivium/core/findings"
	"bivium/core/parallel"
)

// later is what of a snapshot takes longer than an edit: where pools see flows, and the
// issues. It is worked out when somebody asks for it.
type later struct {
	passed   parallel.Once
	passages []findings.Passage
	looked   parallel.Once
	issues   *Issues
	counts   map[Thing]int // of the issues that name each thing
	found    [2]atomic.Bool
	failed   atomic.Pointer[error] // why it cannot be worked out
}

func noPace() {}

// passages returns where the pools of the estate see flows.
func (s *Snapshot) passages(pace func()) []findings.Passage {
	s.later.passed.Do(func() { s.later.passages = s.Analysis.Findings.Passages(pace) })
	return s.later.passages
}

// counted returns how many issues name each thing; nil if that is not known yet.
func (s *Snapshot) counted() map[Thing]int {
	if s.later.found[partIssues].Load() {
		return s.later.counts
	}
	return nil
}

// countedAs returns how many issues name a thing, as far as that is known.
func (s *Snapshot) countedAs(kind, name string) int { return s.counted()[Thing{kind, name}] }

// The parts of later, by their places in found.
const (
	partPassages = iota
	partIssues
)
