package survey

import (
	"hash/maphash"
	"maps"
	"runtime"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/space"
	"bivium/core/verdict"
)

// scale is how services are cut, with the verdicts that are on some atom.
type scale struct {
	atoms  *space.Atoms
	sieve  *verdict.Sieve
	counts []float64 // by atom: how many services it has, about
	book   *book
	shut   int32 // the vector of flows from the internet that nothing publishes

	// What the book held when the survey was made; it only grows.
	results []verdict.Verdict
	vectors [][]int32 // the different lists of a result for each atom
	marks   [][]shade // by vector: its outcomes
}

// book numbers results and vectors. It only grows, and surveys of edits of one
// estate share it as long as they cut services alike.
type book struct {
	mu       sync.Mutex
	resultOf map[string]int32
	results  []verdict.Verdict
	vectors  *vectorBook
	marks    [][]shade
}

// shade is an outcome of a vector, with about how many services have it.
type shade struct {
	mark     Mark
	services float64
}

// settle decides every combination that occurs, for every atom.
func (s *Survey) settle(atoms *space.Atoms) {
	s.scale = scale{
		atoms: atoms, sieve: s.judge.NewSieve(atoms), counts: countsOf(atoms),
		book: &book{resultOf: map[string]int32{}, vectors: newVectorBook()},
	}
	s.admit()
	s.verdicts = nil
	s.settleAll(s.wanted())
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
func (s *Survey) settleAll(wanted [][]int32) {
	s.cellers = &sync.Pool{}
	workers := make([]*settler, max(1, min(runtime.GOMAXPROCS(0), len(wanted)/64)))
	jobs := make([]func(), len(workers))
	for i := range workers {
		w := newSettler(s)
		workers[i] = w
		jobs[i] = func() { w.settle(wanted, i, len(workers)) }
	}
	inParallel(jobs)
	s.gather(workers, len(wanted))
}

// wanted returns, by stance, the effects with which it may occur.
func (s *Survey) wanted() [][]int32 {
	s.ledger.mu.RLock()
	out := make([][]int32, len(s.ledger.stances))
	s.ledger.mu.RUnlock()
	want := func(stance int32, effects []int32) {
		for _, e := range effects {
			if !slices.Contains(out[stance], e) {
				out[stance] = append(out[stance], e)
			}
		}
	}
	for from := range s.blocks {
		for to, b := range s.blocks[from] {
			if b == nil {
				continue
			}
			effects := s.effectsIn(b, to)
			for r := range b.rows {
				for _, stance := range b.rows[r].palette {
					want(stance, effects)
				}
			}
		}
	}
	return out
}

// effectsIn returns the effects that ways within a block may have.
func (s *Survey) effectsIn(b *block, to int) []int32 {
	var out []int32
	add := func(e int32) {
		if e != noEffect && !slices.Contains(out, e) {
			out = append(out, e)
		}
	}
	for _, line := range b.effects {
		for _, e := range line {
			add(e)
		}
	}
	if b.from == b.to {
		for _, c := range s.of(b.from) {
			add(b.near[s.enforced(&s.classes[c])])
		}
	}
	if b.from == len(s.inside) {
		for i := range s.gates[to] {
			for _, e := range s.gates[to][i].effects {
				add(e)
			}
		}
	}
	slices.Sort(out)
	return out
}

// settler settles some of the combinations, and numbers results and vectors on
// its own.
type settler struct {
	*Survey
	resultOf map[string]int32
	results  []verdict.Verdict
	keys     []string
	vectors  *vectorBook
	settled  []settledStance
	key      []byte
	weigher  *verdict.Weigher
}

type settledStance struct {
	stance  int32
	effects []int32
	vectors []int32
}

func newSettler(s *Survey) *settler {
	return &settler{Survey: s, resultOf: map[string]int32{}, vectors: newVectorBook(), weigher: s.judge.NewWeigher(s.sieve)}
}

// settle settles the stances that fall to one of so many workers.
func (w *settler) settle(wanted [][]int32, first, step int) {
	for i := first; i < len(wanted); i += step {
		if len(wanted[i]) == 0 {
			continue
		}
		stance := w.ledger.stanceAt(w.judge, int32(i))
		w.settled = append(w.settled, settledStance{int32(i), wanted[i], w.stance(&stance, wanted[i])})
	}
}

// stance returns the vectors of a stance under some effects.
func (w *settler) stance(stance *verdict.Stance, effects []int32) []int32 {
	opinions := w.weigher.Opinions(stance)
	out := make([]int32, len(effects))
	vector := make([]int32, w.atoms.Len())
	for k, e := range effects {
		effect := w.ledger.effectAt(e)
		for o := range opinions {
			fate := w.judge.Carry(stance, &opinions[o], effect)
			r := w.result(&fate)
			for _, atom := range opinions[o].Atoms {
				vector[atom] = r
			}
		}
		out[k] = w.vectors.number(vector)
	}
	return out
}

func (w *settler) result(f *verdict.Fate) int32 {
	w.key = f.AppendKey(w.key[:0])
	i, ok := w.resultOf[string(w.key)]
	if !ok {
		i = int32(len(w.results))
		w.resultOf[string(w.key)] = i
		w.results = append(w.results, w.judge.Verdict(f))
		w.keys = append(w.keys, string(w.key))
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
	b.vectors.number(all(b.result("unknown", verdict.Verdict{Outcome: verdict.Unrouted, Reason: verdict.ReasonUnknown, Pools: []string{}, By: []string{}})))
	stance, effect := shutStance(s.judge), verdict.UnpublishedEffect()
	opinions := s.judge.Opinions(&stance, s.sieve)
	fate := s.judge.Carry(&stance, &opinions[0], &effect)
	s.shut = b.vectors.number(all(b.result(string(fate.AppendKey(nil)), s.judge.Verdict(&fate))))
	for _, w := range workers {
		s.take(w, stances)
	}
	s.results, s.vectors = b.results[:len(b.results):len(b.results)], b.vectors.list[:len(b.vectors.list):len(b.vectors.list)]
	for i := len(b.marks); i < len(s.vectors); i++ {
		b.marks = append(b.marks, s.shades(s.vectors[i], nil))
	}
	s.marks = b.marks[:len(b.marks):len(b.marks)]
}

// take puts what a worker found into the book and the table of verdicts.
func (s *Survey) take(w *settler, stances int) {
	b := s.book
	results := make([]int32, len(w.results))
	for i, v := range w.results {
		results[i] = b.result(w.keys[i], v)
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
			for int(e) >= len(s.verdicts) {
				s.verdicts = append(s.verdicts, nil)
			}
			if missing := stances - len(s.verdicts[e]); missing > 0 {
				s.verdicts[e] = append(s.verdicts[e], slices.Repeat([]int32{-1}, missing)...)
			}
			s.verdicts[e][st.stance] = vectors[st.vectors[k]]
		}
	}
}

// recut returns a book that begins with the same results, and other vectors in
// place of the same ones.
func (b *book) recut(vectors [][]int32) *book {
	b.mu.Lock()
	defer b.mu.Unlock()
	next := &book{resultOf: maps.Clone(b.resultOf), results: slices.Clip(b.results), vectors: &vectorBook{list: slices.Clip(vectors)}, marks: slices.Clip(b.marks[:len(vectors)])}
	return next
}

// result returns the number of a result. The book must be locked.
func (b *book) result(key string, v verdict.Verdict) int32 {
	i, ok := b.resultOf[key]
	if !ok {
		i = int32(len(b.results))
		b.resultOf[key] = i
		b.results = append(b.results, v)
	}
	return i
}

// shades returns the outcomes of a vector on some atoms; nil for all.
func (s *Survey) shades(vector []int32, mask *bitset.BitSet) []shade {
	var out []shade
	for atom, r := range vector {
		if mask != nil && !mask.Test(uint(atom)) {
			continue
		}
		m := Mark{s.results[r].Outcome, s.results[r].Contested}
		i := slices.IndexFunc(out, func(x shade) bool { return x.mark == m })
		if i < 0 {
			i = len(out)
			out = append(out, shade{mark: m})
		}
		out[i].services += s.counts[atom]
	}
	return out
}

// vectorBook numbers different vectors.
type vectorBook struct {
	seed maphash.Seed
	at   map[uint64][]int32
	list [][]int32
}

func newVectorBook() *vectorBook {
	return &vectorBook{seed: maphash.MakeSeed(), at: map[uint64][]int32{}}
}

// number returns the number of a vector; it keeps a copy of a new one.
func (b *vectorBook) number(v []int32) int32 {
	if b.at == nil { // a book that was cut anew is hardly ever written to
		b.at, b.seed = map[uint64][]int32{}, maphash.MakeSeed()
		for i, v := range b.list {
			sum := b.hash(v)
			b.at[sum] = append(b.at[sum], int32(i))
		}
	}
	sum := b.hash(v)
	for _, i := range b.at[sum] {
		if slices.Equal(b.list[i], v) {
			return i
		}
	}
	i := int32(len(b.list))
	b.at[sum] = append(b.at[sum], i)
	b.list = append(b.list, slices.Clone(v))
	return i
}

func (b *vectorBook) hash(v []int32) uint64 {
	var h maphash.Hash
	h.SetSeed(b.seed)
	var word [4]byte
	for _, r := range v {
		word = [4]byte{byte(r), byte(r >> 8), byte(r >> 16), byte(r >> 24)}
		_, _ = h.Write(word[:])
	}
	return h.Sum64()
}
