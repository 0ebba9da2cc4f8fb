package verdict

import (
	"encoding/binary"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/space"
)

// Outside is the domain of external endpoints; the domains inside are the
// segments, by number.
const Outside = paths.None

// VoiceKind is the sort of a voice.
type VoiceKind uint8

// The kinds of voices.
const (
	PolicyVoice VoiceKind = iota
	ShareVoice
	RailVoice
	BookVoice
)

// Voice is one thing that has a say about the flows between the endpoints that
// its two sides hold: a policy for one pair of its sides, a share in one
// direction, a guardrail, or one rule of a rulebook. Voices can be compared.
type Voice struct {
	Kind     VoiceKind
	Which    int // number of the policy, share, guardrail or rulebook
	Rule     int // of a rulebook
	From, To int // sides of a policy
}

// VoicesBetween returns all voices that some flows from one domain to another
// may have, in an order that depends on nothing else. Rulebooks are those of
// the pools that the other voices inspect by.
func (j *Judge) VoicesBetween(from, to int) []Voice {
	var voices []Voice
	pools := make([]bool, len(j.pools))
	add := func(rules []rule) {
		for i := range rules {
			if rules[i].pool != paths.None {
				pools[rules[i].pool] = true
			}
		}
	}
	if from != Outside && to != Outside && from != to {
		for _, i := range j.sharesOf[from] {
			s := &j.shares[i]
			if s.guest.segment == from && s.owner.segment == to || s.both && s.owner.segment == from && s.guest.segment == to {
				voices = append(voices, Voice{Kind: ShareVoice, Which: i})
				add(s.rules)
			}
		}
	} else {
		voices = j.policyVoices(from, to, add)
	}
	for i := range j.rails {
		r := &j.rails[i]
		if r.enabled && scopeHolds(r.fromSegs, from) && scopeHolds(r.toSegs, to) {
			voices = append(voices, Voice{Kind: RailVoice, Which: i})
			add(r.rules)
		}
	}
	books := make([]bool, len(j.books))
	for p, used := range pools {
		if b := j.pools[p].rulebook; used && b != paths.None {
			books[b] = true
		}
	}
	for b, used := range books {
		for r := range j.books[b].rules {
			if used {
				voices = append(voices, Voice{Kind: BookVoice, Which: b, Rule: r})
			}
		}
	}
	return voices
}

// policyVoices returns the policies' voices within a segment, or between it and
// the internet; "any" is nobody outside (M4.2).
func (j *Judge) policyVoices(from, to int, add func([]rule)) []Voice {
	segment := from
	if from == Outside {
		segment = to
	}
	var voices []Voice
	for _, i := range j.policiesOf[segment] {
		p := &j.policies[i]
		used := false
		for _, f := range p.from {
			for _, t := range p.to {
				if f == anyone && from == Outside || t == anyone && to == Outside {
					continue
				}
				voices = append(voices, Voice{PolicyVoice, i, 0, f, t})
				used = true
			}
		}
		if used {
			add(p.rules)
		}
	}
	slices.SortFunc(voices, compareVoices)
	return slices.Compact(voices)
}

func compareVoices(v, w Voice) int {
	for _, d := range [...]int{int(v.Kind) - int(w.Kind), v.From - w.From, v.To - w.To, v.Which - w.Which, v.Rule - w.Rule} {
		if d != 0 {
			return d
		}
	}
	return 0
}

func scopeHolds(scope []bool, domain int) bool {
	return scope == nil || domain != Outside && scope[domain]
}

// SidesOf returns the groups of either side of a voice on flows from a domain;
// nil stands for everyone there, an empty side for nobody. They must not be
// changed.
func (j *Judge) SidesOf(v Voice, from int) (src, dst []int) {
	of := func(s side) []int {
		if slices.Contains(s, anyone) {
			return nil
		}
		return append(make([]int, 0, len(s)), s...)
	}
	one := func(g int) []int { return of(side{g}) }
	switch v.Kind {
	case PolicyVoice:
		return one(v.From), one(v.To)
	case ShareVoice:
		s := &j.shares[v.Which]
		if s.guest.segment == from {
			return of(s.guest.side), of(s.owner.side)
		}
		return of(s.owner.side), of(s.guest.side)
	case RailVoice:
		return of(j.rails[v.Which].from), of(j.rails[v.Which].to)
	}
	r := &j.books[v.Which].rules[v.Rule]
	return of(r.from), of(r.to)
}

// Context is what holds between two domains if nobody speaks. Contexts can be
// compared.
type Context struct {
	byShares   bool
	silence    estate.Action
	unreleased bool
}

// Key returns a byte that is equal for equal contexts.
func (c Context) Key() byte {
	key := byte(strictness(c.silence))
	if c.byShares {
		key |= 4
	}
	if c.unreleased {
		key |= 8
	}
	return key
}

// ContextOf returns the context of flows from one domain to another.
func (j *Judge) ContextOf(from, to int) Context {
	c := Context{silence: estate.Deny, byShares: from != Outside && to != Outside && from != to}
	if from == to && from != Outside {
		c.silence = j.defaults[from]
	}
	return c
}

// Unpublished is the context of flows from the internet that nothing publishes
// (M7.6).
func Unpublished() Context { return Context{silence: estate.Deny, unreleased: true} }

// StanceOf returns the stance for which exactly these voices, in the order of
// VoicesBetween, hold both ends.
func (j *Judge) StanceOf(c Context, voices []Voice) Stance {
	s := Stance{silence: c.silence, byShares: c.byShares, unreleased: c.unreleased}
	var pools []int
	add := func(rules []rule) {
		for i := range rules {
			if rules[i].pool != paths.None {
				pools = append(pools, rules[i].pool)
			}
		}
	}
	for _, v := range voices {
		switch v.Kind {
		case PolicyVoice:
			s.policies = append(s.policies, candidate{v.Which, pair{v.From, v.To}})
			add(j.policies[v.Which].rules)
		case ShareVoice:
			s.shares = append(s.shares, v.Which)
			add(j.shares[v.Which].rules)
		case RailVoice:
			s.rails = append(s.rails, v.Which)
			add(j.rails[v.Which].rules)
		}
	}
	for _, p := range sorted(pools) {
		if b := j.pools[p].rulebook; b != paths.None {
			book := bookStance{pool: p}
			for _, v := range voices {
				if v.Kind == BookVoice && v.Which == b {
					book.rules = append(book.rules, v.Rule)
				}
			}
			s.rulebooks = append(s.rulebooks, book)
		}
	}
	return s
}

// Sieve tells which sets of services hold each atom, and which rule of each list
// is the first to, for a judge.
type Sieve struct {
	Atoms *space.Atoms
	holds [][]bool // by atom, and set of services
	first [3][][]uint16
}

// NewSieve returns the sieve of atoms that are at least as fine as the judge's
// sets of services. Cost: the atoms times the sets and the rules.
func (j *Judge) NewSieve(atoms *space.Atoms) *Sieve {
	v := &Sieve{Atoms: atoms, holds: make([][]bool, atoms.Len())}
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
func (v *Sieve) firsts(n int, rules func(int) []rule) [][]uint16 {
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

// Opinion is what a stance makes of some atoms of services that all its rules
// treat alike.
type Opinion struct {
	Atoms  []int
	intent intent
	query  query
}

// Opinions returns what the stance makes of every atom, and who spoke. Cost: the
// atoms times the stance's voices, and for each different outcome of those, M4 to
// M6.
func (j *Judge) Opinions(s *Stance, v *Sieve) []Opinion {
	w := j.NewWeigher(v)
	w.spoke = true
	return w.Opinions(s)
}

// Weigher works out the opinions of one stance after another, in the same memory.
// It is not safe for concurrent use.
type Weigher struct {
	judge *Judge
	sieve *Sieve
	spoke bool // opinions keep who spoke

	lists [][]uint16
	key   []byte
	at    map[string]int
	out   []Opinion
	mem   scratch
}

// NewWeigher returns a weigher of stances on the atoms of a sieve.
func (j *Judge) NewWeigher(v *Sieve) *Weigher {
	return &Weigher{judge: j, sieve: v, at: map[string]int{}}
}

// Opinions returns what the stance makes of every atom, until it is asked about
// another one. Who spoke is not kept. Cost: as that of Judge.Opinions.
func (w *Weigher) Opinions(s *Stance) []Opinion {
	j, v := w.judge, w.sieve
	w.listen(s)
	if len(s.policies) > 1 {
		s.over = j.ranked(s)
	}
	clear(w.at)
	w.out = w.out[:0]
	for atom, holds := range v.holds {
		w.key = w.key[:0]
		for _, l := range w.lists {
			w.key = append(w.key, byte(l[atom]), byte(l[atom]>>8))
		}
		q := query{holds: holds, sieve: v, atom: atom}
		for _, b := range s.rulebooks {
			r := j.bookRule(s, b.pool, &q)
			w.key = append(w.key, byte(r), byte(r>>8))
		}
		i, known := w.at[string(w.key)]
		if !known {
			i = len(w.out)
			w.at[string(w.key)] = i
			w.add(j.intendIn(s, &q, &w.mem), q)
		}
		w.out[i].Atoms = append(w.out[i].Atoms, atom)
	}
	return w.out
}

// listen finds the first rules of everyone who may speak.
func (w *Weigher) listen(s *Stance) {
	w.lists = w.lists[:0]
	for _, c := range s.policies {
		w.lists = append(w.lists, w.sieve.first[PolicyVoice][c.policy])
	}
	for _, i := range s.shares {
		w.lists = append(w.lists, w.sieve.first[ShareVoice][i])
	}
	for _, i := range s.rails {
		w.lists = append(w.lists, w.sieve.first[RailVoice][i])
	}
}

// add begins an opinion, in the memory of an earlier one if there is some.
func (w *Weigher) add(in intent, q query) {
	if !w.spoke && in.speakers != nil {
		w.mem.speakers, in.speakers = in.speakers, nil
	}
	n := len(w.out)
	if n < cap(w.out) {
		w.out = w.out[:n+1]
	} else {
		w.out = append(w.out, Opinion{})
	}
	w.out[n] = Opinion{Atoms: w.out[n].Atoms[:0], intent: in, query: q}
}

// Fate is what becomes of an opinion on ways of an effect.
type Fate struct{ settled }

// Carry returns what becomes of an opinion on ways of an effect.
func (j *Judge) Carry(s *Stance, o *Opinion, e *Effect) Fate {
	d := settled{intent: o.intent}
	j.carry(&d, s, effectGround{e}, &o.query)
	return Fate{d}
}

// Verdict returns the verdict in words.
func (j *Judge) Verdict(f *Fate) Verdict { return j.verdictOf(&f.settled) }

// AppendKey appends a key that is equal for fates with the same verdict.
func (f *Fate) AppendKey(key []byte) []byte {
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
		put(f.steps[len(f.steps)-1].pool)
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
func (j *Judge) Probe(s *Stance, o *Opinion, e *Effect) Probe {
	d := settled{intent: o.intent}
	j.carry(&d, s, effectGround{e}, &o.query)
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
