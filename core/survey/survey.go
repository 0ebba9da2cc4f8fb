// Package survey computes what happens to all flows of an estate at once. It divides
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
//   - stance: the set of rules that match a row and a column. Here {p} from a to b, and
//     the empty set elsewhere.
//   - effect: what the path between two places does to a verdict: which pools it passes,
//     whether it enforces, or why there is none.
//   - combination: a stance with an effect. It is decided once for each atom.
//   - vector: the results of a combination, by atom. Here (allowed by p, denied by default)
//     for {p}; flows of one vector have the same outcome for each service.
//   - result: one verdict, kept once.
package survey

import (
	"math/big"
	"net/netip"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Survey is what happens to all flows of an estate. It never changes, and is
// safe for concurrent use.
type Survey struct {
	judge *verdict.Judge
	*partition
	ledger *ledger
	blocks table[*block]
	gates  [][]gate // by segment: what leads in from the internet
	scale
	verdicts     [][]int32        // by effect and stance: the vector, or -1
	admits       []*bitset.BitSet // by publication: the atoms that it lets in
	overview     *overview
	pairCounters *sync.Pool
}

// New returns the survey of an estate. Cost: see the package.
func New(j *verdict.Judge) *Survey {
	p := divide(j)
	s := &Survey{judge: j, partition: p, ledger: newLedger(), pairCounters: &sync.Pool{}}
	v := &surveyor{partition: p, judge: j, ledger: s.ledger}
	s.blocks = v.blocks()
	s.gates = v.gates()
	s.cutBy(space.Cut(j.Settings()))
	l := &looking{Survey: s}
	s.settleAll(s.wanted(l.count()))
	l.mark()
	s.overview = &overview{find: func() *matrix { return l.out }}
	s.Complete()
	return s
}

// blocks returns the blocks of all pairs of domains that have flows.
func (v *surveyor) blocks() table[*block] {
	pairs := v.reached()
	return tableOf(len(v.inside)+1, pairs, v.wholeBlocks(pairs))
}

// reached returns the pairs of domains of which the first has endpoints, and finds some of
// the second.
func (v *surveyor) reached() []pair {
	var out []pair
	for to := range len(v.inside) + 1 {
		for _, from := range v.roll(to).seenBy.with {
			if len(v.of(int(from))) > 0 {
				out = append(out, pair{int(from), to})
			}
		}
	}
	return out
}

// wholeBlocks returns the blocks of some pairs of domains, with their effects.
func (v *surveyor) wholeBlocks(pairs []pair) []*block {
	out := make([]*block, len(pairs))
	jobs := make([]func(), len(pairs))
	for i, p := range pairs {
		jobs[i] = func() { out[i] = v.newBlock(p.from, p.to) }
	}
	parallel.Run(jobs)
	v.addEffects(out)
	return out
}

// Judge returns the judge of the estate.
func (s *Survey) Judge() *verdict.Judge { return s.judge }

// Atoms returns how services are cut.
func (s *Survey) Atoms() *space.Atoms { return s.atoms }

// Refine returns the same survey with services cut so that terms are whole
// atoms; it is the survey itself if they are already.
func (s *Survey) Refine(terms []estate.Term) *Survey {
	if _, exact := s.atoms.Covered(terms); exact {
		return s
	}
	return s.recut(space.Cut(append(s.judge.Settings(), terms)))
}

// recut returns the same survey with services cut by other atoms. Each of them must be
// part of one atom, or of several that the estate of the survey does not tell apart: an
// earlier edit may have cut finer than its rules ask now. Vectors that were settled for
// that earlier edit alone may come to say something else. Cost: the vectors times the atoms.
func (s *Survey) recut(atoms *space.Atoms) *Survey {
	if atoms == s.atoms {
		return s
	}
	other := *s
	other.pairCounters = &sync.Pool{}
	other.scale = scale{atoms: atoms, ruleIndex: s.judge.NewRuleIndex(atoms), unions: newUnions(atoms), counts: countsOf(atoms), results: s.results, shut: s.shut}
	parent := make([]int, atoms.Len())
	for i := range parent {
		protocol, sport, dport, _ := atoms.Set(i).Witness()
		parent[i] = s.atoms.At(protocol, sport, dport)
	}
	all := make([]int32, len(s.vectors)*len(parent))
	other.vectors = make([][]int32, len(s.vectors))
	for i, v := range s.vectors {
		other.vectors[i] = all[i*len(parent) : (i+1)*len(parent) : (i+1)*len(parent)]
		for atom, p := range parent {
			other.vectors[i][atom] = v[p]
		}
	}
	other.marks = make([][]weightedOutcome, len(other.vectors))
	for i, v := range other.vectors {
		other.marks[i] = other.weightedOutcomes(v, nil)
	}
	other.book = s.book.recut(other.vectors, other.marks)
	other.admit()
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

// strand is the verdicts on the flows from one class to another: through a
// publication, for those from the internet.
type strand struct {
	publication int            // paths.None where there is none
	vector      int32          // number of the vector
	mask        *bitset.BitSet // the atoms for which it holds; nil for all
	combination combination    // that it comes of; none where nothing is found
}

// unfoundCombination stands for flows to what nothing is found under.
var unfoundCombination = combination{-1, -1}

// eachStrand calls f for all strands from one class to another.
func (s *Survey) eachStrand(a, b int, f func(strand)) {
	src, dst := s.classes[a], s.classes[b]
	if src.four != dst.four || alone(src, dst) {
		return
	}
	if !src.Internal() {
		if dst.Internal() {
			s.eachDoor(src, dst, f)
		}
		return
	}
	switch dst.seen[src.End.Segment] {
	case seesNothing:
		f(strand{paths.None, 0, nil, unfoundCombination})
	case seesIt:
		if c, ok := s.combine(&src.ticket, &dst.ticket); ok {
			f(strand{paths.None, s.verdicts[c.effect][c.stance], nil, c})
		}
	}
}

// alone reports whether two classes are one and the same single address.
func alone(src, dst *Class) bool {
	return src.size.one() && dst.size.one() && src.End.Addr == dst.End.Addr && !elsewhere(src, dst)
}

// elsewhere reports whether two classes are of two segments: one address is then
// two endpoints, and shares may show them to each other under others.
func elsewhere(src, dst *Class) bool {
	return src.Internal() && dst.Internal() && src.End.Segment != dst.End.Segment
}

// combine returns the combination of flows from a class inside to one that its
// segment sees.
func (s *Survey) combine(src, dst *ticket) (combination, bool) {
	b := s.blocks.at(int(src.domain), int(dst.domain))
	effect := b.effects[b.src.place(src)][b.dst.place(dst)]
	col := int32(0)
	switch {
	case dst.network == paths.None:
		if effect == noEffect {
			return combination{}, false
		}
		col = b.dst.lineAt(s.net, int(dst.at), s.ledger.effectAt(effect).Exit)
	default:
		col = b.dst.line(dst)
		if b.from == b.to && src.network == dst.network {
			effect = b.near[s.enforced(src, dst)]
		}
	}
	if effect == noEffect {
		return combination{}, false
	}
	return combination{b.stance(b.src.line(src), col), effect}, true
}

// enforced returns 1 if verdicts are enforced on local paths between two classes of one
// network, and 0 if not.
func (s *Survey) enforced(src, dst *ticket) int {
	return lists.OneIf(s.net.EnforcesLocally(int(src.network), src.part == dst.part))
}

// pairs returns how many pairs of addresses there are from one member to
// another: an address does not open flows to itself.
func (s *Survey) pairs(a, b Member) *big.Int {
	x, y := s.classes[a.Class], s.classes[b.Class]
	switch {
	case a.Only.IsValid() && b.Only.IsValid():
		return big.NewInt(1)
	case elsewhere(x, y):
		return new(big.Int).Mul(s.amount(a).big(), s.amount(b).big())
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
		return n.Sub(n, shared(x.Ranges, y.Ranges).big())
	}
	return n
}

// less returns the size of a class without an address.
func less(c *Class, a netip.Addr) *big.Int {
	n := c.Size()
	if c.holds(a) {
		n.Sub(n, big.NewInt(1))
	}
	return n
}

// shared returns how many addresses two sorted lists of ranges have in common.
func shared(a, b []Range) (n size) {
	for i, k := 0, 0; i < len(a) && k < len(b); {
		from, to := a[i].From, a[i].To
		if b[k].From.Compare(from) > 0 {
			from = b[k].From
		}
		if b[k].To.Compare(to) < 0 {
			to = b[k].To
		}
		if from.Is4() == to.Is4() && from.Compare(to) <= 0 {
			n.add(sizeOf(Range{from, to}))
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
func (s *Survey) AtomsOf(terms []estate.Term) (*bitset.BitSet, bool) { return s.atoms.Covered(terms) }
