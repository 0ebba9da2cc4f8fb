package survey

import (
	"cmp"
	"encoding/binary"
	"math/big"
	"net/netip"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Line is some services of a cell that fare alike, with every verdict that
// flows on them get.
type Line struct {
	Services space.Services
	Parts    []Part // those of the most pairs first
}

// Part is the flows of a line that get one verdict.
type Part struct {
	Verdict verdict.Verdict
	Pairs   *big.Int     // how many pairs of source and destination address
	From    int          // how many workloads are among the sources
	To      int          // how many workloads are among the destinations
	Witness verdict.Flow // one of the flows
}

// Detail returns what happens between some endpoints and others, services that
// fare alike in one line, the smallest sets of services first. atoms bounds the
// services; nil stands for all.
func (s *Survey) Detail(from, to Set, atoms *bitset.BitSet) []Line {
	return s.lines(s.columns(from, to), from, to, atoms)
}

// lines returns columns service by service.
func (s *Survey) lines(columns []column, from, to Set, atoms *bitset.BitSet) []Line {
	resultOf := make([][]int, len(columns)) // by column and atom; -1 where masked
	for i, c := range columns {
		resultOf[i] = s.spread(&c)
	}
	lineOf := map[string]int{}
	var sets []*bitset.BitSet
	for atom := range s.atoms.Len() {
		if atoms != nil && !atoms.Test(uint(atom)) {
			continue
		}
		var key []byte
		for i := range columns {
			key = binary.AppendVarint(key, int64(resultOf[i][atom]))
		}
		k, ok := lineOf[string(key)]
		if !ok {
			k = len(sets)
			lineOf[string(key)] = k
			sets = append(sets, bitset.New(uint(s.atoms.Len())))
		}
		sets[k].Set(uint(atom))
	}
	var lines []Line
	for _, set := range sets {
		if line := s.line(columns, resultOf, set, from, to); len(line.Parts) > 0 {
			lines = append(lines, line)
		}
	}
	slices.SortStableFunc(lines, func(a, b Line) int { return cmp.Compare(a.Services.Count(), b.Services.Count()) })
	return lines
}

// spread returns the result of a column for each atom, -1 where it is masked.
func (s *Survey) spread(c *column) []int {
	out := make([]int, s.atoms.Len())
	for atom, r := range s.vectors[c.vector] {
		out[atom] = int(r)
		if c.mask != nil && !c.mask.Test(uint(atom)) {
			out[atom] = -1
		}
	}
	return out
}

func (s *Survey) line(columns []column, resultOf [][]int, set *bitset.BitSet, from, to Set) Line {
	line := Line{Services: s.atoms.Union(set)}
	first, _ := set.NextSet(0)
	at := map[int]int{}
	best := map[int]int{}
	var sides [][2]*bitset.BitSet // of each part: its members on either side
	for i := range columns {
		r := resultOf[i][first]
		if r < 0 {
			continue
		}
		k, ok := at[r]
		if !ok {
			k = len(line.Parts)
			at[r] = k
			best[k] = i
			line.Parts = append(line.Parts, Part{Verdict: s.results[r], Pairs: new(big.Int)})
			sides = append(sides, [2]*bitset.BitSet{bitset.New(uint(len(from))), bitset.New(uint(len(to)))})
		}
		columns[i].pairs.sum(line.Parts[k].Pairs)
		sides[k][0].InPlaceUnion(columns[i].from)
		sides[k][1].InPlaceUnion(columns[i].to)
		if columns[i].told > columns[best[k]].told {
			best[k] = i
		}
	}
	for k := range line.Parts {
		line.Parts[k].Witness = s.witness(&columns[best[k]], line.Services)
		line.Parts[k].From, line.Parts[k].To = s.workloads(from, sides[k][0]), s.workloads(to, sides[k][1])
	}
	slices.SortStableFunc(line.Parts, func(a, b Part) int { return b.Pairs.Cmp(a.Pairs) })
	return line
}

// workloads returns how many workloads some members of a set have.
func (s *Survey) workloads(set Set, members *bitset.BitSet) int {
	seen := map[int]bool{}
	for i := range members.EachSet() {
		for _, w := range s.workloadsOf(set[i]) {
			seen[w] = true
		}
	}
	return len(seen)
}

// workloadsOf returns the workloads of a member.
func (s *Survey) workloadsOf(m Member) []int {
	c := &s.classes[m.Class]
	if !m.Only.IsValid() {
		return c.Workloads
	}
	if c.Internal() {
		if end, ok := s.judge.Internal(c.End.Segment, m.Only); ok && end.Workload != paths.None {
			return []int{end.Workload}
		}
	}
	return nil
}

// witness returns a flow of a column on one of some services.
func (s *Survey) witness(c *column, services space.Services) verdict.Flow {
	src := &s.classes[c.src.Class]
	protocol, sport, dport, _ := services.Witness()
	f := verdict.Flow{Segment: verdict.Internet, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
	if src.Internal() {
		f.Segment = s.judge.Net().Segments[src.End.Segment]
	}
	if c.publication != paths.None {
		f.Publication = s.judge.Publications()[c.publication]
	}
	f.Source, f.Destination = s.apart(c.src, c.dst)
	return f
}

// apart returns an address of each member, two that differ.
func (s *Survey) apart(a, b Member) (netip.Addr, netip.Addr) {
	from, to := s.anyOf(a), s.anyOf(b)
	if from != to {
		return from, to
	}
	if other, ok := s.otherThan(b, from); ok {
		return from, other
	}
	other, ok := s.otherThan(a, to)
	if !ok {
		panic("survey: a witness between an address and itself")
	}
	return other, to
}

func (s *Survey) anyOf(m Member) netip.Addr {
	if m.Only.IsValid() {
		return m.Only
	}
	return s.classes[m.Class].End.Addr
}

func (s *Survey) otherThan(m Member, a netip.Addr) (netip.Addr, bool) {
	if m.Only.IsValid() {
		return m.Only, m.Only != a
	}
	for _, r := range s.classes[m.Class].Ranges {
		if r.From != a {
			return r.From, true
		}
		if r.To != a {
			return r.To, true
		}
	}
	return netip.Addr{}, false
}
