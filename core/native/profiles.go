package native

import (
	"encoding/binary"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/native/cover"
	"bivium/core/parallel"
	"bivium/core/verdict"
)

// Verbs that every estate has. Those after them steer through pools.
const (
	deny int32 = iota
	allow
	firstSteer
)

// mode is how much of what is intended a list must pass.
type mode uint8

const (
	secondLine mode = iota // what is allowed or inspected: hubs see to the rest
	enforced               // what is allowed: nobody inspects what passes no hub
	everything             // nothing is enforced here
	modes
)

// profile is what is intended for each atom of services.
type profile struct {
	verbs  []int32
	passes [modes]int32 // by mode: the atoms that pass, as a number of an atom set
}

// profiles are the different profiles of an estate, and which rule sets have which.
type profiles struct {
	s     *matrix.Matrix
	of    []int32 // by rule set: the profile; -1 for one that no block has
	all   []profile
	verbs [][]int // by verb: the pools, in order
	sets  *cover.Sets

	mu     sync.Mutex
	verbOf map[string]int32
	byKey  map[string]int32
}

// newProfiles works out the profiles of all rule sets that blocks have. Cost: that of the
// intents, which is the rules that match times the atoms.
func newProfiles(s *matrix.Matrix) *profiles {
	n, _ := s.Interner.Len()
	p := &profiles{s: s, of: make([]int32, n), verbs: [][]int{deny: nil, allow: nil}, verbOf: map[string]int32{}, byKey: map[string]int32{}, sets: cover.NewSets(s.Atoms)}
	for i := range p.of {
		p.of[i] = -1
	}
	seen := bitset.New(uint(n))
	var wanted []int32
	for _, row := range s.Blocks {
		for _, b := range row.Is {
			for _, r := range b.RuleSets {
				if !seen.Test(uint(r)) {
					seen.Set(uint(r))
					wanted = append(wanted, r)
				}
			}
		}
	}
	parallel.Shares(len(wanted), 8, func(_, first, last int) {
		w := &profileFinder{profiles: p, memo: s.Judge.NewMemo(s.RuleIndex), key: make([]byte, 4*s.Atoms.Len())}
		for _, r := range wanted[first:last] {
			p.of[r] = w.find(r)
		}
	})
	for i := range p.all {
		p.all[i].passes = p.passesOf(p.all[i].verbs)
	}
	return p
}

// profileFinder finds profiles, one after another.
type profileFinder struct {
	*profiles
	memo  *verdict.Memo
	verb  []int32 // by intent, plus one; 0 where it is not known
	terms []verdict.Term
	key   []byte
}

func (w *profileFinder) find(ruleSet int32) int32 {
	var context verdict.Context
	context, w.terms = w.s.Interner.RuleSetAt(ruleSet, w.terms[:0])
	for atom, intent := range w.memo.Intents(context, w.terms) {
		for int(intent) >= len(w.verb) {
			w.verb = append(w.verb, 0)
		}
		if w.verb[intent] == 0 {
			w.verb[intent] = w.verbNumber(w.memo.Intended(intent)) + 1
		}
		binary.LittleEndian.PutUint32(w.key[4*atom:], uint32(w.verb[intent]-1))
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	i, ok := w.byKey[string(w.key)]
	if !ok {
		i = int32(len(w.all))
		w.byKey[string(w.key)] = i
		verbs := make([]int32, w.s.Atoms.Len())
		for atom := range verbs {
			verbs[atom] = int32(binary.LittleEndian.Uint32(w.key[4*atom:]))
		}
		w.all = append(w.all, profile{verbs: verbs})
	}
	return i
}

// verbNumber returns the number of an action with its pools.
func (p *profiles) verbNumber(action estate.Action, pools []int) int32 {
	switch {
	case action == estate.Deny:
		return deny
	case action == estate.Allow:
		return allow
	}
	key := lists.Key(pools)
	p.mu.Lock()
	defer p.mu.Unlock()
	i, ok := p.verbOf[key]
	if !ok {
		i = int32(len(p.verbs))
		p.verbOf[key] = i
		p.verbs = append(p.verbs, slices.Clone(pools))
	}
	return i
}

func (p *profiles) passesOf(verbs []int32) (out [modes]int32) {
	n := uint(len(verbs))
	second, strict := bitset.New(n), bitset.New(n)
	for atom, v := range verbs {
		second.SetTo(uint(atom), v != deny)
		strict.SetTo(uint(atom), v == allow)
	}
	return [modes]int32{p.sets.Number(second), p.sets.Number(strict), p.sets.Number(bitset.New(n).Complement())}
}

// layer returns the atoms for which a profile has a verb, as a number of an atom set.
func (p *profiles) layer(profile, verb int32) int32 {
	set := bitset.New(uint(p.s.Atoms.Len()))
	for atom, v := range p.all[profile].verbs {
		set.SetTo(uint(atom), v == verb)
	}
	return p.sets.Number(set)
}

// steps returns the pools of a verb as a hub has them.
func (p *profiles) steps(verb int32) []config.Step {
	var out []config.Step
	for _, i := range p.verbs[verb] {
		pool := &p.s.Judge.Pools[i]
		on := "closed"
		if pool.Open {
			on = "open"
		}
		out = append(out, config.Step{Pool: pool.Name, OnFailure: on})
	}
	return out
}
