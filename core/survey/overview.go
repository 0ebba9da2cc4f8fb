package survey

import (
	"slices"

	"bivium/core/paths"
)

// overview is the matrix of all segments and the internet, by domain and domain.
type overview struct {
	amounts [][][]weighed // what there is of each combination
	crowds  []crowd       // by domain
	unfound [][]float64   // about how many pairs of addresses of which the second is not found
	marks   [][][]Mark
	of      int64    // the partition
	cut     [][]bool // classes have been cut finer since pairs of them were counted
}

// looking fills the overview of a survey, in two steps: what there is of each
// combination depends on no verdict, and only what there is is settled.
type looking struct {
	*Survey
	before *overview                        // nil for a survey from the ground
	fresh  func(from, to int) bool          // there may be other amounts than before
	sooner func(from, to int) (found, bool) // tells what there is without adding up all; or nil
	anew   []bool                           // by pair of domains: it is fresh
	occur  [][]combination                  // by pair of domains: what occurs, where it was added up
}

// found is what there is of each combination between two domains, and all that occur:
// of some there is nothing, for each of their flows has another as well, or is none.
type found struct {
	amounts []weighed
	occur   []combination
}

// count adds up what there is of each combination, of flows that do not come from the
// internet: those are settled first. Where nothing is fresh, it is as before.
func (l *looking) count() {
	s, before := l.Survey, l.before
	domains := len(s.inside) + 1
	next := overview{amounts: make([][][]weighed, domains), marks: make([][][]Mark, domains), of: s.id, cut: make([][]bool, domains)}
	if before != nil && before.of == s.id {
		next.crowds, next.unfound = before.crowds, before.unfound
	} else {
		next.crowds = s.crowds(before)
		next.unfound = unfoundFlows(next.crowds)
	}
	l.anew, l.occur = make([]bool, domains*domains), make([][]combination, domains*domains)
	var jobs []func()
	for from := range domains {
		next.amounts[from], next.marks[from], next.cut[from] = make([][]weighed, domains), make([][]Mark, domains), make([]bool, domains)
		for to := range domains {
			at := from*domains + to
			l.anew[at] = before == nil || l.fresh(from, to)
			switch {
			case !l.anew[at]:
				next.amounts[from][to] = before.amounts[from][to]
				next.cut[from][to] = before.cut[from][to] || before.of != s.id
			case from < len(s.inside) && s.blocks[from][to] != nil:
				jobs = append(jobs, func() {
					var x found
					known := false
					if l.sooner != nil {
						x, known = l.sooner(from, to)
					}
					if !known {
						x = s.look(s.blocks[from][to])
					}
					next.amounts[from][to], l.occur[at] = x.amounts, x.occur
				})
			}
		}
	}
	inParallel(jobs)
	s.overview = next
}

// mark finds the outcomes: anew where something is fresh, or verdicts differ, on which
// what there is of flows from the internet depends too.
func (l *looking) mark(differs func(from, to int) bool) {
	s, domains := l.Survey, len(l.inside)+1
	var jobs []func()
	for from := range s.overview.marks {
		for to := range s.overview.marks[from] {
			unfound := s.overview.unfound[from][to]
			anew := l.anew[from*domains+to] || differs(from, to)
			if !anew && unfound == l.before.unfound[from][to] {
				s.overview.marks[from][to] = l.before.marks[from][to]
				continue
			}
			jobs = append(jobs, func() {
				if anew && from == len(s.inside) && s.blocks[from][to] != nil {
					s.overview.amounts[from][to] = s.lookIn(to)
				}
				s.overview.marks[from][to] = s.marksOf(s.overview.amounts[from][to], unfound)
			})
		}
	}
	inParallel(jobs)
}

// look adds up the flows of a block.
func (s *Survey) look(b *block) found {
	c := newCeller(s)
	defer c.free()
	c.addBlock(b)
	occur := slices.Clone(c.used)
	return found{c.take(), occur}
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
