package survey

import (
	"maps"
	"math/bits"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/limits"
	"bivium/core/parallel"
	"bivium/core/space"
	"bivium/core/verdict"
)

// scale is how services are cut, with the verdicts that are on some atom.
type scale struct {
	atoms     *space.Atoms
	ruleIndex *verdict.RuleIndex
	unions    *unions
	counts    []float64 // by atom: how many services it has, about
	book      *book
	shut      int32 // the vector of flows from the internet that nothing publishes

	// What the book held when the survey was made; it only grows.
	results []verdict.Verdict
	vectors [][]int32           // the different lists of a result for each atom
	marks   [][]weightedOutcome // by vector: its outcomes
}

// book numbers results and vectors. It only grows, and surveys of edits of one
// estate share it as long as they cut services alike.
type book struct {
	mu       sync.Mutex
	resultOf map[string]int32
	results  []verdict.Verdict
	vectors  *vectorBook
	marks    [][]weightedOutcome
}

// weightedOutcome is an outcome of a vector, with about how many services have it.
type weightedOutcome struct {
	mark     Mark
	services float64
}

// cutBy lets the survey know services by atoms.
func (s *Survey) cutBy(atoms *space.Atoms) {
	s.scale = scale{
		atoms: atoms, ruleIndex: s.judge.NewRuleIndex(atoms), unions: newUnions(atoms), counts: countsOf(atoms),
		book: &book{resultOf: map[string]int32{}, vectors: newVectorBook()},
	}
	s.admit()
}

// admit finds the atoms that each publication lets in.
func (s *Survey) admit() {
	s.admits = nil
	for i := range s.judge.Publications() {
		in, _ := s.atoms.Covered(s.judge.PublicationTerms(i))
		s.admits = append(s.admits, in)
	}
}

// settleAll decides the combinations that are wanted, by stance.
func (s *Survey) settleAll(wanted wants) {
	workers := make([]*settler, max(1, min(runtime.GOMAXPROCS(0), len(wanted)/64)))
	jobs := make([]func(), len(workers))
	var next atomic.Int64
	for i := range workers {
		w := newSettler(s)
		workers[i] = w
		jobs[i] = func() { w.settle(wanted, &next) }
	}
	parallel.Run(jobs)
	s.gather(workers, len(wanted))
}

// wants are, by stance, effects with which it is to be settled.
type wants [][]int32

func (w wants) want(stance, effect int32) {
	if !slices.Contains(w[stance], effect) {
		w[stance] = append(w[stance], effect)
	}
}

// wanted returns what must be settled: all combinations that occur.
func (s *Survey) wanted(occur [][]combination) wants {
	s.ledger.mu.RLock()
	out := make(wants, len(s.ledger.stances))
	s.ledger.mu.RUnlock()
	for _, list := range occur {
		for _, x := range list {
			out.want(x.stance, x.effect)
		}
	}
	for _, b := range s.blocks[len(s.inside)].is {
		effects := s.effectsThrough(b.to)
		for _, stance := range b.stances {
			for _, e := range effects {
				out.want(stance, e)
			}
		}
	}
	return out
}

// effectsThrough returns the effects of the ways through the gates of a segment.
func (s *Survey) effectsThrough(segment int) []int32 {
	var out []int32
	for i := range s.gates[segment] {
		for _, e := range s.gates[segment][i].effects {
			if !slices.Contains(out, e) {
				out = append(out, e)
			}
		}
	}
	slices.Sort(out)
	return out
}

// settled returns the vector of a combination; false if none is known, for it does not
// occur.
func (s *Survey) settled(c combination) (int32, bool) {
	if c.effect < 0 || int(c.effect) >= len(s.verdicts) || int(c.stance) >= len(s.verdicts[c.effect]) {
		return 0, false
	}
	vector := s.verdicts[c.effect][c.stance]
	return vector, vector >= 0
}

// settler settles some of the combinations, and numbers results and vectors on
// its own.
type settler struct {
	*Survey
	weigher  *verdict.Weigher
	resultOf map[string]int32
	results  []verdict.Verdict
	fates    [][]int32   // by effect and opinion: the result, or -1
	vectors  *vectorBook // of results
	settled  []settledStance

	// Of the stance at hand, in memory that is used again.
	voices   []verdict.Voice
	opinions []int32 // the different ones
	slots    []int32 // by opinion: its place among those, from 1; 0 for the others
	vector   []int32
	key      []byte
}

type settledStance struct {
	stance  int32
	effects []int32
	vectors []int32
}

func newSettler(s *Survey) *settler {
	return &settler{
		Survey: s, weigher: s.judge.NewWeigher(s.ruleIndex), resultOf: map[string]int32{}, vectors: newVectorBook(), vector: make([]int32, s.atoms.Len()),
	}
}

// stretchOf is how many stances a settler takes at once: those of a block are
// neighbours, and have voices in common.
const stretchOf = 256

// settle settles stances, of those that nobody has taken yet.
func (w *settler) settle(wanted wants, next *atomic.Int64) {
	for {
		first := int(next.Add(stretchOf)) - stretchOf
		if first >= len(wanted) {
			return
		}
		for i, effects := range wanted[first:min(first+stretchOf, len(wanted))] {
			if len(effects) > 0 {
				stance := int32(first + i)
				w.settled = append(w.settled, settledStance{stance, effects, w.stance(stance, effects)})
			}
		}
	}
}

// stance returns the vectors of a stance under some effects.
func (w *settler) stance(number int32, effects []int32) []int32 {
	var context verdict.Context
	context, w.voices = w.ledger.stanceAt(number, w.voices[:0])
	byAtom := w.weigher.Weigh(context, w.voices)
	for _, o := range byAtom {
		for int(o) >= len(w.slots) {
			w.slots = append(w.slots, 0)
		}
		if w.slots[o] == 0 {
			w.opinions = append(w.opinions, o)
			w.slots[o] = int32(len(w.opinions))
		}
	}
	out := make([]int32, len(effects))
	results := make([]int32, len(w.opinions)+1)
	for k, e := range effects {
		for i, o := range w.opinions {
			results[i+1] = w.fate(o, e)
		}
		for atom, o := range byAtom {
			w.vector[atom] = results[w.slots[o]]
		}
		out[k] = w.vectors.number(w.vector)
	}
	for _, o := range w.opinions {
		w.slots[o] = 0
	}
	w.opinions = w.opinions[:0]
	return out
}

// fate returns the result of an opinion on ways of an effect.
func (w *settler) fate(opinion, effect int32) int32 {
	for int(effect) >= len(w.fates) {
		w.fates = append(w.fates, nil)
	}
	fates := w.fates[effect]
	for int(opinion) >= len(fates) {
		fates = append(fates, -1)
	}
	w.fates[effect] = fates
	if fates[opinion] < 0 {
		fate := w.weigher.Carry(opinion, w.ledger.effectAt(effect))
		fates[opinion] = w.result(&fate)
	}
	return fates[opinion]
}

func (w *settler) result(f *verdict.Fate) int32 {
	w.key = w.judge.AppendKey(w.key[:0], f)
	i, ok := w.resultOf[string(w.key)]
	if !ok {
		i = int32(len(w.results))
		w.resultOf[string(w.key)] = i
		w.results = append(w.results, w.judge.Verdict(f))
	}
	return i
}

// gather puts together what the workers found.
func (s *Survey) gather(workers []*settler, stances int) {
	b := s.book
	b.mu.Lock()
	defer b.mu.Unlock()
	all := func(r int32) []int32 { return slices.Repeat([]int32{r}, s.atoms.Len()) }
	// Vector 0 is that of flows to what nothing is found under.
	b.vectors.number(all(b.result(verdict.Verdict{Outcome: verdict.Unrouted, Reason: verdict.ReasonUnknown, Pools: []string{}, By: []string{}})))
	shut, effect := s.judge.NewWeigher(s.ruleIndex), verdict.UnpublishedEffect()
	fate := shut.Carry(shut.Weigh(verdict.Unpublished(), nil)[0], &effect)
	s.shut = b.vectors.number(all(b.result(s.judge.Verdict(&fate))))
	for _, w := range workers {
		s.take(w, stances)
	}
	s.results, s.vectors = b.results[:len(b.results):len(b.results)], b.vectors.list[:len(b.vectors.list):len(b.vectors.list)]
	for i := len(b.marks); i < len(s.vectors); i++ {
		b.marks = append(b.marks, s.weightedOutcomes(s.vectors[i], nil))
	}
	s.marks = b.marks[:len(b.marks):len(b.marks)]
}

// take puts what a worker found into the book and the table of verdicts.
func (s *Survey) take(w *settler, stances int) {
	b := s.book
	results := make([]int32, len(w.results))
	for i, v := range w.results {
		results[i] = b.result(v)
	}
	vectors := make([]int32, len(w.vectors.list))
	for i, v := range w.vectors.list {
		for atom, r := range v {
			v[atom] = results[r]
		}
		vectors[i] = b.vectors.number(v)
	}
	for _, st := range w.settled {
		for k, e := range st.effects {
			s.enter(combination{st.stance, e}, vectors[st.vectors[k]], stances)
		}
	}
}

// enter puts the vector of a combination into the table of verdicts, of so many stances.
func (s *Survey) enter(c combination, vector int32, stances int) {
	for int(c.effect) >= len(s.verdicts) {
		s.verdicts = append(s.verdicts, nil)
	}
	table := &s.verdicts[c.effect]
	if missing := stances - len(*table); missing > 0 {
		*table = append(*table, slices.Repeat([]int32{-1}, missing)...)
	}
	(*table)[c.stance] = vector
}

// recut returns a book that begins with the same results, and has other vectors in place
// of the same ones, with their outcomes.
func (b *book) recut(vectors [][]int32, marks [][]weightedOutcome) *book {
	b.mu.Lock()
	defer b.mu.Unlock()
	next := &book{resultOf: maps.Clone(b.resultOf), results: slices.Clip(b.results), vectors: &vectorBook{list: slices.Clip(vectors)}, marks: slices.Clip(marks)}
	return next
}

// result returns the number of a result. The book must be locked.
func (b *book) result(v verdict.Verdict) int32 {
	key := verdictKey(&v)
	i, ok := b.resultOf[key]
	if !ok {
		i = int32(len(b.results))
		b.resultOf[key] = i
		b.results = append(b.results, v)
	}
	return i
}

// weightedOutcomes returns the outcomes of a vector on some atoms; nil for all.
func (s *Survey) weightedOutcomes(vector []int32, mask *bitset.BitSet) []weightedOutcome {
	var out []weightedOutcome
	for atom, r := range vector {
		if mask != nil && !mask.Test(uint(atom)) {
			continue
		}
		m := Mark{s.results[r].Outcome, s.results[r].Contested}
		i := slices.IndexFunc(out, func(x weightedOutcome) bool { return x.mark == m })
		if i < 0 {
			i = len(out)
			out = append(out, weightedOutcome{mark: m})
		}
		out[i].services += s.counts[atom]
	}
	return out
}

// vectorBook numbers different vectors.
type vectorBook struct {
	at   map[uint64]int32 // by hash: the last vector that has it
	next []int32          // by vector: another of the same hash, or -1
	list [][]int32
}

func newVectorBook() *vectorBook { return &vectorBook{at: map[uint64]int32{}} }

// number returns the number of a vector; it keeps a copy of a new one.
func (b *vectorBook) number(v []int32) int32 {
	if b.at == nil { // a book that was cut anew is hardly ever written to
		b.at = map[uint64]int32{}
		for i, v := range b.list {
			b.enter(b.hash(v), int32(i))
		}
	}
	sum := b.hash(v)
	if i, known := b.at[sum]; known {
		for ; i >= 0; i = b.next[i] {
			if slices.Equal(b.list[i], v) {
				return i
			}
		}
	}
	if (len(b.list)+1)*len(v) > limits.Outcomes {
		panic(&limits.Exceeded{What: "distinct outcomes", Most: limits.Outcomes, Fix: "use fewer groups or services in rules"})
	}
	i := int32(len(b.list))
	b.list = append(b.list, slices.Clone(v))
	b.enter(sum, i)
	return i
}

// enter lets a vector be found by its hash.
func (b *vectorBook) enter(sum uint64, i int32) {
	before, known := b.at[sum]
	if !known {
		before = -1
	}
	b.next = append(b.next, before)
	b.at[sum] = i
}

// hash mixes a vector word by word (multiply and rotate, as in FNV and its kin: the
// words are numbers that few people choose).
func (b *vectorBook) hash(v []int32) uint64 {
	h := uint64(len(v))
	for _, r := range v {
		h = bits.RotateLeft64((h^uint64(uint32(r)))*0x9e3779b97f4a7c15, 29)
	}
	return h
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
