package survey

import (
	"math/big"
	"slices"
	"strings"

	"github.com/bits-and-blooms/bitset"

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
	Services space.Services
	Before   *verdict.Verdict // nil where there was no such flow
	After    *verdict.Verdict // nil where there is none any more
	Pairs    *big.Int         // of addresses
	Witness  verdict.Flow
	patches  []patch
	at       [2]int // territories
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
	c := &comparer{old: old, new: new, lands: territories(old, new), deltas: map[[2]int32][]delta{}}
	c.meet()
	c.alter()
	c.graft = grafted(old, new)
	for from := range c.lands {
		for to := range c.lands {
			c.between(from, to)
		}
	}
	d := Difference{comparer: c}
	d.Changes = c.finish()
	return d
}

type comparer struct {
	old, new *Survey
	lands    []territory
	// Vectors of either survey, by number, in a numbering of both; 0 is no flow.
	oldVector, newVector []int32
	vectors              [][]int32 // of results of both
	results              []*verdict.Verdict
	deltas               map[[2]int32][]delta
	changes              []*change
	units                []*units // by territory, made when needed
	altered              []bool   // by stance, where the surveys share theirs: its verdicts differ
	graft                *graft   // what one of them has placed otherwise than the other; nil if that is not known
}

// delta is the atoms on which one vector has another result than another.
type delta struct {
	before, after int32 // results, or -1
	atoms         *bitset.BitSet
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
	known, ok := c.deltas[key]
	if ok {
		return known
	}
	at := func(vector int32, atom int) int32 {
		if vector == 0 {
			return -1
		}
		return c.vectors[vector][atom]
	}
	var out []delta
	for atom := range c.old.atoms.Len() {
		was, is := at(before, atom), at(after, atom)
		out = apply(out, was, is, atom, c.old.atoms.Len())
	}
	c.deltas[key] = out
	return out
}

// apply adds an atom to the delta of two results, if they differ.
func apply(out []delta, was, is int32, atom, atoms int) []delta {
	if was == is {
		return out
	}
	i := slices.IndexFunc(out, func(d delta) bool { return d.before == was && d.after == is })
	if i < 0 {
		i = len(out)
		out = append(out, delta{was, is, bitset.New(uint(atoms))})
	}
	out[i].atoms.Set(uint(atom))
	return out
}

func verdictKey(v *verdict.Verdict) string {
	if v == nil {
		return "none"
	}
	key := strings.Join([]string{string(v.Outcome), string(v.Intended), string(v.Reason), strings.Join(v.Pools, ";"), strings.Join(v.By, ";")}, "|")
	if v.Contested {
		key += "|contested"
	}
	return key
}

func sameVerdict(a, b *verdict.Verdict) bool {
	if a == nil || b == nil {
		return a == b
	}
	return verdictKey(a) == verdictKey(b)
}

func oneIf(b bool) int {
	if b {
		return 1
	}
	return 0
}

// pairing is two territories at hand.
type pairing struct {
	*comparer
	from, to int
	old, new view
	at       map[changeKey]*change
	plain    map[[2]int32][]*change // by vectors before and after
}

// between compares the flows from one territory to another.
func (c *comparer) between(from, to int) {
	a, b := &c.lands[from], &c.lands[to]
	p := &pairing{comparer: c, from: from, to: to, at: map[changeKey]*change{}, plain: map[[2]int32][]*change{}}
	p.old, p.new = view{c.old, c.oldVector, c.old.blockOf(a.old, b.old), a.old, b.old}, view{c.new, c.newVector, c.new.blockOf(a.new, b.new), a.new, b.new}
	switch {
	case c.graft != nil && !c.graft.moves(a) && !c.graft.moves(b):
	case a.node.Kind == NodeInternet && b.node.Kind == NodeInternet:
	case a.node.Kind == NodeInternet:
		p.doors()
	default:
		p.inside()
	}
	for _, x := range p.at {
		c.changes = append(c.changes, x)
	}
}

func (s *Survey) blockOf(from, to int) *block {
	if from < 0 || to < 0 {
		return nil
	}
	return s.blocks[from][to]
}

// bundle is the joints of a territory that neither survey tells apart in a pair
// of territories.
type bundle struct {
	old, new int32 // kinds
	four     bool
	stays    bool // its networks are placed as before
	joints   []int32
	size     size
	bits     *bitset.BitSet // the joints; made when needed
}

// bundles puts joints into bundles. Joints of one kind before are of few kinds
// after, so bundles are found by the kind before, and then one by one.
func (p *pairing) bundles(t *territory, old, new func(int) int32) []bundle {
	var out []bundle
	var first, next []int32 // by kind before, and by bundle
	of, count := make([]int32, len(t.joints)), []int32(nil)
	for i := range t.joints {
		j := &t.joints[i]
		k := bundle{old: old(j.old), new: new(j.new), four: j.four, stays: p.graft != nil && j.old == j.new}
		if of[i] = -1; k.old == absent && k.new == absent {
			continue
		}
		slot := int(k.old - nowhere)
		for slot >= len(first) {
			first = append(first, -1)
		}
		n := first[slot]
		for n >= 0 && (out[n].new != k.new || out[n].four != k.four || out[n].stays != k.stays) {
			n = next[n]
		}
		if n < 0 {
			n = int32(len(out))
			out, count, next = append(out, k), append(count, 0), append(next, first[slot])
			first[slot] = n
		}
		of[i] = n
		count[n]++
		out[n].size.add(j.size)
	}
	all := make([]int32, len(t.joints))
	for n := range out {
		out[n].joints, all = all[:0:count[n]], all[count[n]:]
	}
	for i, n := range of {
		if n >= 0 {
			out[n].joints = append(out[n].joints, int32(i))
		}
	}
	return out
}

func (b *bundle) set(n int) *bitset.BitSet {
	if b.bits == nil {
		b.bits = bitset.New(uint(n))
		for _, i := range b.joints {
			b.bits.Set(uint(i))
		}
	}
	return b.bits
}

// alter finds the stances whose verdicts differ, if the surveys share their
// endpoints and their ledger; else anything may differ.
func (c *comparer) alter() {
	if c.old.id != c.new.id || c.old.ledger != c.new.ledger {
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
				c.altered[stance] = true
			}
		}
	}
}

// shares reports whether the surveys share the block at hand, so that only
// altered stances fare differently.
func (p *pairing) shares() bool {
	return p.altered != nil && p.old.block != nil && p.old.block == p.new.block
}

// alteredIn returns which stances of a kind of sources are altered, by place in
// its palette; nil if none are.
func (p *pairing) alteredIn(kind int32) []bool {
	if kind < 0 {
		return nil
	}
	var out []bool
	palette := p.new.block.rows[p.new.block.src.kinds[kind].line].palette
	for i, s := range palette {
		if p.altered[s] {
			if out == nil {
				out = make([]bool, len(palette))
			}
			out[i] = true
		}
	}
	return out
}

// inside compares flows whose source is inside.
func (p *pairing) inside() {
	same := p.old.id == p.new.id
	if same && p.old.block == nil && p.new.block == nil {
		return // either finds nothing under the addresses
	}
	if p.shares() && !p.new.block.holdsAny(p.altered) {
		return
	}
	a, b := p.land(p.from), p.land(p.to)
	sources, targets := p.bundles(a, p.old.source, p.new.source), p.bundles(b, p.old.target, p.new.target)
	var all, moved []*bundle
	for k := range targets {
		if all = append(all, &targets[k]); !targets[k].stays {
			moved = append(moved, &targets[k])
		}
	}
	local := p.from == p.to
	var disturbed []int32 // sources whose local flows may fare otherwise than bundles tell
	for i := range sources {
		src := &sources[i]
		var altered []bool
		if p.shares() {
			if altered = p.alteredIn(src.new); altered == nil {
				continue
			}
		}
		if src.stays { // flows among those that stay fare as before
			p.row(src, moved, altered)
			continue
		}
		p.row(src, all, altered)
		if local {
			disturbed = append(disturbed, src.joints...)
		}
	}
	if local {
		p.locals(disturbed, sources, targets)
	}
}

// row compares the flows of one bundle of sources. altered, unless nil, says
// which places of its palette are worth looking at.
func (p *pairing) row(src *bundle, targets []*bundle, altered []bool) {
	var cells []uint32
	if altered != nil && p.to < len(p.lands)-1 {
		cells = p.new.block.rows[p.new.block.src.kinds[src.new].line].cells
	}
	for _, dst := range targets {
		if src.four != dst.four || cells != nil && (dst.new < 0 || !altered[cells[p.new.block.dst.kinds[dst.new].line]]) {
			continue
		}
		if before, after := p.old.far(src.old, dst.old), p.new.far(src.new, dst.new); before != after {
			p.add(src, dst, before, after)
		}
	}
}
