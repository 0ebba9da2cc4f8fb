package matrix

import (
	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/paths"
)

// Inbound is a publication, as a way in from the internet to a segment.
type Inbound struct {
	Publication, Exit int
	Effects           map[[2]int]int32 // by path class outside and inside
	Open              []bool           // by position of a class of the segment: whether it leads there
}

// FindInbounds returns the inbound paths of each segment.
func (v *Builder) FindInbounds() [][]Inbound {
	out := make([][]Inbound, len(v.Inside))
	for segment := range v.Inside {
		out[segment] = v.FindInboundsOf(segment)
	}
	return out
}

// FindInboundsOf returns the inbound paths of a segment.
func (v *Builder) FindInboundsOf(segment int) []Inbound {
	var out []Inbound
	classes, headers := v.Inside[segment], v.Columns(segment).Headers
	for i := range v.Judge.PublicationNames() {
		if !v.Judge.PublishesIn(i, segment) {
			continue
		}
		g := Inbound{i, v.Judge.PublicationExit(i), map[[2]int]int32{}, make([]bool, len(classes))}
		any := false
		asked, leads := make([]bool, len(v.Local[segment].Sets)), make([]bool, len(v.Local[segment].Sets))
		entered := make([]bool, len(v.PathClassesIn[segment]))
		for at := range headers {
			x := &headers[at]
			if !asked[x.Set] { // it leads to groups
				asked[x.Set], leads[x.Set] = true, v.Judge.Publishes(i, &v.Classes[classes[at]].End)
			}
			if !leads[x.Set] {
				continue
			}
			any, g.Open[at] = true, true
			if !entered[x.PathClassAt] {
				entered[x.PathClassAt] = true
				v.addPath(&g, v.Classes[classes[at]])
			}
		}
		if any {
			out = append(out, g)
		}
	}
	return out
}

// addPath finds the effects of the paths through an inbound path to the path class of a class.
func (v *Builder) addPath(g *Inbound, dst *classes.Class) {
	for _, s := range v.PathClassesIn[len(v.Inside)] {
		from := &v.PathClasses[s]
		key := [2]int{s, dst.PathClass}
		if _, known := g.Effects[key]; known || from.Four != dst.Four {
			continue
		}
		external := v.Judge.External(from.One.Addr, g.Exit)
		way := v.Judge.WayFrom(g.Publication, &external, &dst.End)
		g.Effects[key] = v.Interner.Effect(v.Judge.EffectOf(&way))
	}
}

// EachInbound calls f for the class results from a class outside to one inside: through
// each publication, and the result for services that nothing publishes.
func (s *Matrix) EachInbound(src, dst *classes.Class, f func(ClassResult)) {
	b := s.Blocks.At(len(s.Inside), dst.End.Segment)
	var open *bitset.BitSet
	for i := range s.Inbounds[dst.End.Segment] {
		g := &s.Inbounds[dst.End.Segment][i]
		if !g.Open[dst.At] {
			continue
		}
		c := Combination{b.RuleSet(b.Src.LineAt(s.Net, int(src.At), g.Exit), b.Dst.Line(&dst.Header)), g.Effects[[2]int{src.PathClass, dst.PathClass}]}
		f(ClassResult{g.Publication, s.Verdicts[c.Effect][c.RuleSet], s.Admits[g.Publication], c})
		if open == nil {
			open = bitset.New(uint(s.Atoms.Len()))
		}
		open.InPlaceUnion(s.Admits[g.Publication])
	}
	if open != nil {
		open = open.Complement()
	}
	f(ClassResult{paths.None, s.UnpublishedVector, open, UnfoundCombination})
}
