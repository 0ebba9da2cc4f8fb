package space

import (
	"encoding/binary"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
)

// Atoms is a partition of all services such that each given set is a union of
// atoms, with as few atoms as that takes. Atoms are known by number. The
// partition is immutable and safe for concurrent use.
type Atoms struct {
	sets   []Services
	grids  map[uint8]*grid // of protocols that some set tells apart
	others int             // the atom of all protocols that have no grid
}

// grid is the services of one protocol, cut by source port and by port.
type grid struct {
	sources, ports []int // where each column and row begins, from 0
	cells          []int // atom by source*len(ports)+port
}

// Cut returns the atoms of the given sets, each a union of terms (Cut the plane
// along every bound, then merge the cells that lie in the same sets.) Cost: for
// each protocol, the cells of its grid times the sets.
func Cut(sets [][]estate.Term) *Atoms {
	a := &Atoms{grids: map[uint8]*grid{}}
	byProtocol := map[uint8][]Box{}
	for _, terms := range sets {
		for _, t := range terms {
			if !t.AnyProtocol {
				byProtocol[t.Protocol] = append(byProtocol[t.Protocol], Box{t.Protocol, t.Protocol, t.SourcePorts, t.Ports})
			}
		}
	}
	known := map[string]int{}
	var boxes [][]Box // by atom
	put := func(signature *bitset.BitSet, b Box) int {
		key := string(bytesOf(signature))
		atom, ok := known[key]
		if !ok {
			atom = len(boxes)
			known[key] = atom
			boxes = append(boxes, nil)
		}
		boxes[atom] = append(boxes[atom], b)
		return atom
	}
	protocols := make([]uint8, 0, len(byProtocol))
	for p := range byProtocol {
		protocols = append(protocols, p)
	}
	slices.Sort(protocols)
	for _, p := range protocols {
		a.grids[p] = newGrid(p, byProtocol[p], sets, put)
	}
	a.others = a.addOthers(sets, put)
	for _, b := range boxes {
		a.sets = append(a.sets, Of(b))
	}
	return a
}

func bytesOf(b *bitset.BitSet) []byte {
	words := b.Words()
	out := make([]byte, 0, 8*len(words))
	for _, w := range words {
		out = binary.LittleEndian.AppendUint64(out, w)
	}
	return out
}

func newGrid(protocol uint8, boxes []Box, sets [][]estate.Term, put func(*bitset.BitSet, Box) int) *grid {
	allPorts, allSources := estate.PortsOf(protocol)
	sources, ports := []int{0}, []int{0}
	for _, b := range boxes {
		sources = append(sources, int(b.SourcePorts.Lo), int(b.SourcePorts.Hi)+1)
		ports = append(ports, int(b.Ports.Lo), int(b.Ports.Hi)+1)
	}
	g := &grid{sources: below(sources, int(allSources.Hi)), ports: below(ports, int(allPorts.Hi))}
	signatures := make([]*bitset.BitSet, len(g.sources)*len(g.ports))
	for i := range signatures {
		signatures[i] = bitset.New(uint(len(sets)))
	}
	for i, terms := range sets {
		for _, t := range terms {
			g.paint(signatures, t, protocol, uint(i))
		}
	}
	g.cells = make([]int, len(signatures))
	for i, signature := range signatures {
		s, p := i/len(g.ports), i%len(g.ports)
		g.cells[i] = put(signature, Box{protocol, protocol, cellRange(g.sources, s, allSources.Hi), cellRange(g.ports, p, allPorts.Hi)})
	}
	return g
}

// below returns the sorted set of cuts that are not above hi.
func below(cuts []int, hi int) []int {
	cuts = sortedSet(cuts)
	return slices.DeleteFunc(cuts, func(c int) bool { return c > hi })
}

func cellRange(starts []int, i int, hi uint16) estate.Range {
	r := estate.Range{Lo: uint16(starts[i]), Hi: hi}
	if i+1 < len(starts) {
		r.Hi = uint16(starts[i+1] - 1)
	}
	return r
}

// paint marks the cells that a term covers with the number of its set.
func (g *grid) paint(signatures []*bitset.BitSet, t estate.Term, protocol uint8, set uint) {
	s0, s1, p0, p1 := 0, len(g.sources), 0, len(g.ports)
	if !t.AnyProtocol {
		if t.Protocol != protocol {
			return
		}
		s0, s1 = cellsOf(g.sources, t.SourcePorts)
		p0, p1 = cellsOf(g.ports, t.Ports)
	}
	for s := s0; s < s1; s++ {
		for p := p0; p < p1; p++ {
			signatures[s*len(g.ports)+p].Set(set)
		}
	}
}

func cellsOf(starts []int, r estate.Range) (first, end int) {
	first, _ = slices.BinarySearch(starts, int(r.Lo))
	end, _ = slices.BinarySearch(starts, int(r.Hi)+1)
	return first, end
}

// addOthers adds the protocols that no set names: they lie in the sets that
// hold every protocol.
func (a *Atoms) addOthers(sets [][]estate.Term, put func(*bitset.BitSet, Box) int) int {
	signature := bitset.New(uint(len(sets)))
	for i, terms := range sets {
		if slices.ContainsFunc(terms, func(t estate.Term) bool { return t.AnyProtocol }) {
			signature.Set(uint(i))
		}
	}
	atom := 0
	for p := 0; p < 256; p++ {
		if a.grids[uint8(p)] == nil {
			run := a.runFrom(uint8(p))
			atom = put(signature, run)
			p = int(run.LastProtocol)
		}
	}
	return atom
}

// runFrom returns all services of a protocol without a grid, and of those after it that
// have none either and are of the same shape: nearly all of the 256 are one run or two.
func (a *Atoms) runFrom(first uint8) Box {
	ports, sources := estate.PortsOf(first)
	run := Box{first, first, sources, ports}
	for p := int(first) + 1; p < 256 && a.grids[uint8(p)] == nil; p++ {
		if ports, sources := estate.PortsOf(uint8(p)); ports != run.Ports || sources != run.SourcePorts {
			break
		}
		run.LastProtocol = uint8(p)
	}
	return run
}

// Len returns the number of atoms.
func (a *Atoms) Len() int { return len(a.sets) }

// Set returns the services of an atom.
func (a *Atoms) Set(atom int) Services { return a.sets[atom] }

// At returns the atom of a service that exists. Cost: two binary searches.
func (a *Atoms) At(protocol uint8, sport, dport uint16) int {
	g := a.grids[protocol]
	if g == nil {
		return a.others
	}
	return g.cells[cellAt(g.sources, sport)*len(g.ports)+cellAt(g.ports, dport)]
}

func cellAt(starts []int, v uint16) int {
	i, exact := slices.BinarySearch(starts, int(v))
	if !exact {
		i--
	}
	return i
}

// Union returns the services of some atoms.
func (a *Atoms) Union(atoms *bitset.BitSet) Services {
	var boxes []Box
	for i := range atoms.EachSet() {
		boxes = append(boxes, a.sets[i].boxes...)
	}
	return Of(boxes)
}

// Covered returns the atoms that lie in the union of terms, wholly or in part,
// and whether the union is made of whole atoms.
func (a *Atoms) Covered(terms []estate.Term) (*bitset.BitSet, bool) {
	want := OfTerms(terms)
	out := bitset.New(uint(len(a.sets)))
	exact := true
	for i, s := range a.sets {
		switch common := intersect(s, want); {
		case common.Empty():
		case common.Equal(s):
			out.Set(uint(i))
		default:
			out.Set(uint(i))
			exact = false
		}
	}
	return out, exact
}

// intersect returns what two sets have in common. Cost: the product of their boxes.
func intersect(a, b Services) Services {
	var out []Box
	for _, x := range a.boxes {
		for _, y := range b.boxes {
			z := Box{
				max(x.FirstProtocol, y.FirstProtocol), min(x.LastProtocol, y.LastProtocol),
				common(x.SourcePorts, y.SourcePorts), common(x.Ports, y.Ports),
			}
			if z.FirstProtocol <= z.LastProtocol && z.SourcePorts.Lo <= z.SourcePorts.Hi && z.Ports.Lo <= z.Ports.Hi {
				out = append(out, z)
			}
		}
	}
	return Of(out)
}

// common returns the overlap of two ranges; Lo above Hi for none.
func common(a, b estate.Range) estate.Range {
	return estate.Range{Lo: max(a.Lo, b.Lo), Hi: min(a.Hi, b.Hi)}
}
