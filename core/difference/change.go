package difference

import (
	"iter"
	"math/big"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/verdict"
)

// change is a Change as it is gathered.
type change struct {
	Change
	comparer  *comparer
	pairs     intervals.Tally
	witness   verdict.Flow // found when it is asked for
	witnessed parallel.Once
	told      int // how good it is
	union     *matrix.Union
	results   [2]int32 // before and after; -1 for no flow
	rank      [2]int   // what they are sorted by first
	// Which sources reach a destination: by difference classes, but for parts of them that come out
	// otherwise than their difference class; through publications, intersection by intersection.
	plain       []*shift
	corrections map[*correctedPart][]correction // by destination
	single      map[int32]*bitset.BitSet        // by destination

	once    parallel.Once // its sets are made when they are asked for
	patches []SourcesByDestinations
}

// shift is the flows that no publication lets in and that went from one vector to
// another, as difference classes tell them: they are in the changes of all services for which these
// two say something else.
type shift struct {
	at      int // its place among those of its pairing
	changes []*change
	pairs   intervals.Tally
	reaches []rectangle
	coming  int // how many more there will be
}

// rectangle is sources each of which reaches each of some destinations.
type rectangle struct{ srcs, dsts []*diffClass }

// share puts the flows of shifts into their changes, once all are known.
func (p *pairing) share() {
	for _, x := range p.shifts {
		if len(x.reaches) == 0 {
			continue
		}
		for _, c := range x.changes {
			x.pairs.SumInto(&c.pairs)
			c.plain = append(c.plain, x)
		}
	}
}

// reaches goes through what difference classes say of the change.
func (c *change) reaches() iter.Seq[*rectangle] {
	return func(yield func(*rectangle) bool) {
		for _, x := range c.plain {
			for i := range x.reaches {
				if !yield(&x.reaches[i]) {
					return
				}
			}
		}
	}
}

// change returns the change that a delta of flows through a publication belongs to.
func (p *pairing) change(publication string, d matrix.Delta) *change {
	key := changeKey{publication, d.Before, d.After, d.Services}
	c, ok := p.at[key]
	if !ok {
		c = &change{
			comparer: p.comparer,
			Change:   Change{From: p.domains[p.from].node, To: p.domains[p.to].node, Publication: publication, Services: d.Services.Services, At: [2]int{p.from, p.to}, atoms: d.Services.Set},
			results:  [2]int32{d.Before, d.After}, union: d.Services,
		}
		if d.Before >= 0 {
			c.Before = p.results[d.Before]
		}
		if d.After >= 0 {
			c.After = p.results[d.After]
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
	services      *matrix.Union
}

// plainly returns where flows are put which no publication lets in, and which went from
// one vector to another.
func (p *pairing) plainly(before, after int32) *shift {
	key := [2]int32{before, after}
	x, known := p.plain[key]
	if !known {
		x = &shift{at: len(p.shifts)}
		for _, d := range p.deltasOf(before, after) {
			x.changes = append(x.changes, p.change("", d))
		}
		p.plain[key], p.shifts = x, append(p.shifts, x)
	}
	return x
}

// with notes that the flows between two intersections are in the change. No difference class says
// anything of it.
func (c *change) with(i, k int32, x, y intervals.Size) {
	c.pairs.Product(x, y, 1)
	if c.single == nil {
		c.single = map[int32]*bitset.BitSet{}
	}
	if c.single[k] == nil {
		c.single[k] = bitset.New(uint(len(c.comparer.Domain(c.At[0]).Intersections)))
	}
	c.single[k].Set(uint(i))
}

func (c *change) subtract(n *big.Int) {
	if n.Sign() != 0 {
		c.pairs.AddLarge(n.Neg(n))
	}
}

// neighbours reports whether two intersections of an aligned domain have a network in common, before
// or afterwards.
func (c *comparer) neighbours(land int, i, k int32) bool {
	t := c.Domain(land)
	was := t.was[i].is && t.was[k].is && t.was[i].Network == t.was[k].Network
	return was || t.is[i].is && t.is[k].is && t.is[i].Network == t.is[k].Network
}
