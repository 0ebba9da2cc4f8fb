package matrix

import (
	"slices"

	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
)

// LazyTotals finds the totals of a matrix when they are first asked for: no difference asks.
type LazyTotals struct {
	once   parallel.Once
	Find   func() *Totals
	totals *Totals
}

// Totals is all flows between segments and the internet.
type Totals struct {
	Sums      classes.Table[PairTotals]
	Inbound   [][]Weighted    // what there is of each combination of flows from the internet, by segment
	Counts    []AddressCounts // by domain
	Partition int64           // the partition
}

// PairTotals is all flows from one domain to another that has a block.
type PairTotals struct {
	Amounts []Weighted // what there is of each combination, but for flows from the internet
	marks   []Mark
	Cut     bool // classes have been cut finer since pairs of them were counted
}

// Found returns the totals.
func (o *LazyTotals) Found() *Totals {
	o.once.Do(func() { o.totals, o.Find = o.Find(), nil })
	return o.totals
}

// Complete finds the outcomes between all segments, if that was not done yet. An edit
// of a matrix leaves it to whoever asks for one first, and holds the matrix before it
// until then.
func (s *Matrix) Complete() { s.Totals.Found() }

// Totaller finds the totals of a matrix, in two steps: what there is of each combination
// depends on no verdict.
type Totaller struct {
	*Matrix
	Out     *Totals
	Before  *Totals                               // nil for a matrix anew
	Fresh   func(from, to int) bool               // there may be other amounts than before
	Known   func(from, to int) ([]Weighted, bool) // tells what there is without adding up all; or nil
	Differs func(from, to int) bool               // verdicts may be others
	pairs   []classes.Pair
	anew    []bool       // by pair: it is fresh
	sums    []PairTotals // by pair
}

// Count adds up what there is of each combination, of flows that do not come from the
// internet. Where nothing is fresh, it is as before. It returns, by pair of domains, the
// combinations that occur where it was added up all: of some there is nothing, for each
// of their flows has another as well, or is none.
func (l *Totaller) Count() (occur [][]Combination) {
	s, before := l.Matrix, l.Before
	l.Out = &Totals{Partition: s.ID, Counts: CountAddresses(s.Partition, before)}
	l.pairs = s.Blocks.Pairs()
	l.anew, l.sums, occur = make([]bool, len(l.pairs)), make([]PairTotals, len(l.pairs)), make([][]Combination, len(l.pairs))
	var jobs []func()
	for i, p := range l.pairs {
		l.anew[i] = before == nil || l.Fresh(p.From, p.To)
		switch {
		case !l.anew[i]:
			was := before.Sums.At(p.From, p.To)
			l.sums[i] = PairTotals{Amounts: was.Amounts, Cut: was.Cut || before.Partition != s.ID}
		case p.From < len(s.Inside):
			jobs = append(jobs, func() {
				known := false
				if l.Known != nil {
					l.sums[i].Amounts, known = l.Known(p.From, p.To)
				}
				if !known {
					l.sums[i].Amounts, occur[i] = s.look(s.Blocks.At(p.From, p.To))
				}
			})
		}
	}
	parallel.Run(jobs)
	return occur
}

// Mark finds the outcomes: anew where something is fresh, or verdicts differ, on which
// what there is of flows from the internet depends too.
func (l *Totaller) Mark() {
	s, before := l.Matrix, l.Before
	l.Out.Inbound = make([][]Weighted, len(s.Inside))
	var jobs []func()
	for i, p := range l.pairs {
		fresh := l.anew[i] || l.Differs(p.From, p.To)
		inbound := p.From == len(s.Inside)
		if inbound && !fresh {
			l.Out.Inbound[p.To] = before.Inbound[p.To]
		}
		if !fresh && l.Out.Unfound(p.From, p.To) == before.Unfound(p.From, p.To) {
			l.sums[i].marks = before.Sums.At(p.From, p.To).marks
			continue
		}
		jobs = append(jobs, func() {
			amounts := l.sums[i].Amounts
			if inbound {
				if fresh {
					l.Out.Inbound[p.To] = s.lookIn(p.To)
				}
				amounts = l.Out.Inbound[p.To]
			}
			l.sums[i].marks = s.marksOf(amounts, l.Out.Unfound(p.From, p.To))
		})
	}
	parallel.Run(jobs)
	l.Out.Sums = classes.TableOf(len(s.Inside)+1, l.pairs, l.sums)
}

// look adds up the flows of a block.
func (s *Matrix) look(b *Block) (amounts []Weighted, occur []Combination) {
	c := NewPairCounter(s)
	defer c.Free()
	c.addBlock(b)
	occur = slices.Clone(c.used)
	return c.take(), occur
}

// lookIn adds up the flows from the internet to a segment.
func (s *Matrix) lookIn(segment int) []Weighted {
	c := NewPairCounter(s)
	defer c.Free()
	c.addAllInbound(segment)
	return c.take()
}

// AddressCounts is about how many addresses there are in a domain, by family: in all, and of those
// that the same segments see.
type AddressCounts struct {
	here [2]float64
	seen []visibleAlike
}

// visibleAlike is about how many addresses there are, by family, of which segments see the same.
type visibleAlike struct {
	seen []classes.Visibility
	here [2]float64
}

// unseenBy returns about how many addresses a segment finds nothing under.
func (c *AddressCounts) unseenBy(segment int) (out [2]float64) {
	for i := range c.seen {
		if x := &c.seen[i]; segment < len(x.seen) && x.seen[segment] == classes.SeesNothing {
			out[0] += x.here[0]
			out[1] += x.here[1]
		}
	}
	return out
}

// counts returns those of all domains; of those whose classes are the same as before, the
// same.
func CountAddresses(p *classes.Partition, before *Totals) []AddressCounts {
	if before != nil && before.Partition == p.ID {
		return before.Counts
	}
	out := make([]AddressCounts, len(p.Inside)+1)
	var jobs []func()
	for domain := range out {
		if before != nil && p.Update != nil && p.Update.Origin == before.Partition && !p.Update.Altered[domain] {
			out[domain] = before.Counts[domain]
			continue
		}
		jobs = append(jobs, func() { out[domain] = countDomain(p, domain) })
	}
	parallel.Run(jobs)
	return out
}

func countDomain(p *classes.Partition, domain int) AddressCounts {
	var out AddressCounts
	at := map[*classes.Visibility]int{} // what is seen of classes, which share it
	for _, i := range p.ClassesIn(domain) {
		c := p.Classes[i]
		family := lists.OneIf(c.Four)
		out.here[family] += c.Weight
		if len(c.Seen) == 0 {
			continue
		}
		k, known := at[&c.Seen[0]]
		if !known {
			k = len(out.seen)
			at[&c.Seen[0]] = k
			out.seen = append(out.seen, visibleAlike{seen: c.Seen})
		}
		out.seen[k].here[family] += c.Weight
	}
	return out
}

// Unfound returns about how many pairs of addresses there are from a domain to those of
// another that it finds nothing under.
func (m *Totals) Unfound(from, to int) (sum float64) {
	blind := m.Counts[to].unseenBy(from)
	for family, here := range m.Counts[from].here {
		sum += here * blind[family]
	}
	return sum
}

// Between returns the outcomes of all flows from one node to another, those of
// the most flows first. Between segments they are known already.
func (s *Matrix) Between(row, col Node) []Mark {
	from, to := s.NodeDomain(row), s.NodeDomain(col)
	if from != paths.None && to != paths.None {
		m := s.Totals.Found()
		if s.Blocks.At(from, to) == nil {
			return s.marksOf(nil, m.Unfound(from, to))
		}
		return m.Sums.At(from, to).marks
	}
	return s.Cell(s.SetOf(row), s.SetOf(col))
}

// NodeDomain returns the domain that a node is all of, or paths.None.
func (s *Matrix) NodeDomain(n Node) int {
	switch n.Kind {
	case NodeInternet:
		return len(s.Inside)
	case NodeSegment:
		return s.Net.Segment(n.Segment)
	}
	return paths.None
}
