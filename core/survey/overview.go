package survey

import (
	"bivium/core/paths"
)

// overview is the matrix of all segments and the internet: by domain and domain,
// the outcomes of the flows between them.
type overview [][][]Mark

// lookAll fills the overview, the cells that differ from one of before only:
// keep says which stay as they are there.
func (s *Survey) lookAll(before overview, keep func(from, to int) bool) {
	unfound := s.unfoundFlows()
	s.overview = make(overview, len(s.inside)+1)
	var jobs []func()
	for from := range s.overview {
		s.overview[from] = make([][]Mark, len(s.inside)+1)
		for to := range s.overview[from] {
			if keep != nil && keep(from, to) {
				s.overview[from][to] = before[from][to]
				continue
			}
			jobs = append(jobs, func() { s.overview[from][to] = s.look(from, to, unfound[from][to]) })
		}
	}
	inParallel(jobs)
}

// look returns the outcomes of all flows from one domain to another.
func (s *Survey) look(from, to int, unfound float64) []Mark {
	if from == len(s.inside) || s.blocks[from][to] != nil {
		src, dst := whole(s.of(from)), whole(s.of(to))
		c := newCeller(s)
		for _, x := range s.sidesOf(src) {
			for _, y := range s.sidesOf(dst) {
				if from == len(s.inside) {
					c.addDoors(src, &x, dst, &y)
				} else {
					c.addFound(src, &x, dst, &y)
				}
			}
		}
		if unfound > 0 {
			c.count(0, 1, unfound)
		}
		return c.ordered()
	}
	c := newCeller(s)
	if unfound > 0 {
		c.count(0, 1, unfound)
	}
	return c.ordered()
}

// unfoundFlows returns about how many pairs of addresses there are from each
// domain to those of another that it finds nothing under.
func (s *Survey) unfoundFlows() [][]float64 {
	domains := len(s.inside) + 1
	out := make([][]float64, domains)
	here := make([][2]float64, domains) // by family
	for i := range s.classes {
		c := &s.classes[i]
		here[s.domain(c)][oneIf(c.four)] += c.weight
	}
	for from := range out {
		out[from] = make([]float64, domains)
	}
	for i := range s.classes {
		c := &s.classes[i]
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
// the most flows first. Between segments it is known already.
func (s *Survey) Between(row, col Node) []Mark {
	from, to := s.domainOf(row), s.domainOf(col)
	if from != paths.None && to != paths.None {
		return s.overview[from][to]
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
