package failure

import (
	"math/big"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/expectation"
	"bivium/core/matrix"
	"bivium/core/membership"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/verdict"
)

// failureEvaluator finds the impacts of failures, one after the other, and keeps what they
// have in common.
type failureEvaluator struct {
	*matrix.Matrix
	pathBuckets [][]*pathBucket
	byPathClass []map[int]*pathClassLines // by segment and path class
	byPlace     map[placeKey]*pathClassLines
	epoch       int // of marks of pathBuckets
	settler     *matrix.Settler
	extra       map[matrix.Combination][]int32 // of results of the settler, for combinations that the matrix has not
	outcomes    *outcomes
	shifts      map[[2]int32][]int32 // by effects before and after
	shiftOf     map[[2]int32]int32   // by outcomes before and after
	turnsAt     [][]turning          // those of a shift, from 1
	slots       []int32              // by rule set: zeros, for whoever needs them
	sumAt       []int32              // by shift: the place of its sum in the exchange at hand, from 1
	shares      []share              // memory for those of a mix
	sums        []sum                // and for those of an exchange
	cells       []cellSum
	used        []uint32
	turns       map[[2]int32][]turning
	mixed       map[mixKey]*[][]share
	wholes      map[totalKey][]total
	strikes     map[string]int          // what makes groups alike that are struck
	struck      map[classes.PathKey]int // with that for the likeness
	met         map[metKey]int32
	watched     []*watch
	seenBy      map[*matrix.Block]*filter

	// Of the failure at hand.
	judge  *verdict.Judge
	cut    *Outage
	meshed bool   // links or hubs fail, and islands may break
	pooled bool   // firewalls fail
	moved  []bool // by network
	groups [][]*group
	impact *Impact
	at     map[turnKey]*Turn
	// Pairs of classes whose flows from the internet were counted for a turn: each pair of
	// endpoints counts once, by however many publications its flows come in.
	counted map[turnedPair]bool
	last    [3]int       // the domains that were turned last, and the failure
	kinds   [kinds]*Turn // of those, by kind of turning
	falls   int
}

// watch is an expectation that holds, and may break.
type watch struct {
	*estate.Expectation
	src, dst int // domains
	from, to filter
	atoms    *bitset.BitSet
	broken   bool
}

// turnedPair is a pair of classes with flows of a turn.
type turnedPair struct {
	turn     *Turn
	src, dst int
}

type turnKey struct {
	from, to      int
	before, after verdict.Outcome
}

// turning is the atoms on which one vector has another outcome than another.
type turning struct {
	before, after verdict.Outcome
	kind          int // a number for both
	atoms         *bitset.BitSet
}

// kinds is how many kinds of turnings there may be.
const kinds = 25

// kindOf returns the kind of a turning.
func kindOf(before, after verdict.Outcome) int {
	at := func(o verdict.Outcome) int {
		return slices.Index([]verdict.Outcome{verdict.Allowed, verdict.Inspected, verdict.Blocked, verdict.Denied, verdict.Unrouted}, o)
	}
	return 5*at(before) + at(after)
}

func newFailureEvaluator(s *matrix.Matrix, held []expectation.Result) *failureEvaluator {
	f := &failureEvaluator{
		Matrix: s, pathBuckets: pathBucketsOf(s), settler: matrix.NewSettler(s), extra: map[matrix.Combination][]int32{}, outcomes: newOutcomes(s),
		byPlace: map[placeKey]*pathClassLines{}, shifts: map[[2]int32][]int32{}, shiftOf: map[[2]int32]int32{}, turnsAt: make([][]turning, 1),
		turns: map[[2]int32][]turning{}, mixed: map[mixKey]*[][]share{}, wholes: map[totalKey][]total{}, seenBy: map[*matrix.Block]*filter{},
		strikes: map[string]int{}, struck: map[classes.PathKey]int{}, met: map[metKey]int32{},
	}
	ruleSets, _ := s.Interner.Len()
	f.slots = make([]int32, ruleSets)
	f.byPathClass = make([]map[int]*pathClassLines, len(f.pathBuckets))
	for segment, list := range f.pathBuckets {
		f.byPathClass[segment] = map[int]*pathClassLines{}
		for _, h := range list {
			if f.byPathClass[segment][h.pathClass] == nil {
				f.byPathClass[segment][h.pathClass] = &pathClassLines{lines: map[ruleIndexKey][]lineSize{}}
			}
			f.byPathClass[segment][h.pathClass].pathBuckets = append(f.byPathClass[segment][h.pathClass].pathBuckets, h)
		}
	}
	for i, h := range held {
		if !h.Holds || h.Vacuous {
			continue
		}
		w := &watch{Expectation: h.Expectation, src: endDomain(s, h.Expectation.From), dst: endDomain(s, h.Expectation.To)}
		w.from, w.to = filterOf(s, 2*i+1, h.Expectation.From), filterOf(s, 2*i+2, h.Expectation.To)
		if w.src >= 0 && w.src < len(s.Inside) && w.src != w.dst {
			for n := range w.to.in {
				w.to.in[n] = w.to.in[n] && s.Classes[n].Seen[w.src] == classes.SeesIt
			}
		}
		w.atoms, _ = s.Atoms.Covered(query.TermsOf(s, h.Expectation.Services))
		f.watched = append(f.watched, w)
	}
	return f
}

func filterOf(s *matrix.Matrix, id int, e estate.End) filter {
	f := filter{id, make([]bool, len(s.Classes))}
	for _, m := range query.End(s, e) {
		f.in[m.Class] = true
	}
	return f
}

// endDomain returns the domain of one end of an expectation, or paths.None.
func endDomain(s *matrix.Matrix, e estate.End) int {
	if e.Internet {
		return len(s.Inside)
	}
	return s.Net.Segment(e.Party.Segment)
}

// fall returns what changes if one thing fails.
func (f *failureEvaluator) fall(x *Outage) Impact {
	f.impact = &Impact{Outage: *x}
	f.cut, f.at, f.counted = x, map[turnKey]*Turn{}, map[turnedPair]bool{}
	f.falls++
	f.judge = f.Matrix.Judge.WithNet(f.Net.Without(x.Cut), x.down)
	f.meshed = x.Cut.Hub != paths.None || x.Cut.Link != paths.None
	f.pooled = x.down != verdict.Down{} && !f.judge.SamePools(f.Matrix.Judge)
	for _, w := range f.watched {
		w.broken = false
	}
	f.findMoved()
	f.strike()
	for p, b := range f.Blocks.All() {
		switch len(f.Inside) {
		case p.From:
			f.inbound(b)
		case p.To:
			f.outbound(b)
		default:
			f.between(b)
		}
	}
	return f.finish()
}

// findMoved finds the networks whose paths may change because attachments fail:
// their own, or those of a peer, whose hub they may use.
func (f *failureEvaluator) findMoved() {
	net := f.judge.Net
	struck := func(network int) bool {
		return len(f.Net.Networks[network].Attachments) != len(net.Networks[network].Attachments)
	}
	f.moved = make([]bool, len(f.Net.Networks))
	for n := range f.moved {
		f.moved[n] = struck(n) || slices.ContainsFunc(f.Net.Networks[n].Peers, func(p paths.Peer) bool { return struck(p.Network) })
	}
}

func (f *failureEvaluator) moves(network int) bool { return f.moved[network] }

// strike puts the pathBuckets of each segment into groups that the failure strikes
// alike: those of a path class, as far as their networks are alike afterwards.
func (f *failureEvaluator) strike() {
	net := f.judge.Net
	f.groups = make([][]*group, len(f.pathBuckets))
	for segment, list := range f.pathBuckets {
		type key struct {
			PathClass int
			moved     bool
			alike     string
		}
		at := map[key]*group{}
		stay := map[int]int{} // by path class: how many do not move
		for _, h := range list {
			k := key{PathClass: h.pathClass, moved: f.moves(h.network)}
			if k.moved || f.meshed {
				k.alike = net.Alike(f.Classes[h.classes[0]].End.Home)
			}
			if !k.moved {
				stay[h.pathClass]++
			}
			g := at[k]
			if g == nil {
				g = &group{moved: k.moved, struck: -1}
				if k.moved {
					g.struck = f.struckAs(k.PathClass, k.alike)
				}
				at[k] = g
				f.groups[segment] = append(f.groups[segment], g)
			}
			g.pathBuckets = append(g.pathBuckets, h)
		}
		for _, g := range f.groups[segment] {
			if g.moved || len(g.pathBuckets) < stay[g.pathBuckets[0].pathClass] {
				continue
			}
			g.pathClass = f.byPathClass[segment][g.pathBuckets[0].pathClass]
			for _, h := range g.pathClass.pathBuckets {
				if f.moves(h.network) {
					g.minus = append(g.minus, h)
				}
			}
		}
	}
}

// between finds the flows of a block between segments whose effect changes.
func (f *failureEvaluator) between(b *matrix.Block) {
	near := b.From == b.To
	o := &rectangles{failureEvaluator: f, Block: b, at: map[rectangleKey]int{}, ids: map[string]int{}}
	for i, p := range f.groups[b.From] {
		for k, q := range f.groups[b.To] {
			if !p.moved && !q.moved && !f.meshed && !f.pooled {
				continue
			}
			src, dst, ok := apart(f.Matrix, p, q, near)
			if !ok || src.Addr.Is4() != dst.Addr.Is4() {
				continue
			}
			from, to := b.Src.Place(&f.classOf(p).Header), b.Dst.Place(&f.classOf(q).Header)
			if to == matrix.Unseen {
				continue
			}
			if is := f.effect(p, q, src, dst); is != b.Effects[from][to] {
				o.note(k, from, to, is)
			}
		}
		o.endRow(i)
	}
	for i := range o.list {
		x := &o.list[i]
		f.turn(b, f.joined(&b.Src, b.From, x.from, x.ps), f.joined(&b.Dst, b.To, x.to, x.qs), b.Effects[x.from][x.to], x.is, near)
	}
}

// metKey is a group of which the attachments fail, and another that stays as it is.
type metKey struct {
	struck, pathClass int
	back              bool // the other is the source
}

// effect returns the effect that paths between two groups have. It is known where one of
// them alone is struck, by nothing but its attachments, and is alike then to one that was.
func (f *failureEvaluator) effect(p, q *group, src, dst *membership.Endpoint) int32 {
	key := metKey{-1, 0, q.moved}
	switch {
	case p.moved == q.moved:
	case p.moved:
		key.struck, key.pathClass = p.struck, f.classOf(q).PathClass
	default:
		key.struck, key.pathClass = q.struck, f.classOf(p).PathClass
	}
	if key.struck >= 0 {
		if known, ok := f.met[key]; ok {
			return known
		}
	}
	way := f.judge.WayTo(src, dst)
	is := f.Interner.Effect(f.judge.EffectOf(&way))
	if key.struck >= 0 {
		f.met[key] = is
	}
	return is
}

// struckAs returns the number of what a group is whose attachments fail: the same for
// groups to and from which paths have the same effects, -1 if there may be no other such.
func (f *failureEvaluator) struckAs(class int, alike string) int {
	if f.meshed || f.pooled || !paths.Shared(alike) {
		return -1
	}
	key := f.Partition.PathClasses[class].PathKey
	key.Likeness = classes.Number(f.strikes, alike)
	return classes.Number(f.struck, key)
}

func (f *failureEvaluator) classOf(g *group) *classes.Class {
	return f.Classes[g.pathBuckets[0].classes[0]]
}

// turn adds up what a change of effect turns between two groups.
func (f *failureEvaluator) turn(b *matrix.Block, p, q *group, was, is int32, near bool) {
	e := &effectChange{failureEvaluator: f, block: b, p: p, q: q, from: &filter{}, to: f.seenFilter(b), was: was, is: is, shifts: f.shiftsOf(was, is), sums: f.sums[:0]}
	switch {
	case q.pathClass != nil && p.pathClass == nil:
		e.rows()
	case p.pathClass != nil && q.pathClass == nil:
		e.cols()
	case p.pathClass != nil && q.pathClass != nil:
		e.whole()
	default:
		e.direct(p.on(f.Matrix, &b.Src, e.from), q.on(f.Matrix, &b.Dst, e.to), 1)
	}
	if near {
		f.eachShared(p, q, func(g, h *pathBucket) {
			e.direct(g.on(f.Matrix, &b.Src, e.from), h.on(f.Matrix, &b.Dst, e.to), -1)
		})
	}
	e.finish()
	for _, w := range f.watched {
		if w.src == b.From && w.dst == b.To && !w.broken {
			f.test(w, b, p, q, is, near)
		}
	}
}

// eachShared calls f for the pathBuckets of one network in two groups: the paths
// between those are local, and no failure strikes them.
func (f *failureEvaluator) eachShared(p, q *group, visit func(g, h *pathBucket)) {
	byNetwork := make(map[int][]*pathBucket, len(q.pathBuckets))
	for _, h := range q.pathBuckets {
		byNetwork[h.network] = append(byNetwork[h.network], h)
	}
	for _, g := range p.pathBuckets {
		for _, h := range byNetwork[g.network] {
			visit(g, h)
		}
	}
}

// seenFilter lets those destinations of a block through that its sources see.
func (f *failureEvaluator) seenFilter(b *matrix.Block) *filter {
	if b.From == b.To {
		return &filter{}
	}
	known := f.seenBy[b]
	if known == nil {
		known = &filter{-1, make([]bool, len(f.Classes))}
		for _, n := range f.ClassesIn(b.To) {
			known.in[n] = f.Classes[n].Seen[b.From] == classes.SeesIt
		}
		f.seenBy[b] = known
	}
	return known
}

func (f *failureEvaluator) network(class int) int { return f.Classes[class].End.Home.Network }

// otherNetwork returns two classes on a row and a column that are of different
// networks, or -1.
func (f *failureEvaluator) otherNetwork(b *matrix.Block, p, q *group, from, to *filter, row, col *lineSize) (src, dst int) {
	on := func(g *group, x *matrix.Side, fl *filter, line int32) (out []int) {
		for _, h := range g.pathBuckets {
			for _, l := range h.on(f.Matrix, x, fl) {
				if l.line == line {
					out = append(out, l.class)
				}
			}
		}
		return out
	}
	srcs, dsts := on(p, &b.Src, from, row.line), on(q, &b.Dst, to, col.line)
	for _, i := range srcs {
		for _, k := range dsts {
			if f.network(i) != f.network(k) {
				return i, k
			}
		}
	}
	return -1, -1
}

func (f *failureEvaluator) flowBetween(src, dst int, atoms *bitset.BitSet) verdict.Flow {
	return query.Witness(f.Matrix, &query.Column{ClassResult: matrix.ClassResult{Publication: paths.None}, Src: matrix.Member{Class: src}, Dst: matrix.Member{Class: dst}}, f.Unions.Services(atoms))
}

func (f *failureEvaluator) turnAt(from, to int, t *turning) *Turn {
	if last := [3]int{from, to, f.falls}; f.last != last {
		f.last, f.kinds = last, [kinds]*Turn{}
	}
	if x := f.kinds[t.kind]; x != nil {
		return x
	}
	key := turnKey{from, to, t.before, t.after}
	x := f.at[key]
	if x == nil {
		x = &Turn{From: nodeOf(f.Matrix, from), To: nodeOf(f.Matrix, to), Before: t.before, After: t.after, atoms: bitset.New(uint(f.Atoms.Len()))}
		f.at[key] = x
	}
	f.kinds[t.kind] = x
	return x
}

// nodeOf returns the node of a domain.
func nodeOf(s *matrix.Matrix, domain int) matrix.Node {
	if domain == len(s.Inside) {
		return matrix.Node{Kind: matrix.NodeInternet}
	}
	return matrix.Node{Kind: matrix.NodeSegment, Segment: s.Net.Segments[domain]}
}

// finish returns the impact, in order.
func (f *failureEvaluator) finish() Impact {
	for _, x := range f.at {
		x.Pairs = new(big.Int)
		x.tally.Sum(x.Pairs)
		if x.Pairs.Sign() > 0 {
			x.Services = f.Unions.Services(x.atoms)
			f.impact.Turns = append(f.impact.Turns, *x)
		}
	}
	slices.SortFunc(f.impact.Turns, func(a, b Turn) int {
		if d := difference.CompareNodes(a.From, b.From); d != 0 {
			return d
		}
		if d := difference.CompareNodes(a.To, b.To); d != 0 {
			return d
		}
		return slices.Compare([]string{string(a.Before), string(a.After)}, []string{string(b.Before), string(b.After)})
	})
	return *f.impact
}
