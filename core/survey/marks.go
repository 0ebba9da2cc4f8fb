package survey

import (
	"cmp"
	"slices"

	"bivium/core/lists"
	"bivium/core/verdict"
)

// Mark is an outcome that some flows of a cell have.
type Mark struct {
	Outcome   verdict.Outcome `json:"outcome"`
	Contested bool            `json:"contested"`
}

// Cell returns the outcomes of all flows from some endpoints to others, those of
// the most flows first. It is empty if there are no flows. Cost: the kinds of
// either side multiplied, and the pairs of members of one network.
func (s *Survey) Cell(from, to Set) []Mark {
	return s.marksOf(s.combinations(from, to), 0)
}

// combinations returns how much there is of each combination of a cell.
func (s *Survey) combinations(from, to Set) []weighed {
	c := newPairCounter(s)
	defer c.free()
	for _, src := range s.sidesOf(from) {
		for _, dst := range s.sidesOf(to) {
			c.add(from, &src, to, &dst)
		}
	}
	return c.take()
}

// weighed is a combination of a cell, and how much of it there is.
type weighed struct {
	combination
	door  []weightedOutcome // of flows through a publication: their outcomes
	pairs int64             // of members, exactly
	flows float64           // pairs of addresses, about
}

// marksOf returns the outcomes of combinations, and of flows to what is not found,
// those of the most flows first.
func (s *Survey) marksOf(list []weighed, unfound float64) []Mark {
	if unfound > 0 {
		list = append(slices.Clip(list), weighed{unfoundCombination, nil, 1, unfound})
	}
	flows := map[Mark]float64{}
	for _, w := range list {
		weightedOutcomes := w.door
		switch {
		case weightedOutcomes != nil:
		case w.combination == unfoundCombination:
			weightedOutcomes = s.marks[0]
		default:
			weightedOutcomes = s.marks[s.verdicts[w.effect][w.stance]]
		}
		for _, x := range weightedOutcomes {
			if x.services > 0 {
				flows[x.mark] += max(w.flows, 1) * x.services
			}
		}
	}
	marks := make([]Mark, 0, len(flows))
	for m := range flows {
		marks = append(marks, m)
	}
	slices.SortFunc(marks, func(a, b Mark) int {
		if d := cmp.Compare(flows[b], flows[a]); d != 0 {
			return d
		}
		if a.Outcome == b.Outcome {
			return lists.OneIf(a.Contested) - lists.OneIf(b.Contested)
		}
		return cmp.Compare(a.Outcome, b.Outcome)
	})
	return marks
}

func (s *Survey) weight(m Member) float64 {
	if m.Only.IsValid() {
		return 1
	}
	return s.classes[m.Class].weight
}

// telling says how good a witness two members make: best are workloads.
func (s *Survey) telling(a, b Member) int {
	return min(1, len(s.classes[a.Class].Workloads)) + min(1, len(s.classes[b.Class].Workloads))
}
