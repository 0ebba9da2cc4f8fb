package findings

import (
	"cmp"
	"slices"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/revise"
	"bivium/core/verdict"
)

// Book is everything legal and probably wrong in an estate, and where its pools see flows.
// It keeps what serves those of edits too. It is safe for concurrent use.
type Book struct {
	matrix  *matrix.Matrix
	notes   *noteStore
	passed  classes.Table[*knownPassages] // by the pairs of blocks
	sighted classes.Table[*blockExamples] // by the pairs of blocks
}

// NewBook returns the book of a matrix.
func NewBook(s *matrix.Matrix) *Book {
	return newBook(s, &noteStore{}, func(classes.Pair, *matrix.Block) (*knownPassages, *blockExamples) { return nil, nil })
}

// newBook returns the book of a matrix with what is known of its blocks already.
func newBook(s *matrix.Matrix, n *noteStore, known func(classes.Pair, *matrix.Block) (*knownPassages, *blockExamples)) *Book {
	var pairs []classes.Pair
	var ways []*knownPassages
	var seen []*blockExamples
	for p, b := range s.Blocks.All() {
		x, y := known(p, b)
		if x == nil {
			x = &knownPassages{}
		}
		if y == nil {
			y = &blockExamples{}
		}
		pairs, ways, seen = append(pairs, p), append(ways, x), append(seen, y)
	}
	return &Book{s, n, classes.TableOf(len(s.Blocks), pairs, ways), classes.TableOf(len(s.Blocks), pairs, seen)}
}

// All returns everything legal and probably wrong, in a fixed order. Cost: the
// combinations times the atoms, and the pairs of classes; after an edit, those of what it
// touches. pace is called now and then, and may wait: for work that others may have to
// wait for.
func (b *Book) All(pace func()) []Finding {
	f := &finder{
		Matrix: b.matrix, book: b, pace: pace, at: map[string]int{}, named: map[named]bool{}, spoke: map[verdict.RuleRef]bool{}, reasons: reasonsOf(b.matrix), members: map[string][]int{},
	}
	f.flows()
	f.rules()
	f.days()
	f.things()
	for i := range f.found {
		f.found[i].sortNetworks()
		if f.atoms[i] != nil {
			f.found[i].Services = f.Matrix.Atoms.Union(f.atoms[i])
			example := f.examples[i]
			w := query.Witness(f.Matrix, &query.Column{ClassResult: matrix.ClassResult{Publication: example.publication}, Src: matrix.Member{Class: example.from}, Dst: matrix.Member{Class: example.to}}, f.found[i].Services)
			f.found[i].Witness = &w
		}
	}
	slices.SortStableFunc(f.found, func(a, b Finding) int {
		if d := slices.Index(FindingOrder, a.Code) - slices.Index(FindingOrder, b.Code); d != 0 {
			return d
		}
		return cmp.Or(cmp.Compare(a.Form, b.Form), slices.Compare(a.Args, b.Args))
	})
	return f.found
}

// Passages returns where the pools of the estate see flows: exactly those that
// some flow passes or is blocked by, in order. Cost: for each pair of path classes and paths to be attached, the
// lines of the one times those of the other, until one flow of each pool is found. For
// pace, see All.
func (b *Book) Passages(pace func()) []Passage {
	w := &transitFinder{Matrix: b.matrix, pools: b.matrix.Judge.PoolNames()}
	var jobs []func()
	for p, x := range b.passed.All() {
		jobs = append(jobs, func() {
			pace()
			x.once.Do(func() {
				if p.From == len(w.Inside) {
					x.list = w.throughGates(p.To)
				} else {
					x.list = w.between(w.Blocks.At(p.From, p.To))
				}
			})
		})
	}
	parallel.Run(jobs)
	var out []Passage
	for _, x := range b.passed.All() {
		out = append(out, x.list...)
	}
	slices.SortFunc(out, func(a, b Passage) int {
		return cmp.Or(cmp.Compare(a.Pool, b.Pool), cmp.Compare(a.Hub, b.Hub), cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To))
	})
	return slices.Compact(out)
}

// After returns the book of the matrix of an edit. What the edit does not touch stays
// known, if things have the numbers that they had before, and notes too, if services are
// cut as they were.
func (b *Book) After(e *revise.Edit) *Book {
	if e.Matrix != e.After || e.Before.Judge != b.matrix.Judge {
		return NewBook(e.Matrix)
	}
	left := &noteStore{}
	if e.Before.Atoms == b.matrix.Atoms {
		left = b.notes.after(func(k noteKey) bool {
			return e.Unsettles(k.RuleSet) || e.Regates() && k.publication != paths.None
		})
	}
	return newBook(e.Matrix, left, func(p classes.Pair, x *matrix.Block) (ways *knownPassages, seen *blockExamples) {
		if e.Keeps(p, x) {
			ways = b.passed.At(p.From, p.To)
		}
		if b.matrix.Blocks.At(p.From, p.To) == x {
			seen = b.sighted.At(p.From, p.To)
		}
		return ways, seen
	})
}

// sortNetworks puts the networks of a finding that several may have in order: they were met
// one after the other.
func (f *Finding) sortNetworks() {
	if f.Code == Unenforced || f.Code == Uninspectable {
		slices.SortFunc(f.Refs, func(a, b estate.Ref) int { return cmp.Compare(a.Name, b.Name) })
	}
}
