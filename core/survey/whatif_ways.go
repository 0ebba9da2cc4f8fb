package survey

import (
	"github.com/bits-and-blooms/bitset"

	"bivium/core/paths"
	"bivium/core/verdict"
)

// test looks for a flow between two groups, of an expectation, that does not
// meet it under another effect.
func (f *failureEvaluator) test(w *watch, b *block, p, q *group, is int32, near bool) {
	if w.Expect == "denied" && f.ledger.effectAt(is).Kind == paths.NoPath {
		return // what has no path is as good as denied
	}
	rows, cols := p.on(f.Survey, &b.src, &w.from), q.on(f.Survey, &b.dst, &w.to)
	for i := range rows {
		for k := range cols {
			atoms := f.misses(w, f.vector(is, b.stance(rows[i].line, cols[k].line)), nil)
			if atoms == nil {
				continue
			}
			src, dst := p.classOn(f.Survey, &b.src, &w.from, &rows[i]), q.classOn(f.Survey, &b.dst, &w.to, &cols[k])
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
		if holds, _ := meets(w.Expectation, f.verdictAt(vector[atom])); !holds {
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
func (f *failureEvaluator) outbound(b *block) {
	type key struct {
		place int32
		four  bool
		is    string
	}
	groups := map[key]*group{}
	for _, h := range f.pathBuckets[b.from] {
		moved := f.moves(h.network)
		if !moved && !f.meshed && !f.pooled {
			continue
		}
		c := f.classes[h.classes[0]]
		k := key{b.src.place(&c.ticket), c.four, f.judge.Net().Anchors(c.End.Home)}
		if groups[k] == nil {
			groups[k] = &group{}
		}
		groups[k].pathBuckets = append(groups[k].pathBuckets, h)
	}
	for k, p := range groups {
		for _, n := range f.spotIn[b.to] {
			q := &f.partition.spots[n]
			if q.four != k.four {
				continue
			}
			was := b.effects[k.place][b.dst.bySpot[q.at]]
			way := f.judge.WayTo(&f.classOf(p).End, &q.one)
			if is := f.ledger.effect(f.judge.EffectOf(&way)); is != was {
				f.turnOut(b, p, n, was, is)
			}
		}
	}
}

// turnOut adds up what a change of effect turns from a group to the external
// classes at a spot.
func (f *failureEvaluator) turnOut(b *block, p *group, spot int, was, is int32) {
	rows := p.on(f.Survey, &b.src, &filter{})
	for _, n := range f.outside {
		dst := f.classes[n]
		if dst.spot != spot || dst.seen[b.from] != seesIt {
			continue
		}
		oldCol := b.dst.lineAt(f.net, int(dst.at), f.ledger.effectAt(was).Exit)
		newCol := b.dst.lineAt(f.net, int(dst.at), f.ledger.effectAt(is).Exit)
		for i := range rows {
			for _, t := range f.turningOf(f.fate(was, b.stance(rows[i].line, oldCol)), f.fate(is, b.stance(rows[i].line, newCol))) {
				x := f.turnAt(b.from, b.to, &t)
				x.tally.product(rows[i].size, dst.size, 1)
				x.atoms.InPlaceUnion(t.atoms)
				if told := 1 + min(1, len(f.classes[rows[i].class].Workloads)); told > x.told {
					x.told, x.Witness = told, f.flowBetween(rows[i].class, n, t.atoms)
				}
			}
		}
		for _, w := range f.watched {
			if w.src != b.from || w.dst != b.to || w.broken || !w.to.passes(n) {
				continue
			}
			for _, l := range p.on(f.Survey, &b.src, &w.from) {
				if atoms := f.misses(w, f.vector(is, b.stance(l.line, newCol)), nil); atoms != nil {
					f.breaks(w, f.flowBetween(l.class, n, atoms))
					break
				}
			}
		}
	}
}

// inbound finds the flows through publications whose way changes.
func (f *failureEvaluator) inbound(b *block) {
	for i := range f.gates[b.to] {
		g := &f.gates[b.to][i]
		shut := !f.judge.Net().Exits[g.exit].Up
		for at, open := range g.open {
			if !open {
				continue
			}
			n := f.inside[b.to][at]
			if dst := f.classes[n]; shut || f.meshed || f.pooled || f.moves(dst.End.Home.Network) {
				f.enterThrough(b, g, n, shut)
			}
		}
	}
}

// enterThrough compares the flows through a publication to a class.
func (f *failureEvaluator) enterThrough(b *block, g *gate, to int, shut bool) {
	dst := f.classes[to]
	for _, n := range f.outside {
		src := f.classes[n]
		if src.four != dst.four || alone(src, dst) {
			continue
		}
		stance := b.stance(b.src.lineAt(f.net, int(src.at), g.exit), b.dst.line(&dst.ticket))
		was, is := g.effects[[2]int{src.spot, dst.spot}], noEffect
		after, fate := f.vectors[f.shut], f.fates.lost
		if !shut {
			external := f.judge.External(src.End.Addr, g.exit)
			way := f.judge.WayFrom(g.publication, &external, &dst.End)
			is = f.ledger.effect(f.judge.EffectOf(&way))
			after, fate = f.vector(is, stance), f.fate(is, stance)
		}
		if is == was {
			continue
		}
		for _, t := range f.turningOf(f.fate(was, stance), fate) {
			atoms := t.atoms.Intersection(f.admits[g.publication])
			if atoms.None() {
				continue
			}
			x := f.turnAt(b.from, b.to, &t)
			if pair := (turnedPair{x, n, to}); !f.counted[pair] { // by another publication, perhaps
				f.counted[pair] = true
				x.tally.addLarge(f.pairs(Member{Class: n}, Member{Class: to}))
			}
			x.atoms.InPlaceUnion(atoms)
			if told := 1 + min(1, len(dst.Workloads)); told > x.told {
				x.told, x.Witness = told, f.flowThrough(g, n, to, atoms)
			}
		}
		f.testThrough(g, n, to, after, shut)
	}
}

func (f *failureEvaluator) flowThrough(g *gate, src, dst int, atoms *bitset.BitSet) verdict.Flow {
	return f.witness(&column{strand: strand{publication: g.publication}, src: Member{Class: src}, dst: Member{Class: dst}}, f.unions.of(atoms))
}

// testThrough tests the expectations that are about a publication's flows; one
// whose exit has failed has none.
func (f *failureEvaluator) testThrough(g *gate, src, dst int, after []int32, shut bool) {
	for _, w := range f.watched {
		if shut || w.src != len(f.inside) || w.broken || !w.to.passes(dst) {
			continue
		}
		if atoms := f.misses(w, after, f.admits[g.publication]); atoms != nil {
			f.breaks(w, f.flowThrough(g, src, dst, atoms))
		}
	}
}
