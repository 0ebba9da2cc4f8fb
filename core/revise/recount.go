package revise

import (
	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/matrix"
)

// mostRecounted is the share of the classes of a domain, one in so many, up to which
// it pays to take away what has gone and add what has come.
const mostRecounted = 4

// precision is how small a part of what was there may be left before rounding tells
// on it.
const precision = 1e-6

// recounted returns what there is of each combination between two segments after an
// edit, from what there was: without the flows of the classes that have changed, and
// with those that they have now. It is false where that is not known well enough,
// or not worth while. What is known exactly stays so; what is about stays about.
func (b *rebuilder) recounted(from, to int) ([]matrix.Weighted, bool) {
	was, is := b.before.Blocks.At(from, to), b.next.Blocks.At(from, to)
	before := b.before.Totals.Found().Sums.At(from, to)
	if !b.onlyMoved(from, to) || to == len(b.Inside) || before.Cut {
		return nil, false
	}
	old, now := b.portions(b.before, was), b.portions(b.next, is)
	if old.tooMany || now.tooMany {
		return nil, false
	}
	gone, come := matrix.NewPairCounter(b.before), matrix.NewPairCounter(b.next)
	defer gone.Free()
	defer come.Free()
	old.count(gone, was)
	now.count(come, is)
	less, more := gone.TakeAll(), come.TakeAll() // both, or a pair counter would be given back that is not empty
	left := map[matrix.Combination]matrix.Weighted{}
	for _, w := range before.Amounts {
		left[w.Combination] = w
	}
	for _, w := range less {
		x := left[w.Combination]
		if x.Pairs -= w.Pairs; x.Pairs > 0 && x.Flows-w.Flows < precision*x.Flows {
			return nil, false
		}
		x.Combination, x.Flows = w.Combination, x.Flows-w.Flows
		left[w.Combination] = x
	}
	for _, w := range more {
		x := left[w.Combination]
		x.Combination, x.Pairs, x.Flows = w.Combination, x.Pairs+w.Pairs, x.Flows+w.Flows
		left[w.Combination] = x
	}
	out := make([]matrix.Weighted, 0, len(left))
	for _, x := range left {
		if x.Pairs > 0 {
			out = append(out, x)
		}
	}
	return out, true
}

// onlyMoved reports whether flows from one segment to another depend on what they did before
// the edit, but for those of classes that have changed or have other paths.
func (b *rebuilder) onlyMoved(from, to int) bool {
	was, is := b.before.Blocks.At(from, to), b.next.Blocks.At(from, to)
	return was != nil && is != nil && from < len(b.Inside) && was.Layout == is.Layout && !b.revision.Ways && b.Partition.ID != b.before.ID
}

// portions are the ends of a block, those of classes that have changed and the others.
type portions struct {
	changed, kept [2][]matrix.Bucket
	near          [2][]matrix.NetworkBucket // of networks that have some that changed; within a segment
	selves        []*classes.Class          // of those, that are one address
	tooMany       bool
}

// portions parts the ends of a block of one of the two matrices.
func (b *rebuilder) portions(s *matrix.Matrix, x *matrix.Block) portions {
	var out portions
	moved := b.moved[lists.OneIf(s == b.next)]
	for k, domain := range [2]int{x.From, x.To} {
		side := &x.Src
		if k == 1 {
			side = &x.Dst
		}
		roll := s.Columns(domain)
		changed := make([]classes.Amount, len(side.Kinds))
		for _, at := range moved[domain] {
			if s.Classes[s.ClassesIn(domain)[at]].Seen[x.From] == classes.SeesIt {
				changed[side.Kind(&roll.Headers[at])].Add(roll.Members[at])
			}
		}
		out.tooMany = out.tooMany || len(moved[domain])*mostRecounted > len(roll.Headers)
		for i, kind := range side.Kinds {
			if changed[i].Members > 0 {
				out.changed[k] = append(out.changed[k], matrix.Bucket{Kind: kind, Amount: changed[i]})
			}
			if rest := side.Amounts[i].Members - changed[i].Members; rest > 0 {
				out.kept[k] = append(out.kept[k], matrix.Bucket{Kind: kind, Amount: classes.Amount{Members: rest, Weight: side.Amounts[i].Weight - changed[i].Weight}})
			}
		}
	}
	if x.From != x.To || out.tooMany {
		return out
	}
	networks := make([]bool, len(s.Net.Networks))
	for _, at := range moved[x.From] {
		networks[s.Columns(x.From).Headers[at].Network] = true
	}
	var some []int32
	set := make(matrix.Set, len(s.Inside[x.From]))
	for at, n := range s.Inside[x.From] {
		set[at].Class = n
		if c := s.Classes[n]; networks[c.Network] {
			some = append(some, int32(at))
			if c.Amount.One() {
				out.selves = append(out.selves, c)
			}
		}
	}
	out.near = [2][]matrix.NetworkBucket{s.NetworkBuckets(&x.Src, set, some), s.NetworkBuckets(&x.Dst, set, some)}
	return out
}

// count adds up the flows that have an end among what changed.
func (p *portions) count(c *matrix.PairCounter, b *matrix.Block) {
	all := append(append([]matrix.Bucket(nil), p.changed[1]...), p.kept[1]...)
	c.AddRows(b, matrix.RowsOf(p.changed[0]), matrix.PlacesOf(all))
	c.AddRows(b, matrix.RowsOf(p.kept[0]), matrix.PlacesOf(p.changed[1]))
	if b.From == b.To {
		c.AddNear(b, p.near[0], p.near[1])
		for _, x := range p.selves {
			c.TakeSelf(b, x)
		}
	}
}
