package survey

import (
	"math/big"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/parallel"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Difference is every flow that fares differently in two estates.
type Difference struct {
	Changes  []Change
	comparer *comparer
}

// Change is flows between two segments (or the internet) that went from one
// verdict to another.
type Change struct {
	From, To Node // segments, or the internet
	// Publication is the one by which flows from the internet come in; "" for those that
	// nothing lets in, and for all others.
	Publication string
	Services    space.Services
	Before      *verdict.Verdict // nil where there was no such flow
	After       *verdict.Verdict // nil where there is none any more
	Pairs       *big.Int         // of addresses
	gathered    *change
	atoms       *bitset.BitSet // of the comparer
	at          [2]int         // alignedDomains
}

// patch is the destinations that the same sources reach in a change.
type patch struct{ from, to *bitset.BitSet } // of joints

// Outcome reports whether the outcome itself changed, and not only who settles it.
func (c *Change) Outcome() bool {
	return c.Before == nil || c.After == nil || c.Before.Outcome != c.After.Outcome
}

// Compare returns how flows fare differently in new. Both surveys are looked at
// through atoms that are fine enough for either, so the answer is exact for any
// two estates. Cost: where the surveys share a block and its verdicts, nothing;
// else the kinds of sources and of destinations multiplied.
func Compare(old, new *Survey) Difference {
	if old.atoms != new.atoms {
		atoms := space.Cut(slices.Concat(old.judge.Settings(), new.judge.Settings()))
		old, new = old.recut(atoms), new.recut(atoms)
	}
	c := &comparer{old: old, new: new, lands: alignedDomains(old, new), unions: old.unions}
	if old.book != new.book {
		c.unions = newUnions(old.atoms)
	}
	defer c.unions.hold()()
	c.meet()
	c.alter()
	c.graft = grafted(old, new)
	pairs := c.pairs()
	found := make([][]*change, len(pairs))
	jobs := make([]func(), len(found))
	for i, p := range pairs {
		jobs[i] = func() { found[i] = c.between(p.from, p.to) }
	}
	parallel.Run(jobs)
	return Difference{c.finish(found), c}
}

// pairs returns the pairs of alignedDomains between which flows may fare differently, in
// their order: either survey has a block of them, or there are endpoints that both have or
// have not, and that find each other there or not.
func (c *comparer) pairs() []pair {
	var out []pair
	touched := make([]bool, len(c.lands))
	var some []int // that have endpoints in either survey
	for i := range c.lands {
		t := &c.lands[i]
		touched[i] = c.touched(t)
		if t.old >= 0 && len(c.old.of(t.old)) > 0 || t.new >= 0 && len(c.new.of(t.new)) > 0 {
			some = append(some, i)
		}
	}
	for _, from := range some {
		for _, to := range some {
			a, b := &c.lands[from], &c.lands[to]
			if touched[from] || touched[to] || c.old.blockOf(a.old, b.old) != nil || c.new.blockOf(a.new, b.new) != nil {
				out = append(out, pair{from, to})
			}
		}
	}
	return out
}

type comparer struct {
	old, new *Survey
	lands    []alignedDomain
	// Vectors of either survey, by number, in a numbering of both; 0 is no flow.
	oldVector, newVector []int32
	vectors              [][]int32 // of results of both
	results              []*verdict.Verdict
	unions               *unions  // of their own, if the surveys are of two books
	units                []*units // by aligned domain, made when needed
	altered              []bool   // by stance, where the surveys share theirs: its verdicts differ
	some                 bool     // some do
	graft                *graft   // how the endpoints of one of them came of the other's; nil if that is not known, or they are the same
}

// meet numbers the results and vectors of both surveys alike.
func (c *comparer) meet() {
	if c.old.book == c.new.book {
		c.shared()
		return
	}
	resultOf := map[string]int32{}
	book := newVectorBook()
	book.number([]int32{-1}) // no flow
	translate := func(s *Survey) []int32 {
		results := make([]int32, len(s.results))
		for i := range s.results {
			key := verdictKey(&s.results[i])
			n, ok := resultOf[key]
			if !ok {
				n = int32(len(c.results))
				resultOf[key] = n
				c.results = append(c.results, &s.results[i])
			}
			results[i] = n
		}
		out := make([]int32, len(s.vectors))
		v := make([]int32, s.atoms.Len())
		for i := range s.vectors {
			for atom, r := range s.vectors[i] {
				v[atom] = results[r]
			}
			out[i] = book.number(v)
		}
		return out
	}
	c.oldVector, c.newVector = translate(c.old), translate(c.new)
	c.vectors = book.list
}

// shared is meet for surveys of one book, whose numbers are alike already.
func (c *comparer) shared() {
	longer := c.new
	if len(c.old.vectors) > len(longer.vectors) {
		longer = c.old
	}
	c.vectors = append([][]int32{nil}, longer.vectors...)
	c.oldVector = make([]int32, len(longer.vectors))
	for i := range c.oldVector {
		c.oldVector[i] = int32(i) + 1
	}
	c.newVector = c.oldVector
	for i := range longer.results {
		c.results = append(c.results, &longer.results[i])
	}
}

// deltasOf returns where two vectors differ.
func (c *comparer) deltasOf(before, after int32) []delta {
	key := [2]int32{before, after}
	if list, known := c.unions.between(key); known {
		return list
	}
	results := func(vector int32) []int32 {
		if vector == 0 {
			return nil
		}
		return c.vectors[vector]
	}
	out := c.apart(results(before), results(after))
	c.unions.differ(key, out)
	return out
}

// apart returns for which services results differ, by atom; nil stands for no flow.
func (c *comparer) apart(was, is []int32) []delta {
	atoms := c.old.atoms.Len()
	at := func(results []int32, atom int) int32 {
		if results == nil {
			return -1
		}
		return results[atom]
	}
	var out []delta
	words := (atoms + 63) / 64
	var sets []uint64 // of atoms, one after another
	for atom := range atoms {
		before, after := at(was, atom), at(is, atom)
		if before == after {
			continue
		}
		i := slices.IndexFunc(out, func(d delta) bool { return d.before == before && d.after == after })
		if i < 0 {
			i = len(out)
			out = append(out, delta{before: before, after: after})
			sets = append(sets, make([]uint64, words)...)
		}
		sets[i*words+atom/64] |= 1 << (atom % 64)
	}
	for i := range out {
		out[i].services = c.unions.union(sets[i*words:(i+1)*words], uint(atoms))
	}
	return out
}

func sameVerdict(a, b *verdict.Verdict) bool {
	if a == nil || b == nil {
		return a == b
	}
	return verdictKey(a) == verdictKey(b)
}

// alter finds the stances whose verdicts differ, if the surveys share their ledger;
// else anything may differ.
func (c *comparer) alter() {
	if c.old.ledger != c.new.ledger || c.old.book != c.new.book || c.old.numbering != c.new.numbering {
		return
	}
	stances := 0
	for _, v := range c.new.verdicts {
		stances = max(stances, len(v))
	}
	c.altered = make([]bool, stances)
	for e, is := range c.new.verdicts {
		var was []int32
		if e < len(c.old.verdicts) {
			was = c.old.verdicts[e]
		}
		if len(was) == len(is) && len(was) > 0 && &was[0] == &is[0] {
			continue
		}
		for stance, v := range is {
			if v >= 0 && stance < len(was) && was[stance] >= 0 && c.oldVector[was[stance]] != c.newVector[v] {
				c.altered[stance], c.some = true, true
			}
		}
	}
}

// touched reports whether an aligned domain has other endpoints in the surveys, or endpoints
// whose ways may be others.
func (c *comparer) touched(t *alignedDomain) bool {
	return c.old.id != c.new.id && (c.graft == nil || c.graft.domains[t.new])
}

// alters reports whether an aligned domain has other endpoints in the surveys, or such that
// enforce verdicts in one of them alone.
func (c *comparer) alters(t *alignedDomain) bool {
	return c.old.id != c.new.id && (c.graft == nil || c.graft.altered[t.new] || c.graft.domains[t.new] && slices.Contains(c.graft.turned, true))
}

func (s *Survey) blockOf(from, to int) *block {
	if from < 0 || to < 0 {
		return nil
	}
	return s.blocks.at(from, to)
}

// grafted returns how the partition of one of two surveys came of the other's, or nil
// if it did not.
func grafted(old, new *Survey) *graft {
	switch {
	case old.ledger != new.ledger:
	case new.graft != nil && new.graft.from == old.id:
		return new.graft
	case old.graft != nil && old.graft.from == new.id:
		return old.graft
	}
	return nil
}
