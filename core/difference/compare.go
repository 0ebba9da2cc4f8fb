// Package difference compares two matrices, and returns every flow whose verdict differs, as
// blocks of sources, destinations and services. It is exact for any two estates; where the
// matrices share a block and its verdicts, it costs nothing.
package difference

import (
	"math/big"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Difference is every flow that changes in two estates.
type Difference struct {
	Changes  []Change
	Comparer *comparer
}

// Change is flows between two segments (or the internet) that went from one
// verdict to another.
type Change struct {
	From, To matrix.Node // segments, or the internet
	// Publication is the one by which flows from the internet come in; "" for those that
	// nothing lets in, and for all others.
	Publication string
	Services    space.Services
	Before      *verdict.Verdict // nil where there was no such flow
	After       *verdict.Verdict // nil where there is none any more
	Pairs       *big.Int         // of addresses
	gathered    *change
	atoms       *bitset.BitSet // of the comparer
	At          [2]int         // aligned domains
}

// SourcesByDestinations is the destinations that the same sources reach in a change.
type SourcesByDestinations struct{ From, To *bitset.BitSet } // of intersections

// Outcome reports whether the outcome itself changed, and not only who settles it.
func (c *Change) Outcome() bool {
	return c.Before == nil || c.After == nil || c.Before.Outcome != c.After.Outcome
}

// Compare returns how flows changes in new. Both matrices are looked at
// through atoms that are fine enough for either, so the answer is exact for any
// two estates. Cost: where the matrices share a block and its verdicts, nothing;
// else the kinds of sources and of destinations multiplied.
func Compare(old, new *matrix.Matrix) Difference {
	if old.Atoms != new.Atoms {
		atoms := space.Cut(slices.Concat(old.Judge.Settings(), new.Judge.Settings()))
		old, new = old.Recut(atoms), new.Recut(atoms)
	}
	c := &comparer{old: old, new: new, domains: alignedDomains(old, new), unions: old.Unions}
	if old.ResultInterner != new.ResultInterner {
		c.unions = matrix.NewUnions(old.Atoms)
	}
	defer c.unions.Hold()()
	c.align()
	c.alter()
	c.update = grafted(old, new)
	pairs := c.pairs()
	found := make([][]*change, len(pairs))
	jobs := make([]func(), len(found))
	for i, p := range pairs {
		jobs[i] = func() { found[i] = c.between(p.From, p.To) }
	}
	parallel.Run(jobs)
	return Difference{c.finish(found), c}
}

// pairs returns the pairs of aligned domains between which flows may changes, in
// their order: either matrix has a block of them, or there are endpoints that both have or
// have not, and that find each other there or not.
func (c *comparer) pairs() []classes.Pair {
	var out []classes.Pair
	touched := make([]bool, len(c.domains))
	var some []int // that have endpoints in either matrix
	for i := range c.domains {
		t := &c.domains[i]
		touched[i] = c.touched(t)
		if t.old >= 0 && len(c.old.ClassesIn(t.old)) > 0 || t.new >= 0 && len(c.new.ClassesIn(t.new)) > 0 {
			some = append(some, i)
		}
	}
	for _, from := range some {
		for _, to := range some {
			a, b := &c.domains[from], &c.domains[to]
			if touched[from] || touched[to] || blockOf(c.old, a.old, b.old) != nil || blockOf(c.new, a.new, b.new) != nil {
				out = append(out, classes.Pair{From: from, To: to})
			}
		}
	}
	return out
}

type comparer struct {
	old, new *matrix.Matrix
	domains  []AlignedDomain
	// Vectors of either matrix, by number, in a numbering of both; 0 is no flow.
	oldVector, newVector []int32
	vectors              [][]int32 // of results of both
	results              []*verdict.Verdict
	unions               *matrix.UnionCache // of their own, if the matrices are of two books
	units                []*units           // by aligned domain, made when needed
	altered              []bool             // by rule set, where the matrices share theirs: its verdicts differ
	some                 bool               // some do
	update               *classes.Update    // how the endpoints of one of them came of the other's; nil if that is not known, or they are the same
}

// align numbers the results and vectors of both matrices alike.
func (c *comparer) align() {
	if c.old.ResultInterner == c.new.ResultInterner {
		c.shared()
		return
	}
	resultOf := map[string]int32{}
	book := matrix.NewVectorInterner()
	book.Number([]int32{-1}) // no flow
	translate := func(s *matrix.Matrix) []int32 {
		results := make([]int32, len(s.Results))
		for i := range s.Results {
			key := matrix.VerdictKey(&s.Results[i])
			n, ok := resultOf[key]
			if !ok {
				n = int32(len(c.results))
				resultOf[key] = n
				c.results = append(c.results, &s.Results[i])
			}
			results[i] = n
		}
		out := make([]int32, len(s.Vectors))
		v := make([]int32, s.Atoms.Len())
		for i := range s.Vectors {
			for atom, r := range s.Vectors[i] {
				v[atom] = results[r]
			}
			out[i] = book.Number(v)
		}
		return out
	}
	c.oldVector, c.newVector = translate(c.old), translate(c.new)
	c.vectors = book.List
}

// shared is meet for matrices of one book, whose numbers are alike already.
func (c *comparer) shared() {
	longer := c.new
	if len(c.old.Vectors) > len(longer.Vectors) {
		longer = c.old
	}
	c.vectors = append([][]int32{nil}, longer.Vectors...)
	c.oldVector = make([]int32, len(longer.Vectors))
	for i := range c.oldVector {
		c.oldVector[i] = int32(i) + 1
	}
	c.newVector = c.oldVector
	for i := range longer.Results {
		c.results = append(c.results, &longer.Results[i])
	}
}

// deltasOf returns where two vectors differ.
func (c *comparer) deltasOf(before, after int32) []matrix.Delta {
	key := [2]int32{before, after}
	if list, known := c.unions.Between(key); known {
		return list
	}
	results := func(vector int32) []int32 {
		if vector == 0 {
			return nil
		}
		return c.vectors[vector]
	}
	out := c.apart(results(before), results(after))
	c.unions.Differ(key, out)
	return out
}

// apart returns for which services results differ, by atom; nil stands for no flow.
func (c *comparer) apart(was, is []int32) []matrix.Delta {
	atoms := c.old.Atoms.Len()
	at := func(results []int32, atom int) int32 {
		if results == nil {
			return -1
		}
		return results[atom]
	}
	var out []matrix.Delta
	words := (atoms + 63) / 64
	var sets []uint64 // of atoms, one after another
	for atom := range atoms {
		before, after := at(was, atom), at(is, atom)
		if before == after {
			continue
		}
		i := slices.IndexFunc(out, func(d matrix.Delta) bool { return d.Before == before && d.After == after })
		if i < 0 {
			i = len(out)
			out = append(out, matrix.Delta{Before: before, After: after})
			sets = append(sets, make([]uint64, words)...)
		}
		sets[i*words+atom/64] |= 1 << (atom % 64)
	}
	for i := range out {
		out[i].Services = c.unions.Union(sets[i*words:(i+1)*words], uint(atoms))
	}
	return out
}

func SameVerdict(a, b *verdict.Verdict) bool {
	if a == nil || b == nil {
		return a == b
	}
	return matrix.VerdictKey(a) == matrix.VerdictKey(b)
}

// alter finds the rule sets whose verdicts differ, if the matrices share their interner;
// else anything may differ.
func (c *comparer) alter() {
	if c.old.Interner != c.new.Interner || c.old.ResultInterner != c.new.ResultInterner || c.old.Numbering != c.new.Numbering {
		return
	}
	ruleSets := 0
	for _, v := range c.new.Verdicts {
		ruleSets = max(ruleSets, len(v))
	}
	c.altered = make([]bool, ruleSets)
	for e, is := range c.new.Verdicts {
		var was []int32
		if e < len(c.old.Verdicts) {
			was = c.old.Verdicts[e]
		}
		if len(was) == len(is) && len(was) > 0 && &was[0] == &is[0] {
			continue
		}
		for ruleSet, v := range is {
			if v >= 0 && ruleSet < len(was) && was[ruleSet] >= 0 && c.oldVector[was[ruleSet]] != c.newVector[v] {
				c.altered[ruleSet], c.some = true, true
			}
		}
	}
}

// touched reports whether an aligned domain has other endpoints in the matrices, or endpoints
// whose paths may be others.
func (c *comparer) touched(t *AlignedDomain) bool {
	return c.old.ID != c.new.ID && (c.update == nil || c.update.Domains[t.new])
}

// alters reports whether an aligned domain has other endpoints in the matrices, or such that
// enforce verdicts in one of them alone.
func (c *comparer) alters(t *AlignedDomain) bool {
	return c.old.ID != c.new.ID && (c.update == nil || c.update.Altered[t.new] || c.update.Domains[t.new] && slices.Contains(c.update.Turned, true))
}

func blockOf(s *matrix.Matrix, from, to int) *matrix.Block {
	if from < 0 || to < 0 {
		return nil
	}
	return s.Blocks.At(from, to)
}

// grafted returns how the partition of one of two matrices came of the other's, or nil
// if it did not.
func grafted(old, new *matrix.Matrix) *classes.Update {
	switch {
	case old.Interner != new.Interner:
	case new.Update != nil && new.Update.Origin == old.ID:
		return new.Update
	case old.Update != nil && old.Update.Origin == new.ID:
		return old.Update
	}
	return nil
}
