package matrix

import (
	"slices"

	"bivium/core/classes"
	"bivium/core/lists"
)

// AddKinds finds the kinds of the classes of a block, and how much there is of each.
func (v *Builder) AddKinds(b *Block) {
	rows, cols := len(b.Effects), 0
	if rows > 0 {
		cols = len(b.Effects[0])
	}
	if !v.keptKinds(b, 0, rows) && (v.PatchKinds == nil || !v.PatchKinds(b, 0, rows)) {
		v.findKinds(b.From, &b.Src, rows, v.SeenBy(b.From, b.From))
	}
	if !v.keptKinds(b, 1, cols) && (v.PatchKinds == nil || !v.PatchKinds(b, 1, cols)) {
		v.findKinds(b.To, &b.Dst, cols, v.SeenBy(b.From, b.To))
	}
}

// keptKinds lets one side of a block have the kinds that it had before, if endpoints, lines
// and places are the same.
func (v *Builder) keptKinds(b *Block, side, places int) bool {
	if v.SideBefore == nil {
		return false
	}
	was, is := v.SideBefore(b, side), &b.Src
	if side == 1 {
		is = &b.Dst
	}
	if was == nil || was.Places != places || !lists.Same(was.Lines, is.Lines) || !slices.Equal(was.ByPathClass, is.ByPathClass) || !slices.Equal(was.ByClass, is.ByClass) {
		return false
	}
	is.Places, is.Grid, is.Kinds, is.Amounts = was.Places, was.Grid, was.Kinds, was.Amounts
	return true
}

// findKinds finds the kinds of some classes of a domain, by their places there;
// outside, of all.
func (v *Builder) findKinds(domain int, x *Side, places int, some []int32) {
	x.Places = places
	roll := v.Columns(domain)
	if domain == len(v.Inside) {
		n := len(roll.Headers)
		x.Grid, x.Kinds, x.Amounts = make([]int32, n), make([]Kind, n), make([]classes.Amount, n)
		for at := range roll.Headers {
			x.Grid[at], x.Kinds[at] = int32(at), Kind{int32(at), x.Place(&roll.Headers[at])}
		}
		for _, at := range some {
			x.Amounts[at] = roll.Members[at]
		}
		return
	}
	x.Empty(places)
	for _, i := range some {
		t := &roll.Headers[i]
		x.Put(Kind{x.Line(t), x.Place(t)}, roll.Members[i])
	}
}

// Empty makes the side one of a segment in which nobody is.
func (x *Side) Empty(places int) {
	lines := int32(0)
	for _, l := range x.Lines {
		lines = max(lines, l+1)
	}
	x.Places, x.Grid, x.Kinds, x.Amounts = places, make([]int32, int(lines)*places), nil, nil
	for i := range x.Grid {
		x.Grid[i] = -1
	}
}

// Put adds what there is of a kind.
func (x *Side) Put(k Kind, members classes.Amount) {
	at := &x.Grid[int(k.Line)*x.Places+int(k.Place)]
	if *at < 0 {
		*at = int32(len(x.Kinds))
		x.Kinds, x.Amounts = append(x.Kinds, k), append(x.Amounts, classes.Amount{})
	}
	x.Amounts[*at].Add(members)
}
