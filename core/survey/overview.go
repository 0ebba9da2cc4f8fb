package survey

import "bivium/core/paths"

// overview is the matrix of all segments and the internet, by domain and domain.
type overview struct {
	amounts [][][]weighed // what there is of each combination
	unfound [][]float64   // about how many pairs of addresses of which the second is not found
	marks   [][][]Mark
	of      int64    // the partition
	cut     [][]bool // classes have been cut finer since pairs of them were counted
}

// lookAll fills the overview. fresh says what must be added up anew: the rest is
// as before. Where verdicts alone differ, nothing is. recount, unless nil, may
// tell sooner what there is.
func (s *Survey) lookAll(before *overview, fresh, differs func(from, to int) bool, recount func(from, to int) ([]weighed, bool)) {
	domains := len(s.inside) + 1
	next := overview{make([][][]weighed, domains), nil, make([][][]Mark, domains), s.id, make([][]bool, domains)}
	if before != nil && before.of == s.id {
		next.unfound = before.unfound
	} else {
		next.unfound = s.unfoundFlows()
	}
	var jobs []func()
	for from := range domains {
		next.amounts[from], next.marks[from], next.cut[from] = make([][]weighed, domains), make([][]Mark, domains), make([]bool, domains)
		for to := range domains {
			mark := func() { next.marks[from][to] = s.marksOf(next.amounts[from][to], next.unfound[from][to]) }
			if before == nil || fresh(from, to) {
				jobs = append(jobs, func() {
					known := false
					if recount != nil {
						next.amounts[from][to], known = recount(from, to)
					}
					if !known {
						next.amounts[from][to] = s.look(from, to)
					}
					mark()
				})
				continue
			}
			next.amounts[from][to], next.marks[from][to] = before.amounts[from][to], before.marks[from][to]
			next.cut[from][to] = before.cut[from][to] || before.of != s.id
			if differs(from, to) || next.unfound[from][to] != before.unfound[from][to] {
				jobs = append(jobs, mark)
			}
		}
	}
	inParallel(jobs)
	s.overview = next
}

// look adds up the flows from one domain to another.
func (s *Survey) look(from, to int) []weighed {
	var out []weighed
	if b := s.blocks[from][to]; b != nil {
		c := newCeller(s)
		if from == len(s.inside) {
			c.addAllDoors(to)
		} else {
			c.addBlock(b)
		}
		out = c.take()
		c.free()
	}
	return out
}

// unfoundFlows returns about how many pairs of addresses there are from each
// domain to those of another that it finds nothing under.
func (s *Survey) unfoundFlows() [][]float64 {
	domains := len(s.inside) + 1
	out := make([][]float64, domains)
	here := make([][2]float64, domains) // by family
	for i := range s.classes {
		c := s.classes[i]
		here[s.domain(c)][oneIf(c.four)] += c.weight
	}
	for from := range out {
		out[from] = make([]float64, domains)
	}
	for i := range s.classes {
		c := s.classes[i]
		to := s.domain(c)
		for from, sees := range c.seen {
			if sees == seesNothing {
				out[from][to] += here[from][oneIf(c.four)] * c.weight
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
		return s.overview.marks[from][to]
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
