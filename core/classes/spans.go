package classes

import (
	"bivium/core/intervals"
	"bivium/core/parallel"
)

// spans are the ranges from the first address of each class to its last, side by side:
// few classes have addresses in a range, and classes are large. They are made when they
// are first asked for.
type spans struct {
	once parallel.Once
	list []intervals.Range
}

// ranges returns those of a partition, by class. A class in which nobody is spans nothing.
func (s *spans) ranges(p *Partition) []intervals.Range {
	s.once.Do(func() {
		s.list = make([]intervals.Range, len(p.Classes))
		for i, c := range p.Classes {
			if n := len(c.Ranges); n > 0 {
				s.list[i] = intervals.Range{From: c.Ranges[0].From, To: c.Ranges[n-1].To}
			}
		}
	})
	return s.list
}
