package survey

import (
	"bivium/core/parallel"
)

// spans are the ranges from the first address of each class to its last, side by side:
// few classes have addresses in a range, and classes are large. They are made when they
// are first asked for.
type spans struct {
	once parallel.Once
	list []Range
}

// of returns those of a partition, by class. A class in which nobody is spans nothing.
func (s *spans) of(p *partition) []Range {
	s.once.Do(func() {
		s.list = make([]Range, len(p.classes))
		for i, c := range p.classes {
			if n := len(c.Ranges); n > 0 {
				s.list[i] = Range{c.Ranges[0].From, c.Ranges[n-1].To}
			}
		}
	})
	return s.list
}
