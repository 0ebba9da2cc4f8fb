// Package survey tells what happens to all flows of an estate at once. It cuts
// all endpoints into classes and all services into atoms that nothing in the
// estate tells apart, and decides each pair of classes once for every atom.
// What it says is exact: it holds for each flow, not for a sample.
//
// How it saves work: the rules look at the groups of the two ends, the ways at
// their places. Pairs of groups and pairs of places repeat far more than pairs
// of classes do, so stances and ways are found once for each, and a verdict
// once for each combination of both that occurs.
package survey

import (
	"math/big"
	"net/netip"
	"strings"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Survey is what happens to all flows of an estate. It never changes, and is
// safe for concurrent use.
type Survey struct {
	judge *verdict.Judge
	ground
	atoms   *space.Atoms
	results []verdict.Verdict
	vectors []vector
	chosen  []int            // by combination: its vector
	admits  []*bitset.BitSet // by publication: the atoms that it lets in
	counts  []float64        // by atom: how many services it has, about
}

// ground is the part of a survey that does not depend on how services are cut.
type ground struct {
	*partition
	combinations []combination
	table        [][]int32         // by class and class: a combination, or one of the marks below
	published    map[[2]int][]door // by external and internal class
}

// Marks that stand in the table in place of a combination.
const (
	noFlow  int32 = -1 // there is no flow between the two
	unfound int32 = -2 // the source's segment finds nothing under the address
)

// combination is one stance on one way.
type combination struct {
	stance verdict.Stance
	way    verdict.Way
}

// door is one publication that leads from an external class to an internal one;
// paths.None is the shut one, for services that nothing publishes.
type door struct{ publication, combination int }

// vector is the verdicts on all atoms: each atom is in one run.
type vector []run

// run is the atoms of a vector that share a result.
type run struct {
	result int
	atoms  *bitset.BitSet
}

// New returns the survey of an estate. Cost: the pairs of classes, and the
// combinations times the atoms.
func New(j *verdict.Judge) *Survey {
	s := &Survey{judge: j, ground: newGround(j)}
	s.settle(space.Cut(j.Settings()))
	return s
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

// recut returns the same survey with services cut by other atoms, which must be
// at least as fine.
func (s *Survey) recut(atoms *space.Atoms) *Survey {
	other := &Survey{judge: s.judge, ground: s.ground}
	other.settle(atoms)
	return other
}

// surveyor finds the combination of each pair of classes. What it has found is
// kept by number in tables, because it is asked for once for each pair.
type surveyor struct {
	*ground
	ways     []verdict.Way
	wayOf    map[string]int
	between  table // by places: the way
	wayIn    map[[3]int]int
	stances  []verdict.Stance
	stanceOf map[string]int
	toward   table // by parties: the stance
	combined table // by stance and way: the combination
}

// table keeps a number for each pair of numbers; rows grow as they are used.
type table struct{ rows [][]int32 }

// at returns the number of a pair, -1 if there is none yet.
func (t *table) at(row, col int) int32 {
	if row < len(t.rows) && col < len(t.rows[row]) {
		return t.rows[row][col]
	}
	return -1
}

func (t *table) set(row, col int, n int32) {
	for row >= len(t.rows) {
		t.rows = append(t.rows, nil)
	}
	r := t.rows[row]
	if col >= len(r) {
		grown := make([]int32, max(col+1, 2*len(r)))
		for i := copy(grown, r); i < len(grown); i++ {
			grown[i] = -1
		}
		t.rows[row] = grown
	}
	t.rows[row][col] = n
}

func newGround(j *verdict.Judge) ground {
	g := ground{partition: divide(j), published: map[[2]int][]door{}}
	v := &surveyor{ground: &g, wayOf: map[string]int{}, wayIn: map[[3]int]int{}, stanceOf: map[string]int{}}
	g.table = make([][]int32, len(g.classes))
	for a := range g.classes {
		g.table[a] = make([]int32, len(g.classes))
		for b := range g.classes {
			g.table[a][b] = v.pair(a, b)
		}
	}
	return g
}

// pair returns what stands in the table for two classes.
func (v *surveyor) pair(a, b int) int32 {
	src, dst := &v.classes[a], &v.classes[b]
	switch {
	case src.four != dst.four:
		return noFlow
	case !src.Internal():
		v.fromInternet(a, b)
		return noFlow
	case a == b && src.weight == 1:
		return noFlow
	}
	switch dst.seen[src.End.Segment] {
	case seesNothing:
		return unfound
	case seesOther:
		return noFlow
	}
	way := v.between.at(src.place, dst.place)
	if way < 0 {
		w := v.judge.WayTo(&src.End, &dst.End)
		way = int32(v.number(&w))
		v.between.set(src.place, dst.place, way)
	}
	if !dst.Internal() {
		return v.outward(src, b, int(way))
	}
	stance := v.toward.at(src.party, dst.party)
	if stance < 0 {
		stance = v.stance(&src.End, src.party, &dst.End, dst.party)
	}
	return v.combine(stance, way)
}

// outward is pair for an external destination, whose groups depend on the exit.
func (v *surveyor) outward(src *Class, outside, way int) int32 {
	exit := v.ways[way].Path.Exit
	party := v.throughExit(outside, exit)
	stance := v.toward.at(src.party, party)
	if stance < 0 {
		end := v.judge.External(v.classes[outside].End.Addr, exit)
		stance = v.stance(&src.End, src.party, &end, party)
	}
	return v.combine(stance, int32(way))
}

// number returns the number of a way.
func (v *surveyor) number(w *verdict.Way) int {
	key := w.Key(v.judge.Net())
	i, ok := v.wayOf[key]
	if !ok {
		i = len(v.ways)
		v.wayOf[key] = i
		v.ways = append(v.ways, *w)
	}
	return i
}

// stance finds the stance between two ends of these parties, and keeps it.
func (v *surveyor) stance(src *verdict.Endpoint, from int, dst *verdict.Endpoint, to int) int32 {
	i := v.enter(v.judge.Stance(src, dst))
	v.toward.set(from, to, i)
	return i
}

func (v *surveyor) enter(s verdict.Stance) int32 {
	key := s.Key()
	i, ok := v.stanceOf[key]
	if !ok {
		i = len(v.stances)
		v.stanceOf[key] = i
		v.stances = append(v.stances, s)
	}
	return int32(i)
}

func (v *surveyor) combine(stance, way int32) int32 {
	i := v.combined.at(int(stance), int(way))
	if i < 0 {
		i = int32(len(v.combinations))
		v.combined.set(int(stance), int(way), i)
		v.combinations = append(v.combinations, combination{v.stances[stance], v.ways[way]})
	}
	return i
}

// fromInternet finds the doors from an external class to an internal one.
func (v *surveyor) fromInternet(a, b int) {
	src, dst := &v.classes[a], &v.classes[b]
	if !dst.Internal() || alone(src, dst) {
		return
	}
	var doors []door
	for i := range v.judge.Publications() {
		if !v.judge.Publishes(i, &dst.End) {
			continue
		}
		exit := v.judge.PublicationExit(i)
		external := v.judge.External(src.End.Addr, exit)
		key := [3]int{i, src.place, dst.place}
		way, ok := v.wayIn[key]
		if !ok {
			w := v.judge.WayFrom(i, &external, &dst.End)
			way = v.number(&w)
			v.wayIn[key] = way
		}
		party := v.throughExit(a, exit)
		stance := v.toward.at(party, dst.party)
		if stance < 0 {
			stance = v.stance(&external, party, &dst.End, dst.party)
		}
		doors = append(doors, door{i, int(v.combine(stance, int32(way)))})
	}
	stance, way := v.judge.Unpublished(&dst.End)
	doors = append(doors, door{paths.None, int(v.combine(v.enter(stance), int32(v.number(&way))))})
	v.published[[2]int{a, b}] = doors
}

// alone reports whether two classes are one and the same single address.
func alone(src, dst *Class) bool {
	one := big.NewInt(1)
	return src.Size.Cmp(one) == 0 && dst.Size.Cmp(one) == 0 && src.End.Addr == dst.End.Addr
}

// settle decides every combination for every atom.
func (s *Survey) settle(atoms *space.Atoms) {
	s.atoms = atoms
	services := make([]verdict.Service, atoms.Len())
	s.counts = make([]float64, atoms.Len())
	for i := range services {
		s.counts[i] = float64(atoms.Set(i).Count())
		protocol, sport, dport, _ := atoms.Set(i).Witness()
		services[i] = verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}
	}
	b := &settler{Survey: s, results: map[string]int{}, vectors: map[string]int{}}
	unknown := b.result(verdict.Verdict{Outcome: verdict.Unrouted, Reason: verdict.ReasonUnknown, Pools: []string{}, By: []string{}})
	b.vector(func(int) int { return unknown }) // vector 0: what nothing is found for
	s.chosen = make([]int, len(s.combinations))
	for i := range s.combinations {
		c := &s.combinations[i]
		s.chosen[i] = b.vector(func(atom int) int { return b.result(s.judge.Settle(&c.stance, &c.way, services[atom])) })
	}
	for i := range s.judge.Publications() {
		in, _ := s.atoms.Covered(s.judge.PublicationTerms(i))
		s.admits = append(s.admits, in)
	}
}

type settler struct {
	*Survey
	results map[string]int
	vectors map[string]int
}

func (b *settler) result(v verdict.Verdict) int {
	key := verdictKey(&v)
	i, ok := b.results[key]
	if !ok {
		i = len(b.Survey.results)
		b.results[key] = i
		b.Survey.results = append(b.Survey.results, v)
	}
	return i
}

// vector returns the number of the vector with these results, by atom.
func (b *settler) vector(result func(atom int) int) int {
	var v vector
	at := map[int]int{}
	var key strings.Builder
	for atom := range b.atoms.Len() {
		r := result(atom)
		k, ok := at[r]
		if !ok {
			k = len(v)
			at[r] = k
			v = append(v, run{r, bitset.New(uint(b.atoms.Len()))})
		}
		v[k].atoms.Set(uint(atom))
		key.WriteRune(rune(r))
	}
	i, ok := b.vectors[key.String()]
	if !ok {
		i = len(b.Survey.vectors)
		b.vectors[key.String()] = i
		b.Survey.vectors = append(b.Survey.vectors, v)
	}
	return i
}

// strand is the verdicts on the flows from one class to another: through a
// publication, for those from the internet.
type strand struct {
	publication int            // paths.None where there is none
	vector      int            // number of the vector
	mask        *bitset.BitSet // the atoms for which it holds; nil for all
}

// eachStrand calls f for all strands from one class to another.
func (s *Survey) eachStrand(a, b int, f func(strand)) {
	if !s.classes[a].Internal() {
		s.eachDoor(a, b, f)
		return
	}
	switch c := s.table[a][b]; c {
	case noFlow:
	case unfound:
		f(strand{paths.None, 0, nil})
	default:
		f(strand{paths.None, s.chosen[c], nil})
	}
}

func (s *Survey) eachDoor(a, b int, f func(strand)) {
	var open *bitset.BitSet
	for _, d := range s.published[[2]int{a, b}] {
		if d.publication != paths.None {
			f(strand{d.publication, s.chosen[d.combination], s.admits[d.publication]})
			if open == nil {
				open = bitset.New(uint(s.atoms.Len()))
			}
			open.InPlaceUnion(s.admits[d.publication])
			continue
		}
		if open != nil {
			open = open.Complement()
		}
		f(strand{paths.None, s.chosen[d.combination], open})
	}
}

// pairs returns how many pairs of addresses there are from one member to
// another: an address does not open flows to itself.
func (s *Survey) pairs(a, b Member) *big.Int {
	x, y := &s.classes[a.Class], &s.classes[b.Class]
	switch {
	case a.Only.IsValid() && b.Only.IsValid():
		return big.NewInt(1)
	case a.Only.IsValid():
		return less(y, a.Only)
	case b.Only.IsValid():
		return less(x, b.Only)
	}
	n := new(big.Int).Mul(x.Size, y.Size)
	switch {
	case a.Class == b.Class:
		return n.Sub(n, x.Size)
	case !x.Internal() && y.Internal():
		return n.Sub(n, shared(x.Ranges, y.Ranges))
	}
	return n
}

// less returns the size of a class without an address.
func less(c *Class, a netip.Addr) *big.Int {
	return new(big.Int).Sub(c.Size, shared(c.Ranges, []Range{{a, a}}))
}

// shared returns how many addresses two sorted lists of ranges have in common.
func shared(a, b []Range) *big.Int {
	n := new(big.Int)
	for i, k := 0, 0; i < len(a) && k < len(b); {
		from, to := a[i].From, a[i].To
		if b[k].From.Compare(from) > 0 {
			from = b[k].From
		}
		if b[k].To.Compare(to) < 0 {
			to = b[k].To
		}
		if from.Is4() == to.Is4() && from.Compare(to) <= 0 {
			n.Add(n, sizeOf(Range{from, to}))
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
