package native

import (
	"cmp"
	"encoding/binary"
	"slices"
	"strings"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/verdict"
)

// grounds tells what rules are for. Equal answers are one slice, which is not to be written to.
// It is not safe for concurrent use.
type grounds struct {
	*translator
	memo  *verdict.Memo
	terms []verdict.Term

	said  map[int32][]said  // by rule set
	refs  map[int32][]int32 // by intent: numbers of what it comes from
	found numbered          // what was found so far
	asked picked            // the rule sets that of is to be asked of
	known map[string][]config.Ref
}

// said is what a rule set lets pass for one reason: the atoms, and numbers of what it comes from;
// none where it is the default of the segment.
type said struct {
	atoms *bitset.BitSet
	refs  []int32
}

// numbered is different refs, each with its number, and those of them that were picked.
type numbered struct {
	refs   []config.Ref
	number map[config.Ref]int32
	picked
}

func (t *translator) newGrounds() *grounds {
	return &grounds{
		translator: t, memo: t.j.NewMemo(t.s.RuleIndex), said: map[int32][]said{}, refs: map[int32][]int32{},
		found: numbered{number: map[config.Ref]int32{}}, known: map[string][]config.Ref{},
	}
}

// of returns what the rule sets that were asked for have to say of some atoms: the rules that let
// some of them pass, in order of kind, name and place; with the default of the segment where no
// rule speaks. It asks for nothing after that.
func (g *grounds) of(atoms *bitset.BitSet, segment int) []config.Ref {
	for _, r := range g.asked.take() {
		for _, s := range g.saidBy(r) {
			if s.atoms.IntersectionCardinality(atoms) == 0 {
				continue
			}
			if s.refs == nil {
				g.found.pick(g.found.put(config.Ref{Kind: estate.KindSegment, Name: g.net.Segments[segment]}))
			}
			for _, ref := range s.refs {
				g.found.pick(ref)
			}
		}
	}
	picked := g.found.take()
	slices.Sort(picked)
	key := make([]byte, 0, 4*len(picked))
	for _, ref := range picked {
		key = binary.LittleEndian.AppendUint32(key, uint32(ref))
	}
	out, ok := g.known[string(key)]
	if !ok {
		for _, ref := range picked {
			out = append(out, g.found.refs[ref])
		}
		slices.SortFunc(out, func(a, b config.Ref) int {
			return cmp.Or(strings.Compare(string(a.Kind), string(b.Kind)), strings.Compare(a.Name, b.Name), a.Rule-b.Rule)
		})
		g.known[string(key)] = out
	}
	return out
}

// saidBy returns what a rule set lets pass, by reason.
func (g *grounds) saidBy(ruleSet int32) []said {
	out, ok := g.said[ruleSet]
	if ok {
		return out
	}
	var context verdict.Context
	context, g.terms = g.s.Interner.RuleSetAt(ruleSet, g.terms[:0])
	at := map[int32]int{}
	for atom, intent := range g.memo.Intents(context, g.terms) {
		i, known := at[intent]
		if !known {
			i = -1
			if action, _ := g.memo.Intended(intent); action != estate.Deny {
				i = len(out)
				out = append(out, said{bitset.New(uint(g.s.Atoms.Len())), g.refsOf(intent)})
			}
			at[intent] = i
		}
		if i >= 0 {
			out[i].atoms.Set(uint(atom))
		}
	}
	g.said[ruleSet] = out
	return out
}

func (g *grounds) refsOf(intent int32) []int32 {
	refs, known := g.refs[intent]
	if !known {
		for _, r := range g.memo.Grounds(intent) {
			refs = append(refs, g.found.put(config.Ref{Kind: r.Kind, Name: r.Name, Rule: r.Rule + 1}))
		}
		g.refs[intent] = refs
	}
	return refs
}

// borrow returns grounds that nobody uses now.
func (t *translator) borrow() *grounds {
	t.known.Lock()
	defer t.known.Unlock()
	if n := len(t.idle); n > 0 {
		g := t.idle[n-1]
		t.idle = t.idle[:n-1]
		return g
	}
	return t.newGrounds()
}

func (t *translator) giveBack(g *grounds) {
	t.known.Lock()
	t.idle = append(t.idle, g)
	t.known.Unlock()
}

// put returns the number of a ref.
func (n *numbered) put(r config.Ref) int32 {
	i, ok := n.number[r]
	if !ok {
		i = int32(len(n.refs))
		n.number[r] = i
		n.refs = append(n.refs, r)
	}
	return i
}

// picked is some numbers, each once. It is not safe for concurrent use.
type picked struct {
	is  bitset.BitSet
	all []int32
}

// pick adds a number; none that is less than 0.
func (p *picked) pick(n int32) {
	if n >= 0 && !p.is.Test(uint(n)) {
		p.is.Set(uint(n))
		p.all = append(p.all, n)
	}
}

// take returns the numbers in the order in which they came, and lets go of them. They stand until
// the next pick.
func (p *picked) take() []int32 {
	out := p.all
	for _, n := range out {
		p.is.Clear(uint(n))
	}
	p.all = p.all[:0]
	return out
}
