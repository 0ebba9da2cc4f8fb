package difference

import (
	"github.com/bits-and-blooms/bitset"

	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Witness returns a flow of the change, between workloads if it can. Cost: the first time,
// that of looking for it among the difference classes that the change is told by.
func (c *Change) Witness() verdict.Flow {
	c.gathered.witnessed.Do(c.gathered.exemplify)
	return c.gathered.witness
}

// unaddressed returns a flow of the change without its addresses.
func (c *change) unaddressed() verdict.Flow {
	protocol, sport, dport, _ := c.Services.Witness()
	f := verdict.Flow{Segment: c.From.Segment, Publication: c.Publication, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
	if c.From.Kind == matrix.NodeInternet {
		f.Segment = verdict.Internet
	}
	return f
}

// exemplify finds the witness.
func (c *change) exemplify() {
	c.witness = c.unaddressed()
	tries := 0
	for r := range c.reaches() { // first without making the sets
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
		if f, told := c.among(c.patches[i].From, c.patches[i].To); told > c.told {
			c.witness, c.told = f, told
		}
		if c.told > 1 {
			return
		}
	}
}

// Witness returns a flow of the block, between workloads if it can.
func (b *Block) Witness() verdict.Flow {
	f, _ := b.change.among(b.src, b.dst)
	return f
}

// among returns a flow from one of some intersections to one of others, and how good a witness it
// is; 0 for none.
func (c *change) among(src, dst *bitset.BitSet) (verdict.Flow, int) {
	flow, told, tries := c.unaddressed(), 0, 0
	for k := range dst.EachSet() {
		for i := range src.EachSet() {
			if f, n := c.between(int32(i), int32(k)); n > told {
				flow, told = f, n
			}
			if tries++; told == best || told > 0 && tries > enough {
				return flow, told
			}
		}
	}
	return flow, told
}

// showOf keeps a flow between two difference classes, if it is a better witness and they say
// what is so of it.
func (c *change) showOf(src, dst *diffClass) {
	for _, i := range src.shows {
		for _, k := range dst.shows {
			if c.corrections == nil || !c.comparer.neighbours(c.At[0], i, k) {
				c.show(i, k)
			}
		}
	}
}

// best is how good a witness two workloads make.
const best = 3

// enough is among how many pairs of difference classes a better witness is looked for than the one
// that there is: where nobody is a workload, there is none.
const enough = 4096

// show keeps a flow between two intersections, if it is a better witness than what is known.
func (c *change) show(i, k int32) {
	if f, told := c.between(i, k); told > c.told {
		c.witness, c.told = f, told
	}
}

// between returns a flow from one intersection to another, and how good a witness it is; 0 for
// none, which is so between families, and between an address and itself.
func (c *change) between(i, k int32) (verdict.Flow, int) {
	x, y := &c.comparer.Domain(c.At[0]).Intersections[i], &c.comparer.Domain(c.At[1]).Intersections[k]
	if x.Four != y.Four {
		return verdict.Flow{}, 0
	}
	src, dst, ok := x.apart(y)
	if !ok && (c.At[0] == c.At[1] || c.From.Kind == matrix.NodeInternet || c.To.Kind == matrix.NodeInternet) {
		return verdict.Flow{}, 0
	}
	f := c.unaddressed()
	f.Source, f.Destination = src, c.comparer.asSeen(y, dst, c.From, c.After == nil)
	if c.From.Kind == matrix.NodeInternet && c.Publication == "" && !c.unpublished(&f) {
		return f, 1
	}
	return f, 1 + lists.OneIf(x.workload) + lists.OneIf(y.workload)
}

// unpublished gives a flow from the internet that is meant to come in by no publication a
// service that none lets in to its address, which another segment may use and publish too.
// It returns false if there is no such service.
func (c *change) unpublished(f *verdict.Flow) bool {
	left := c.Services
	for _, s := range []*matrix.Matrix{c.comparer.old, c.comparer.new} {
		for i := range s.Judge.PublicationNames() {
			for segment := range s.Net.Segments {
				if !s.Judge.PublishesIn(i, segment) {
					continue
				}
				if end, ok := s.Judge.Internal(segment, f.Destination); ok && s.Judge.Publishes(i, &end) {
					left = left.Intersect(space.OfTerms(s.Judge.PublicationTerms(i)).Complement())
				}
			}
		}
	}
	protocol, sport, dport, ok := left.Witness()
	if ok {
		f.Service = verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}
	}
	return ok
}
