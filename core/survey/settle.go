package survey

import (
	"hash/maphash"
	"runtime"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// scale is how services are cut, with the verdicts that are on some atom.
type scale struct {
	atoms   *space.Atoms
	sieve   *verdict.Sieve
	counts  []float64 // by atom: how many services it has, about
	results []verdict.Verdict
	vectors [][]int32 // the different lists of a result for each atom
	marks   [][]shade // by vector: its outcomes
	shut    int32     // the vector of flows from the internet that nothing publishes
}

// shade is an outcome of a vector, with about how many services have it.
type shade struct {
	mark     Mark
	services float64
}

// settle decides every combination that occurs, for every atom.
func (s *Survey) settle(atoms *space.Atoms) {
	s.scale = scale{atoms: atoms, sieve: s.judge.NewSieve(atoms), counts: make([]float64, atoms.Len())}
	for i := range s.counts {
		s.counts[i] = float64(atoms.Set(i).Count())
	}
	s.admits, s.cellers = nil, &sync.Pool{}
	for i := range s.judge.Publications() {
		in, _ := atoms.Covered(s.judge.PublicationTerms(i))
		s.admits = append(s.admits, in)
	}
	wanted := s.wanted()
	stances := len(wanted)
	workers := make([]*settler, max(1, min(runtime.GOMAXPROCS(0), stances/64)))
	jobs := make([]func(), len(workers))
	for i := range workers {
		w := newSettler(s)
		workers[i] = w
		jobs[i] = func() { w.settle(wanted, i, len(workers)) }
	}
	inParallel(jobs)
	s.gather(workers, stances)
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
}

type settledStance struct {
	stance  int32
	effects []int32
	vectors []int32
}

func newSettler(s *Survey) *settler {
	return &settler{Survey: s, resultOf: map[string]int32{}, vectors: newVectorBook()}
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
	opinions := w.judge.Opinions(stance, w.sieve)
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
	resultOf := map[string]int32{}
	book := newVectorBook()
	result := func(key string, v verdict.Verdict) int32 {
		i, ok := resultOf[key]
		if !ok {
			i = int32(len(s.results))
			resultOf[key] = i
			s.results = append(s.results, v)
		}
		return i
	}
	all := func(r int32) []int32 { return slices.Repeat([]int32{r}, s.atoms.Len()) }
	// Vector 0 is that of flows to what nothing is found under.
	book.number(all(result("unknown", verdict.Verdict{Outcome: verdict.Unrouted, Reason: verdict.ReasonUnknown, Pools: []string{}, By: []string{}})))
	s.shut = s.settleShut(book, result)
	s.verdicts = nil
	for _, w := range workers {
		results := make([]int32, len(w.results))
		for i, v := range w.results {
			results[i] = result(w.keys[i], v)
		}
		vectors := make([]int32, len(w.vectors.list))
		for i, v := range w.vectors.list {
			for atom, r := range v {
				v[atom] = results[r]
			}
			vectors[i] = book.number(v)
		}
		for _, st := range w.settled {
			for k, e := range st.effects {
				for int(e) >= len(s.verdicts) {
					s.verdicts = append(s.verdicts, nil)
				}
				if s.verdicts[e] == nil {
					s.verdicts[e] = slices.Repeat([]int32{-1}, stances)
				}
				s.verdicts[e][st.stance] = vectors[st.vectors[k]]
			}
		}
	}
	s.vectors = book.list
	s.marks = make([][]shade, len(s.vectors))
	for i, v := range s.vectors {
		s.marks[i] = s.shades(v, nil)
	}
}

// settleShut returns the vector of flows from the internet that nothing lets in.
func (s *Survey) settleShut(book *vectorBook, result func(string, verdict.Verdict) int32) int32 {
	stance, effect := shutStance(s.judge), verdict.UnpublishedEffect()
	opinions := s.judge.Opinions(&stance, s.sieve)
	fate := s.judge.Carry(&stance, &opinions[0], &effect)
	return book.number(slices.Repeat([]int32{result(string(fate.AppendKey(nil)), s.judge.Verdict(&fate))}, s.atoms.Len()))
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
	var h maphash.Hash
	h.SetSeed(b.seed)
	var word [4]byte
	for _, r := range v {
		word = [4]byte{byte(r), byte(r >> 8), byte(r >> 16), byte(r >> 24)}
		_, _ = h.Write(word[:])
	}
	sum := h.Sum64()
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

// strandless is a strand of nothing in particular.
var strandless = strand{publication: paths.None}
