package verdict

import (
	"encoding/binary"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Memo works out what rule sets make of services, one rule set after another. The
// terms of a rule set mostly say the same of a service as those of others, so what
// it has found for the ones that speak it keeps, as an intent with a number.
// It is not safe for concurrent use.
type Memo struct {
	judge     *Judge
	ruleIndex *RuleIndex

	numbers       map[Term]uint32
	terms         []Term
	rulebookParts map[string]int32 // a rulebook with some of its rules
	firsts        [][]int32        // by part and atom: the rule that applies, or None
	matched       map[string]int32 // who speaks with which rules, in which context: a view
	silent        [256]int32       // by the key of a context: the view where nobody speaks, plus one
	views         []matchView
	read          map[string]int32 // a view and the rules of its pools' rulebooks: an intent
	intents       []settledIntent

	// Of the rule set at hand, in memory that is used again.
	words [][]matchedTerm // by atom: who speaks
	rules [][]int         // by rulebook: the rules that hold the endpoints
	open  []int32         // by rulebook: its part, or -1 if nobody asked yet
	out   []int32
	key   []byte
}

// matchedTerm is one term that speaks on an atom, with its rule, from 1.
type matchedTerm struct {
	term uint32
	rule uint16
}

// matchView is what those who speak on an atom make of it.
type matchView struct {
	context Context
	words   []matchedTerm
	atom    int // one on which they speak so
	intent  Intent
	plain   int32 // the intent, if no rulebook has a say in it; else -1
}

// settledIntent is a view with the rules of rulebooks that apply.
type settledIntent struct {
	view  int32
	books []int32 // by place among the pools of the intent: a rule, or None
}

// NewMemo returns a memo of rule sets on the atoms of a rule index.
func (j *Judge) NewMemo(v *RuleIndex) *Memo {
	return &Memo{
		judge: j, ruleIndex: v, numbers: map[Term]uint32{}, rulebookParts: map[string]int32{}, matched: map[string]int32{}, read: map[string]int32{},
		words: make([][]matchedTerm, len(v.Holds)), out: make([]int32, len(v.Holds)), rules: make([][]int, len(j.Books)), open: make([]int32, len(j.Books)),
	}
}

// Intents returns, for each atom, the number of the intent of the rule set in which
// exactly these terms, in the order of TermsBetween, hold both ends. The list is
// good until the next call. Cost: the terms times the atoms, in look-ups, and M4
// to M6 for those that were not matched together before.
func (w *Memo) Intents(c Context, terms []Term) []int32 {
	for i := range w.words {
		w.words[i] = w.words[i][:0]
	}
	for b := range w.rules {
		w.rules[b], w.open[b] = w.rules[b][:0], -1
	}
	for _, v := range terms {
		if v.Kind == RulebookTerm {
			w.rules[v.Which] = append(w.rules[v.Which], v.Rule)
			continue
		}
		n := w.number(v)
		for atom, rule := range w.ruleIndex.First[v.Kind][v.Which] {
			if rule > 0 {
				w.words[atom] = append(w.words[atom], matchedTerm{n, rule})
			}
		}
	}
	for atom := range w.out {
		w.out[atom] = w.intentNumber(c, atom)
	}
	return w.out
}

func (w *Memo) number(v Term) uint32 {
	n, ok := w.numbers[v]
	if !ok {
		n = uint32(len(w.terms))
		w.numbers[v] = n
		w.terms = append(w.terms, v)
	}
	return n
}

// intentNumber returns the number of the intent on an atom.
func (w *Memo) intentNumber(c Context, atom int) int32 {
	number := w.viewNumber(c, atom)
	v := &w.views[number]
	if v.plain >= 0 {
		return v.plain
	}
	w.key = binary.LittleEndian.AppendUint32(w.key[:0], uint32(number))
	for _, pool := range v.intent.pools {
		w.key = binary.LittleEndian.AppendUint32(w.key, uint32(w.bookRule(pool, atom)))
	}
	i, known := w.read[string(w.key)]
	if !known {
		i = int32(len(w.intents))
		w.read[string(w.key)] = i
		o := settledIntent{view: number}
		for _, pool := range v.intent.pools {
			o.books = append(o.books, w.bookRule(pool, atom))
		}
		w.intents = append(w.intents, o)
	}
	return i
}

// viewNumber returns the number of the view on an atom.
func (w *Memo) viewNumber(c Context, atom int) int32 {
	defaultAction := len(w.words[atom]) == 0
	if known := w.silent[c.Key()]; defaultAction && known > 0 {
		return known - 1
	}
	w.key = append(w.key[:0], c.Key())
	for _, x := range w.words[atom] {
		w.key = binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint32(w.key, x.term), x.rule)
	}
	i, known := w.matched[string(w.key)]
	if known {
		return i
	}
	i = int32(len(w.views))
	w.matched[string(w.key)] = i
	if defaultAction {
		w.silent[c.Key()] = i + 1
	}
	v := matchView{context: c, words: slices.Clone(w.words[atom]), atom: atom, plain: -1}
	v.intent = w.intend(&v)
	v.intent.Speakers, v.intent.Rails, v.intent.shares = nil, nil, nil // who spoke is in the words
	if !w.asksBooks(&v.intent) {
		v.plain = int32(len(w.intents))
		w.intents = append(w.intents, settledIntent{view: i})
	}
	w.views = append(w.views, v)
	return i
}

// intend returns the intended verdict of a view, with everyone who spoke.
func (w *Memo) intend(v *matchView) Intent {
	terms := make([]Term, len(v.words))
	for i, x := range v.words {
		terms[i] = w.terms[x.term]
	}
	s := w.judge.RuleSetOfTerms(v.context, terms)
	return w.judge.intend(&s, &Query{holds: w.ruleIndex.Holds[v.atom], ruleIndex: w.ruleIndex, atom: v.atom})
}

// asksBooks reports whether what becomes of an intent depends on rulebooks.
func (w *Memo) asksBooks(in *Intent) bool {
	return in.Action == estate.Inspect && slices.ContainsFunc(in.pools, func(p int) bool { return w.judge.Pools[p].Rulebook != paths.None })
}

// bookRule returns the rule of a pool's rulebook that applies to an atom under the
// rule set at hand, or None; also for a pool that has no rulebook.
func (w *Memo) bookRule(pool, atom int) int32 {
	b := w.judge.Pools[pool].Rulebook
	if b == paths.None {
		return paths.None
	}
	if w.open[b] < 0 {
		w.open[b] = w.rulebookPart(b)
	}
	return w.firsts[w.open[b]][atom]
}

// rulebookPart returns the number of the rules of a rulebook that hold the endpoints at hand.
func (w *Memo) rulebookPart(book int) int32 {
	key := string(appendNumbers(appendNumbers(nil, []int{book}), w.rules[book]))
	i, known := w.rulebookParts[key]
	if !known {
		i = int32(len(w.firsts))
		w.rulebookParts[key] = i
		first := make([]int32, len(w.ruleIndex.Holds))
		for atom, holds := range w.ruleIndex.Holds {
			first[atom] = paths.None
			for _, r := range w.rules[book] {
				if w.judge.Books[book].Rules[r].in(&Query{holds: holds}) {
					first[atom] = int32(r)
					break
				}
			}
		}
		w.firsts = append(w.firsts, first)
	}
	return i
}

// memoLookup is the rulebooks of an intent.
type memoLookup struct {
	pools []int
	books []int32
}

func (b memoLookup) rule(pool int) int { return int(b.books[slices.Index(b.pools, pool)]) }

// Settled is what becomes of an intent on paths of an effect.
type Settled struct{ Settlement }

// Settle returns what becomes of an intent, by number, on paths of an effect (M8).
func (w *Memo) Settle(number int32, e *Effect) Settled {
	o := &w.intents[number]
	d := Settlement{Intent: w.views[o.view].intent}
	w.judge.enforce(&d, effectFacts{e}, memoLookup{d.Intent.pools, o.books})
	return Settled{d}
}

// Verdict returns the verdict in words.
func (j *Judge) Verdict(f *Settled) Verdict { return j.VerdictOf(&f.Settlement) }

// AppendKey appends a key that is equal for settlements of this judge with the same verdict.
func (j *Judge) AppendKey(key []byte, f *Settled) []byte {
	key = append(key, f.outcome[0], f.outcome[1], byte(len(f.outcome)), byte(len(f.reason)), f.reason[0], f.reason[len(f.reason)-1], byte(strictness(f.Intent.Action)), 0)
	if f.Intent.contested {
		key[len(key)-1] = 1
	}
	put := func(n int) { key = binary.AppendVarint(key, int64(n)) }
	if f.outcome == Inspected || f.outcome == Blocked {
		for _, s := range f.Steps {
			if s.Hub != paths.None {
				put(s.Pool)
			}
		}
	}
	put(-1)
	switch f.reason {
	case ReasonRulebook:
		put(j.Pools[f.Steps[len(f.Steps)-1].Pool].Rulebook)
	case ReasonPolicy, ReasonShare, ReasonGuardrail:
		for _, i := range f.Intent.by {
			put(i)
		}
	}
	return key
}

// RuleRef points to one rule, from 0, of a policy, guardrail, share or
// rulebook.
type RuleRef struct {
	Kind estate.Kind
	Name string
	Rule int
}

// Explanation is what became of an intent, with everyone who had a say.
type Explanation struct {
	Verdict Verdict
	Spoke   []RuleRef // every rule that was the first of its list to contain the services
	Rails   []string  // the guardrails that took part
	Contest []string  // the policies that contest, if they do
	Pool    string    // the last pool that the flow came to
}

// Explain returns the verdict on an intent, as Carry does, and who had a say.
func (w *Memo) Explain(number int32, e *Effect) Explanation {
	o := &w.intents[number]
	j, d := w.judge, Settlement{Intent: w.intend(&w.views[o.view])}
	j.enforce(&d, effectFacts{e}, memoLookup{d.Intent.pools, o.books})
	p := Explanation{Verdict: j.VerdictOf(&d)}
	for _, v := range d.Intent.Speakers {
		p.Spoke = append(p.Spoke, RuleRef{estate.KindPolicy, j.Policies[v.Policy].Name, v.Rule})
		if d.Intent.contested && v.By == paths.None {
			p.Contest = append(p.Contest, j.Policies[v.Policy].Name)
		}
	}
	for _, v := range d.Intent.Rails {
		p.Spoke = append(p.Spoke, RuleRef{estate.KindPolicy, j.Guardrails[v.Which].Name, v.Rule})
		p.Rails = append(p.Rails, j.Guardrails[v.Which].Name)
	}
	for _, v := range d.Intent.shares {
		p.Spoke = append(p.Spoke, RuleRef{estate.KindShare, j.Shares[v.Which].Name, v.Rule})
	}
	for _, step := range d.Steps {
		p.Pool = j.Pools[step.Pool].Name
		if step.BookRule != paths.None {
			p.Spoke = append(p.Spoke, RuleRef{estate.KindRulebook, j.Books[j.Pools[step.Pool].Rulebook].Name, step.BookRule})
		}
	}
	slices.Sort(p.Contest)
	p.Contest = slices.Compact(p.Contest)
	return p
}

// Intended returns the intended verdict that an intent is, by number: the action, and the
// pools to be passed, in order. They must not be changed.
func (w *Memo) Intended(number int32) (estate.Action, []int) {
	in := &w.views[w.intents[number].view].intent
	return in.Action, in.pools
}

// Grounds returns the rules that made the intended verdict that an intent is what it is, each
// of them once: none where a default did. Cost: M4 to M6 for that intent.
func (w *Memo) Grounds(number int32) []RuleRef {
	j, in := w.judge, w.intend(&w.views[w.intents[number].view])
	var out []RuleRef
	put := func(kind estate.Kind, name string, rule int, action estate.Action) {
		r := RuleRef{kind, name, rule}
		if action == in.Action && !slices.Contains(out, r) {
			out = append(out, r)
		}
	}
	for _, v := range in.Rails {
		g := &j.Guardrails[v.Which]
		put(estate.KindPolicy, g.Name, v.Rule, g.Rules[v.Rule].Action)
	}
	for _, v := range in.Speakers {
		if p := &j.Policies[v.Policy]; v.By == paths.None {
			put(estate.KindPolicy, p.Name, v.Rule, p.Rules[v.Rule].Action)
		}
	}
	for _, v := range in.shares {
		s := &j.Shares[v.Which]
		put(estate.KindShare, s.Name, v.Rule, s.Rules[v.Rule].Action)
	}
	return out
}

// BookPasses returns, for each pool of an intent, by number, whether its rulebook passes the
// atoms of which it is the intent.
func (w *Memo) BookPasses(number int32) []bool {
	o := &w.intents[number]
	pools := w.views[o.view].intent.pools
	out := make([]bool, len(pools))
	for i, pool := range pools {
		b := w.judge.Pools[pool].Rulebook
		out[i] = b == paths.None || o.books != nil && o.books[i] != paths.None && w.judge.Books[b].Rules[o.books[i]].Verb == "pass"
	}
	return out
}
