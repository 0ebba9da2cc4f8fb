// Package query answers questions over a matrix: what happens between any two sets of
// endpoints, by services and verdicts, with how many pairs of addresses, how many workloads,
// and a flow that shows it.
package query

import (
	"cmp"
	"encoding/binary"
	"maps"
	"math/big"
	"net/netip"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Line is some services of a cell that have the same verdicts, with every verdict that
// flows on them get.
type Line struct {
	Services space.Services
	Parts    []Part // those of the most pairs first
	More     int    // how many verdicts there are beside those
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
// have the same verdicts in one line, the smallest sets of services first. atoms bounds the
// services; nil stands for all. most bounds the parts of a line, of which those
// of the most pairs are kept; 0 stands for no bound.
func Detail(s *matrix.Matrix, from, to matrix.Set, atoms *bitset.BitSet, most int) []Line {
	columns := Columns(s, from, to)
	return Lines(s, columns, atoms, most, NewHeadcount(s, from, to))
}

// Outcomes is Detail of all services from one node to another, without how many workloads
// have flows and without witnesses. Between segments, and from one to the internet, pairs are
// those that the matrix knows, to the 15 digits of a float64.
func Outcomes(s *matrix.Matrix, row, col matrix.Node) []Line {
	from, to := s.NodeDomain(row), s.NodeDomain(col)
	if from == paths.None || to == paths.None || from == len(s.Inside) {
		return OutcomesOf(s, s.SetOf(row), s.SetOf(col))
	}
	m := s.Totals.Found()
	byVector := map[int32]float64{}
	if s.Blocks.At(from, to) != nil {
		for _, w := range m.Sums.At(from, to).Amounts {
			byVector[s.Verdicts[w.Effect][w.RuleSet]] += max(w.Flows, 1)
		}
	}
	if unfound := m.Unfound(from, to); unfound > 0 {
		byVector[0] += unfound
	}
	columns := make([]Column, 0, len(byVector))
	for _, vector := range slices.Sorted(maps.Keys(byVector)) {
		c := Column{ClassResult: matrix.ClassResult{Publication: paths.None, Vector: vector}}
		if n := byVector[vector]; n < 1<<63 {
			c.pairs.Product(intervals.Size{Lo: uint64(n)}, intervals.Size{Lo: 1}, 1)
		} else {
			large, _ := big.NewFloat(n).Int(nil)
			c.pairs.AddLarge(large)
		}
		columns = append(columns, c)
	}
	return Lines(s, columns, nil, 0, nil)
}

// OutcomesOf is Outcomes between sets.
func OutcomesOf(s *matrix.Matrix, from, to matrix.Set) []Line {
	return Lines(s, Columns(s, from, to), nil, 0, nil)
}

// Lines returns columns service by service; h counts workloads, if that is asked for.
func Lines(s *matrix.Matrix, columns []Column, atoms *bitset.BitSet, most int, h *headcount) []Line {
	resultOf := make([][]int, len(columns)) // by column and atom; -1 where masked
	for i, c := range columns {
		resultOf[i] = Spread(s, &c)
	}
	lineOf := map[string]int{}
	var sets []*bitset.BitSet
	for atom := range s.Atoms.Len() {
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
			sets = append(sets, bitset.New(uint(s.Atoms.Len())))
		}
		sets[k].Set(uint(atom))
	}
	lines := make([]Line, len(sets))
	var jobs []func()
	for i, set := range sets {
		jobs = append(jobs, func() { lines[i] = line(s, columns, resultOf, set, most, h) })
	}
	parallel.Run(jobs)
	lines = slices.DeleteFunc(lines, func(l Line) bool { return len(l.Parts) == 0 })
	slices.SortStableFunc(lines, func(a, b Line) int { return cmp.Compare(a.Services.Count(), b.Services.Count()) })
	return lines
}

// Spread returns the result of a column for each atom, -1 where it is masked.
func Spread(s *matrix.Matrix, c *Column) []int {
	out := make([]int, s.Atoms.Len())
	for atom, r := range s.Vectors[c.Vector] {
		out[atom] = int(r)
		if c.Mask != nil && !c.Mask.Test(uint(atom)) {
			out[atom] = -1
		}
	}
	return out
}

// gathered is the columns of a part of a line.
type gathered struct {
	part    Part
	pairs   intervals.Tally
	columns []int
	best    int // the column with the best witness
}

func line(s *matrix.Matrix, columns []Column, resultOf [][]int, set *bitset.BitSet, most int, h *headcount) Line {
	line := Line{Services: s.Atoms.Union(set)}
	first, _ := set.NextSet(0)
	at := map[int]int{}
	var parts []gathered
	for i := range columns {
		r := resultOf[i][first]
		if r < 0 {
			continue
		}
		k, ok := at[r]
		if !ok {
			k = len(parts)
			at[r] = k
			parts = append(parts, gathered{part: Part{Verdict: s.Results[r]}, best: i})
		}
		g := &parts[k]
		columns[i].pairs.SumInto(&g.pairs)
		g.columns = append(g.columns, i)
		if columns[i].Rank > columns[g.best].Rank {
			g.best = i
		}
	}
	for i := range parts {
		parts[i].part.Pairs = parts[i].pairs.Total()
	}
	slices.SortStableFunc(parts, func(a, b gathered) int { return b.part.Pairs.Cmp(a.part.Pairs) })
	if most > 0 && len(parts) > most {
		line.More = len(parts) - most
		parts = parts[:most]
	}
	for i := range parts {
		g := &parts[i]
		if h != nil {
			g.part.Witness = Witness(s, &columns[g.best], line.Services)
			g.part.From, g.part.To = h.workloads(columns, g.columns)
		}
		line.Parts = append(line.Parts, g.part)
	}
	return line
}

// headcount counts the workloads of the two sets of a cell that have flows in some
// columns, each workload once. Most lines are about the same columns: what was counted is
// kept.
type headcount struct {
	from, to workloadSet
	mu       sync.Mutex
	known    map[string][2]int
}

// workloadSet are the workloads of the members of one set.
type workloadSet struct {
	sole    []int   // by member: how many of its workloads no other has
	shared  [][]int // by member: the others, by their places among all that several have
	several int
}

func NewHeadcount(s *matrix.Matrix, from, to matrix.Set) *headcount {
	return &headcount{from: headsOf(s, from), to: headsOf(s, to), known: map[string][2]int{}}
}

func headsOf(s *matrix.Matrix, set matrix.Set) workloadSet {
	h := workloadSet{sole: make([]int, len(set)), shared: make([][]int, len(set))}
	have := make([]int32, len(s.Judge.Estate.Workloads)) // how many members have each
	for _, m := range set {
		for _, w := range WorkloadsOf(s, m) {
			have[w]++
		}
	}
	place := make(map[int]int)
	for k, m := range set {
		for _, w := range WorkloadsOf(s, m) {
			if have[w] == 1 {
				h.sole[k]++
				continue
			}
			at, known := place[w]
			if !known {
				at = len(place)
				place[w] = at
			}
			h.shared[k] = append(h.shared[k], at)
		}
	}
	h.several = len(place)
	return h
}

// workloads returns how many workloads on either side have flows in some columns.
func (h *headcount) workloads(columns []Column, which []int) (from, to int) {
	key := lists.Key(which)
	h.mu.Lock()
	n, known := h.known[key]
	h.mu.Unlock()
	if !known {
		sources, targets := columns[which[0]].from.Clone(), columns[which[0]].to.Clone()
		for _, c := range which[1:] {
			sources.InPlaceUnion(columns[c].from)
			targets.InPlaceUnion(columns[c].to)
		}
		n = [2]int{h.from.count(sources), h.to.count(targets)}
		h.mu.Lock()
		h.known[key] = n
		h.mu.Unlock()
	}
	return n[0], n[1]
}

// count returns how many workloads some members have.
func (h *workloadSet) count(members *bitset.BitSet) (n int) {
	seen := bitset.New(uint(h.several))
	for i := range members.EachSet() {
		n += h.sole[i]
		for _, w := range h.shared[i] {
			seen.Set(uint(w))
		}
	}
	return n + int(seen.Count())
}

// WorkloadsOf returns the workloads of a member.
func WorkloadsOf(s *matrix.Matrix, m matrix.Member) []int {
	c := s.Classes[m.Class]
	if !m.Only.IsValid() {
		return c.Workloads
	}
	if c.Internal() {
		if end, ok := s.Judge.Internal(c.End.Segment, m.Only); ok && end.Workload != paths.None {
			return []int{end.Workload}
		}
	}
	return nil
}

// Witness returns a flow of a column on one of some services.
func Witness(s *matrix.Matrix, c *Column, services space.Services) verdict.Flow {
	src := s.Classes[c.Src.Class]
	protocol, sport, dport, _ := services.Witness()
	f := verdict.Flow{Segment: verdict.Internet, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
	if src.Internal() {
		f.Segment = s.Judge.Net.Segments[src.End.Segment]
	}
	if c.Publication != paths.None {
		f.Publication = s.Judge.PublicationNames()[c.Publication]
	}
	f.Source, f.Destination = apart(s, c.Src, c.Dst)
	if src.Internal() {
		f.Destination = classes.AsSeen(s.Judge, s.Classes[c.Dst.Class], f.Destination, src.End.Segment)
	}
	return f
}

// apart returns an address of each member, two that differ.
func apart(s *matrix.Matrix, a, b matrix.Member) (netip.Addr, netip.Addr) {
	from, to := anyOf(s, a), anyOf(s, b)
	if from != to || matrix.Elsewhere(s.Classes[a.Class], s.Classes[b.Class]) {
		return from, to
	}
	if other, ok := otherThan(s, b, from); ok {
		return from, other
	}
	other, ok := otherThan(s, a, to)
	if !ok {
		panic("query: a witness between an address and itself")
	}
	return other, to
}

func anyOf(s *matrix.Matrix, m matrix.Member) netip.Addr {
	if m.Only.IsValid() {
		return m.Only
	}
	return s.Classes[m.Class].End.Addr
}

func otherThan(s *matrix.Matrix, m matrix.Member, a netip.Addr) (netip.Addr, bool) {
	if m.Only.IsValid() {
		return m.Only, m.Only != a
	}
	for _, r := range s.Classes[m.Class].Ranges {
		if r.From != a {
			return r.From, true
		}
		if r.To != a {
			return r.To, true
		}
	}
	return netip.Addr{}, false
}
