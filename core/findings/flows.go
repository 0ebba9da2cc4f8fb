package findings

import (
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/membership"
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

// flows looks at each circumstance once, with a pair of classes that has it.
func (f *finder) flows() {
	e := gatherExamples(f, func(c findingCase) findingCase { return c })
	f.report(e.order, e.best)
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

// reasonsOf returns, by vector, a mask of those of its reasons that say
// something about the network on whose way the flows are.
func reasonsOf(s *matrix.Matrix) []uint8 {
	out := make([]uint8, len(s.Vectors))
	for i, v := range s.Vectors {
		for _, r := range v {
			switch s.Results[r].Reason {
			case verdict.ReasonUnenforced:
				out[i] |= 1
			case verdict.ReasonUninspectable:
				out[i] |= 2
			}
		}
	}
	return out
}

// prober weighs circumstances, and keeps the probes that many of them come to.
type prober struct {
	*matrix.Matrix
	weigher *verdict.Memo
	probes  map[[2]int32]*probed // by intent and effect
}

// probed is a probe that is kept.
type probed struct {
	verdict.Explanation
	plain bool // there is nothing to say of it but who spoke
}

func (f *finder) newProber() *prober {
	return &prober{Matrix: f.Matrix, weigher: f.Judge.NewMemo(f.RuleIndex), probes: map[[2]int32]*probed{}}
}

// probe returns what became of an intent on paths of an effect.
func (f *prober) probe(intent, effect int32) *probed {
	key := [2]int32{intent, effect}
	p := f.probes[key]
	if p == nil {
		p = &probed{Explanation: f.weigher.Explain(intent, f.Interner.EffectAt(effect))}
		p.plain = !p.Verdict.Contested && f.Interner.EffectAt(effect).Kind != paths.Bypass && !remarkable(&p.Verdict)
		f.probes[key] = p
	}
	return p
}

// remark is a probe of an atom about which there is something to say.
type remark struct {
	atom  int
	probe *probed
}

// noteStore keeps what there is to say of combinations. It serves the matrices that come of one
// by edits, but for the rule sets whose terms say something else.
type noteStore struct {
	mu    sync.Mutex
	known map[noteKey]*note
}

// noteKey is a combination, through one publication or none.
type noteKey struct {
	matrix.Combination
	publication int
}

// note is what there is to say of a combination, and all probes that were made of it.
type note struct {
	remarks []remark
	probes  []*probed
}

// after returns the notes without some.
func (n *noteStore) after(gone func(noteKey) bool) *noteStore {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := &noteStore{known: maps.Clone(n.known)}
	maps.DeleteFunc(out.known, func(k noteKey, _ *note) bool { return gone(k) })
	return out
}

// merge adds notes.
func (n *noteStore) merge(fresh map[noteKey]*note) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.known == nil {
		n.known = map[noteKey]*note{}
	}
	maps.Copy(n.known, fresh)
}

// all returns the notes of now.
func (n *noteStore) all() map[noteKey]*note {
	n.mu.Lock()
	defer n.mu.Unlock()
	return maps.Clone(n.known)
}

// note weighs a combination.
func (f *prober) note(k noteKey) *note {
	out := &note{}
	context, terms := f.Interner.RuleSetAt(k.RuleSet, nil)
	var p *probed
	last := int32(-1) // intent: that of most atoms is that of the one before
	for atom, o := range f.weigher.Intents(context, terms) {
		if k.publication != paths.None && !f.Admits[k.publication].Test(uint(atom)) {
			continue
		}
		if o != last {
			if p, last = f.probe(o, k.Effect), o; !slices.Contains(out.probes, p) {
				out.probes = append(out.probes, p)
			}
		}
		if !p.plain {
			out.remarks = append(out.remarks, remark{atom, p})
		}
	}
	return out
}

// report weighs circumstances side by side, those of which there is no note yet, and
// says what is remarkable of them in their order.
func (f *finder) report(order []findingCase, examples map[findingCase]example) {
	known := f.book.notes.all()
	missing := map[noteKey]bool{}
	var wanted []noteKey
	for _, c := range order {
		if k := c.noteKey(); known[k] == nil && !missing[k] {
			missing[k] = true
			wanted = append(wanted, k)
		}
	}
	fresh := f.weigh(wanted)
	f.book.notes.merge(fresh)
	for _, c := range order {
		n := known[c.noteKey()]
		if n == nil {
			n = fresh[c.noteKey()]
		}
		x := examples[c]
		where := sync.OnceValue(func() []string {
			return append(f.placeOf(&f.Classes[x.from].End), f.placeOf(&f.Classes[x.to].End)...)
		})
		for _, p := range n.probes {
			for _, r := range p.Spoke {
				f.spoke[r] = true
			}
		}
		for _, r := range n.remarks {
			f.reportOne(&r.probe.Explanation, f.Interner.EffectAt(c.Effect), r.atom, x, where)
		}
	}
}

// noteKey returns what the note on a circumstance goes by.
func (c *findingCase) noteKey() noteKey { return noteKey{c.Combination, c.publication} }

// manyNotes is how many notes are made before others are let by.
const manyNotes = 64

// weigh makes notes, side by side.
func (f *finder) weigh(wanted []noteKey) map[noteKey]*note {
	found := make([]*note, len(wanted))
	parallel.Shares(len(wanted), min(runtime.GOMAXPROCS(0), max(1, len(wanted)/256)), func(_, first, last int) {
		p := f.newProber()
		for k := first; k < last; k++ {
			if k%manyNotes == 0 {
				f.pace()
			}
			found[k] = p.note(wanted[k])
		}
	})
	out := make(map[noteKey]*note, len(wanted))
	for i, k := range wanted {
		out[k] = found[i]
	}
	return out
}

// remarkable reports whether the reason of a verdict is a finding.
func remarkable(v *verdict.Verdict) bool {
	switch v.Reason {
	case verdict.ReasonUnenforced, verdict.ReasonUninspectable, verdict.ReasonFailedOpen, verdict.ReasonNoFirewall, verdict.ReasonAsymmetric, verdict.ReasonNoWayBack:
		return true
	case verdict.ReasonNoPath:
		return v.Intended != estate.Deny
	}
	return false
}

// reportOne reports what is remarkable about the flows of an atom.
func (f *finder) reportOne(p *verdict.Explanation, way *verdict.Effect, atom int, x example, where func() []string) {
	src, dst := &f.Classes[x.from].End, &f.Classes[x.to].End
	args := func(list ...string) func() []string { return func() []string { return list } }
	if p.Verdict.Contested {
		key := strings.Join(p.Contest, " ")
		if _, known := f.at[string(Contested)+" "+key]; !known {
			f.contests = append(f.contests, p.Contest)
		}
		f.add(Contested, key, x, atom, policyRefs(p.Contest), func() []string { return slices.Concat(where(), p.Contest) })
	}
	network := func() estate.Ref {
		return estate.Ref{Kind: estate.KindNetwork, Name: f.Judge.Net.Networks[src.Home.Network].Name}
	}
	if way.Kind == paths.Bypass && (p.Verdict.Outcome == verdict.Allowed || p.Verdict.Outcome == verdict.Inspected) {
		f.add(Bypass, network().Name, x, atom, []estate.Ref{network()}, args(network().Name))
	}
	switch p.Verdict.Reason {
	case verdict.ReasonUnenforced:
		f.addAt(Unenforced, way.Kind.String(), x, atom, network(), args(way.Kind.String()))
		for _, guardrail := range p.Rails {
			f.add(RailNotEnforced, guardrail, x, atom, policyRefs([]string{guardrail}), func() []string { return append([]string{guardrail}, where()...) })
		}
	case verdict.ReasonUninspectable:
		f.addAt(Uninspectable, way.Kind.String(), x, atom, network(), args(way.Kind.String()))
	case verdict.ReasonFailedOpen:
		f.add(FailedOpen, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, args(p.Pool))
	case verdict.ReasonNoFirewall:
		f.add(NoFirewall, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, args(p.Pool))
	case verdict.ReasonAsymmetric:
		f.addBetween(Asymmetric, strings.Join(where(), " "), x, atom, where, src, dst)
	case verdict.ReasonNoWayBack:
		f.addBetween(OneWay, strings.Join(f.placeOf(dst), " "), x, atom, args(f.placeOf(dst)...), dst)
	case verdict.ReasonNoPath:
		if remarkable(&p.Verdict) {
			end, word := src, "from"
			if farEnd(way.Absence) {
				end, word = dst, "to"
			}
			about := append([]string{way.Absence.String(), word}, f.placeOf(end)...)
			f.addBetween(MeantUnrouted, strings.Join(about, " "), x, atom, args(about...), end)
		}
	}
}

// networks returns the networks of endpoints inside.
func (f *finder) networks(ends ...*membership.Endpoint) []estate.Ref {
	var refs []estate.Ref
	for _, p := range ends {
		if !p.Internal() {
			continue
		}
		if ref := (estate.Ref{Kind: estate.KindNetwork, Name: f.Judge.Net.Networks[p.Home.Network].Name}); !slices.Contains(refs, ref) {
			refs = append(refs, ref)
		}
	}
	return refs
}

// placeOf returns the network and the segment of an endpoint: two empty names for the
// internet.
func (f *finder) placeOf(p *membership.Endpoint) []string {
	if !p.Internal() {
		return []string{"", ""}
	}
	net := f.Judge.Net
	return []string{net.Networks[p.Home.Network].Name, net.Segments[p.Segment]}
}

func policyRefs(names []string) []estate.Ref {
	refs := make([]estate.Ref, len(names))
	for i, n := range names {
		refs[i] = estate.Ref{Kind: estate.KindPolicy, Name: n}
	}
	return refs
}
