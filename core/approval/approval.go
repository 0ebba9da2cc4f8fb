// Package approval tells which segments must approve an edit, and because of which flows
// (C2.3). That follows from what the edit does to flows, not from the objects that it
// touches.
package approval

import (
	"cmp"
	"slices"

	"bivium/core/analysis"
	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/verdict"
)

// Need is a segment that must approve an edit.
type Need struct {
	Segment string   // as it is called after the edit; before it, of one that goes
	Owners  []string // of whom one must approve: those that it had, or, of a new one, has
	Guard   bool     // the edit removes the segment, or changes its owners or approval
	Changes []Change // that concern it, flows as things are first
}

// Change is flows whose intended verdict or outcome changes.
type Change struct {
	Class
	Before, After *verdict.Verdict // nil where there are no such flows
	Witness       verdict.Flow
	Imagined      bool // with everything up, and workloads that may come; not as things are
}

// Needed returns the segments that must approve what leads from one estate to another, by
// name. former tells the names that things had before, where those were others. Cost: that of
// comparing the two, and, where something is down or the edit touches selectors, of working
// both out anew.
func Needed(before, after *analysis.Analysis, former map[estate.Ref]string) []Need {
	was, is := before.Matrix.Judge.Estate, after.Matrix.Judge.Estate
	guards := guardsOf(was, is, former)
	if len(guards) == 0 {
		return nil
	}
	plain := difference.Compare(before.Matrix, after.Matrix)
	concerns := func(c *Change) bool { return slices.ContainsFunc(guards, func(g guard) bool { return g.asks(c) }) }
	changes := changesOf(&plain, false, concerns)
	if a, b := imagine(was, is); a != nil {
		_, imagined := analysis.New(verdict.New(a)).Revise(b)
		known := Index(Classes(changes))
		for _, c := range changesOf(&imagined, true, concerns) {
			if !known.Has(&c.Class) {
				changes = append(changes, c)
			}
		}
	}
	var out []Need
	for i := range guards {
		g := &guards[i]
		n := Need{Segment: g.name, Owners: g.owners, Guard: g.touched}
		for i := range changes {
			if g.asks(&changes[i]) {
				n.Changes = append(n.Changes, changes[i])
			}
		}
		if n.Guard || len(n.Changes) > 0 {
			out = append(out, n)
		}
	}
	return out
}

// Guarded reports whether some segment of an estate asks its owners.
func Guarded(e *estate.Estate) bool {
	return slices.ContainsFunc(e.Segments, func(s estate.Segment) bool { return rank(s.Approval) > 0 || len(s.Owners) > 0 })
}

// guard is a segment that asks its owners.
type guard struct {
	name, was string // was is "" for one that is new
	owners    []string
	approval  estate.Approval
	touched   bool // the edit removes it, or changes its owners or approval
}

func (g *guard) is(segment string) bool { return segment == g.name || g.was != "" && segment == g.was }

// asks reports whether the owners of the segment are asked because of a change.
func (g *guard) asks(c *Change) bool {
	return (g.is(c.From) || g.is(c.To)) && (g.approval == estate.ApproveAny || g.approval == estate.ApproveOpened && opens(c.Before, c.After))
}

// rank orders approvals by strictness.
func rank(a estate.Approval) int {
	return max(0, slices.Index([]estate.Approval{estate.ApproveNone, estate.ApproveOpened, estate.ApproveAny}, a))
}

// stricter returns the stricter of two approvals.
func stricter(a, b estate.Approval) estate.Approval {
	if rank(a) > rank(b) {
		return a
	}
	return b
}

// guardsOf returns the segments that ask their owners, before an edit or after it, and those
// whose owners it changes. Segments as they stand before and after both count.
func guardsOf(before, after *estate.Estate, former map[estate.Ref]string) []guard {
	was := map[string]*estate.Segment{}
	for i := range before.Segments {
		was[before.Segments[i].Name] = &before.Segments[i]
	}
	var out []guard
	for i := range after.Segments {
		s := &after.Segments[i]
		g := guard{name: s.Name, owners: s.Owners, approval: s.Approval}
		name := cmp.Or(former[estate.Ref{Kind: estate.KindSegment, Name: s.Name}], s.Name)
		if b := was[name]; b != nil {
			delete(was, name)
			guarded := rank(b.Approval) > 0 || len(b.Owners) > 0
			g.was, g.approval = name, stricter(b.Approval, s.Approval)
			g.touched = guarded && (rank(b.Approval) != rank(s.Approval) || !slices.Equal(b.Owners, s.Owners))
			if guarded {
				g.owners = b.Owners
			}
		}
		if g.touched || rank(g.approval) > 0 {
			out = append(out, g)
		}
	}
	for name, b := range was {
		if rank(b.Approval) > 0 || len(b.Owners) > 0 {
			out = append(out, guard{name: name, was: name, owners: b.Owners, approval: b.Approval, touched: true})
		}
	}
	slices.SortFunc(out, func(a, b guard) int { return cmp.Compare(a.name, b.name) })
	return out
}

// opens reports whether flows are delivered or intended that were not, or pass fewer pools.
func opens(before, after *verdict.Verdict) bool {
	switch {
	case after == nil:
		return false
	case delivered(after) && !delivered(before), intended(after) && !intended(before):
		return true
	case !delivered(after) && !intended(after):
		return false
	}
	return slices.ContainsFunc(before.Pools, func(p string) bool { return !slices.Contains(after.Pools, p) })
}

func delivered(v *verdict.Verdict) bool {
	return v != nil && (v.Outcome == verdict.Allowed || v.Outcome == verdict.Inspected)
}

func intended(v *verdict.Verdict) bool {
	return v != nil && (v.Intended == estate.Allow || v.Intended == estate.Inspect)
}
