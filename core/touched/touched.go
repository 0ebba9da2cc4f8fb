// Package touched tells of which networks and segments flows may be meant otherwise in one matrix
// than in the one before it, so that what was worked out of the others, and costs much, can be
// kept: their native rules, and the proof of these.
package touched

import (
	"reflect"
	"slices"
	"weak"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/verdict"
)

// Touched is what an edit may have changed. What is not touched is as it was, number by number:
// the endpoints, what is intended for their flows, through which pools and by which rules.
type Touched struct {
	whole    bool
	networks []bool
	segments []bool
	// The two matrices, as long as somebody else has them.
	before, after weak.Pointer[matrix.Matrix]
}

// Between reports whether it is what Compare says of two matrices.
func (t *Touched) Between(before, after *matrix.Matrix) bool {
	return t != nil && before != nil && t.before.Value() == before && t.after.Value() == after
}

// Network reports whether flows to or from a network of the matrix after the edit, by its number,
// may be meant otherwise.
func (t *Touched) Network(n int) bool { return t.whole || t.networks[n] }

// Segment reports whether flows from a segment, or from outside to it, may be meant otherwise.
func (t *Touched) Segment(s int) bool { return t.whole || t.segments[s] }

// Compare returns what is touched in a matrix that was revised from another, at once or in several
// steps. All is, where they have nothing in common, and where what is connected to what, the
// workloads, or how services are cut is not as it was. Cost: for each rule set of all blocks what
// its rules intend, twice, and for each class the blocks of its segment.
func Compare(before, after *matrix.Matrix) *Touched {
	t := &Touched{networks: make([]bool, len(after.Net.Networks)), segments: make([]bool, len(after.Inside)), before: weak.Make(before), after: weak.Make(after)}
	if before == nil || !alike(before, after) {
		t.whole = true
		return t
	}
	others := moved(before, after)
	if t.whole = others[len(after.Inside)]; !t.whole {
		t.mark(before, after, otherwise(before, after), others)
	}
	return t
}

// alike reports whether two matrices number the same things alike, on the same ground.
func alike(a, b *matrix.Matrix) bool {
	return a.Net == b.Net && a.Atoms == b.Atoms && a.Interner == b.Interner && len(a.Inside) == len(b.Inside) && len(a.Outside) == len(b.Outside) &&
		standAlike(a.Judge.Estate, b.Judge.Estate)
}

// standAlike reports whether two estates have the same places and things beside the rules. Labels
// of workloads have their say by groups.
func standAlike(a, b *estate.Estate) bool {
	return same(a.Accounts, b.Accounts) && same(a.Hubs, b.Hubs) && same(a.Links, b.Links) && same(a.Networks, b.Networks) && same(a.Attachments, b.Attachments) &&
		same(a.Peerings, b.Peerings) && same(a.Exits, b.Exits) && same(a.Publications, b.Publications) && same(a.Services, b.Services) && same(a.Pools, b.Pools) &&
		slices.EqualFunc(a.Workloads, b.Workloads, func(x, y estate.Workload) bool {
			return x.Name == y.Name && x.Network == y.Network && slices.Equal(x.Addresses, y.Addresses)
		})
}

func same[T any](a, b []T) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0] || reflect.DeepEqual(a, b))
}

// moved returns the domains of which some class is another.
func moved(before, after *matrix.Matrix) []bool {
	out := make([]bool, len(after.Inside)+1)
	for d := range out {
		a, b := before.ClassesIn(d), after.ClassesIn(d)
		out[d] = !slices.EqualFunc(a, b, func(x, y int) bool { return before.Classes[x] == after.Classes[y] })
	}
	return out
}

// otherwise returns the rule sets of the blocks that are as before by which something else is
// intended now.
func otherwise(before, after *matrix.Matrix) *bitset.BitSet {
	n, _ := after.Interner.Len()
	seen, out := bitset.New(uint(n)), bitset.New(uint(n))
	var all []int32
	for p, b := range after.Blocks.All() {
		if b != before.Blocks.At(p.From, p.To) {
			continue
		}
		for _, r := range b.RuleSets {
			if !seen.Test(uint(r)) {
				seen.Set(uint(r))
				all = append(all, r)
			}
		}
	}
	differs := make([]bool, len(all))
	parallel.Shares(len(all), 8, func(_, first, last int) {
		was, is := newReading(before), newReading(after)
		for i := first; i < last; i++ {
			differs[i] = !equal(was, is, all[i])
		}
	})
	for i, r := range all {
		out.SetTo(uint(r), differs[i])
	}
	return out
}

// reading is what the rule sets of one matrix intend.
type reading struct {
	s     *matrix.Matrix
	memo  *verdict.Memo
	terms []verdict.Term
	known map[[2]int32]bool // by an intent before and one after: whether they are equal
}

func newReading(s *matrix.Matrix) *reading {
	return &reading{s: s, memo: s.Judge.NewMemo(s.RuleIndex), known: map[[2]int32]bool{}}
}

func (r *reading) intents(ruleSet int32) []int32 {
	var context verdict.Context
	context, r.terms = r.s.Interner.RuleSetAt(ruleSet, r.terms[:0])
	return r.memo.Intents(context, r.terms)
}

// equal reports whether a rule set intends the same before and after, for the same reasons.
func equal(was, is *reading, ruleSet int32) bool {
	a, b := was.intents(ruleSet), is.intents(ruleSet)
	for atom := range a {
		pair := [2]int32{a[atom], b[atom]}
		known, ok := is.known[pair]
		if !ok {
			known = equalIntents(was.memo, is.memo, pair)
			is.known[pair] = known
		}
		if !known {
			return false
		}
	}
	return true
}

func equalIntents(was, is *verdict.Memo, pair [2]int32) bool {
	action, pools := was.Intended(pair[0])
	now, through := is.Intended(pair[1])
	if action != now || !slices.Equal(pools, through) {
		return false
	}
	if action == estate.Inspect && !slices.Equal(was.BookPasses(pair[0]), is.BookPasses(pair[1])) {
		return false
	}
	return slices.Equal(was.Grounds(pair[0]), is.Grounds(pair[1]))
}

// lines are the rows and columns of a block where something else is intended; nil for a block
// that is another.
type lines struct{ rows, cols *bitset.BitSet }

// linesOf returns the lines of a block that have one of some rule sets. Cost: the rows, and the
// columns of those that have one.
func linesOf(b *matrix.Block, ruleSets *bitset.BitSet) *lines {
	out := &lines{bitset.New(uint(len(b.MatchSets[0]))), bitset.New(uint(len(b.MatchSets[1])))}
	for i := range b.Rows {
		row := &b.Rows[i]
		if !slices.ContainsFunc(row.Palette, func(r int32) bool { return ruleSets.Test(uint(r)) }) {
			continue
		}
		for col, at := range row.Cells {
			if ruleSets.Test(uint(row.Palette[at])) {
				out.rows.Set(uint(i))
				out.cols.Set(uint(col))
			}
		}
	}
	return out
}

// mark marks what has a class on a line where something else is intended, or is in a domain that
// has another block, other classes, or flows with such a domain.
func (t *Touched) mark(before, after *matrix.Matrix, ruleSets *bitset.BitSet, moved []bool) {
	inside := len(after.Inside)
	all := make([]bool, inside+1) // segments of which every class is touched; the last is nobody's
	known := map[*matrix.Block]*lines{}
	for p, b := range after.Blocks.All() {
		if b != before.Blocks.At(p.From, p.To) || moved[p.From] || moved[p.To] {
			all[p.From], all[p.To] = true, true
			continue
		}
		if l := linesOf(b, ruleSets); l.rows.Any() {
			known[b] = l
		}
	}
	for p := range before.Blocks.All() {
		if after.Blocks.At(p.From, p.To) == nil {
			all[p.From], all[p.To] = true, true
		}
	}
	jobs := make([]func(), inside)
	touched := make([]*bitset.BitSet, inside) // by segment: its networks
	for s := range inside {
		touched[s] = bitset.New(uint(len(t.networks)))
		t.segments[s] = all[s]
		jobs[s] = func() { t.markSegment(after, s, all[s], known, touched[s]) }
	}
	parallel.Run(jobs)
	for _, networks := range touched {
		for n, ok := networks.NextSet(0); ok; n, ok = networks.NextSet(n + 1) {
			t.networks[n] = true
		}
	}
}

func (t *Touched) markSegment(s *matrix.Matrix, segment int, all bool, known map[*matrix.Block]*lines, networks *bitset.BitSet) {
	var from, to []*matrix.Block
	for other := range len(s.Inside) + 1 {
		if b := s.Blocks.At(segment, other); b != nil && known[b] != nil {
			from, t.segments[segment] = append(from, b), true
		}
		if b := s.Blocks.At(other, segment); b != nil && known[b] != nil {
			to = append(to, b)
			t.segments[segment] = t.segments[segment] || other == len(s.Inside)
		}
	}
	if !all && len(from)+len(to) == 0 {
		return
	}
	for _, i := range s.Inside[segment] {
		c := s.Classes[i]
		if all || hit(c, from, to, known) {
			networks.Set(uint(c.Network))
		}
	}
}

// hit reports whether a class is on a line where something else is intended.
func hit(c *classes.Class, from, to []*matrix.Block, known map[*matrix.Block]*lines) bool {
	return slices.ContainsFunc(from, func(b *matrix.Block) bool { return known[b].rows.Test(uint(b.Src.Line(&c.Header))) }) ||
		slices.ContainsFunc(to, func(b *matrix.Block) bool { return known[b].cols.Test(uint(b.Dst.Line(&c.Header))) })
}
