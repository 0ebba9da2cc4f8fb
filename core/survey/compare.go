package survey

import (
	"maps"
	"math/big"
	"slices"
	"strings"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/paths"
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
	found := make([][]*change, len(c.lands)*len(c.lands))
	jobs := make([]func(), len(found))
	for i := range jobs {
		jobs[i] = func() { found[i] = c.between(i/len(c.lands), i%len(c.lands)) }
	}
	inParallel(jobs)
	c.changes = slices.Concat(found...)
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
	mu                   sync.Mutex
	deltas               map[[2]int32][]delta
	changes              []*change
	units                []*units // by territory, made when needed
	altered              []bool   // by stance, where the surveys share theirs: its verdicts differ
	graft                *graft   // how the endpoints of one of them came of the other's; nil if that is not known, or they are the same
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
	c.mu.Lock()
	known, ok := c.deltas[key]
	c.mu.Unlock()
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
	c.mu.Lock()
	defer c.mu.Unlock()
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
	from, to  int
	old, new  view
	kept      bool // the flows between endpoints that stay fare otherwise only where a stance is altered
	samePlan  bool // and their places have the same numbers
	blockless bool // neither survey has such flows, but to what is not found
	at        map[changeKey]*change
	plain     map[[2]int32][]*change // by vectors before and after
}

// between compares the flows from one territory to another.
func (c *comparer) between(from, to int) []*change {
	a, b := &c.lands[from], &c.lands[to]
	p := &pairing{comparer: c, from: from, to: to, at: map[changeKey]*change{}, plain: map[[2]int32][]*change{}}
	p.old, p.new = view{c.old, c.oldVector, c.old.blockOf(a.old, b.old), a.old, b.old}, view{c.new, c.newVector, c.new.blockOf(a.new, b.new), a.new, b.new}
	p.match()
	switch {
	case a.node.Kind == NodeInternet && b.node.Kind == NodeInternet:
	case a.node.Kind == NodeInternet:
		p.doors()
	default:
		p.inside()
	}
	return slices.Collect(maps.Values(p.at))
}

// match finds out what the surveys share of the flows at hand.
func (p *pairing) match() {
	x, y := p.old.block, p.new.block
	if x == nil && y == nil && (p.old.id == p.new.id || p.graft != nil) { // either finds nothing under the addresses
		p.kept, p.blockless = true, true
		return
	}
	if x == nil || y == nil || p.altered == nil || x.threads != y.threads {
		return
	}
	p.samePlan = x == y || p.from != len(p.lands)-1 && sameList(x.effects, y.effects) && sameList(x.src.bySpot, y.src.bySpot) && sameList(x.dst.bySpot, y.dst.bySpot)
	p.kept = p.samePlan || p.graft != nil && !p.graft.ways
}

// sameList reports whether two lists are one and the same.
func sameList[T any](a, b []T) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }

// touched reports whether a territory has other endpoints in the surveys, or endpoints
// whose ways may be others.
func (c *comparer) touched(t *territory) bool {
	return c.old.id != c.new.id && (c.graft == nil || c.graft.domains[t.new])
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
	stays    bool // flows with others that stay fare as before, unless a stance is altered
	joints   []int32
	size     size
	bits     *bitset.BitSet // the joints; made when needed
}

// bundles puts joints into bundles. Joints of one kind before are of few kinds
// after, so bundles are found by the kind before, and then one by one.
func (p *pairing) bundles(t *territory, old, new func(int) int32, stays func(j *joint, old, new int32) bool) []bundle {
	var out []bundle
	var first, next []int32 // by kind before, and by bundle
	of, count := make([]int32, len(t.joints)), []int32(nil)
	for i := range t.joints {
		j := &t.joints[i]
		k := bundle{old: old(j.old), new: new(j.new), four: j.four}
		if of[i] = -1; k.old == absent && k.new == absent {
			continue
		}
		k.stays = stays(j, k.old, k.new)
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

// alter finds the stances whose verdicts differ, if the surveys share their ledger;
// else anything may differ.
func (c *comparer) alter() {
	if c.old.ledger != c.new.ledger || c.old.book != c.new.book {
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

// alteredIn returns which stances of a kind of sources are altered, by place in
// its palette; nil if none are.
func (p *pairing) alteredIn(kind int32) []bool {
	if kind < 0 || p.blockless {
		return nil
	}
	var out []bool
	palette := p.new.block.rows[p.new.block.src.kinds[kind].line].palette
	for i, s := range palette {
		if int(s) < len(p.altered) && p.altered[s] {
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
	a, b := &p.lands[p.from], &p.lands[p.to]
	calm := p.kept && (p.blockless || !p.new.block.holdsAny(p.altered))
	if calm && !p.touched(a) && !p.touched(b) {
		return
	}
	p.land(p.from)
	p.land(p.to)
	if calm && p.allStay(a, p.old.source, p.new.source, p.sourceStays) && p.allStay(b, p.old.target, p.new.target, p.targetStays) {
		return
	}
	sources := p.bundles(a, p.old.source, p.new.source, p.sourceStays)
	targets := p.bundles(b, p.old.target, p.new.target, p.targetStays)
	l := &locals{p, map[*bundle]bool{}}
	all := make([]*bundle, len(targets))
	var moved, staying []*bundle
	for k := range targets {
		all[k] = &targets[k]
		if targets[k].stays {
			staying = append(staying, all[k])
		} else {
			moved = append(moved, all[k])
		}
	}
	for i := range sources {
		src := &sources[i]
		if !src.stays {
			p.row(src, all, nil)
			l.disturbed[src] = true
			continue
		}
		p.row(src, moved, nil)
		if altered := p.alteredIn(src.new); altered != nil {
			p.row(src, staying, altered)
			l.disturbed[src] = true
		}
	}
	if p.from == p.to {
		l.mendAll(sources, targets)
	}
}

// allStay reports whether flows with all endpoints of a territory fare as before, unless a
// stance is altered.
func (p *pairing) allStay(t *territory, old, new func(int) int32, stays func(j *joint, old, new int32) bool) bool {
	return !slices.ContainsFunc(t.moved, func(i int32) bool {
		j := &t.joints[i]
		was, is := old(j.old), new(j.new)
		return (was != absent || is != absent) && !stays(j, was, is)
	})
}

func (p *pairing) sourceStays(j *joint, old, new int32) bool {
	return p.blockless && old == new || p.stays(j) || p.samePlan && old >= 0 && new >= 0 && p.unmoved(j) && p.old.block.src.kinds[old] == p.new.block.src.kinds[new]
}

func (p *pairing) targetStays(j *joint, old, new int32) bool {
	return old < 0 && old == new || p.stays(j) ||
		p.samePlan && p.to < len(p.lands)-1 && old >= 0 && new >= 0 && p.unmoved(j) && p.old.block.dst.kinds[old] == p.new.block.dst.kinds[new]
}

// stays reports whether a joint is of one class in both surveys, with the same ways to
// and from others that stay.
func (p *pairing) stays(j *joint) bool {
	return p.kept && j.old >= 0 && j.old == j.new && p.unmoved(j)
}

// unmoved reports whether the endpoints of a joint are at home in a network that is
// placed as before.
func (p *pairing) unmoved(j *joint) bool {
	if p.old.id == p.new.id || p.new.classes[j.new].network == paths.None {
		return true
	}
	return p.graft != nil && p.old.classes[j.old].network == p.new.classes[j.new].network && !p.graft.moves(p.new.classes[j.new].network)
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
