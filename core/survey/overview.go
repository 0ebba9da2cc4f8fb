package survey

import (
	"slices"
	"sync"

	"bivium/core/paths"
)

// overview is the matrix of all segments and the internet, by domain and domain.
type overview struct {
	amounts [][][]weighed // what there is of each combination, but for flows from the internet
	crowds  []crowd       // by domain
	unfound [][]float64   // about how many pairs of addresses of which the second is not found
	marks   *marks
	of      int64    // the partition
	cut     [][]bool // classes have been cut finer since pairs of them were counted
}

// marks are the outcomes of an overview, and what there is of each combination of flows
// from the internet. No difference asks for them: they are found when they are first
// asked for.
type marks struct {
	once    sync.Once
	fill    func() *marks // the others, if these are told by them
	of      [][][]Mark
	inbound [][]weighed // by segment
}

// all returns the marks, found.
func (m *marks) all() *marks {
	m.once.Do(func() {
		found := m.fill()
		m.of, m.inbound, m.fill = found.of, found.inbound, nil
	})
	return m
}

// Complete finds the outcomes between all segments, if that was not done yet. An edit
// of a survey leaves it to whoever asks for one first, and holds the survey before it
// until then.
func (s *Survey) Complete() { s.overview.marks.all() }

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
	next := overview{amounts: make([][][]weighed, domains), of: s.id, cut: make([][]bool, domains)}
	if before != nil && before.of == s.id {
		next.crowds, next.unfound = before.crowds, before.unfound
	} else {
		next.crowds = s.crowds(before)
		next.unfound = unfoundFlows(next.crowds)
	}
	l.anew, l.occur = make([]bool, domains*domains), make([][]combination, domains*domains)
	var jobs []func()
	for from := range domains {
		next.amounts[from], next.cut[from] = make([][]weighed, domains), make([]bool, domains)
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

// mark lets the outcomes be found: anew where something is fresh, or verdicts differ, on
// which what there is of flows from the internet depends too.
func (l *looking) mark(differs func(from, to int) bool) {
	s, domains, anew := l.Survey, len(l.inside)+1, l.anew
	var before *marks
	var unfound [][]float64
	if l.before != nil {
		before, unfound = l.before.marks, l.before.unfound
	}
	s.overview.marks = &marks{fill: func() *marks {
		out := &marks{of: make([][][]Mark, domains), inbound: make([][]weighed, domains-1)}
		var jobs []func()
		for from := range domains {
			out.of[from] = make([][]Mark, domains)
			for to := range domains {
				fresh := anew[from*domains+to] || differs(from, to)
				inbound := from == domains-1 && to < from
				if inbound && !fresh {
					out.inbound[to] = before.all().inbound[to]
				}
				if !fresh && s.overview.unfound[from][to] == unfound[from][to] {
					out.of[from][to] = before.all().of[from][to]
					continue
				}
				jobs = append(jobs, func() {
					amounts := s.overview.amounts[from][to]
					if inbound {
						if fresh && s.blocks[from][to] != nil {
							out.inbound[to] = s.lookIn(to)
						}
						amounts = out.inbound[to]
					}
					out.of[from][to] = s.marksOf(amounts, s.overview.unfound[from][to])
				})
			}
		}
		inParallel(jobs)
		return out
	}}
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
		return s.overview.marks.all().of[from][to]
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
