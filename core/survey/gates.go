package survey

import (
	"github.com/bits-and-blooms/bitset"

	"bivium/core/paths"
)

// gate is a publication, as a way in from the internet to a segment.
type gate struct {
	publication, exit int
	effects           map[[2]int]int32 // by spot outside and inside
	open              []bool           // by position of a class of the segment: whether it leads there
}

// gates returns the gates of each segment.
func (v *surveyor) gates() [][]gate {
	out := make([][]gate, len(v.inside))
	for segment := range v.inside {
		out[segment] = v.gatesOf(segment)
	}
	return out
}

// gatesOf returns the gates of a segment.
func (v *surveyor) gatesOf(segment int) []gate {
	var out []gate
	classes, tickets := v.inside[segment], v.roll(segment).tickets
	for i := range v.judge.Publications() {
		if !v.judge.PublishesIn(i, segment) {
			continue
		}
		g := gate{i, v.judge.PublicationExit(i), map[[2]int]int32{}, make([]bool, len(classes))}
		any := false
		asked, leads := make([]bool, len(v.local[segment].sets)), make([]bool, len(v.local[segment].sets))
		entered := make([]bool, len(v.spotIn[segment]))
		for at := range tickets {
			x := &tickets[at]
			if !asked[x.set] { // it leads to groups
				asked[x.set], leads[x.set] = true, v.judge.Publishes(i, &v.classes[classes[at]].End)
			}
			if !leads[x.set] {
				continue
			}
			any, g.open[at] = true, true
			if !entered[x.spotAt] {
				entered[x.spotAt] = true
				v.enter(&g, v.classes[classes[at]])
			}
		}
		if any {
			out = append(out, g)
		}
	}
	return out
}

// enter finds the effects of the ways through a gate to the spot of a class.
func (v *surveyor) enter(g *gate, dst *Class) {
	for _, s := range v.spotIn[len(v.inside)] {
		from := &v.spots[s]
		key := [2]int{s, dst.spot}
		if _, known := g.effects[key]; known || from.four != dst.four {
			continue
		}
		external := v.judge.External(from.one.Addr, g.exit)
		way := v.judge.WayFrom(g.publication, &external, &dst.End)
		g.effects[key] = v.ledger.effect(v.judge.EffectOf(&way))
	}
}

// eachDoor calls f for the strands from a class outside to one inside: through
// each publication, and the shut door for services that nothing publishes.
func (s *Survey) eachDoor(src, dst *Class, f func(strand)) {
	b := s.blocks.at(len(s.inside), dst.End.Segment)
	var open *bitset.BitSet
	for i := range s.gates[dst.End.Segment] {
		g := &s.gates[dst.End.Segment][i]
		if !g.open[dst.at] {
			continue
		}
		c := combination{b.stance(b.src.lineAt(s.net, int(src.at), g.exit), b.dst.line(&dst.ticket)), g.effects[[2]int{src.spot, dst.spot}]}
		f(strand{g.publication, s.verdicts[c.effect][c.stance], s.admits[g.publication], c})
		if open == nil {
			open = bitset.New(uint(s.atoms.Len()))
		}
		open.InPlaceUnion(s.admits[g.publication])
	}
	if open != nil {
		open = open.Complement()
	}
	f(strand{paths.None, s.shut, open, unfoundCombination})
}
