package matrix

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

// ServiceCut is how services are cut, with the verdicts that are on some atom.
type ServiceCut struct {
	Atoms             *space.Atoms
	RuleIndex         *verdict.RuleIndex
	Unions            *UnionCache
	counts            []float64 // by atom: how many services it has, about
	ResultInterner    *ResultInterner
	UnpublishedVector int32 // the vector of flows from the internet that nothing publishes

	// What the book held when the matrix was made; it only grows.
	Results []verdict.Verdict
	Vectors [][]int32           // the different lists of a result for each atom
	marks   [][]weightedOutcome // by vector: its outcomes
}

// ResultInterner numbers results and vectors. It only grows, and matrices of edits of one
// estate share it as long as they cut services alike.
type ResultInterner struct {
	mu       sync.Mutex
	resultOf map[string]int32
	results  []verdict.Verdict
	vectors  *VectorInterner
	marks    [][]weightedOutcome
}

// weightedOutcome is an outcome of a vector, with about how many services have it.
type weightedOutcome struct {
	mark     Mark
	services float64
}

// cutBy lets the matrix know services by atoms.
func (s *Matrix) cutBy(atoms *space.Atoms) {
	s.ServiceCut = ServiceCut{
		Atoms: atoms, RuleIndex: s.Judge.NewRuleIndex(atoms), Unions: NewUnions(atoms), counts: countsOf(atoms),
		ResultInterner: &ResultInterner{resultOf: map[string]int32{}, vectors: NewVectorInterner()},
	}
	s.Admit()
}

// Admit finds the atoms that each publication lets in.
func (s *Matrix) Admit() {
	s.Admits = nil
	for i := range s.Judge.PublicationNames() {
		in, _ := s.Atoms.Covered(s.Judge.PublicationTerms(i))
		s.Admits = append(s.Admits, in)
	}
}

// SettleAll decides the combinations that are wanted, by rule set.
func (s *Matrix) SettleAll(wanted WorkList) {
	workers := make([]*Settler, max(1, min(runtime.GOMAXPROCS(0), len(wanted)/64)))
	jobs := make([]func(), len(workers))
	var next atomic.Int64
	for i := range workers {
		w := NewSettler(s)
		workers[i] = w
		jobs[i] = func() { w.settle(wanted, &next) }
	}
	parallel.Run(jobs)
	s.gather(workers, len(wanted))
}

// WorkList are, by rule set, effects with which it is to be settled.
type WorkList [][]int32

func (w WorkList) Want(ruleSet, effect int32) {
	if !slices.Contains(w[ruleSet], effect) {
		w[ruleSet] = append(w[ruleSet], effect)
	}
}

// wanted returns what must be settled: all combinations that occur.
func (s *Matrix) wanted(occur [][]Combination) WorkList {
	s.Interner.Mu.RLock()
	out := make(WorkList, len(s.Interner.RuleSets))
	s.Interner.Mu.RUnlock()
	for _, list := range occur {
		for _, x := range list {
			out.Want(x.RuleSet, x.Effect)
		}
	}
	for _, b := range s.Blocks[len(s.Inside)].Is {
		effects := s.EffectsThrough(b.To)
		for _, ruleSet := range b.RuleSets {
			for _, e := range effects {
				out.Want(ruleSet, e)
			}
		}
	}
	return out
}

// EffectsThrough returns the effects of the paths through the inbound paths of a segment.
func (s *Matrix) EffectsThrough(segment int) []int32 {
	var out []int32
	for i := range s.Inbounds[segment] {
		for _, e := range s.Inbounds[segment][i].Effects {
			if !slices.Contains(out, e) {
				out = append(out, e)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Settled returns the vector of a combination; false if none is known, for it does not
// occur.
func (s *Matrix) Settled(c Combination) (int32, bool) {
	if c.Effect < 0 || int(c.Effect) >= len(s.Verdicts) || int(c.RuleSet) >= len(s.Verdicts[c.Effect]) {
		return 0, false
	}
	vector := s.Verdicts[c.Effect][c.RuleSet]
	return vector, vector >= 0
}

// Settler settles some of the combinations, and numbers results and vectors on
// its own.
type Settler struct {
	*Matrix
	weigher  *verdict.Memo
	resultOf map[string]int32
	Results  []verdict.Verdict
	outcomes [][]int32       // by effect and intent: the result, or -1
	Vectors  *VectorInterner // of results
	settled  []settledRuleSet

	// Of the rule set at hand, in memory that is used again.
	terms   []verdict.Term
	intents []int32 // the different ones
	slots   []int32 // by intent: its place among those, from 1; 0 for the others
	vector  []int32
	key     []byte
}

type settledRuleSet struct {
	ruleSet int32
	effects []int32
	vectors []int32
}

func NewSettler(s *Matrix) *Settler {
	return &Settler{
		Matrix: s, weigher: s.Judge.NewMemo(s.RuleIndex), resultOf: map[string]int32{}, Vectors: NewVectorInterner(), vector: make([]int32, s.Atoms.Len()),
	}
}

// stretchOf is how many rule sets a settler takes at once: those of a block are
// neighbours, and have terms in common.
const stretchOf = 256

// settle settles rule sets, of those that nobody has taken yet.
func (w *Settler) settle(wanted WorkList, next *atomic.Int64) {
	for {
		first := int(next.Add(stretchOf)) - stretchOf
		if first >= len(wanted) {
			return
		}
		for i, effects := range wanted[first:min(first+stretchOf, len(wanted))] {
			if len(effects) > 0 {
				ruleSet := int32(first + i)
				w.settled = append(w.settled, settledRuleSet{ruleSet, effects, w.RuleSet(ruleSet, effects)})
			}
		}
	}
}

// RuleSet returns the vectors of a rule set under some effects.
func (w *Settler) RuleSet(number int32, effects []int32) []int32 {
	var context verdict.Context
	context, w.terms = w.Interner.RuleSetAt(number, w.terms[:0])
	byAtom := w.weigher.Intents(context, w.terms)
	for _, o := range byAtom {
		for int(o) >= len(w.slots) {
			w.slots = append(w.slots, 0)
		}
		if w.slots[o] == 0 {
			w.intents = append(w.intents, o)
			w.slots[o] = int32(len(w.intents))
		}
	}
	out := make([]int32, len(effects))
	results := make([]int32, len(w.intents)+1)
	for k, e := range effects {
		for i, o := range w.intents {
			results[i+1] = w.outcome(o, e)
		}
		for atom, o := range byAtom {
			w.vector[atom] = results[w.slots[o]]
		}
		out[k] = w.Vectors.Number(w.vector)
	}
	for _, o := range w.intents {
		w.slots[o] = 0
	}
	w.intents = w.intents[:0]
	return out
}

// outcome returns the result of an intent on paths of an effect.
func (w *Settler) outcome(intent, effect int32) int32 {
	for int(effect) >= len(w.outcomes) {
		w.outcomes = append(w.outcomes, nil)
	}
	outcomes := w.outcomes[effect]
	for int(intent) >= len(outcomes) {
		outcomes = append(outcomes, -1)
	}
	w.outcomes[effect] = outcomes
	if outcomes[intent] < 0 {
		settled := w.weigher.Settle(intent, w.Interner.EffectAt(effect))
		outcomes[intent] = w.result(&settled)
	}
	return outcomes[intent]
}

func (w *Settler) result(f *verdict.Settled) int32 {
	w.key = w.Judge.AppendKey(w.key[:0], f)
	i, ok := w.resultOf[string(w.key)]
	if !ok {
		i = int32(len(w.Results))
		w.resultOf[string(w.key)] = i
		w.Results = append(w.Results, w.Judge.Verdict(f))
	}
	return i
}

// gather puts together what the workers found.
func (s *Matrix) gather(workers []*Settler, ruleSets int) {
	b := s.ResultInterner
	b.mu.Lock()
	defer b.mu.Unlock()
	all := func(r int32) []int32 { return slices.Repeat([]int32{r}, s.Atoms.Len()) }
	// Vector 0 is that of flows to what nothing is found under.
	b.vectors.Number(all(b.result(verdict.Verdict{Outcome: verdict.Unrouted, Reason: verdict.ReasonUnknown, Pools: []string{}, By: []string{}})))
	shut, effect := s.Judge.NewMemo(s.RuleIndex), verdict.UnpublishedEffect()
	settled := shut.Settle(shut.Intents(verdict.Unpublished(), nil)[0], &effect)
	s.UnpublishedVector = b.vectors.Number(all(b.result(s.Judge.Verdict(&settled))))
	for _, w := range workers {
		s.merge(w, ruleSets)
	}
	s.Results, s.Vectors = b.results[:len(b.results):len(b.results)], b.vectors.List[:len(b.vectors.List):len(b.vectors.List)]
	for i := len(b.marks); i < len(s.Vectors); i++ {
		b.marks = append(b.marks, s.weightedOutcomes(s.Vectors[i], nil))
	}
	s.marks = b.marks[:len(b.marks):len(b.marks)]
}

// merge puts what a worker found into the book and the table of verdicts.
func (s *Matrix) merge(w *Settler, ruleSets int) {
	b := s.ResultInterner
	results := make([]int32, len(w.Results))
	for i, v := range w.Results {
		results[i] = b.result(v)
	}
	vectors := make([]int32, len(w.Vectors.List))
	for i, v := range w.Vectors.List {
		for atom, r := range v {
			v[atom] = results[r]
		}
		vectors[i] = b.vectors.Number(v)
	}
	for _, st := range w.settled {
		for k, e := range st.effects {
			s.record(Combination{st.ruleSet, e}, vectors[st.vectors[k]], ruleSets)
		}
	}
}

// record puts the vector of a combination into the table of verdicts, of so many rule sets.
func (s *Matrix) record(c Combination, vector int32, ruleSets int) {
	for int(c.Effect) >= len(s.Verdicts) {
		s.Verdicts = append(s.Verdicts, nil)
	}
	table := &s.Verdicts[c.Effect]
	if missing := ruleSets - len(*table); missing > 0 {
		*table = append(*table, slices.Repeat([]int32{-1}, missing)...)
	}
	(*table)[c.RuleSet] = vector
}

// recutTo returns a book that begins with the same results, and has other vectors in place
// of the same ones, with their outcomes.
func (b *ResultInterner) recutTo(vectors [][]int32, marks [][]weightedOutcome) *ResultInterner {
	b.mu.Lock()
	defer b.mu.Unlock()
	next := &ResultInterner{resultOf: maps.Clone(b.resultOf), results: slices.Clip(b.results), vectors: &VectorInterner{List: slices.Clip(vectors)}, marks: slices.Clip(marks)}
	return next
}

// result returns the number of a result. The book must be locked.
func (b *ResultInterner) result(v verdict.Verdict) int32 {
	key := VerdictKey(&v)
	i, ok := b.resultOf[key]
	if !ok {
		i = int32(len(b.results))
		b.resultOf[key] = i
		b.results = append(b.results, v)
	}
	return i
}

// weightedOutcomes returns the outcomes of a vector on some atoms; nil for all.
func (s *Matrix) weightedOutcomes(vector []int32, mask *bitset.BitSet) []weightedOutcome {
	var out []weightedOutcome
	for atom, r := range vector {
		if mask != nil && !mask.Test(uint(atom)) {
			continue
		}
		m := Mark{s.Results[r].Outcome, s.Results[r].Contested}
		i := slices.IndexFunc(out, func(x weightedOutcome) bool { return x.mark == m })
		if i < 0 {
			i = len(out)
			out = append(out, weightedOutcome{mark: m})
		}
		out[i].services += s.counts[atom]
	}
	return out
}

// VectorInterner numbers different vectors.
type VectorInterner struct {
	at   map[uint64]int32 // by hash: the last vector that has it
	next []int32          // by vector: another of the same hash, or -1
	List [][]int32
}

func NewVectorInterner() *VectorInterner { return &VectorInterner{at: map[uint64]int32{}} }

// Number returns the number of a vector; it keeps a copy of a new one.
func (b *VectorInterner) Number(v []int32) int32 {
	if b.at == nil { // a book that was cut anew is hardly ever written to
		b.at = map[uint64]int32{}
		for i, v := range b.List {
			b.index(b.hash(v), int32(i))
		}
	}
	sum := b.hash(v)
	if i, known := b.at[sum]; known {
		for ; i >= 0; i = b.next[i] {
			if slices.Equal(b.List[i], v) {
				return i
			}
		}
	}
	if (len(b.List)+1)*len(v) > limits.Outcomes {
		panic(&limits.Exceeded{What: "distinct outcomes", Most: limits.Outcomes, Fix: "use fewer groups or services in rules"})
	}
	i := int32(len(b.List))
	b.List = append(b.List, slices.Clone(v))
	b.index(sum, i)
	return i
}

// index lets a vector be found by its hash.
func (b *VectorInterner) index(sum uint64, i int32) {
	before, known := b.at[sum]
	if !known {
		before = -1
	}
	b.next = append(b.next, before)
	b.at[sum] = i
}

// hash mixes a vector word by word (multiply and rotate, as in FNV and its like: the
// words are numbers that few people choose).
func (b *VectorInterner) hash(v []int32) uint64 {
	h := uint64(len(v))
	for _, r := range v {
		h = bits.RotateLeft64((h^uint64(uint32(r)))*0x9e3779b97f4a7c15, 29)
	}
	return h
}

func VerdictKey(v *verdict.Verdict) string {
	if v == nil {
		return "none"
	}
	key := strings.Join([]string{string(v.Outcome), string(v.Intended), string(v.Reason), strings.Join(v.Pools, ";"), strings.Join(v.By, ";")}, "|")
	if v.Contested {
		key += "|contested"
	}
	return key
}
