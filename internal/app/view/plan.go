package view

import (
	"crypto/sha256"
	"slices"
	"sync"

	"bivium/core/analysis"
	"bivium/core/difference"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/parallel"
	"bivium/core/recompile"
)

// Plan is an edit of a snapshot, worked out.
type Plan struct {
	Next     *estate.Estate
	Former   map[estate.Ref]string // of things that were renamed: their names before
	Analysis *analysis.Analysis    // of next; nil where it is not worked out yet
	Changed  difference.Difference
	Moved    *recompile.Revision // which paths may be others; nil where that is not known

	once    parallel.Once
	changes []document.Change
}

// Changes returns the things that come, go and change by the plan, found when they are first
// asked for: before is the estate of the snapshot that it is one of.
func (p *Plan) Changes(before *estate.Estate) []document.Change {
	p.once.Do(func() { p.changes = document.Changes(before, p.Next, p.Former) })
	return p.changes
}

// WorkOut works out what a plan leads to.
func (s *Snapshot) WorkOut(p *Plan) { p.Analysis, p.Changed = s.Analysis.Revise(p.Next) }

// Ahead returns what a plan would lead to, without its faults: enough to tell what changes.
func (s *Snapshot) Ahead(p *Plan) *Snapshot {
	after := &Snapshot{
		Estate: p.Next, Revision: s.Revision, Judge: p.Analysis.Judge, Analysis: p.Analysis, Matrix: p.Analysis.Matrix, Known: s.Known,
		Index: s.Index, Tree: &Tree{}, Members: &Members{}, Later: &Later{}, Plans: &Plans{},
	}
	if !document.SameLists(s.Estate, p.Next, "services") {
		after.Index = newNameIndex(after)
	}
	if document.SameLists(s.Estate, p.Next, "groups", "networks", "workloads") {
		after.Members = s.Members
	}
	return after
}

// After returns the snapshot that a plan of this one leads to, under the number of a
// revision, with its faults. It shares with this one what the estates share.
func (s *Snapshot) After(p *Plan, revision int64, known []inventory.Known) *Snapshot {
	after := &Snapshot{
		Estate: p.Next, Revision: revision, Judge: p.Analysis.Judge, Analysis: p.Analysis, Matrix: p.Analysis.Matrix,
		Known: known, Aside: s.Aside, Later: &Later{}, Plans: &Plans{},
	}
	s.lend(after)
	after.Faults = s.faultsAfter(after)
	p.Analysis.Expectations.All() // an edit then looks only at those that it touches
	return after
}

// Plans keeps the last plans that were tried of a snapshot: making one of them does not work
// it out again. It is safe for concurrent use.
type Plans struct {
	mu   sync.Mutex
	last []keyedPlan // the oldest first
}

type keyedPlan struct {
	key  PlanKey
	plan *Plan
}

// mostPlans is how many plans of a snapshot are kept: of a few people who try at once.
const mostPlans = 4

// PlanKey tells what was asked for: two edits of one key lead a snapshot to the same estate.
type PlanKey [sha256.Size]byte

// KeyOfPlan returns the key of a kind of edit, with what was sent for it.
func KeyOfPlan(kind string, body []byte) *PlanKey {
	key := PlanKey(sha256.Sum256(slices.Concat([]byte(kind), []byte{0}, body)))
	return &key
}

// Find returns the plan of a key, or nil.
func (p *Plans) Find(key *PlanKey) *Plan {
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

// Keep keeps a plan, in place of the oldest if there are many.
func (p *Plans) Keep(key *PlanKey, kept *Plan) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.last = slices.DeleteFunc(p.last, func(k keyedPlan) bool { return k.key == *key })
	if len(p.last) == mostPlans {
		p.last = slices.Delete(p.last, 0, 1)
	}
	p.last = append(p.last, keyedPlan{*key, kept})
}

// Tried returns the plan of a key, from f where it is not kept already.
func (s *Snapshot) Tried(key *PlanKey, f func() (*estate.Estate, error)) (*Plan, error) {
	if known := s.Plans.Find(key); known != nil {
		return known, nil
	}
	next, err := f()
	if err != nil {
		return nil, err
	}
	p := &Plan{Next: next}
	s.WorkOut(p)
	s.Plans.Keep(key, p)
	return p, nil
}
