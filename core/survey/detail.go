package survey

import (
	"cmp"
	"encoding/binary"
	"maps"
	"math/big"
	"net/netip"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Line is some services of a cell that fare alike, with every verdict that
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
// fare alike in one line, the smallest sets of services first. atoms bounds the
// services; nil stands for all. most bounds the parts of a line, of which those
// of the most pairs are kept; 0 stands for no bound.
func (s *Survey) Detail(from, to Set, atoms *bitset.BitSet, most int) []Line {
	columns := s.columns(from, to)
	return s.lines(columns, atoms, most, s.newHeadcount(from, to))
}

// Outcomes is Detail of all services from one node to another, without how many workloads
// have flows and without witnesses. Between segments, and from one to the internet, pairs are
// those that the matrix knows, to the 15 digits of a float64.
func (s *Survey) Outcomes(row, col Node) []Line {
	from, to := s.domainOf(row), s.domainOf(col)
	if from == paths.None || to == paths.None || from == len(s.inside) {
		return s.OutcomesOf(s.Of(row), s.Of(col))
	}
	m := s.overview.found()
	byVector := map[int32]float64{}
	if s.blocks.at(from, to) != nil {
		for _, w := range m.sums.at(from, to).amounts {
			byVector[s.verdicts[w.effect][w.stance]] += max(w.flows, 1)
		}
	}
	if unfound := m.unfound(from, to); unfound > 0 {
		byVector[0] += unfound
	}
	columns := make([]column, 0, len(byVector))
	for _, vector := range slices.Sorted(maps.Keys(byVector)) {
		c := column{strand: strand{publication: paths.None, vector: vector}}
		if n := byVector[vector]; n < 1<<63 {
			c.pairs.product(size{lo: uint64(n)}, size{lo: 1}, 1)
		} else {
			large, _ := big.NewFloat(n).Int(nil)
			c.pairs.addLarge(large)
		}
		columns = append(columns, c)
	}
	return s.lines(columns, nil, 0, nil)
}

// OutcomesOf is Outcomes between sets.
func (s *Survey) OutcomesOf(from, to Set) []Line { return s.lines(s.columns(from, to), nil, 0, nil) }

// lines returns columns service by service; h counts workloads, if that is asked for.
func (s *Survey) lines(columns []column, atoms *bitset.BitSet, most int, h *headcount) []Line {
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
	lines := make([]Line, len(sets))
	var jobs []func()
	for i, set := range sets {
		jobs = append(jobs, func() { lines[i] = s.line(columns, resultOf, set, most, h) })
	}
	parallel.Run(jobs)
	lines = slices.DeleteFunc(lines, func(l Line) bool { return len(l.Parts) == 0 })
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

// gathered is the columns of a part of a line.
type gathered struct {
	part    Part
	pairs   tally
	columns []int
	best    int // the column with the best witness
}

func (s *Survey) line(columns []column, resultOf [][]int, set *bitset.BitSet, most int, h *headcount) Line {
	line := Line{Services: s.atoms.Union(set)}
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
			parts = append(parts, gathered{part: Part{Verdict: s.results[r]}, best: i})
		}
		g := &parts[k]
		columns[i].pairs.sumInto(&g.pairs)
		g.columns = append(g.columns, i)
		if columns[i].told > columns[g.best].told {
			g.best = i
		}
	}
	for i := range parts {
		parts[i].part.Pairs = parts[i].pairs.total()
	}
	slices.SortStableFunc(parts, func(a, b gathered) int { return b.part.Pairs.Cmp(a.part.Pairs) })
	if most > 0 && len(parts) > most {
		line.More = len(parts) - most
		parts = parts[:most]
	}
	for i := range parts {
		g := &parts[i]
		if h != nil {
			g.part.Witness = s.witness(&columns[g.best], line.Services)
			g.part.From, g.part.To = h.of(columns, g.columns)
		}
		line.Parts = append(line.Parts, g.part)
	}
	return line
}

// headcount counts the workloads of the two sets of a cell that have flows in some
// columns, each workload once. Most lines are about the same columns: what was counted is
// kept.
type headcount struct {
	from, to heads
	mu       sync.Mutex
	known    map[string][2]int
}

// heads are the workloads of the members of one set.
type heads struct {
	sole    []int   // by member: how many of its workloads no other has
	shared  [][]int // by member: the others, by their places among all that several have
	several int
}

func (s *Survey) newHeadcount(from, to Set) *headcount {
	return &headcount{from: s.headsOf(from), to: s.headsOf(to), known: map[string][2]int{}}
}

func (s *Survey) headsOf(set Set) heads {
	h := heads{sole: make([]int, len(set)), shared: make([][]int, len(set))}
	have := make([]int32, len(s.judge.Estate().Workloads)) // how many members have each
	for _, m := range set {
		for _, w := range s.workloadsOf(m) {
			have[w]++
		}
	}
	place := make(map[int]int)
	for k, m := range set {
		for _, w := range s.workloadsOf(m) {
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

// of returns how many workloads on either side have flows in some columns.
func (h *headcount) of(columns []column, which []int) (from, to int) {
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
func (h *heads) count(members *bitset.BitSet) (n int) {
	seen := bitset.New(uint(h.several))
	for i := range members.EachSet() {
		n += h.sole[i]
		for _, w := range h.shared[i] {
			seen.Set(uint(w))
		}
	}
	return n + int(seen.Count())
}

// workloadsOf returns the workloads of a member.
func (s *Survey) workloadsOf(m Member) []int {
	c := s.classes[m.Class]
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
	src := s.classes[c.src.Class]
	protocol, sport, dport, _ := services.Witness()
	f := verdict.Flow{Segment: verdict.Internet, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
	if src.Internal() {
		f.Segment = s.judge.Net().Segments[src.End.Segment]
	}
	if c.publication != paths.None {
		f.Publication = s.judge.Publications()[c.publication]
	}
	f.Source, f.Destination = s.apart(c.src, c.dst)
	if src.Internal() {
		f.Destination = asSeen(s.judge, s.classes[c.dst.Class], f.Destination, src.End.Segment)
	}
	return f
}

// apart returns an address of each member, two that differ.
func (s *Survey) apart(a, b Member) (netip.Addr, netip.Addr) {
	from, to := s.anyOf(a), s.anyOf(b)
	if from != to || elsewhere(s.classes[a.Class], s.classes[b.Class]) {
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
