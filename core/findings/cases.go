package findings

import (
	"sync"

	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/verdict"
)

// findingCase is flows that a finding may be about: of one combination, through one publication or
// none, and, where findings tell places apart, from one place or to one; anywhere else.
type findingCase struct {
	matrix.Combination
	publication int
	from, to    place
}

// place is a network in a segment.
type place struct{ segment, network int }

var anywhere = place{paths.None, paths.None}

// tellsApart reports whether findings about flows of an effect name the places that they are
// from, because these enforce or let out themselves, have no way out, or get replies another way;
// and those that they are to, because there is no way into or back from them.
func tellsApart(e *verdict.Effect) (from, to bool) {
	if e.Kind == paths.NoPath {
		return !farEnd(e.Absence), farEnd(e.Absence)
	}
	return e.Kind == paths.Peered || e.Kind == paths.Bypass || e.BackPeered, !e.BackHolds || e.BackPeered
}

// farEnd reports whether it is at the destination that a way is missing.
func farEnd(a paths.Absence) bool {
	return a == paths.FarNotAttached || a == paths.NotAccepted || a == paths.NoPublication
}

// examples are circumstances, or what some of them have in common, in the order in which they were
// met, each with a pair of classes that has it: two workloads, if any pair is.
type examples[K comparable] struct {
	order []K
	best  map[K]example
	rank  map[K]int // of the best one, from 1
}

// gatherExamples goes through all flows. key returns what is told of a circumstance.
func gatherExamples[K comparable](f *finder, key func(findingCase) K) *examples[K] {
	e := &examples[K]{best: map[K]example{}, rank: map[K]int{}}
	take := func(c findingCase, x example) {
		k, t := key(c), 1+f.WitnessRank(matrix.Member{Class: x.from}, matrix.Member{Class: x.to})
		if e.rank[k] == 0 {
			e.order = append(e.order, k)
		}
		if t > e.rank[k] {
			e.rank[k], e.best[k] = t, x
		}
	}
	f.eachSighted(take)
	f.eachInboundCombination(take)
	return e
}

// exampleCase is a circumstance with an example of it.
type exampleCase struct {
	findingCase
	example
}

// blockExamples is the combinations of a block, each with an example, and again with better
// ones. They are found when they are first asked for, and serve every matrix that has the
// block: which there are, no verdict tells.
type blockExamples struct {
	once  parallel.Once
	hubs  []exampleCase // of flows that are not local
	local []exampleCase // of local ones, by network, and without
}

// eachSighted finds the combinations of flows that no publication lets in, of all blocks
// side by side. Of local flows, it takes those by network of which something is to be said.
func (f *finder) eachSighted(take func(findingCase, example)) {
	var all []*blockExamples
	var jobs []func()
	for p, b := range f.Blocks.All() {
		if p.From == len(f.Inside) {
			continue
		}
		x := f.book.sighted.At(p.From, p.To)
		all = append(all, x)
		jobs = append(jobs, func() {
			f.pace()
			x.once.Do(func() { f.findExamples(x, b) })
		})
	}
	parallel.Run(jobs)
	for _, b := range all {
		for _, x := range b.hubs {
			take(x.findingCase, x.example)
		}
	}
	type concern struct {
		network, effect int
		reasons         uint8
	}
	known := map[concern]bool{}
	for _, b := range all {
		for _, x := range b.local {
			if x.findingCase.from == anywhere {
				take(x.findingCase, x.example)
				continue
			}
			reasons := f.reasons[f.Verdicts[x.Effect][x.RuleSet]]
			if c := (concern{x.findingCase.from.network, int(x.Effect), reasons}); reasons != 0 && !known[c] {
				known[c] = true
				take(x.findingCase, x.example)
			}
		}
	}
}

// findExamples finds the combinations of a block.
func (f *finder) findExamples(x *blockExamples, b *matrix.Block) {
	x.hubs = f.combinationsIn(b)
	if b.From == b.To {
		x.local = f.localIn(b)
	}
}

// combinationsIn finds the combinations of flows of a block that are not local, each
// with an example, and again with better ones.
func (f *finder) combinationsIn(b *matrix.Block) []exampleCase {
	g := &query.Gatherer{Matrix: f.Matrix, FromSet: matrix.Whole(f.ClassesIn(b.From)), ToSet: matrix.Whole(f.ClassesIn(b.To))}
	src, dst := f.SidesOf(g.FromSet), f.SidesOf(g.ToSet)
	sources, targets := f.SourceBuckets(b, g.FromSet, src[0].Members), f.TargetBuckets(b, g.ToSet, dst[0].Members)
	fromPlaces := sync.OnceValue(func() [][]placeMembers { return f.byPlace(b.From, g.FromSet, sources) })
	toPlaces := sync.OnceValue(func() [][]placeMembers { return f.byPlace(b.To, g.ToSet, targets) })
	told := map[findingCase]int{}
	var out []exampleCase
	one := func(k findingCase, from []int32, targets []matrix.Bucket, dsts []int32) {
		if was, seen := told[k]; seen && was >= 2+g.RankOf(g.FromSet, from) {
			return
		}
		c := query.Column{}
		g.Exemplify(&c, k.Combination, from, targets, dsts, b.From == b.To)
		if c.Rank > told[k] {
			told[k] = c.Rank
			out = append(out, exampleCase{k, example{c.Src.Class, c.Dst.Class, paths.None}})
		}
	}
	for i := range sources {
		l := &sources[i]
		f.EachBatch(b, l, targets, &g.Buckets, func(x matrix.Combination, dsts []int32) {
			from, to := tellsApart(f.Interner.EffectAt(x.Effect))
			senders := []placeMembers{{anywhere, l.Which}}
			if from {
				senders = fromPlaces()[i]
			}
			for _, s := range senders {
				if !to {
					one(findingCase{x, paths.None, s.place, anywhere}, s.which, targets, dsts)
					continue
				}
				for _, k := range dsts {
					for _, d := range toPlaces()[k] {
						one(findingCase{x, paths.None, s.place, d.place}, s.which, []matrix.Bucket{{Which: d.which}}, []int32{0})
					}
				}
			}
		})
	}
	return out
}

// placeMembers is those members of a bucket that are of one place.
type placeMembers struct {
	place
	which []int32
}

// byPlace returns the members of each of some buckets of a domain by their networks.
func (f *finder) byPlace(domain int, set matrix.Set, buckets []matrix.Bucket) [][]placeMembers {
	out := make([][]placeMembers, len(buckets))
	for i := range buckets {
		l := &buckets[i]
		if l.SoleNetwork != paths.None {
			out[i] = []placeMembers{{place{domain, l.SoleNetwork}, l.Which}}
			continue
		}
		at := map[int]int{}
		for _, m := range l.Which {
			network := f.Classes[set[m].Class].End.Home.Network
			k, known := at[network]
			if !known {
				k = len(out[i])
				at[network] = k
				out[i] = append(out[i], placeMembers{place: place{domain, network}})
			}
			out[i][k].which = append(out[i][k].which, m)
		}
	}
	return out
}

// localIn finds the combinations of local flows of a segment's block, each with an
// example, and again with better ones; and, once, those of each network.
func (f *finder) localIn(b *matrix.Block) []exampleCase {
	var out []exampleCase
	told := map[matrix.Combination]int{}
	known := map[findingCase]bool{}
	classes := f.Inside[b.From]
	set := matrix.Whole(classes)
	all := f.SidesOf(set)[0].Members
	f.EachNear(set, all, set, all, func(i, k int32) {
		if !f.Distinct(set[i], set[k]) {
			return
		}
		src, dst := f.Classes[classes[i]], f.Classes[classes[k]]
		near, _ := f.NearCombination(b, src, dst)
		x := example{classes[i], classes[k], paths.None}
		if t := 1 + f.WitnessRank(set[i], set[k]); t > told[near] {
			told[near] = t
			out = append(out, exampleCase{findingCase{near, paths.None, anywhere, anywhere}, x})
		}
		if c := (findingCase{near, paths.None, place{b.From, src.End.Home.Network}, anywhere}); !known[c] {
			known[c] = true
			out = append(out, exampleCase{c, x})
		}
	})
	return out
}

// eachInboundCombination finds the combinations of flows that publications let in.
func (f *finder) eachInboundCombination(take func(findingCase, example)) {
	for segment, inbounds := range f.Inbounds {
		for i := range inbounds {
			for at, open := range inbounds[i].Open {
				if !open {
					continue
				}
				for _, a := range f.Outside {
					x := example{a, f.Inside[segment][at], inbounds[i].Publication}
					f.EachResult(x.from, x.to, func(t matrix.ClassResult) {
						if t.Publication == x.publication {
							c := findingCase{t.Combination, x.publication, anywhere, anywhere}
							if _, apart := tellsApart(f.Interner.EffectAt(t.Combination.Effect)); apart {
								c.to = place{segment, f.Classes[x.to].End.Home.Network}
							}
							take(c, x)
						}
					})
				}
			}
		}
	}
}
