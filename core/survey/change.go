package survey

import (
	"cmp"
	"math/big"
	"slices"
	"strings"

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
	// Which sources reach a destination: by bundles, but for parts of them that fare
	// otherwise than their bundle; through publications, joint by joint.
	sources []bundle
	bundles map[*bundle][]int32      // by destination: the sources, by place
	amends  map[*sub][]amend         // by destination
	single  map[int32]*bitset.BitSet // by destination
}

// change returns the change that a delta of flows through a publication belongs to.
func (p *pairing) change(publication string, d delta) *change {
	key := changeKey{publication, d.before, d.after, bitsKey(d.atoms)}
	c, ok := p.at[key]
	if !ok {
		c = &change{
			comparer: p.comparer, publication: publication,
			bundles: map[*bundle][]int32{},
			Change:  Change{From: p.lands[p.from].node, To: p.lands[p.to].node, at: [2]int{p.from, p.to}, atoms: d.atoms},
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

// add notes that the flows between two bundles went from one vector to another.
func (p *pairing) add(src, dst *bundle, before, after int32) {
	for _, c := range p.plainly(before, after) {
		c.pairs.product(src.size, dst.size, 1)
		c.bundles[dst] = append(c.bundles[dst], int32(src.at))
	}
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

// finish returns the changes in order, with their sets.
func (c *comparer) finish() []Change {
	var jobs []func()
	for _, x := range c.changes {
		x.Pairs = new(big.Int)
		if x.pairs.sum(x.Pairs); x.Pairs.Sign() > 0 {
			jobs = append(jobs, func() {
				x.Services = c.old.atoms.Union(x.atoms)
				x.patch()
				x.exemplify()
			})
		}
	}
	inParallel(jobs)
	out := make([]Change, 0, len(jobs))
	for _, x := range c.changes {
		if x.Pairs.Sign() > 0 {
			out = append(out, x.Change)
		}
	}
	slices.SortFunc(out, func(a, b Change) int {
		if d := compareNodes(a.From, b.From); d != 0 {
			return d
		}
		if d := compareNodes(a.To, b.To); d != 0 {
			return d
		}
		if d := strings.Compare(verdictKey(a.Before)+verdictKey(a.After)+a.Witness.Publication, verdictKey(b.Before)+verdictKey(b.After)+b.Witness.Publication); d != 0 {
			return d
		}
		if d := cmp.Or(cmp.Compare(a.Services.Count(), b.Services.Count()), a.Pairs.Cmp(b.Pairs)); d != 0 {
			return d
		}
		return slices.Compare(a.Services.Words(), b.Services.Words())
	})
	return out
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
	said := func(list []int32) *bitset.BitSet {
		from := bitset.New(sources)
		for _, b := range list {
			if src := &c.sources[b]; len(src.joints) <= fewJoints {
				for _, i := range src.joints {
					from.Set(uint(i))
				}
			} else {
				from.InPlaceUnion(src.set(int(sources)))
			}
		}
		return from
	}
	amended := map[int32]bool{}
	for d, amends := range c.amends {
		from := said(c.bundles[d.bundle])
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
	for b, list := range c.bundles {
		slices.Sort(list)
		key := unitsKey(list)
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

// fewJoints is how many joints are sooner set one by one than all at once.
const fewJoints = 24

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
	from, to := c.comparer.land(c.at[0]).joints, c.comparer.land(c.at[1]).joints
	protocol, sport, dport, _ := c.Services.Witness()
	c.Witness = verdict.Flow{Segment: c.From.Segment, Publication: c.publication, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
	if c.From.Kind == NodeInternet {
		c.Witness.Segment = verdict.Internet
	}
	for i := range c.patches {
		for k := range c.patches[i].to.EachSet() {
			y := &to[k]
			for n := range c.patches[i].from.EachSet() {
				x := &from[n]
				told := 1 + oneIf(x.workload) + oneIf(y.workload)
				if told <= c.told || x.four != y.four {
					continue
				}
				src, dst, ok := x.apart(y)
				if !ok && (c.at[0] == c.at[1] || c.From.Kind == NodeInternet || c.To.Kind == NodeInternet) {
					continue // an address and itself
				}
				dst = c.comparer.asSeen(y, dst, c.From, c.After == nil)
				c.told, c.Witness.Source, c.Witness.Destination = told, src, dst
				if told == 3 {
					return
				}
			}
			if c.told > 1 && i > 64 {
				return
			}
		}
	}
}
