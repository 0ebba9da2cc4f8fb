package matrix

import (
	"encoding/binary"
	"sync"

	"bivium/core/verdict"
)

// Interner numbers rule sets and effects, so that tables hold numbers. It only
// grows, and matrices of edits of one estate share it: what an edit leaves alone
// keeps its number.
type Interner struct {
	Mu        sync.RWMutex
	Terms     map[verdict.Term]int32
	ByTerm    []verdict.Term
	RuleSets  []ruleSet
	RuleSetOf map[string]int32
	Effects   []verdict.Effect
	EffectOf  map[verdict.Effect]int32
}

// ruleSet is who has a say about flows, in which context.
type ruleSet struct {
	Context verdict.Context
	Terms   []int32
}

// Combination is one rule set on paths of one effect: all that a verdict depends on.
type Combination struct{ RuleSet, Effect int32 }

func newInterner() *Interner {
	return &Interner{Terms: map[verdict.Term]int32{}, RuleSetOf: map[string]int32{}, EffectOf: map[verdict.Effect]int32{}}
}

// term returns the number of a term. The interner must be locked.
func (l *Interner) term(v verdict.Term) int32 {
	i, ok := l.Terms[v]
	if !ok {
		i = int32(len(l.ByTerm))
		l.Terms[v] = i
		l.ByTerm = append(l.ByTerm, v)
	}
	return i
}

// ruleSet returns the number of a rule set, which it keeps. The interner must be locked.
func (l *Interner) ruleSet(context verdict.Context, terms []int32) int32 {
	key := make([]byte, 0, 8+4*len(terms))
	key = append(key, context.Key())
	for _, v := range terms {
		key = binary.LittleEndian.AppendUint32(key, uint32(v))
	}
	i, ok := l.RuleSetOf[string(key)]
	if !ok {
		i = int32(len(l.RuleSets))
		l.RuleSetOf[string(key)] = i
		l.RuleSets = append(l.RuleSets, ruleSet{context, terms})
	}
	return i
}

// Effect returns the number of an effect.
func (l *Interner) Effect(e verdict.Effect) int32 {
	l.Mu.RLock()
	i, ok := l.EffectOf[e]
	l.Mu.RUnlock()
	if ok {
		return i
	}
	l.Mu.Lock()
	defer l.Mu.Unlock()
	i, ok = l.EffectOf[e]
	if !ok {
		i = int32(len(l.Effects))
		l.EffectOf[e] = i
		l.Effects = append(l.Effects, e)
	}
	return i
}

// Len returns how many rule sets and effects there are.
func (l *Interner) Len() (ruleSets, effects int) {
	l.Mu.RLock()
	defer l.Mu.RUnlock()
	return len(l.RuleSets), len(l.Effects)
}

// EffectAt returns an effect.
func (l *Interner) EffectAt(i int32) *verdict.Effect {
	l.Mu.RLock()
	defer l.Mu.RUnlock()
	return &l.Effects[i]
}

// RuleSetAt returns the context of a rule set, and its terms, appended to a list.
func (l *Interner) RuleSetAt(i int32, terms []verdict.Term) (verdict.Context, []verdict.Term) {
	l.Mu.RLock()
	defer l.Mu.RUnlock()
	s := &l.RuleSets[i]
	for _, v := range s.Terms {
		terms = append(terms, l.ByTerm[v])
	}
	return s.Context, terms
}
