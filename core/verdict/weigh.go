package verdict

import (
	"encoding/binary"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Weigher works out what stances make of services, one stance after another. The
// voices of a stance mostly say the same of a service as those of others, so what
// it has found for the ones that speak it keeps, as an opinion with a number.
// It is not safe for concurrent use.
type Weigher struct {
	judge     *Judge
	ruleIndex *RuleIndex

	numbers  map[Voice]uint32
	voices   []Voice
	chapters map[string]int32 // a rulebook with some of its rules
	firsts   [][]int32        // by chapter and atom: the rule that applies, or None
	heard    map[string]int32 // who speaks with which rules, in which context: a view
	silent   [256]int32       // by the key of a context: the view where nobody speaks, plus one
	views    []view
	read     map[string]int32 // a view and the rules of its pools' rulebooks: an opinion
	opinions []opinion

	// Of the stance at hand, in memory that is used again.
	words [][]word // by atom: who speaks
	rules [][]int  // by rulebook: the rules that hold the endpoints
	open  []int32  // by rulebook: its chapter, or -1 if nobody asked yet
	out   []int32
	key   []byte
}

// word is one voice that speaks on an atom, with its rule, from 1.
type word struct {
	voice uint32
	rule  uint16
}

// view is what those who speak on an atom make of it.
type view struct {
	context Context
	words   []word
	atom    int // one on which they speak so
	intent  intent
	plain   int32 // the opinion, if no rulebook has a say in it; else -1
}

// opinion is a view with the rules of rulebooks that apply.
type opinion struct {
	view  int32
	books []int32 // by place among the pools of the intent: a rule, or None
}

// NewWeigher returns a weigher of stances on the atoms of a rule index.
func (j *Judge) NewWeigher(v *RuleIndex) *Weigher {
	return &Weigher{
		judge: j, ruleIndex: v, numbers: map[Voice]uint32{}, chapters: map[string]int32{}, heard: map[string]int32{}, read: map[string]int32{},
		words: make([][]word, len(v.holds)), out: make([]int32, len(v.holds)), rules: make([][]int, len(j.books)), open: make([]int32, len(j.books)),
	}
}

// Weigh returns, for each atom, the number of the opinion of the stance in which
// exactly these voices, in the order of VoicesBetween, hold both ends. The list is
// good until the next call. Cost: the voices times the atoms, in look-ups, and M4
// to M6 for those that were not heard together before.
func (w *Weigher) Weigh(c Context, voices []Voice) []int32 {
	for i := range w.words {
		w.words[i] = w.words[i][:0]
	}
	for b := range w.rules {
		w.rules[b], w.open[b] = w.rules[b][:0], -1
	}
	for _, v := range voices {
		if v.Kind == BookVoice {
			w.rules[v.Which] = append(w.rules[v.Which], v.Rule)
			continue
		}
		n := w.number(v)
		for atom, rule := range w.ruleIndex.first[v.Kind][v.Which] {
			if rule > 0 {
				w.words[atom] = append(w.words[atom], word{n, rule})
			}
		}
	}
	for atom := range w.out {
		w.out[atom] = w.opinion(c, atom)
	}
	return w.out
}

func (w *Weigher) number(v Voice) uint32 {
	n, ok := w.numbers[v]
	if !ok {
		n = uint32(len(w.voices))
		w.numbers[v] = n
		w.voices = append(w.voices, v)
	}
	return n
}

// opinion returns the number of the opinion on an atom.
func (w *Weigher) opinion(c Context, atom int) int32 {
	number := w.view(c, atom)
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
		i = int32(len(w.opinions))
		w.read[string(w.key)] = i
		o := opinion{view: number}
		for _, pool := range v.intent.pools {
			o.books = append(o.books, w.bookRule(pool, atom))
		}
		w.opinions = append(w.opinions, o)
	}
	return i
}

// view returns the number of the view on an atom.
func (w *Weigher) view(c Context, atom int) int32 {
	silence := len(w.words[atom]) == 0
	if known := w.silent[c.Key()]; silence && known > 0 {
		return known - 1
	}
	w.key = append(w.key[:0], c.Key())
	for _, x := range w.words[atom] {
		w.key = binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint32(w.key, x.voice), x.rule)
	}
	i, known := w.heard[string(w.key)]
	if known {
		return i
	}
	i = int32(len(w.views))
	w.heard[string(w.key)] = i
	if silence {
		w.silent[c.Key()] = i + 1
	}
	v := view{context: c, words: slices.Clone(w.words[atom]), atom: atom, plain: -1}
	v.intent = w.intend(&v)
	v.intent.speakers, v.intent.rails, v.intent.shares = nil, nil, nil // who spoke is in the words
	if !w.asksBooks(&v.intent) {
		v.plain = int32(len(w.opinions))
		w.opinions = append(w.opinions, opinion{view: i})
	}
	w.views = append(w.views, v)
	return i
}

// intend returns the intended verdict of a view, with everyone who spoke.
func (w *Weigher) intend(v *view) intent {
	voices := make([]Voice, len(v.words))
	for i, x := range v.words {
		voices[i] = w.voices[x.voice]
	}
	s := w.judge.StanceOf(v.context, voices)
	return w.judge.intend(&s, &query{holds: w.ruleIndex.holds[v.atom], ruleIndex: w.ruleIndex, atom: v.atom})
}

// asksBooks reports whether what becomes of an intent depends on rulebooks.
func (w *Weigher) asksBooks(in *intent) bool {
	return in.action == estate.Inspect && slices.ContainsFunc(in.pools, func(p int) bool { return w.judge.pools[p].rulebook != paths.None })
}

// bookRule returns the rule of a pool's rulebook that applies to an atom under the
// stance at hand, or None; also for a pool that has no rulebook.
func (w *Weigher) bookRule(pool, atom int) int32 {
	b := w.judge.pools[pool].rulebook
	if b == paths.None {
		return paths.None
	}
	if w.open[b] < 0 {
		w.open[b] = w.chapter(b)
	}
	return w.firsts[w.open[b]][atom]
}

// chapter returns the number of the rules of a rulebook that hold the endpoints at hand.
func (w *Weigher) chapter(book int) int32 {
	key := string(appendNumbers(appendNumbers(nil, []int{book}), w.rules[book]))
	i, known := w.chapters[key]
	if !known {
		i = int32(len(w.firsts))
		w.chapters[key] = i
		first := make([]int32, len(w.ruleIndex.holds))
		for atom, holds := range w.ruleIndex.holds {
			first[atom] = paths.None
			for _, r := range w.rules[book] {
				if w.judge.books[book].rules[r].in(&query{holds: holds}) {
					first[atom] = int32(r)
					break
				}
			}
		}
		w.firsts = append(w.firsts, first)
	}
	return i
}

// opened is the rulebooks of an opinion.
type opened struct {
	pools []int
	books []int32
}

func (b opened) rule(pool int) int { return int(b.books[slices.Index(b.pools, pool)]) }

// Fate is what becomes of an opinion on ways of an effect.
type Fate struct{ settled }

// Carry returns what becomes of an opinion, by number, on ways of an effect (M8).
func (w *Weigher) Carry(number int32, e *Effect) Fate {
	o := &w.opinions[number]
	d := settled{intent: w.views[o.view].intent}
	w.judge.carry(&d, effectGround{e}, opened{d.intent.pools, o.books})
	return Fate{d}
}

// Verdict returns the verdict in words.
func (j *Judge) Verdict(f *Fate) Verdict { return j.verdictOf(&f.settled) }

// AppendKey appends a key that is equal for fates of this judge with the same verdict.
func (j *Judge) AppendKey(key []byte, f *Fate) []byte {
	key = append(key, f.outcome[0], f.outcome[1], byte(len(f.outcome)), byte(len(f.reason)), f.reason[0], f.reason[len(f.reason)-1], byte(strictness(f.intent.action)), 0)
	if f.intent.contested {
		key[len(key)-1] = 1
	}
	put := func(n int) { key = binary.AppendVarint(key, int64(n)) }
	if f.outcome == Inspected || f.outcome == Blocked {
		for _, s := range f.steps {
			if s.hub != paths.None {
				put(s.pool)
			}
		}
	}
	put(-1)
	switch f.reason {
	case ReasonRulebook:
		put(j.pools[f.steps[len(f.steps)-1].pool].rulebook)
	case ReasonPolicy, ReasonShare, ReasonGuardrail:
		for _, i := range f.intent.by {
			put(i)
		}
	}
	return key
}

// Rulepoint points to one rule, from 0, of a policy, guardrail, share or
// rulebook.
type Rulepoint struct {
	Kind estate.Kind
	Name string
	Rule int
}

// Probe is what became of an opinion, with everyone who had a say.
type Probe struct {
	Verdict Verdict
	Spoke   []Rulepoint // every rule that was the first of its list to contain the services
	Rails   []string    // the guardrails that took part
	Contest []string    // the policies that contest, if they do
	Pool    string      // the last pool that the flow came to
}

// Probe returns the verdict on an opinion, as Carry does, and who had a say.
func (w *Weigher) Probe(number int32, e *Effect) Probe {
	o := &w.opinions[number]
	j, d := w.judge, settled{intent: w.intend(&w.views[o.view])}
	j.carry(&d, effectGround{e}, opened{d.intent.pools, o.books})
	p := Probe{Verdict: j.verdictOf(&d)}
	for _, v := range d.intent.speakers {
		p.Spoke = append(p.Spoke, Rulepoint{estate.KindPolicy, j.policies[v.policy].name, v.rule})
		if d.intent.contested && v.by == paths.None {
			p.Contest = append(p.Contest, j.policies[v.policy].name)
		}
	}
	for _, v := range d.intent.rails {
		p.Spoke = append(p.Spoke, Rulepoint{estate.KindPolicy, j.rails[v.which].name, v.rule})
		p.Rails = append(p.Rails, j.rails[v.which].name)
	}
	for _, v := range d.intent.shares {
		p.Spoke = append(p.Spoke, Rulepoint{estate.KindShare, j.shares[v.which].name, v.rule})
	}
	for _, step := range d.steps {
		p.Pool = j.pools[step.pool].name
		if step.bookRule != paths.None {
			p.Spoke = append(p.Spoke, Rulepoint{estate.KindRulebook, j.books[j.pools[step.pool].rulebook].name, step.bookRule})
		}
	}
	slices.Sort(p.Contest)
	p.Contest = slices.Compact(p.Contest)
	return p
}
