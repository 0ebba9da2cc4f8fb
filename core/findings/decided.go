package findings

import (
	"cmp"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Decided is flows that one rule of a policy, share or rulebook has a say in, because it is the
// first of its list that contains their services, and that have one outcome in the end.
type Decided struct {
	Rule    int // its place in the list, from 0
	Outcome verdict.Outcome
	// Counts is whether the rule made the verdict what it is; otherwise a more specific policy
	// overrides it, or a guardrail or another rule asks for more.
	Counts   bool
	Services space.Services
	Witness  verdict.Flow
}

// Decided returns what each rule of a policy, share or rulebook decides, in the order of the rules
// and, of one, of verdict.Outcomes; nothing of rules that no flow reaches. Of a rulebook, that is of
// flows that are really steered to a pool that uses it. Cost: as All, of which what is known serves,
// and the atoms of the combinations in which the object has a say.
func (b *Book) Decided(of estate.Ref) []Decided {
	f := &finder{Matrix: b.matrix, book: b, pace: func() {}, reasons: reasonsOf(b.matrix)}
	e := gatherExamples(f, func(c findingCase) noteKey { return c.noteKey() })
	g := &decisions{f.newProber(), of, map[decision]*decidedFlows{}}
	for k, n := range f.notesOf(e.order) {
		if slices.ContainsFunc(n.probes, func(p *probed) bool { return slices.ContainsFunc(p.Spoke, g.isOf) }) {
			g.add(k, e.best[k], e.rank[k])
		}
	}
	return g.list()
}

// notesOf returns the notes on some combinations, and makes those that there are not yet.
func (f *finder) notesOf(keys []noteKey) map[noteKey]*note {
	known := f.book.notes.all()
	out := map[noteKey]*note{}
	var wanted []noteKey
	for _, k := range keys {
		if n := known[k]; n != nil {
			out[k] = n
		} else {
			wanted = append(wanted, k)
		}
	}
	fresh := f.weigh(wanted)
	f.book.notes.merge(fresh)
	for k, n := range fresh {
		out[k] = n
	}
	return out
}

// decision is a rule and an outcome, and whether the rule counts.
type decision struct {
	rule    int
	outcome verdict.Outcome
	counts  bool
}

// decidedFlows is the services of a decision, and the best example of it.
type decidedFlows struct {
	atoms *bitset.BitSet
	example
	rank int
	atom uint // of the example
	key  noteKey
}

type decisions struct {
	*prober
	of    estate.Ref
	found map[decision]*decidedFlows
}

func (g *decisions) isOf(r verdict.RuleRef) bool { return r.Kind == g.of.Kind && r.Name == g.of.Name }

// add takes in what the rules of the object say of one combination.
func (g *decisions) add(k noteKey, x example, rank int) {
	context, terms := g.Interner.RuleSetAt(k.RuleSet, nil)
	grounds := map[int32][]verdict.RuleRef{}
	for atom, o := range g.weigher.Intents(context, terms) {
		if k.publication != paths.None && !g.Admits[k.publication].Test(uint(atom)) {
			continue
		}
		e := g.probe(o, k.Effect)
		if _, known := grounds[o]; !known {
			grounds[o] = g.weigher.Grounds(o)
		}
		for _, r := range e.Spoke {
			if !g.isOf(r) {
				continue
			}
			at := decision{r.Rule, e.Verdict.Outcome, r.Kind == estate.KindRulebook || slices.Contains(grounds[o], r)}
			d := g.found[at]
			if d == nil {
				d = &decidedFlows{atoms: bitset.New(uint(g.Atoms.Len()))}
				g.found[at] = d
			}
			d.atoms.Set(uint(atom))
			if better := cmp.Or(cmp.Compare(rank, d.rank), compareKeys(d.key, k)); d.rank == 0 || better > 0 {
				d.example, d.rank, d.atom, d.key = x, rank, uint(atom), k
			}
		}
	}
}

// compareKeys orders combinations, so that the example does not hang on the order in which they come.
func compareKeys(a, b noteKey) int {
	return cmp.Or(cmp.Compare(a.RuleSet, b.RuleSet), cmp.Compare(a.Effect, b.Effect), cmp.Compare(a.publication, b.publication))
}

func (g *decisions) list() []Decided {
	var out []Decided
	for at, d := range g.found {
		one := bitset.New(uint(g.Atoms.Len())).Set(d.atom)
		column := query.Column{ClassResult: matrix.ClassResult{Publication: d.publication}, Src: matrix.Member{Class: d.from}, Dst: matrix.Member{Class: d.to}}
		out = append(out, Decided{at.rule, at.outcome, at.counts, g.Atoms.Union(d.atoms), query.Witness(g.Matrix, &column, g.Atoms.Union(one))})
	}
	slices.SortFunc(out, func(a, b Decided) int {
		return cmp.Or(cmp.Compare(a.Rule, b.Rule), cmp.Compare(slices.Index(verdict.Outcomes, a.Outcome), slices.Index(verdict.Outcomes, b.Outcome)), lists.OneIf(b.Counts)-lists.OneIf(a.Counts))
	})
	return out
}
