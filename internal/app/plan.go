package app

import (
	"crypto/sha256"
	"slices"
	"sync"

	"bivium/core/analysis"
	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/inventory"
)

// plan is an edit of a snapshot, worked out.
type plan struct {
	next     *estate.Estate
	analysis *analysis.Analysis // of next
	changed  difference.Difference
}

// planOf works out an edit that leads to an estate.
func (s *Snapshot) planOf(next *estate.Estate) *plan {
	a, d := s.Analysis.Revise(next)
	return &plan{next, a, d}
}

// after returns the snapshot that a plan of this one leads to, under the number of a
// revision, with its faults. It shares with this one what the estates share.
func (s *Snapshot) after(p *plan, revision int64, known []inventory.Known, mapping []inventory.Mapping) *Snapshot {
	after := &Snapshot{
		Estate: p.next, Revision: revision, Judge: p.analysis.Judge, Analysis: p.analysis, Survey: p.analysis.Matrix,
		Known: known, Mapping: mapping, Aside: s.Aside, later: &later{}, plans: &plans{},
	}
	s.lend(after)
	after.Faults = s.faultsAfter(after)
	p.analysis.Expectations.All() // an edit then looks only at those that it touches
	return after
}

// plans keeps the last plans that were tried of a snapshot: making one of them does not work
// it out again. It is safe for concurrent use.
type plans struct {
	mu   sync.Mutex
	last []keyedPlan // the oldest first
}

type keyedPlan struct {
	key  planKey
	plan *plan
}

// mostPlans is how many plans of a snapshot are kept: of a few people who try at once.
const mostPlans = 4

// planKey tells what was asked for: two edits of one key lead a snapshot to the same estate.
type planKey [sha256.Size]byte

// keyOfPlan returns the key of a kind of edit, with what was sent for it.
func keyOfPlan(kind string, body []byte) *planKey {
	key := planKey(sha256.Sum256(slices.Concat([]byte(kind), []byte{0}, body)))
	return &key
}

// find returns the plan of a key, or nil.
func (p *plans) find(key *planKey) *plan {
	if key == nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, k := range p.last {
		if k.key == *key {
			return k.plan
		}
	}
	return nil
}

// keep keeps a plan, in place of the oldest if there are many.
func (p *plans) keep(key *planKey, kept *plan) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.last = slices.DeleteFunc(p.last, func(k keyedPlan) bool { return k.key == *key })
	if len(p.last) == mostPlans {
		p.last = slices.Delete(p.last, 0, 1)
	}
	p.last = append(p.last, keyedPlan{*key, kept})
}

// tried returns the plan of a key, from f where it is not kept already.
func (s *Snapshot) tried(key *planKey, f func() (*estate.Estate, error)) (*plan, error) {
	if known := s.plans.find(key); known != nil {
		return known, nil
	}
	next, err := f()
	if err != nil {
		return nil, err
	}
	p := s.planOf(next)
	s.plans.keep(key, p)
	return p, nil
}
