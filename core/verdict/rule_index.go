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
	Holds [][]bool // by atom, and set of services
	First [3][][]uint16
}

// NewRuleIndex returns the rule index of atoms that are at least as fine as the judge's
// sets of services. Cost: the atoms times the sets and the rules.
func (j *Judge) NewRuleIndex(atoms *space.Atoms) *RuleIndex {
	v := &RuleIndex{Atoms: atoms, Holds: make([][]bool, atoms.Len())}
	for i := range v.Holds {
		v.Holds[i] = make([]bool, len(j.Sets))
		protocol, sport, dport, _ := atoms.Set(i).Witness()
		for k, terms := range j.Sets {
			v.Holds[i][k] = slices.ContainsFunc(terms, func(t estate.Term) bool { return t.Contains(protocol, sport, dport) })
		}
	}
	v.First[PolicyTerm] = v.Firsts(len(j.Policies), func(i int) []Rule { return j.Policies[i].Rules })
	v.First[ShareTerm] = v.Firsts(len(j.Shares), func(i int) []Rule { return j.Shares[i].Rules })
	v.First[GuardrailTerm] = v.Firsts(len(j.Guardrails), func(i int) []Rule { return j.Guardrails[i].Rules })
	return v
}

// Firsts returns, for each of some lists of rules, the first rule that holds
// each atom, plus one.
func (v *RuleIndex) Firsts(n int, rules func(int) []Rule) [][]uint16 {
	out := make([][]uint16, n)
	for i := range out {
		list := rules(i)
		out[i] = make([]uint16, len(v.Holds))
		for atom, holds := range v.Holds {
			out[i][atom] = uint16((&Query{holds: holds}).First(list) + 1)
		}
	}
	return out
}
