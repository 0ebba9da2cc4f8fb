package verdict

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/space"
)

// RuleIndex tells which sets of services hold each atom, and which rule of each list
// is the first to, for a judge.
type RuleIndex struct {
	Atoms *space.Atoms
	holds [][]bool // by atom, and set of services
	first [3][][]uint16
}

// NewRuleIndex returns the ruleIndex of atoms that are at least as fine as the judge's
// sets of services. Cost: the atoms times the sets and the rules.
func (j *Judge) NewRuleIndex(atoms *space.Atoms) *RuleIndex {
	v := &RuleIndex{Atoms: atoms, holds: make([][]bool, atoms.Len())}
	for i := range v.holds {
		v.holds[i] = make([]bool, len(j.sets))
		protocol, sport, dport, _ := atoms.Set(i).Witness()
		for k, terms := range j.sets {
			v.holds[i][k] = slices.ContainsFunc(terms, func(t estate.Term) bool { return t.Contains(protocol, sport, dport) })
		}
	}
	v.first[PolicyVoice] = v.firsts(len(j.policies), func(i int) []rule { return j.policies[i].rules })
	v.first[ShareVoice] = v.firsts(len(j.shares), func(i int) []rule { return j.shares[i].rules })
	v.first[RailVoice] = v.firsts(len(j.rails), func(i int) []rule { return j.rails[i].rules })
	return v
}

// firsts returns, for each of some lists of rules, the first rule that holds
// each atom, plus one.
func (v *RuleIndex) firsts(n int, rules func(int) []rule) [][]uint16 {
	out := make([][]uint16, n)
	for i := range out {
		list := rules(i)
		out[i] = make([]uint16, len(v.holds))
		for atom, holds := range v.holds {
			out[i][atom] = uint16((&query{holds: holds}).first(list) + 1)
		}
	}
	return out
}

// Revise returns the ruleIndex of a revised judge, or false if some of its sets of
// services are not whole atoms.
func (v *RuleIndex) Revise(j *Judge, r *Revision) (*RuleIndex, bool) {
	next := &RuleIndex{Atoms: v.Atoms, holds: v.holds, first: v.first}
	if known := len(v.holds[0]); known < len(j.sets) {
		next.holds = make([][]bool, len(v.holds))
		for i := range next.holds {
			next.holds[i] = append(slices.Clip(v.holds[i]), make([]bool, len(j.sets)-known)...)
		}
		for k := known; k < len(j.sets); k++ {
			in, exact := v.Atoms.Covered(j.sets[k])
			if !exact {
				return nil, false
			}
			for atom := range in.EachSet() {
				next.holds[atom][k] = true
			}
		}
	}
	redo := func(kind VoiceKind, which []int, rules func(int) []rule) {
		if len(which) == 0 {
			return
		}
		next.first[kind] = slices.Clone(v.first[kind])
		if last := slices.Max(which); last >= len(next.first[kind]) {
			next.first[kind] = append(next.first[kind], make([][]uint16, last+1-len(next.first[kind]))...)
		}
		for _, i := range which {
			next.first[kind][i] = next.firsts(1, func(int) []rule { return rules(i) })[0]
		}
	}
	redo(PolicyVoice, r.Policies, func(i int) []rule { return j.policies[i].rules })
	redo(ShareVoice, r.Shares, func(i int) []rule { return j.shares[i].rules })
	redo(RailVoice, r.Rails, func(i int) []rule { return j.rails[i].rules })
	return next, true
}
