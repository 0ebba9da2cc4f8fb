package survey

import (
	"slices"

	"bivium/core/parallel"
	"bivium/core/paths"
)

// overview finds the matrix of a survey when it is first asked for: no difference asks.
type overview struct {
	once   parallel.Once
	find   func() *matrix
	matrix *matrix
}

// matrix is all flows between segments and the internet, by domain and domain.
type matrix struct {
	amounts [][][]weighed // what there is of each combination, but for flows from the internet
	inbound [][]weighed   // the same of those, by segment
	marks   [][][]Mark
	crowds  []crowd     // by domain
	unfound [][]float64 // about how many pairs of addresses of which the second is not found
	of      int64       // the partition
	cut     [][]bool    // classes have been cut finer since pairs of them were counted
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
	anew    []bool                               // by pair of domains: it is fresh
}

// count adds up what there is of each combination, of flows that do not come from the
// internet. Where nothing is fresh, it is as before. It returns, by pair of domains, the
// combinations that occur where it was added up all: of some there is nothing, for each
// of their flows has another as well, or is none.
func (l *looking) count() (occur [][]combination) {
	s, before := l.Survey, l.before
	domains := len(s.inside) + 1
	l.out = &matrix{amounts: make([][][]weighed, domains), of: s.id, cut: make([][]bool, domains)}
	if before != nil && before.of == s.id {
		l.out.crowds, l.out.unfound = before.crowds, before.unfound
	} else {
		l.out.crowds = s.crowds(before)
		l.out.unfound = unfoundFlows(l.out.crowds)
	}
	l.anew, occur = make([]bool, domains*domains), make([][]combination, domains*domains)
	var jobs []func()
	for from := range domains {
		l.out.amounts[from], l.out.cut[from] = make([][]weighed, domains), make([]bool, domains)
		for to := range domains {
			at := from*domains + to
			l.anew[at] = before == nil || l.fresh(from, to)
			switch {
			case !l.anew[at]:
				l.out.amounts[from][to] = before.amounts[from][to]
				l.out.cut[from][to] = before.cut[from][to] || before.of != s.id
			case from < len(s.inside) && s.blocks[from][to] != nil:
				jobs = append(jobs, func() {
					known := false
					if l.sooner != nil {
						l.out.amounts[from][to], known = l.sooner(from, to)
					}
					if !known {
						l.out.amounts[from][to], occur[at] = s.look(s.blocks[from][to])
					}
				})
			}
		}
	}
	parallel.Run(jobs)
	return occur
}

// mark finds the outcomes: anew where something is fresh, or verdicts differ, on which
// what there is of flows from the internet depends too.
func (l *looking) mark() {
	s, before, domains := l.Survey, l.before, len(l.inside)+1
	l.out.marks, l.out.inbound = make([][][]Mark, domains), make([][]weighed, domains-1)
	var jobs []func()
	for from := range domains {
		l.out.marks[from] = make([][]Mark, domains)
		for to := range domains {
			fresh := l.anew[from*domains+to] || l.differs(from, to)
			inbound := from == domains-1 && to < from
			if inbound && !fresh {
				l.out.inbound[to] = before.inbound[to]
			}
			if !fresh && l.out.unfound[from][to] == before.unfound[from][to] {
				l.out.marks[from][to] = before.marks[from][to]
				continue
			}
			jobs = append(jobs, func() {
				amounts := l.out.amounts[from][to]
				if inbound {
					if fresh && s.blocks[from][to] != nil {
						l.out.inbound[to] = s.lookIn(to)
					}
					amounts = l.out.inbound[to]
				}
				l.out.marks[from][to] = s.marksOf(amounts, l.out.unfound[from][to])
			})
		}
	}
	parallel.Run(jobs)
}

// look adds up the flows of a block.
func (s *Survey) look(b *block) (amounts []weighed, occur []combination) {
	c := newCeller(s)
	defer c.free()
	c.addBlock(b)
	occur = slices.Clone(c.used)
	return c.take(), occur
}

// lookIn adds up the flows from the internet to a segment.
func (s *Survey) lookIn(segment int) []weighed {
	c := newCeller(s)
	defer c.free()
	c.addAllDoors(segment)
	return c.take()
}

// crowd is about how many addresses there are in a domain, by family, and how many of
// them each segment finds nothing under.
type crowd struct {
	here  [2]float64
	blind [][2]float64
}

// crowds returns those of all domains; of those whose classes are the same as before, the
// same.
func (s *Survey) crowds(before *matrix) []crowd {
	out := make([]crowd, len(s.inside)+1)
	var jobs []func()
	for domain := range out {
		if before != nil && s.graft != nil && s.graft.from == before.of && !s.graft.altered[domain] {
			out[domain] = before.crowds[domain]
			continue
		}
		jobs = append(jobs, func() {
			x := crowd{blind: make([][2]float64, len(s.inside))}
			at := map[*see]int{} // what is seen of classes, which share it
			var seen [][]see
			var sums [][2]float64 // of those of whom it is so
			for _, i := range s.of(domain) {
				c := s.classes[i]
				family := oneIf(c.four)
				x.here[family] += c.weight
				if len(c.seen) == 0 {
					continue
				}
				k, known := at[&c.seen[0]]
				if !known {
					k = len(seen)
					at[&c.seen[0]] = k
					seen, sums = append(seen, c.seen), append(sums, [2]float64{})
				}
				sums[k][family] += c.weight
			}
			for k := range seen {
				for from, sees := range seen[k] {
					if sees == seesNothing {
						x.blind[from][0] += sums[k][0]
						x.blind[from][1] += sums[k][1]
					}
				}
			}
			out[domain] = x
		})
	}
	parallel.Run(jobs)
	return out
}

// unfoundFlows returns about how many pairs of addresses there are from each
// domain to those of another that it finds nothing under.
func unfoundFlows(crowds []crowd) [][]float64 {
	out := make([][]float64, len(crowds))
	for from := range out {
		out[from] = make([]float64, len(crowds))
		for to := range crowds {
			for family := range 2 {
				if from < len(crowds[to].blind) {
					out[from][to] += crowds[from].here[family] * crowds[to].blind[from][family]
				}
			}
		}
	}
	return out
}

// Between returns the outcomes of all flows from one node to another, those of
// the most flows first. Between segments they are known already.
func (s *Survey) Between(row, col Node) []Mark {
	from, to := s.domainOf(row), s.domainOf(col)
	if from != paths.None && to != paths.None {
		return s.overview.found().marks[from][to]
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
