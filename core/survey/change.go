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
	atoms       *bitset.BitSet
	pairs       tally
	told        int
	// Which sources reach a destination: by bundles, but for parts of them that fare
	// otherwise than their bundle; through publications, joint by joint.
	bundles map[*bundle]*bitset.BitSet
	amends  map[*sub][]amend         // by destination
	single  map[int32]*bitset.BitSet // by destination
}

// change returns the change that a delta of flows through a publication belongs to.
func (p *pairing) change(publication string, d delta) *change {
	key := changeKey{publication, d.before, d.after, bitsKey(d.atoms)}
	c, ok := p.at[key]
	if !ok {
		c = &change{
			comparer: p.comparer, publication: publication, atoms: d.atoms,
			bundles: map[*bundle]*bitset.BitSet{},
			Change:  Change{From: p.lands[p.from].node, To: p.lands[p.to].node, at: [2]int{p.from, p.to}},
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
	n := len(p.land(p.from).joints)
	for _, c := range p.plainly(before, after) {
		c.pairs.product(src.size, dst.size, 1)
		bits := c.bundles[dst]
		if bits == nil {
			bits = bitset.New(uint(n))
			c.bundles[dst] = bits
		}
		if len(src.joints) <= fewJoints {
			for _, i := range src.joints {
				bits.Set(uint(i))
			}
			continue
		}
		bits.InPlaceUnion(src.set(n))
	}
}

// fewJoints is how many joints are sooner set one by one than all at once.
const fewJoints = 24

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
	targets := len(c.comparer.land(c.at[1]).joints)
	put := func(from *bitset.BitSet, dsts ...int32) {
		if from.None() || len(dsts) == 0 {
			return
		}
		key := bitsKey(from)
		i, ok := at[key]
		if !ok {
			i = len(c.patches)
			at[key] = i
			c.patches = append(c.patches, patch{from, bitset.New(uint(targets))})
		}
		for _, k := range dsts {
			c.patches[i].to.Set(uint(k))
		}
	}
	amended := map[int32]bool{}
	for d, amends := range c.amends {
		from := bitset.New(uint(len(c.comparer.land(c.at[0]).joints)))
		if said := c.bundles[d.bundle]; said != nil {
			from = said.Clone()
		}
		for _, a := range amends {
			for _, i := range a.from.joints {
				from.SetTo(uint(i), a.in)
			}
		}
		put(from, d.joints...)
		for _, k := range d.joints {
			amended[k] = true
		}
	}
	for b, from := range c.bundles {
		plain := b.joints
		if len(amended) > 0 {
			plain = slices.DeleteFunc(slices.Clone(b.joints), func(k int32) bool { return amended[k] })
		}
		put(from, plain...)
	}
	for k, from := range c.single {
		put(from, k)
	}
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
