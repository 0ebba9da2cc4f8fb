package difference

import (
	"bivium/core/intervals"
	"bivium/core/parallel"
)

// correctedPart is the intersections of a difference class that have one home network, and one part of it, in either
// matrix.
type correctedPart struct {
	bundle        *diffClass
	nets          [2]int32 // before and afterwards, paths.None where they are not there
	intersections []int32  // sorted
	size          intervals.Size
}

// correction says of the flows from some intersections whether they are in a change, whatever
// the difference classes say.
type correction struct {
	from *correctedPart
	in   bool
}

// intraNetwork corrects what difference classes say for pairs of one network: between them, paths are
// local.
type intraNetwork struct {
	*pairing
	sides [2]*sideView
	// By source: whether its local flows may have another verdict than difference classes tell; else only
	// those to destinations that do not stay may.
	disturbed []bool
	altered   [][]bool // by source that stays: the places of its palette that have another verdict; or nil
}

// correctAll corrects the flows between all difference classes.
func (l *intraNetwork) correctAll(sources, targets []diffClass) {
	nets := l.disturbedNets(sources, targets) // elsewhere, there is nothing to fix
	from, to := l.subsOf(l.sides[0], sources, nets), l.subsOf(l.sides[1], targets, nets)
	var byNet [2]map[int32][]*correctedPart
	for k := range byNet {
		byNet[k] = map[int32][]*correctedPart{}
		for _, d := range to {
			if n := d.nets[k]; n >= 0 {
				byNet[k][n] = append(byNet[k][n], d)
			}
		}
	}
	found := make([][]localVectors, len(from))
	parallel.Shares(len(from), 64, func(_, first, last int) {
		for i := first; i < last; i++ {
			found[i] = l.vectorsFrom(from[i], byNet)
		}
	})
	for i, s := range from {
		for k := range found[i] {
			l.correct(s, &found[i][k])
		}
	}
}

// localVectors is what difference classes say of the flows to a part, before and afterwards, and
// what is so.
type localVectors struct {
	to        *correctedPart
	said, are [2]int32
}

// vectorsFrom returns what there is to correct, or to count, of the flows from a part to those of its
// networks.
func (l *intraNetwork) vectorsFrom(s *correctedPart, byNet [2]map[int32][]*correctedPart) []localVectors {
	var out []localVectors
	all, altered := l.disturbed[s.bundle.at], l.altered[s.bundle.at]
	old, next := l.old.outOf(s.bundle.old), l.new.outOf(s.bundle.new)
	for k, n := range s.nets {
		if n < 0 {
			continue
		}
		for _, d := range byNet[k][n] {
			if altered != nil && d.bundle.stays && !altered[l.cell(s.bundle, d.bundle)] {
				continue
			}
			if !all && d.bundle.stays || s.bundle.four != d.bundle.four || k > 0 && s.nets[0] >= 0 && s.nets[0] == d.nets[0] { // seen already
				continue
			}
			v := localVectors{to: d, said: [2]int32{old.vectorTo(d.bundle.old), next.vectorTo(d.bundle.new)}}
			if v.are = l.vectorsBetween(s, d, v.said); v.are != v.said || v.are[0] != v.are[1] {
				out = append(out, v)
			}
		}
	}
	return out
}

// vectorsBetween returns what the flows between two parts are, before and afterwards: what is said of
// them, where they are not of one network.
func (l *intraNetwork) vectorsBetween(s, d *correctedPart, said [2]int32) [2]int32 {
	intersections := l.Domain(l.from).Intersections
	x, y := &intersections[s.intersections[0]], &intersections[d.intersections[0]]
	if s.nets[0] >= 0 && s.nets[0] == d.nets[0] {
		said[0] = l.old.near(x.old, y.old)
	}
	if s.nets[1] >= 0 && s.nets[1] == d.nets[1] {
		said[1] = l.new.near(x.new, y.new)
	}
	return said
}

// netsOf returns the networks of an intersection, -1 for none.
func (t *AlignedDomain) netsOf(i int32) [2]int32 {
	nets := [2]int32{-1, -1}
	if t.was[i].is {
		nets[0] = t.was[i].Network
	}
	if t.is[i].is {
		nets[1] = t.is[i].Network
	}
	return nets
}

// cell returns the place in the palette of a source that stays, of its flows to a
// destination that stays.
func (l *intraNetwork) cell(src, dst *diffClass) uint32 {
	b := l.new.block
	return b.Rows[b.Src.Kinds[src.new].Line].Cells[b.Dst.Kinds[dst.new].Line]
}

// disturbedNets returns the networks, before and afterwards, of intersections that do not stay,
// and of sources some of whose flows have another verdict.
func (l *intraNetwork) disturbedNets(sources, targets []diffClass) networks {
	out := networks{make([]bool, len(l.old.Net.Networks)), make([]bool, len(l.new.Net.Networks))}
	land := l.Domain(l.from)
	add := func(b *diffClass) {
		for _, i := range b.intersections {
			for k, n := range land.netsOf(i) {
				if n >= 0 {
					out[k][n] = true
				}
			}
		}
	}
	for i := range sources {
		if l.disturbed[i] {
			add(&sources[i])
		}
	}
	for i := range targets {
		if !targets[i].stays {
			add(&targets[i])
		}
	}
	return out
}

// networks are some of those of each matrix.
type networks [2][]bool

// have reports whether one of two networks, before and afterwards, is among them; -1 is
// none.
func (n *networks) have(nets [2]int32) bool {
	return nets[0] >= 0 && n[0][nets[0]] || nets[1] >= 0 && n[1][nets[1]]
}

// subsOf returns the intersections of the difference classes of one side by network, of some networks.
func (l *intraNetwork) subsOf(f *sideView, diffClasses []diffClass, nets networks) []*correctedPart {
	type key struct {
		diffClass   int32
		nets, parts [2]int32
	}
	at := map[key]*correctedPart{}
	var out []*correctedPart
	for place, i := range f.put {
		k := key{f.of[place], f.land.netsOf(i), [2]int32{f.land.was[i].Part, f.land.is[i].Part}}
		if k.diffClass < 0 || !nets.have(k.nets) {
			continue
		}
		s := at[k]
		if s == nil {
			s = &correctedPart{bundle: &diffClasses[k.diffClass], nets: k.nets}
			at[k] = s
			out = append(out, s)
		}
		s.intersections = append(s.intersections, i)
		s.size.Add(f.land.Intersections[i].Size)
	}
	return out
}

// correct puts right what difference classes say about two of their parts.
func (l *intraNetwork) correct(s *correctedPart, v *localVectors) {
	if v.are != v.said {
		l.amend(s, v.to, v.said[0], v.said[1], false)
		l.amend(s, v.to, v.are[0], v.are[1], true)
	}
	if v.are[0] == v.are[1] {
		return
	}
	selves := l.common(s, v.to) // an address opens no flow to itself
	for _, c := range l.plainly(v.are[0], v.are[1]).changes {
		c.pairs.Product(selves, intervals.Size{Hi: 0, Lo: 1}, -1)
	}
}

// amend notes that the flows between two parts of difference classes are in the changes from one
// vector to another, or that they are not.
func (l *intraNetwork) amend(s, d *correctedPart, before, after int32, in bool) {
	if before == after {
		return
	}
	for _, c := range l.plainly(before, after).changes {
		if in {
			c.pairs.Product(s.size, d.size, 1)
		} else {
			c.pairs.Product(s.size, d.size, -1)
		}
		if c.corrections == nil {
			c.corrections = map[*correctedPart][]correction{}
		}
		c.corrections[d] = append(c.corrections[d], correction{s, in})
	}
}

// common returns how many addresses are in both of two parts.
func (l *intraNetwork) common(s, d *correctedPart) intervals.Size {
	var n intervals.Size
	intersections := l.Domain(l.from).Intersections
	for i, k := 0, 0; i < len(s.intersections) && k < len(d.intersections); {
		switch a, b := s.intersections[i], d.intersections[k]; {
		case a < b:
			i++
		case b < a:
			k++
		default:
			n.Add(intersections[a].Size)
			i, k = i+1, k+1
		}
	}
	return n
}
