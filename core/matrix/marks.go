package matrix

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
func (s *Matrix) Cell(from, to Set) []Mark {
	return s.marksOf(s.Combinations(from, to), 0)
}

// Combinations returns how much there is of each combination of a cell.
func (s *Matrix) Combinations(from, to Set) []Weighted {
	c := NewPairCounter(s)
	defer c.Free()
	for _, src := range s.SidesOf(from) {
		for _, dst := range s.SidesOf(to) {
			c.add(from, &src, to, &dst)
		}
	}
	return c.take()
}

// Weighted is a combination of a cell, and how much of it there is.
type Weighted struct {
	Combination
	inbound []weightedOutcome // of flows through a publication: their outcomes
	Pairs   int64             // of members, exactly
	Flows   float64           // pairs of addresses, about
}

// marksOf returns the outcomes of combinations, and of flows to what is not found,
// those of the most flows first.
func (s *Matrix) marksOf(list []Weighted, unfound float64) []Mark {
	if unfound > 0 {
		list = append(slices.Clip(list), Weighted{UnfoundCombination, nil, 1, unfound})
	}
	flows := map[Mark]float64{}
	for _, w := range list {
		weightedOutcomes := w.inbound
		switch {
		case weightedOutcomes != nil:
		case w.Combination == UnfoundCombination:
			weightedOutcomes = s.marks[0]
		default:
			weightedOutcomes = s.marks[s.Verdicts[w.Effect][w.RuleSet]]
		}
		for _, x := range weightedOutcomes {
			if x.services > 0 {
				flows[x.mark] += max(w.Flows, 1) * x.services
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

func (s *Matrix) weight(m Member) float64 {
	if m.Only.IsValid() {
		return 1
	}
	return s.Classes[m.Class].Weight
}

// WitnessRank says how good a witness two members make: best are workloads.
func (s *Matrix) WitnessRank(a, b Member) int {
	return min(1, len(s.Classes[a.Class].Workloads)) + min(1, len(s.Classes[b.Class].Workloads))
}
