package survey

import (
	"cmp"
	"slices"

	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Book is everything legal and probably wrong in an estate, and where its pools see flows.
// It keeps what serves those of edits too. It is safe for concurrent use.
type Book struct {
	survey  *Survey
	notes   *notes
	passed  table[*passed]  // by the pairs of blocks
	sighted table[*sighted] // by the pairs of blocks
}

// NewBook returns the book of a survey.
func NewBook(s *Survey) *Book {
	return newBook(s, &notes{}, func(pair, *block) (*passed, *sighted) { return nil, nil })
}

// newBook returns the book of a survey with what is known of its blocks already.
func newBook(s *Survey, n *notes, known func(pair, *block) (*passed, *sighted)) *Book {
	var pairs []pair
	var ways []*passed
	var seen []*sighted
	for p, b := range s.blocks.all() {
		x, y := known(p, b)
		if x == nil {
			x = &passed{}
		}
		if y == nil {
			y = &sighted{}
		}
		pairs, ways, seen = append(pairs, p), append(ways, x), append(seen, y)
	}
	return &Book{s, n, tableOf(len(s.blocks), pairs, ways), tableOf(len(s.blocks), pairs, seen)}
}

// All returns everything legal and probably wrong, in a fixed order. Cost: the
// combinations times the atoms, and the pairs of classes; after an edit, those of what it
// touches. pace is called now and then, and may wait: for work that others may have to
// wait for.
func (b *Book) All(pace func()) []Finding {
	f := &finder{
		Survey: b.survey, book: b, pace: pace, at: map[string]int{}, named: map[named]bool{}, spoke: map[verdict.Rulepoint]bool{}, reasons: b.survey.reasonsOf(), members: map[string][]int{}, names: map[[2]int]string{},
	}
	f.flows()
	f.rules()
	f.things()
	for i := range f.found {
		f.found[i].complete()
		if f.atoms[i] != nil {
			f.found[i].Services = f.Survey.atoms.Union(f.atoms[i])
			example := f.examples[i]
			w := f.witness(&column{strand: strand{publication: example.publication}, src: Member{Class: example.from}, dst: Member{Class: example.to}}, f.found[i].Services)
			f.found[i].Witness = &w
		}
	}
	slices.SortStableFunc(f.found, func(a, b Finding) int {
		if d := slices.Index(findingOrder, a.Code) - slices.Index(findingOrder, b.Code); d != 0 {
			return d
		}
		return cmp.Compare(a.Message, b.Message)
	})
	return f.found
}

// Passages returns where the pools of the estate see flows: exactly those that
// some flow passes or is blocked by, in order. Cost: for each pair of spots and ways to be attached, the
// lines of the one times those of the other, until one flow of each pool is found. For
// pace, see All.
func (b *Book) Passages(pace func()) []Passage {
	w := &passer{Survey: b.survey, pools: b.survey.judge.PoolNames()}
	var jobs []func()
	for p, x := range b.passed.all() {
		jobs = append(jobs, func() {
			pace()
			x.once.Do(func() {
				if p.from == len(w.inside) {
					x.list = w.throughGates(p.to)
				} else {
					x.list = w.between(w.blocks.at(p.from, p.to))
				}
			})
		})
	}
	parallel.Run(jobs)
	var out []Passage
	for _, x := range b.passed.all() {
		out = append(out, x.list...)
	}
	slices.SortFunc(out, func(a, b Passage) int {
		return cmp.Or(cmp.Compare(a.Pool, b.Pool), cmp.Compare(a.Hub, b.Hub), cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To))
	})
	return slices.Compact(out)
}

// After returns the book of the survey of an edit. What the edit does not touch stays
// known, if things have the numbers that they had before, and notes too, if services are
// cut as they were.
func (b *Book) After(e *Edit) *Book {
	if e.Survey != e.After || e.Before.judge != b.survey.judge {
		return NewBook(e.Survey)
	}
	left := &notes{}
	if e.Before.atoms == b.survey.atoms {
		left = b.notes.after(func(k noteKey) bool {
			return e.Unsettles(k.stance) || e.Regates() && k.publication != paths.None
		})
	}
	return newBook(e.Survey, left, func(p pair, x *block) (ways *passed, seen *sighted) {
		if e.Keeps(p, x) {
			ways = b.passed.at(p.from, p.to)
		}
		if b.survey.blocks.at(p.from, p.to) == x {
			seen = b.sighted.at(p.from, p.to)
		}
		return ways, seen
	})
}
