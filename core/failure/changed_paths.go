package failure

import (
	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/expectation"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/verdict"
)

// test looks for a flow between two groups, of an expectation, that does not
// meet it under another effect.
func (f *failureEvaluator) test(w *watch, b *matrix.Block, p, q *group, is int32, near bool) {
	if w.Expect == "denied" && f.Interner.EffectAt(is).Kind == paths.NoPath {
		return // what has no path is as good as denied
	}
	rows, cols := p.on(f.Matrix, &b.Src, &w.from), q.on(f.Matrix, &b.Dst, &w.to)
	for i := range rows {
		for k := range cols {
			atoms := f.misses(w, f.vector(is, b.RuleSet(rows[i].line, cols[k].line)), nil)
			if atoms == nil {
				continue
			}
			src, dst := p.classOn(f.Matrix, &b.Src, &w.from, &rows[i]), q.classOn(f.Matrix, &b.Dst, &w.to, &cols[k])
			if near && f.network(src) == f.network(dst) {
				src, dst = f.otherNetwork(b, p, q, &w.from, &w.to, &rows[i], &cols[k])
			}
			if src >= 0 {
				f.breaks(w, f.flowBetween(src, dst, atoms))
				return
			}
		}
	}
}

func (f *failureEvaluator) breaks(w *watch, flow verdict.Flow) {
	w.broken = true
	f.impact.Broken = append(f.impact.Broken, Broken{w.Expectation, flow})
}

// misses returns the atoms of an expectation on which a vector does not meet it,
// nil if there are none.
func (f *failureEvaluator) misses(w *watch, vector []int32, mask *bitset.BitSet) *bitset.BitSet {
	var out *bitset.BitSet
	for atom := range w.atoms.EachSet() {
		if vector == nil || mask != nil && !mask.Test(atom) {
			continue
		}
		if holds, _ := expectation.Meets(w.Expectation, f.verdictAt(vector[atom])); !holds {
			if out == nil {
				out = bitset.New(uint(len(vector)))
			}
			out.Set(atom)
		}
	}
	return out
}

// outbound finds the flows from a segment to the internet whose way changes:
// with the exit the groups of the far end change too.
func (f *failureEvaluator) outbound(b *matrix.Block) {
	type key struct {
		place int32
		four  bool
		is    string
	}
	groups := map[key]*group{}
	for _, h := range f.pathBuckets[b.From] {
		moved := f.moves(h.network)
		if !moved && !f.meshed && !f.pooled {
			continue
		}
		c := f.Classes[h.classes[0]]
		k := key{b.Src.Place(&c.Header), c.Four, f.judge.Net.Anchors(c.End.Home)}
		if groups[k] == nil {
			groups[k] = &group{}
		}
		groups[k].pathBuckets = append(groups[k].pathBuckets, h)
	}
	for k, p := range groups {
		for _, n := range f.PathClassesIn[b.To] {
			q := &f.Partition.PathClasses[n]
			if q.Four != k.four {
				continue
			}
			was := b.Effects[k.place][b.Dst.ByPathClass[q.At]]
			way := f.judge.WayTo(&f.classOf(p).End, &q.One)
			if is := f.Interner.Effect(f.judge.EffectOf(&way)); is != was {
				f.turnOut(b, p, n, was, is)
			}
		}
	}
}

// turnOut adds up what a change of effect turns from a group to the external
// classes at a path class.
func (f *failureEvaluator) turnOut(b *matrix.Block, p *group, pathClass int, was, is int32) {
	rows := p.on(f.Matrix, &b.Src, &filter{})
	for _, n := range f.Outside {
		dst := f.Classes[n]
		if dst.PathClass != pathClass || dst.Seen[b.From] != classes.SeesIt {
			continue
		}
		oldCol := b.Dst.LineAt(f.Net, int(dst.At), f.Interner.EffectAt(was).Exit)
		newCol := b.Dst.LineAt(f.Net, int(dst.At), f.Interner.EffectAt(is).Exit)
		for i := range rows {
			for _, t := range f.turningOf(f.outcomeNumber(was, b.RuleSet(rows[i].line, oldCol)), f.outcomeNumber(is, b.RuleSet(rows[i].line, newCol))) {
				x := f.turnAt(b.From, b.To, &t)
				x.tally.Product(rows[i].size, dst.Amount, 1)
				x.atoms.InPlaceUnion(t.atoms)
				if told := 1 + min(1, len(f.Classes[rows[i].class].Workloads)); told > x.told {
					x.told, x.Witness = told, f.flowBetween(rows[i].class, n, t.atoms)
				}
			}
		}
		for _, w := range f.watched {
			if w.src != b.From || w.dst != b.To || w.broken || !w.to.passes(n) {
				continue
			}
			for _, l := range p.on(f.Matrix, &b.Src, &w.from) {
				if atoms := f.misses(w, f.vector(is, b.RuleSet(l.line, newCol)), nil); atoms != nil {
					f.breaks(w, f.flowBetween(l.class, n, atoms))
					break
				}
			}
		}
	}
}

// inbound finds the flows through publications whose way changes.
func (f *failureEvaluator) inbound(b *matrix.Block) {
	for i := range f.Inbounds[b.To] {
		g := &f.Inbounds[b.To][i]
		shut := !f.judge.Net.Exits[g.Exit].Up
		for at, open := range g.Open {
			if !open {
				continue
			}
			n := f.Inside[b.To][at]
			if dst := f.Classes[n]; shut || f.meshed || f.pooled || f.moves(dst.End.Home.Network) {
				f.enterThrough(b, g, n, shut)
			}
		}
	}
}

// enterThrough compares the flows through a publication to a class.
func (f *failureEvaluator) enterThrough(b *matrix.Block, g *matrix.Inbound, to int, shut bool) {
	dst := f.Classes[to]
	for _, n := range f.Outside {
		src := f.Classes[n]
		if src.Four != dst.Four || matrix.Alone(src, dst) {
			continue
		}
		ruleSet := b.RuleSet(b.Src.LineAt(f.Net, int(src.At), g.Exit), b.Dst.Line(&dst.Header))
		was, is := g.Effects[[2]int{src.PathClass, dst.PathClass}], matrix.NoEffect
		after, settled := f.Vectors[f.UnpublishedVector], f.outcomes.lost
		if !shut {
			external := f.judge.External(src.End.Addr, g.Exit)
			way := f.judge.WayFrom(g.Publication, &external, &dst.End)
			is = f.Interner.Effect(f.judge.EffectOf(&way))
			after, settled = f.vector(is, ruleSet), f.outcomeNumber(is, ruleSet)
		}
		if is == was {
			continue
		}
		for _, t := range f.turningOf(f.outcomeNumber(was, ruleSet), settled) {
			atoms := t.atoms.Intersection(f.Admits[g.Publication])
			if atoms.None() {
				continue
			}
			x := f.turnAt(b.From, b.To, &t)
			if pair := (turnedPair{x, n, to}); !f.counted[pair] { // by another publication, perhaps
				f.counted[pair] = true
				x.tally.AddLarge(f.Pairs(matrix.Member{Class: n}, matrix.Member{Class: to}))
			}
			x.atoms.InPlaceUnion(atoms)
			if told := 1 + min(1, len(dst.Workloads)); told > x.told {
				x.told, x.Witness = told, f.flowThrough(g, n, to, atoms)
			}
		}
		f.testThrough(g, n, to, after, shut)
	}
}

func (f *failureEvaluator) flowThrough(g *matrix.Inbound, src, dst int, atoms *bitset.BitSet) verdict.Flow {
	return query.Witness(f.Matrix, &query.Column{ClassResult: matrix.ClassResult{Publication: g.Publication}, Src: matrix.Member{Class: src}, Dst: matrix.Member{Class: dst}}, f.Unions.Services(atoms))
}

// testThrough tests the expectations that are about a publication's flows; one
// whose exit has failed has none.
func (f *failureEvaluator) testThrough(g *matrix.Inbound, src, dst int, after []int32, shut bool) {
	for _, w := range f.watched {
		if shut || w.src != len(f.Inside) || w.broken || !w.to.passes(dst) {
			continue
		}
		if atoms := f.misses(w, after, f.Admits[g.Publication]); atoms != nil {
			f.breaks(w, f.flowThrough(g, src, dst, atoms))
		}
	}
}
