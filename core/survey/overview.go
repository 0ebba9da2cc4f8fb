package survey

import "bivium/core/paths"

// overview is the matrix of all segments and the internet, by domain and domain.
type overview struct {
	amounts [][][]weighed // what there is of each combination
	crowds  []crowd       // by domain
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
	next := overview{amounts: make([][][]weighed, domains), marks: make([][][]Mark, domains), of: s.id, cut: make([][]bool, domains)}
	if before != nil && before.of == s.id {
		next.crowds, next.unfound = before.crowds, before.unfound
	} else {
		next.crowds = s.crowds(before)
		next.unfound = unfoundFlows(next.crowds)
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

// crowd is about how many addresses there are in a domain, by family, and how many of
// them each segment finds nothing under.
type crowd struct {
	here  [2]float64
	blind [][2]float64
}

// crowds returns those of all domains; of those whose classes are the same as before, the
// same.
func (s *Survey) crowds(before *overview) []crowd {
	out := make([]crowd, len(s.inside)+1)
	var jobs []func()
	for domain := range out {
		if before != nil && s.graft != nil && s.graft.from == before.of && !s.graft.altered[domain] {
			out[domain] = before.crowds[domain]
			continue
		}
		jobs = append(jobs, func() {
			x := crowd{blind: make([][2]float64, len(s.inside))}
			for _, i := range s.of(domain) {
				c := s.classes[i]
				family := oneIf(c.four)
				x.here[family] += c.weight
				for from, sees := range c.seen {
					if sees == seesNothing {
						x.blind[from][family] += c.weight
					}
				}
			}
			out[domain] = x
		})
	}
	inParallel(jobs)
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
