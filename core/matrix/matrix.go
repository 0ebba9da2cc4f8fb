// Package matrix computes what happens to all flows of an estate at once. It divides
// endpoints and services into equivalence classes that no rule and no route tells apart,
// decides each pair of classes once, and keeps the result. It is exact: it holds for each
// flow, not for a sample. Cost follows the numbers of different rows, columns and
// combinations, not that of addresses or pairs.
//
// Glossary, with one little estate: segment s has subnet 10.0.0.0/29, group a holds
// 10.0.0.1 and 10.0.0.2, group b holds 10.0.0.5; policy p allows a to b on tcp/443, and the
// default is deny.
//
//   - atom: services that no rule tells apart. Here tcp/443, and all others.
//   - class: endpoints that no rule and no route tells apart. Here the members of a, those
//     of b, and the other addresses of the subnet.
//   - domain: the classes of one segment, or those outside. Here s, and the internet.
//   - line: a row (as sources) or a column (as destinations) of classes that are in the same
//     of the groups that rules of a block name. Here the rows are a, and all others.
//   - place: classes whose paths are the same. Here one: all are in one network.
//   - block: the matrix from one domain to another, by rows and columns, and by places.
//   - rule set: the set of rules that match a row and a column. Here {p} from a to b, and
//     the empty set elsewhere.
//   - effect: what the path between two places does to a verdict: which pools it passes,
//     whether it enforces, or why there is none.
//   - combination: a rule set with an effect. It is decided once for each atom.
//   - vector: the results of a combination, by atom. Here (allowed by p, denied by default)
//     for {p}; flows of one vector have the same outcome for each service.
//   - result: one verdict, kept once.
package matrix

import (
	"math/big"
	"net/netip"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Matrix is what happens to all flows of an estate. It never changes, and is
// safe for concurrent use.
type Matrix struct {
	Judge *verdict.Judge
	*classes.Partition
	Interner *Interner
	Blocks   classes.Table[*Block]
	Inbounds [][]Inbound // by segment: what leads in from the internet
	ServiceCut
	Verdicts     [][]int32        // by effect and rule set: the vector, or -1
	Admits       []*bitset.BitSet // by publication: the atoms that it lets in
	Totals       *LazyTotals
	PairCounters *sync.Pool
}

// New returns the matrix of an estate. Cost: see the package.
func New(j *verdict.Judge) *Matrix {
	p := classes.Divide(j)
	s := &Matrix{Judge: j, Partition: p, Interner: newInterner(), PairCounters: &sync.Pool{}}
	v := &Builder{Partition: p, Judge: j, Interner: s.Interner}
	s.Blocks = v.blocks()
	s.Inbounds = v.FindInbounds()
	s.cutBy(space.Cut(j.Settings()))
	l := &Totaller{Matrix: s}
	s.SettleAll(s.wanted(l.Count()))
	l.Mark()
	s.Totals = &LazyTotals{Find: func() *Totals { return l.Out }}
	s.Complete()
	return s
}

// blocks returns the blocks of all pairs of domains that have flows.
func (v *Builder) blocks() classes.Table[*Block] {
	pairs := v.ReachedPairs()
	return classes.TableOf(len(v.Inside)+1, pairs, v.wholeBlocks(pairs))
}

// ReachedPairs returns the pairs of domains of which the first has endpoints, and finds some of
// the second.
func (v *Builder) ReachedPairs() []classes.Pair {
	var out []classes.Pair
	for to := range len(v.Inside) + 1 {
		for _, from := range v.Columns(to).SeenBy.With {
			if len(v.ClassesIn(int(from))) > 0 {
				out = append(out, classes.Pair{From: int(from), To: to})
			}
		}
	}
	return out
}

// wholeBlocks returns the blocks of some pairs of domains, with their effects.
func (v *Builder) wholeBlocks(pairs []classes.Pair) []*Block {
	out := make([]*Block, len(pairs))
	jobs := make([]func(), len(pairs))
	for i, p := range pairs {
		jobs[i] = func() { out[i] = v.NewBlock(p.From, p.To) }
	}
	parallel.Run(jobs)
	v.AddEffects(out)
	return out
}

// Refine returns the same matrix with services cut so that each of some sets of terms is made
// of whole atoms; it is the matrix itself if they are already.
func (s *Matrix) Refine(sets ...[]estate.Term) *Matrix {
	sets = slices.DeleteFunc(slices.Clone(sets), func(terms []estate.Term) bool {
		_, exact := s.Atoms.Covered(terms)
		return exact
	})
	if len(sets) == 0 {
		return s
	}
	return s.Recut(space.Cut(slices.Concat(s.Judge.Settings(), sets)))
}

// Recut returns the same matrix with services cut by other atoms. Each of them must be
// part of one atom, or of several that the estate of the matrix does not tell apart: an
// earlier edit may have cut finer than its rules ask now. Vectors that were settled for
// that earlier edit alone may come to say something else. Cost: the vectors times the atoms.
func (s *Matrix) Recut(atoms *space.Atoms) *Matrix {
	if atoms == s.Atoms {
		return s
	}
	other := *s
	other.PairCounters = &sync.Pool{}
	other.ServiceCut = ServiceCut{Atoms: atoms, RuleIndex: s.Judge.NewRuleIndex(atoms), Unions: NewUnions(atoms), counts: countsOf(atoms), Results: s.Results, UnpublishedVector: s.UnpublishedVector}
	parent := make([]int, atoms.Len())
	for i := range parent {
		protocol, sport, dport, _ := atoms.Set(i).Witness()
		parent[i] = s.Atoms.At(protocol, sport, dport)
	}
	all := make([]int32, len(s.Vectors)*len(parent))
	other.Vectors = make([][]int32, len(s.Vectors))
	for i, v := range s.Vectors {
		other.Vectors[i] = all[i*len(parent) : (i+1)*len(parent) : (i+1)*len(parent)]
		for atom, p := range parent {
			other.Vectors[i][atom] = v[p]
		}
	}
	other.marks = make([][]weightedOutcome, len(other.Vectors))
	for i, v := range other.Vectors {
		other.marks[i] = other.weightedOutcomes(v, nil)
	}
	other.ResultInterner = s.ResultInterner.recutTo(other.Vectors, other.marks)
	other.Admit()
	return &other
}

// countsOf returns how many services each atom has, about.
func countsOf(atoms *space.Atoms) []float64 {
	counts := make([]float64, atoms.Len())
	for i := range counts {
		counts[i] = float64(atoms.Set(i).Count())
	}
	return counts
}

// ClassResult is the verdicts on the flows from one class to another: through a
// publication, for those from the internet.
type ClassResult struct {
	Publication int            // paths.None where there is none
	Vector      int32          // number of the vector
	Mask        *bitset.BitSet // the atoms for which it holds; nil for all
	Combination Combination    // that it comes of; none where nothing is found
}

// UnfoundCombination stands for flows to what nothing is found under.
var UnfoundCombination = Combination{-1, -1}

// EachResult calls f for all class results from one class to another.
func (s *Matrix) EachResult(a, b int, f func(ClassResult)) {
	src, dst := s.Classes[a], s.Classes[b]
	if src.Four != dst.Four || Alone(src, dst) {
		return
	}
	if !src.Internal() {
		if dst.Internal() {
			s.EachInbound(src, dst, f)
		}
		return
	}
	switch dst.Seen[src.End.Segment] {
	case classes.SeesNothing:
		f(ClassResult{paths.None, 0, nil, UnfoundCombination})
	case classes.SeesIt:
		if c, ok := s.CombinationOf(&src.Header, &dst.Header); ok {
			f(ClassResult{paths.None, s.Verdicts[c.Effect][c.RuleSet], nil, c})
		}
	}
}

// Alone reports whether two classes are one and the same single address.
func Alone(src, dst *classes.Class) bool {
	return src.Amount.One() && dst.Amount.One() && src.End.Addr == dst.End.Addr && !Elsewhere(src, dst)
}

// Elsewhere reports whether two classes are of two segments: one address is then
// two endpoints, and shares may show them to each other under others.
func Elsewhere(src, dst *classes.Class) bool {
	return src.Internal() && dst.Internal() && src.End.Segment != dst.End.Segment
}

// CombinationOf returns the combination of flows from a class inside to one that its
// segment sees.
func (s *Matrix) CombinationOf(src, dst *classes.Header) (Combination, bool) {
	b := s.Blocks.At(int(src.Domain), int(dst.Domain))
	effect := b.Effects[b.Src.Place(src)][b.Dst.Place(dst)]
	col := int32(0)
	switch {
	case dst.Network == paths.None:
		if effect == NoEffect {
			return Combination{}, false
		}
		col = b.Dst.LineAt(s.Net, int(dst.At), s.Interner.EffectAt(effect).Exit)
	default:
		col = b.Dst.Line(dst)
		if b.From == b.To && src.Network == dst.Network {
			effect = b.Near[s.enforced(src, dst)]
		}
	}
	if effect == NoEffect {
		return Combination{}, false
	}
	return Combination{b.RuleSet(b.Src.Line(src), col), effect}, true
}

// enforced returns 1 if verdicts are enforced on local paths between two classes of one
// network, and 0 if not.
func (s *Matrix) enforced(src, dst *classes.Header) int {
	return lists.OneIf(s.Net.EnforcesLocally(int(src.Network), src.Part == dst.Part))
}

// Pairs returns how many pairs of addresses there are from one member to
// another: an address does not open flows to itself.
func (s *Matrix) Pairs(a, b Member) *big.Int {
	x, y := s.Classes[a.Class], s.Classes[b.Class]
	switch {
	case a.Only.IsValid() && b.Only.IsValid():
		return big.NewInt(1)
	case Elsewhere(x, y):
		return new(big.Int).Mul(s.Amount(a).Big(), s.Amount(b).Big())
	case a.Only.IsValid():
		return less(y, a.Only)
	case b.Only.IsValid():
		return less(x, b.Only)
	}
	n := new(big.Int).Mul(x.Size(), y.Size())
	switch {
	case a.Class == b.Class:
		return n.Sub(n, x.Size())
	case !x.Internal() && y.Internal():
		return n.Sub(n, Shared(x.Ranges, y.Ranges).Big())
	}
	return n
}

// less returns the size of a class without an address.
func less(c *classes.Class, a netip.Addr) *big.Int {
	n := c.Size()
	if c.Holds(a) {
		n.Sub(n, big.NewInt(1))
	}
	return n
}

// Shared returns how many addresses two sorted lists of ranges have in common.
func Shared(a, b []intervals.Range) (n intervals.Size) {
	for i, k := 0, 0; i < len(a) && k < len(b); {
		from, to := a[i].From, a[i].To
		if b[k].From.Compare(from) > 0 {
			from = b[k].From
		}
		if b[k].To.Compare(to) < 0 {
			to = b[k].To
		}
		if from.Is4() == to.Is4() && from.Compare(to) <= 0 {
			n.Add(intervals.SizeOf(intervals.Range{From: from, To: to}))
		}
		if a[i].To.Compare(b[k].To) < 0 {
			i++
		} else {
			k++
		}
	}
	return n
}

// AtomsOf returns the atoms that some terms touch, and whether they are whole
// atoms: if not, an answer for the atoms says more than was asked.
func (s *Matrix) AtomsOf(terms []estate.Term) (*bitset.BitSet, bool) { return s.Atoms.Covered(terms) }
