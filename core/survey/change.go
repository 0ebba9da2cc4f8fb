package survey

import (
	"cmp"
	"math/big"
	"slices"
	"strings"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/verdict"
)

// change is a Change as it is gathered.
type change struct {
	Change
	comparer    *comparer
	publication string
	pairs       tally
	told        int
	key         string // what they are sorted by first
	// Which sources reach a destination: by bundles, but for parts of them that fare
	// otherwise than their bundle; through publications, joint by joint.
	reaches []reach
	amends  map[*sub][]amend         // by destination
	single  map[int32]*bitset.BitSet // by destination

	once    sync.Once // its sets are made when they are asked for
	patches []patch
}

// reach is sources each of which reaches each of some destinations in a change.
type reach struct{ srcs, dsts []*bundle } // shared with other changes

// change returns the change that a delta of flows through a publication belongs to.
func (p *pairing) change(publication string, d delta) *change {
	key := changeKey{publication, d.before, d.after, bitsKey(d.atoms)}
	c, ok := p.at[key]
	if !ok {
		c = &change{
			comparer: p.comparer, publication: publication,
			Change: Change{From: p.lands[p.from].node, To: p.lands[p.to].node, at: [2]int{p.from, p.to}, atoms: d.atoms},
		}
		if d.before >= 0 {
			c.Before = p.results[d.before]
		}
		if d.after >= 0 {
			c.After = p.results[d.after]
		}
		p.at[key] = c
	}
	return c
}

// changeKey is what the flows of a change have in common: it is exactly its
// sources, its destinations and its services multiplied.
type changeKey struct {
	publication   string
	before, after int32
	atoms         string
}

// plainly returns the changes that flows which no publication lets in belong to,
// where they went from one vector to another.
func (p *pairing) plainly(before, after int32) []*change {
	key := [2]int32{before, after}
	list, known := p.plain[key]
	if !known {
		for _, d := range p.deltasOf(before, after) {
			list = append(list, p.change("", d))
		}
		p.plain[key] = list
	}
	return list
}

// with notes that the flows between two joints are in the change. No bundle says
// anything of it.
func (c *change) with(i, k int32, x, y size) {
	c.pairs.product(x, y, 1)
	if c.single == nil {
		c.single = map[int32]*bitset.BitSet{}
	}
	if c.single[k] == nil {
		c.single[k] = bitset.New(uint(len(c.comparer.land(c.at[0]).joints)))
	}
	c.single[k].Set(uint(i))
}

func (c *change) subtract(n *big.Int) {
	if n.Sign() != 0 {
		c.pairs.addLarge(n.Neg(n))
	}
}

// finish returns the changes in order: those from one territory to another are found
// together, and territories stand in their order.
func (c *comparer) finish(found [][]*change) []Change {
	var jobs []func()
	services := c.old.unions
	for _, x := range slices.Concat(found...) {
		x.Pairs = new(big.Int)
		if x.pairs.sum(x.Pairs); x.Pairs.Sign() > 0 {
			jobs = append(jobs, func() {
				x.Services, x.gathered = services.of(x.atoms), x
				x.exemplify()
				x.key = verdictKey(x.Before) + verdictKey(x.After) + x.Witness.Publication
			})
		}
	}
	out := make([]Change, 0, len(jobs))
	inParallel(jobs)
	jobs = jobs[:0]
	for i := range found {
		jobs = append(jobs, func() {
			found[i] = slices.DeleteFunc(found[i], func(x *change) bool { return x.Pairs.Sign() <= 0 })
			slices.SortFunc(found[i], compareChanges)
		})
	}
	inParallel(jobs)
	for _, list := range found {
		for _, x := range list {
			out = append(out, x.Change)
		}
	}
	return out
}

// compareChanges orders changes from one territory to another.
func compareChanges(a, b *change) int {
	if d := strings.Compare(a.key, b.key); d != 0 {
		return d
	}
	if d := cmp.Or(cmp.Compare(a.Services.Count(), b.Services.Count()), a.Pairs.Cmp(b.Pairs)); d != 0 {
		return d
	}
	return slices.Compare(a.Services.Words(), b.Services.Words())
}

// sets returns the flows of the change, as destinations that the same sources reach.
func (c *Change) sets() []patch {
	c.gathered.once.Do(c.gathered.patch)
	return c.gathered.patches
}

// patch puts destinations that the same sources reach together.
func (c *change) patch() {
	at := map[string]int{}
	sources, targets := uint(len(c.comparer.land(c.at[0]).joints)), uint(len(c.comparer.land(c.at[1]).joints))
	put := func(from *bitset.BitSet) int {
		key := bitsKey(from)
		i, ok := at[key]
		if !ok {
			i = len(c.patches)
			at[key] = i
			c.patches = append(c.patches, patch{from, bitset.New(targets)})
		}
		return i
	}
	reached := map[*bundle][]*bundle{} // by destination: the sources
	for _, r := range c.reaches {
		for _, dst := range r.dsts {
			reached[dst] = append(reached[dst], r.srcs...)
		}
	}
	said := func(list []*bundle) *bitset.BitSet {
		from := bitset.New(sources)
		for _, src := range list {
			for _, i := range src.joints {
				from.Set(uint(i))
			}
		}
		return from
	}
	amended := map[int32]bool{}
	for d, amends := range c.amends {
		from := said(reached[d.bundle])
		for _, a := range amends {
			for _, i := range a.from.joints {
				from.SetTo(uint(i), a.in)
			}
		}
		for _, k := range d.joints {
			amended[k] = true
		}
		if from.Any() {
			p := put(from)
			for _, k := range d.joints {
				c.patches[p].to.Set(uint(k))
			}
		}
	}
	alike := map[string]int{} // by the sources: a patch
	for b, list := range reached {
		var numbers []int32
		for _, src := range list {
			numbers = append(numbers, int32(src.at))
		}
		slices.Sort(numbers)
		key := unitsKey(numbers)
		p, ok := alike[key]
		if !ok {
			p = put(said(list))
			alike[key] = p
		}
		for _, k := range b.joints {
			if !amended[k] {
				c.patches[p].to.Set(uint(k))
			}
		}
	}
	for k, from := range c.single {
		c.patches[put(from)].to.Set(uint(k))
	}
	c.patches = slices.DeleteFunc(c.patches, func(p patch) bool { return p.to.None() })
	slices.SortFunc(c.patches, func(a, b patch) int {
		x, _ := a.to.NextSet(0)
		y, _ := b.to.NextSet(0)
		return int(x) - int(y)
	})
}

func bitsKey(b *bitset.BitSet) string {
	words := b.Words()
	out := make([]byte, 0, 8*len(words))
	for _, w := range words {
		out = append(out, byte(w), byte(w>>8), byte(w>>16), byte(w>>24), byte(w>>32), byte(w>>40), byte(w>>48), byte(w>>56))
	}
	return string(out)
}

// exemplify finds a flow of the change, between workloads if it can.
func (c *change) exemplify() {
	protocol, sport, dport, _ := c.Services.Witness()
	c.Witness = verdict.Flow{Segment: c.From.Segment, Publication: c.publication, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
	if c.From.Kind == NodeInternet {
		c.Witness.Segment = verdict.Internet
	}
	tries := 0
	for _, r := range c.reaches { // first without making the sets
		for _, src := range r.srcs {
			for _, dst := range r.dsts {
				c.showOf(src, dst)
				if tries++; c.told == best || c.told > 0 && tries > enough {
					return
				}
			}
		}
	}
	if c.told > 0 {
		return
	}
	c.once.Do(c.patch)
	for i := range c.patches {
		for k := range c.patches[i].to.EachSet() {
			for n := range c.patches[i].from.EachSet() {
				if c.show(int32(n), int32(k)); c.told == best {
					return
				}
			}
			if c.told > 1 && i > 64 {
				return
			}
		}
	}
}

// showOf keeps a flow between two bundles, if it is a better witness and they say
// what is so of it.
func (c *change) showOf(src, dst *bundle) {
	for _, i := range src.shows {
		for _, k := range dst.shows {
			if c.amends == nil || !c.comparer.neighbours(c.at[0], i, k) {
				c.show(i, k)
			}
		}
	}
}

// best is how good a witness two workloads make.
const best = 3

// enough is among how many pairs of bundles a better witness is looked for than the one
// that there is: where nobody is a workload, there is none.
const enough = 4096

// show keeps a flow between two joints, if it is a better witness than what is known.
func (c *change) show(i, k int32) {
	x, y := &c.comparer.land(c.at[0]).joints[i], &c.comparer.land(c.at[1]).joints[k]
	told := 1 + oneIf(x.workload) + oneIf(y.workload)
	if told <= c.told || x.four != y.four {
		return
	}
	src, dst, ok := x.apart(y)
	if !ok && (c.at[0] == c.at[1] || c.From.Kind == NodeInternet || c.To.Kind == NodeInternet) {
		return // an address and itself
	}
	c.told, c.Witness.Source, c.Witness.Destination = told, src, c.comparer.asSeen(y, dst, c.From, c.After == nil)
}

// neighbours reports whether two joints of a territory have a network in common, before
// or afterwards.
func (c *comparer) neighbours(land int, i, k int32) bool {
	t := c.land(land)
	was := t.was[i].is && t.was[k].is && t.was[i].network == t.was[k].network
	return was || t.is[i].is && t.is[k].is && t.is[i].network == t.is[k].network
}

// mayReach reports whether flows of the change may go from some joints to others: it
// looks at bundles, and at parts of them.
func (c *Change) mayReach(from, to *grip) bool {
	x := c.gathered
	if slices.ContainsFunc(x.reaches, func(r reach) bool {
		return slices.ContainsFunc(r.srcs, from.meets) && slices.ContainsFunc(r.dsts, to.meets)
	}) {
		return true
	}
	for d, amends := range x.amends {
		if to.holds(d.joints) && slices.ContainsFunc(amends, func(a amend) bool { return a.in && from.holds(a.from.joints) }) {
			return true
		}
	}
	for k, sources := range x.single {
		if to.joints.Test(uint(k)) && from.joints.IntersectionCardinality(sources) > 0 {
			return true
		}
	}
	return false
}

// grip is some joints, and which bundles have some of them.
type grip struct {
	joints *bitset.BitSet
	known  map[*bundle]bool
}

func (g *grip) meets(b *bundle) bool {
	is, ok := g.known[b]
	if !ok {
		is = g.holds(b.joints)
		g.known[b] = is
	}
	return is
}

func (g *grip) holds(joints []int32) bool {
	return slices.ContainsFunc(joints, func(i int32) bool { return g.joints.Test(uint(i)) })
}
