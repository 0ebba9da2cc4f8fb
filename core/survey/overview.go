package survey

import (
	"slices"

	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
)

// overview finds the matrix of a survey when it is first asked for: no difference asks.
type overview struct {
	once   parallel.Once
	find   func() *matrix
	matrix *matrix
}

// matrix is all flows between segments and the internet.
type matrix struct {
	sums    table[sums]
	inbound [][]weighed // what there is of each combination of flows from the internet, by segment
	crowds  []crowd     // by domain
	of      int64       // the partition
}

// sums is all flows from one domain to another that has a block.
type sums struct {
	amounts []weighed // what there is of each combination, but for flows from the internet
	marks   []Mark
	cut     bool // classes have been cut finer since pairs of them were counted
}

// found returns the matrix.
func (o *overview) found() *matrix {
	o.once.Do(func() { o.matrix, o.find = o.find(), nil })
	return o.matrix
}

// Complete finds the outcomes between all segments, if that was not done yet. An edit
// of a survey leaves it to whoever asks for one first, and holds the survey before it
// until then.
func (s *Survey) Complete() { s.overview.found() }

// looking finds the matrix of a survey, in two steps: what there is of each combination
// depends on no verdict.
type looking struct {
	*Survey
	out     *matrix
	before  *matrix                              // nil for a survey from the ground
	fresh   func(from, to int) bool              // there may be other amounts than before
	sooner  func(from, to int) ([]weighed, bool) // tells what there is without adding up all; or nil
	differs func(from, to int) bool              // verdicts may be others
	pairs   []pair
	anew    []bool // by pair: it is fresh
	sums    []sums // by pair
}

// count adds up what there is of each combination, of flows that do not come from the
// internet. Where nothing is fresh, it is as before. It returns, by pair of domains, the
// combinations that occur where it was added up all: of some there is nothing, for each
// of their flows has another as well, or is none.
func (l *looking) count() (occur [][]combination) {
	s, before := l.Survey, l.before
	l.out = &matrix{of: s.id, crowds: crowdsOf(s.partition, before)}
	l.pairs = s.blocks.pairs()
	l.anew, l.sums, occur = make([]bool, len(l.pairs)), make([]sums, len(l.pairs)), make([][]combination, len(l.pairs))
	var jobs []func()
	for i, p := range l.pairs {
		l.anew[i] = before == nil || l.fresh(p.from, p.to)
		switch {
		case !l.anew[i]:
			was := before.sums.at(p.from, p.to)
			l.sums[i] = sums{amounts: was.amounts, cut: was.cut || before.of != s.id}
		case p.from < len(s.inside):
			jobs = append(jobs, func() {
				known := false
				if l.sooner != nil {
					l.sums[i].amounts, known = l.sooner(p.from, p.to)
				}
				if !known {
					l.sums[i].amounts, occur[i] = s.look(s.blocks.at(p.from, p.to))
				}
			})
		}
	}
	parallel.Run(jobs)
	return occur
}

// mark finds the outcomes: anew where something is fresh, or verdicts differ, on which
// what there is of flows from the internet depends too.
func (l *looking) mark() {
	s, before := l.Survey, l.before
	l.out.inbound = make([][]weighed, len(s.inside))
	var jobs []func()
	for i, p := range l.pairs {
		fresh := l.anew[i] || l.differs(p.from, p.to)
		inbound := p.from == len(s.inside)
		if inbound && !fresh {
			l.out.inbound[p.to] = before.inbound[p.to]
		}
		if !fresh && l.out.unfound(p.from, p.to) == before.unfound(p.from, p.to) {
			l.sums[i].marks = before.sums.at(p.from, p.to).marks
			continue
		}
		jobs = append(jobs, func() {
			amounts := l.sums[i].amounts
			if inbound {
				if fresh {
					l.out.inbound[p.to] = s.lookIn(p.to)
				}
				amounts = l.out.inbound[p.to]
			}
			l.sums[i].marks = s.marksOf(amounts, l.out.unfound(p.from, p.to))
		})
	}
	parallel.Run(jobs)
	l.out.sums = tableOf(len(s.inside)+1, l.pairs, l.sums)
}

// look adds up the flows of a block.
func (s *Survey) look(b *block) (amounts []weighed, occur []combination) {
	c := newPairCounter(s)
	defer c.free()
	c.addBlock(b)
	occur = slices.Clone(c.used)
	return c.take(), occur
}

// lookIn adds up the flows from the internet to a segment.
func (s *Survey) lookIn(segment int) []weighed {
	c := newPairCounter(s)
	defer c.free()
	c.addAllDoors(segment)
	return c.take()
}

// crowd is about how many addresses there are in a domain, by family: in all, and of those
// that the same segments see.
type crowd struct {
	here [2]float64
	seen []seenAlike
}

// seenAlike is about how many addresses there are, by family, of which segments see the same.
type seenAlike struct {
	seen []see
	here [2]float64
}

// blind returns about how many addresses a segment finds nothing under.
func (c *crowd) blind(segment int) (out [2]float64) {
	for i := range c.seen {
		if x := &c.seen[i]; segment < len(x.seen) && x.seen[segment] == seesNothing {
			out[0] += x.here[0]
			out[1] += x.here[1]
		}
	}
	return out
}

// crowds returns those of all domains; of those whose classes are the same as before, the
// same.
func crowdsOf(p *partition, before *matrix) []crowd {
	if before != nil && before.of == p.id {
		return before.crowds
	}
	out := make([]crowd, len(p.inside)+1)
	var jobs []func()
	for domain := range out {
		if before != nil && p.graft != nil && p.graft.from == before.of && !p.graft.altered[domain] {
			out[domain] = before.crowds[domain]
			continue
		}
		jobs = append(jobs, func() { out[domain] = crowdOf(p, domain) })
	}
	parallel.Run(jobs)
	return out
}

func crowdOf(p *partition, domain int) crowd {
	var out crowd
	at := map[*see]int{} // what is seen of classes, which share it
	for _, i := range p.of(domain) {
		c := p.classes[i]
		family := lists.OneIf(c.four)
		out.here[family] += c.weight
		if len(c.seen) == 0 {
			continue
		}
		k, known := at[&c.seen[0]]
		if !known {
			k = len(out.seen)
			at[&c.seen[0]] = k
			out.seen = append(out.seen, seenAlike{seen: c.seen})
		}
		out.seen[k].here[family] += c.weight
	}
	return out
}

// unfound returns about how many pairs of addresses there are from a domain to those of
// another that it finds nothing under.
func (m *matrix) unfound(from, to int) (sum float64) {
	blind := m.crowds[to].blind(from)
	for family, here := range m.crowds[from].here {
		sum += here * blind[family]
	}
	return sum
}

// Between returns the outcomes of all flows from one node to another, those of
// the most flows first. Between segments they are known already.
func (s *Survey) Between(row, col Node) []Mark {
	from, to := s.domainOf(row), s.domainOf(col)
	if from != paths.None && to != paths.None {
		m := s.overview.found()
		if s.blocks.at(from, to) == nil {
			return s.marksOf(nil, m.unfound(from, to))
		}
		return m.sums.at(from, to).marks
	}
	return s.Cell(s.Of(row), s.Of(col))
}

// domainOf returns the domain that a node is all of, or paths.None.
func (s *Survey) domainOf(n Node) int {
	switch n.Kind {
	case NodeInternet:
		return len(s.inside)
	case NodeSegment:
		return s.net.Segment(n.Segment)
	}
	return paths.None
}
