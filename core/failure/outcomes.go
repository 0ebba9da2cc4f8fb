package failure

import (
	"slices"
	"strings"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// outcomes numbers different lists of an outcome for each atom.
type outcomes struct {
	*matrix.Matrix
	numbers map[string]int32
	lists   [][]verdict.Outcome
	table   [][]int32 // by effect and rule set: the number, plus one
	lost    int32     // that of flows that have no path
}

func newOutcomes(s *matrix.Matrix) *outcomes {
	o := &outcomes{Matrix: s, numbers: map[string]int32{}}
	lost := make([]verdict.Outcome, s.Atoms.Len())
	for i := range lost {
		lost[i] = verdict.Unrouted
	}
	o.lost = o.number(lost)
	return o
}

func (o *outcomes) number(list []verdict.Outcome) int32 {
	var key strings.Builder
	for _, x := range list {
		key.WriteString(string(x[:1]))
	}
	i, ok := o.numbers[key.String()]
	if !ok {
		i = int32(len(o.lists))
		o.numbers[key.String()] = i
		o.lists = append(o.lists, list)
	}
	return i
}

// settlement returns the number of the outcomes of a combination, -1 for no flow.
func (f *failureEvaluator) outcomeNumber(effect, ruleSet int32) int32 {
	if effect == matrix.NoEffect {
		return -1
	}
	o := f.outcomes
	for int(effect) >= len(o.table) {
		o.table = append(o.table, nil)
	}
	if missing := int(ruleSet) + 1 - len(o.table[effect]); missing > 0 {
		ruleSets, _ := f.Interner.Len()
		o.table[effect] = append(o.table[effect], make([]int32, max(missing, ruleSets-len(o.table[effect])))...)
	}
	at := &o.table[effect][ruleSet]
	if *at == 0 {
		if f.Interner.EffectAt(effect).Kind == paths.NoPath {
			*at = o.lost + 1 // whatever is meant
		} else {
			*at = f.outcomeOf(f.vector(effect, ruleSet)) + 1
		}
	}
	return *at - 1
}

// shiftsOf returns, by rule set, from which outcomes to which flows go whose paths get
// another effect: a number, see turnsAt; -1 where they stay, 0 where it is not known yet.
func (f *failureEvaluator) shiftsOf(was, is int32) []int32 {
	key := [2]int32{was, is}
	known := f.shifts[key]
	if known == nil {
		known = make([]int32, len(f.slots))
		f.shifts[key] = known
	}
	return known
}

// shift works out one of them.
func (f *failureEvaluator) shift(was, is, ruleSet int32) int32 {
	key := [2]int32{f.outcomeNumber(was, ruleSet), f.outcomeNumber(is, ruleSet)}
	if key[0] == key[1] || key[0] < 0 || key[1] < 0 {
		return -1
	}
	n, known := f.shiftOf[key]
	if !known {
		n = int32(len(f.turnsAt))
		f.shiftOf[key] = n
		f.turnsAt = append(f.turnsAt, f.turningOf(key[0], key[1]))
	}
	return n
}

// outcomeOf returns the number of the outcomes of a vector.
func (f *failureEvaluator) outcomeOf(vector []int32) int32 {
	list := make([]verdict.Outcome, len(vector))
	for i, r := range vector {
		list[i] = f.verdictAt(r).Outcome
	}
	return f.outcomes.number(list)
}

// vector returns the vector of a combination, nil for no flow.
func (f *failureEvaluator) vector(effect, ruleSet int32) []int32 {
	if effect == matrix.NoEffect {
		return nil
	}
	if vector, known := f.Settled(matrix.Combination{RuleSet: ruleSet, Effect: effect}); known {
		return f.Vectors[vector]
	}
	key := matrix.Combination{RuleSet: ruleSet, Effect: effect}
	known, ok := f.extra[key]
	if !ok {
		known = f.settleOne(key)
		f.extra[key] = known
	}
	return known
}

// settleOne settles a combination that the matrix does not have. Its results are
// numbered after those of the matrix.
func (f *failureEvaluator) settleOne(c matrix.Combination) []int32 {
	vectors := f.settler.RuleSet(c.RuleSet, []int32{c.Effect})
	out := slices.Clone(f.settler.Vectors.List[vectors[0]])
	for i := range out {
		out[i] += int32(len(f.Results))
	}
	return out
}

// verdictAt returns a result of a vector of the failureEvaluator.
func (f *failureEvaluator) verdictAt(r int32) *verdict.Verdict {
	if int(r) < len(f.Results) {
		return &f.Results[r]
	}
	return &f.settler.Results[int(r)-len(f.Results)]
}

// turningOf returns on which atoms two lists of outcomes differ.
func (f *failureEvaluator) turningOf(was, is int32) []turning {
	if was == is || was < 0 || is < 0 {
		return nil
	}
	key := [2]int32{was, is}
	known, ok := f.turns[key]
	if ok {
		return known
	}
	var out []turning
	before, after := f.outcomes.lists[was], f.outcomes.lists[is]
	for atom := range before {
		if before[atom] == after[atom] {
			continue
		}
		i := slices.IndexFunc(out, func(t turning) bool { return t.before == before[atom] && t.after == after[atom] })
		if i < 0 {
			i = len(out)
			out = append(out, turning{before[atom], after[atom], kindOf(before[atom], after[atom]), bitset.New(uint(len(before)))})
		}
		out[i].atoms.Set(uint(atom))
	}
	f.turns[key] = out
	return out
}
